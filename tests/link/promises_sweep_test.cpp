// The delivery promises under many bad networks, in virtual time.
#include <gtest/gtest.h>

#include "kit/promises.h"
#include "kit/sweep.h"

namespace kwind {
namespace promises_sweep_test {

using namespace std::chrono_literals;

io::sim::Conditions bad_network(std::uint64_t seed) {
  std::mt19937_64 random(seed);
  const auto share = [&](double max) {
    return max * static_cast<double>(random() % 1001) / 1000.0;
  };
  io::sim::Conditions conditions;
  conditions.delay = std::chrono::milliseconds(5 + random() % 150);
  conditions.jitter = std::chrono::milliseconds(random() % 50);
  conditions.loss = share(0.20);
  conditions.duplicate = share(0.20);
  conditions.reorder = share(0.50);
  conditions.reorder_delay = std::chrono::milliseconds(5 + random() % 120);
  if (seed % 4 == 0) {  // a narrow path, for which the traffic is sometimes too much
    conditions.rate = 40000 + static_cast<double>(random() % 200000);
    conditions.queue_bytes = 8000 + random() % 60000;
  }
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
  for (Duration t{0}; t < 60s; t += 33ms) {
    pair.run_until(kit::at(t), hear);
    promises.send_tick(false);
    promises.send_tick(true);
  }
  pair.run_until(kit::at(80s), hear);
  promises.expect_complete();
  EXPECT_EQ(promises.opened(), 2);
  for (link::Link* link : {&pair.client(), &pair.server()}) {
    EXPECT_LE(link->stats().in_flight, 300U) << "a keepalive, and probes for it";
    // Every bit sent is accounted to a message kind or to overhead.
    std::uint64_t bits = link->stats().overhead_bits_sent;
    for (const std::uint64_t tagged : link->bits_sent()) bits += tagged;
    EXPECT_EQ(bits, link->stats().bytes_sent * 8);
  }
}

TEST(PromisesSweep, HoldOnEveryBadNetwork) {
  for (const std::uint64_t seed : kit::seeds(kit::kSanitized ? 30 : 150, 10000)) {
    run_one(seed);
    if (testing::Test::HasFailure()) break;
  }
}

// A connection of hours over a path that changes every minute, with keys that change every ten:
// nothing may run out, drift or get stuck. Ten minutes by default.
TEST(Soak, HoursOfAChangingPathKeepThePromises) {
  kit::SimPair pair(
      {.seed = 11, .adjust = [](link::LinkOptions& options) { options.key_time = 10min; }});
  kit::Promises promises(pair, 11);
  const auto hear = [&](bool at_server, const link::Event& event) {
    promises.hear(at_server, event);
    ASSERT_NE(event.kind, link::Event::Kind::closed) << event.text;
  };
  const auto minutes = static_cast<int>(kit::sweep_size(10, 180));
  for (int minute = 0; minute < minutes; ++minute) {
    pair.set_conditions(bad_network(static_cast<std::uint64_t>(minute) + 1));
    for (Duration t{0}; t < 60s; t += 50ms) {
      pair.run_until(kit::at(minute * 60s + t), hear);
      promises.send_tick(false);
      promises.send_tick(true);
    }
    if (testing::Test::HasFailure()) return;
  }
  pair.set_conditions({.delay = 50ms});
  pair.run_until(kit::at(minutes * 60s + 30s), hear);
  promises.expect_complete();
  EXPECT_GE(pair.client().stats().key_changes, static_cast<std::uint64_t>(minutes / 10));
  EXPECT_LE(pair.client().stats().in_flight, 300U);
}

}  // namespace promises_sweep_test
}  // namespace kwind
