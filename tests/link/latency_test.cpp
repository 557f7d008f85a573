// How late messages of an ordered channel are over a path that loses datagrams, from the first
// message on, in virtual time: the promises of docs/performance.md, for every seed.
#include <gtest/gtest.h>

#include <algorithm>

#include "kit/sim_pair.h"
#include "kit/sweep.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind {
namespace latency_test {

using namespace std::chrono_literals;

struct Load {
  std::uint64_t seed = 1;
  double loss = 0;
  double burst = 1;  // datagrams lost in a row, on average
  double per_second = 60;
  Duration time = 60s;
};

struct Delays {
  double p999_ms = 0;  // beyond one way
  double worst_ms = 0;
  double bytes_a_message = 0;       // UDP payload and 28 bytes of headers, both ways, acks included
  double late_bytes_a_message = 0;  // the same after the first five seconds
};

constexpr Duration kOneWay = 50ms;
constexpr std::size_t kMessageBytes = 40;

Delays run(const Load& load) {
  io::sim::Conditions conditions{.delay = kOneWay, .loss = load.loss};
  if (load.burst > 1) conditions.loss_run = load.burst;
  kit::SimPair pair(
      {.seed = load.seed, .conditions = conditions, .channels = {{Delivery::ordered}}});
  std::vector<double> delays;
  std::uint64_t next = 0;
  const auto hear = [&](bool at_server, const link::Event& event) {
    if (!at_server || event.kind != link::Event::Kind::message) return;
    bits::Reader in(event.payload, event.bits);
    ASSERT_EQ(in.get(32), next++) << "out of order";
    const auto sent = Time(Duration(static_cast<Duration::rep>(in.get(64))));
    delays.push_back(
        std::chrono::duration<double, std::milli>(pair.now() - sent - kOneWay).count());
  };
  while (pair.client().state() != link::State::open) pair.run_until(pair.now() + 10ms, hear);
  const auto pause =
      std::chrono::duration_cast<Duration>(std::chrono::duration<double>(1 / load.per_second));
  std::array<std::byte, kMessageBytes> bytes{};
  const auto all_bytes = [&] {
    const auto of = [](const link::Stats& stats) {
      return stats.bytes_sent + 28 * stats.datagrams_sent;
    };
    return double(of(pair.client().stats()) + (pair.has_server() ? of(pair.server().stats()) : 0));
  };
  const double before = all_bytes();
  double after_five = 0;
  std::uint64_t sent = 0;
  std::uint64_t sent_after_five = 0;
  const Time start = pair.now();
  for (Time t = start; t < start + load.time; t += pause) {
    pair.run_until(t, hear);
    if (after_five == 0 && t >= start + 5s) {
      after_five = all_bytes();
      sent_after_five = sent;
    }
    bits::Writer out(bytes);
    out.put(sent++, 32);
    out.put(static_cast<std::uint64_t>(t.time_since_epoch().count()), 64);
    out.finish();
    EXPECT_EQ(pair.client().send(0, 0, bytes, kMessageBytes * 8), Errc::none);
  }
  const double all = all_bytes();
  pair.run_until(pair.now() + 5s, hear);
  EXPECT_EQ(next, sent) << "all arrive";
  Delays made;
  std::sort(delays.begin(), delays.end());
  made.p999_ms = delays[static_cast<std::size_t>(double(delays.size()) * 0.999)];
  made.worst_ms = delays.back();
  made.bytes_a_message = (all - before) / double(sent);
  made.late_bytes_a_message = (all - after_five) / double(sent - sent_after_five);
  return made;
}

TEST(Latency, FromTheFirstMessageOnStaysWithinTheTarget) {
  for (std::uint64_t seed = 1; seed <= kit::sweep_size(20, 200); ++seed) {
    for (const auto& [loss, max] : {std::pair{0.02, 40.0}, std::pair{0.05, 75.0}}) {
      const Load load{.seed = seed, .loss = loss};
      const Delays got = run(load);
      EXPECT_LE(got.p999_ms, max) << "seed " << seed << ", loss " << loss;
    }
  }
}

TEST(Latency, OfTwentyMessagesASecondIsTheSame) {
  for (std::uint64_t seed = 1; seed <= kit::sweep_size(20, 200); ++seed) {
    for (const auto& [loss, max] : {std::pair{0.02, 40.0}, std::pair{0.05, 75.0}}) {
      const Load load{.seed = seed, .loss = loss, .per_second = 20};
      const Delays got = run(load);
      EXPECT_LE(got.p999_ms, max) << "seed " << seed << ", loss " << loss;
    }
  }
}

// Nothing can be promised of a run that swallows all chances; the next datagram that arrives ends
// the stall.
TEST(Latency, OfLossesInRunsIsWhatTheRunTakesAndARoundTrip) {
  for (std::uint64_t seed = 1; seed <= kit::sweep_size(20, 200); ++seed) {
    const Load load{.seed = seed, .loss = 0.02, .burst = 2};
    const Delays got = run(load);
    EXPECT_LE(got.p999_ms, 300) << "seed " << seed;
  }
}

TEST(Latency, WithoutLossCopiesEndOnceThePathIsMeasured) {
  for (const double per_second : {20.0, 60.0}) {
    const Load load{.seed = 1, .per_second = per_second};
    const Delays got = run(load);
    EXPECT_LT(got.worst_ms, 1);
    // Message, headers and tag, and a share of the acknowledgements that go back.
    EXPECT_LT(got.late_bytes_a_message, per_second > 30 ? 105 : 140);
  }
}

}  // namespace latency_test
}  // namespace kwind
