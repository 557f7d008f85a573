// The delivery promises under many bad networks, in virtual time.
#include <gtest/gtest.h>

#include "kit/promises.h"
#include "kit/sweep.h"

namespace kwind {
namespace {

using namespace std::chrono_literals;

io::sim::Conditions bad_network(std::uint64_t seed) {
  std::mt19937_64 random(seed);
  const auto share = [&](double most) {
    return most * static_cast<double>(random() % 1001) / 1000.0;
  };
  io::sim::Conditions conditions;
  conditions.delay = std::chrono::milliseconds(5 + random() % 150);
  conditions.jitter = std::chrono::milliseconds(random() % 50);
  conditions.loss = share(0.20);
  conditions.duplicate = share(0.20);
  conditions.reorder = share(0.50);
  conditions.held_back = std::chrono::milliseconds(5 + random() % 120);
  return conditions;
}

void run_one(std::uint64_t seed) {
  SCOPED_TRACE("seed " + std::to_string(seed) + " (run it alone with KWIND_SEED)");
  kit::SimPair pair({.seed = seed, .conditions = bad_network(seed)});
  kit::Promises promises(pair, seed);
  const auto hear = [&](bool at_server, const link::Event& event) {
    promises.hear(at_server, event);
    ASSERT_NE(event.kind, link::Event::Kind::closed) << event.text;
  };
  for (Duration t{0}; t < 30s; t += 33ms) {
    pair.run_until(kit::at(t), hear);
    promises.send_tick(false);
    promises.send_tick(true);
  }
  pair.run_until(kit::at(40s), hear);
  promises.expect_complete();
  EXPECT_EQ(promises.opened(), 2);
  for (link::Link* link : {&pair.client(), &pair.server()}) {
    // Every bit sent is accounted to a message kind or to overhead.
    std::uint64_t bits = link->stats().overhead_bits_sent;
    for (const std::uint64_t tagged : link->bits_sent()) bits += tagged;
    EXPECT_EQ(bits, link->stats().bytes_sent * 8);
  }
}

TEST(PromisesSweep, HoldOnEveryBadNetwork) {
  for (const std::uint64_t seed : kit::seeds(300, 10000)) {
    run_one(seed);
    if (testing::Test::HasFailure()) break;
  }
}

}  // namespace
}  // namespace kwind
