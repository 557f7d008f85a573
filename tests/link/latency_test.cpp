// How late messages of an ordered channel are over a path that loses datagrams, from the first
// message on, in virtual time: the goals of docs/performance.md. Each of the first 20 seeds meets
// them. Of more, one in a hundred may not: a path that loses none of its first 300 datagrams by
// chance (one in 430 at 2 % loss) counts as a good one, and its first loss is repaired a round trip
// later.
#include <gtest/gtest.h>

#include <algorithm>
#include <string>
#include <vector>

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
  double silence_ms = 0;            // the longest time in which nothing reached the server
  double bytes_a_message = 0;       // UDP payload and 28 bytes of headers, both ways, acks included
  double late_bytes_a_message = 0;  // the same after the first five seconds
};

constexpr Duration kOneWay = 50ms;
constexpr std::size_t kMessageBytes = 40;

Delays run(const Load& load) {
  io::sim::Conditions conditions{.delay = kOneWay, .loss = load.loss};
  if (load.burst > 1) conditions.loss_run = load.burst;
  Delays made;
  Time arrived{};
  const auto watch = [&](Time now, bool from_server, std::span<const std::byte>) {
    if (from_server) return;
    const double silence = std::chrono::duration<double, std::milli>(now - arrived).count();
    if (arrived != Time{}) made.silence_ms = std::max(made.silence_ms, silence);
    arrived = now;
  };
  kit::SimPair pair({.seed = load.seed,
                     .conditions = conditions,
                     .channels = {{Delivery::ordered}},
                     .watch = watch});
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
  std::sort(delays.begin(), delays.end());
  made.p999_ms = delays[static_cast<std::size_t>(double(delays.size()) * 0.999)];
  made.worst_ms = delays.back();
  made.bytes_a_message = (all - before) / double(sent);
  made.late_bytes_a_message = (all - after_five) / double(sent - sent_after_five);
  return made;
}

// Every one of 20 seeds, 99 of 100 of more.
void expect_within_target(double per_second) {
  const std::uint64_t seeds = kit::sweep_size(20, 200);
  for (const auto& [loss, max] : {std::pair{0.02, 40.0}, std::pair{0.05, 75.0}}) {
    std::string beyond;
    std::uint64_t count = 0;
    for (std::uint64_t seed = 1; seed <= seeds; ++seed) {
      const Delays got = run({.seed = seed, .loss = loss, .per_second = per_second});
      if (got.p999_ms <= max) continue;
      ++count;
      beyond += " " + std::to_string(seed) + " (" + std::to_string(got.p999_ms) + " ms)";
    }
    EXPECT_LE(count, seeds / 100) << "at a loss of " << loss << " seeds" << beyond;
  }
}

TEST(Latency, FromTheFirstMessageOnStaysWithinTheTarget) {
  expect_within_target(60);
}

TEST(Latency, OfTwentyMessagesASecondIsTheSame) {
  expect_within_target(20);
}

// No repair gets through a run that swallows every chance. What follows the run tells of it, and a
// round trip later all is repaired; of 100 seeds one may lose what tells of it in another run.
TEST(Latency, OfLossesInRunsIsWhatTheRunTakesAndARoundTrip) {
  const std::uint64_t seeds = kit::sweep_size(20, 200);
  const double round_trip_ms = std::chrono::duration<double, std::milli>(2 * kOneWay).count();
  std::string beyond;
  std::uint64_t count = 0;
  for (std::uint64_t seed = 1; seed <= seeds; ++seed) {
    const Delays got = run({.seed = seed, .loss = 0.02, .burst = 2});
    EXPECT_LE(got.p999_ms, seed <= 20 ? 300 : 600) << "seed " << seed;
    if (got.worst_ms <= got.silence_ms + 1.6 * round_trip_ms) continue;
    ++count;
    beyond += " " + std::to_string(seed) + " (" + std::to_string(got.worst_ms) + " ms)";
  }
  EXPECT_LE(count, seeds / 100) << "seeds" << beyond;
}

// The path on which docs/web.md measures a page: hails and their echoes, 20 ms and 5 % loss each way.
TEST(Latency, EchoesOfAPathThatAPageMayHave) {
  for (std::uint64_t seed = 1; seed <= kit::sweep_size(10, 40); ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    kit::SimPair pair({.seed = seed,
                       .conditions = {.delay = 20ms, .loss = 0.05},
                       .channels = {{Delivery::ordered}}});
    std::vector<double> round_trips;
    const auto hear = [&](bool at_server, const link::Event& event) {
      if (event.kind != link::Event::Kind::message) return;
      if (at_server) {
        const std::vector<std::byte> echo(event.payload.begin(), event.payload.end());
        EXPECT_EQ(pair.server().send(0, 0, echo, event.bits), Errc::none);
        return;
      }
      bits::Reader in(event.payload, event.bits);
      const auto sent = Time(Duration(static_cast<Duration::rep>(in.get(64))));
      round_trips.push_back(std::chrono::duration<double, std::milli>(pair.now() - sent).count());
    };
    while (pair.client().state() != link::State::open) pair.run_until(pair.now() + 10ms, hear);
    std::array<std::byte, kMessageBytes> bytes{};
    constexpr std::size_t kHails = 300;
    for (std::size_t i = 0; i < kHails; ++i) {
      bits::Writer out(bytes);
      out.put(static_cast<std::uint64_t>(pair.now().time_since_epoch().count()), 64);
      out.finish();
      EXPECT_EQ(pair.client().send(0, 0, bytes, kMessageBytes * 8), Errc::none);
      pair.run_until(pair.now() + 16ms, hear);
    }
    pair.run_until(pair.now() + 3s, hear);
    ASSERT_EQ(round_trips.size(), kHails);
    std::sort(round_trips.begin(), round_trips.end());
    EXPECT_LT(round_trips[kHails / 2], 41);
    EXPECT_LE(round_trips[kHails * 99 / 100], 40 + 75) << "p99";
    EXPECT_LE(round_trips.back(), 40 + 100) << "worst";
  }
}

// A message is missing, and so are the first three acks that would tell of it: the next one comes a
// quarter of a round trip later, not a whole one.
TEST(Latency, LostAcksDoNotProlongAStall) {
  bool from_server = false;
  std::size_t client_to_lose = 0;
  std::size_t server_to_lose = 0;
  kit::SimPairOptions options{.conditions = {.delay = kOneWay}, .channels = {{Delivery::ordered}}};
  options.watch = [&](Time, bool is_server, std::span<const std::byte>) {
    from_server = is_server;
  };
  options.alter = [&](std::size_t, std::vector<std::byte>& datagram) {
    std::size_t& left = from_server ? server_to_lose : client_to_lose;
    from_server = false;
    if (left == 0) return;
    --left;
    datagram.clear();
  };
  kit::SimPair pair(options);
  Time sent_at{};
  Time heard_at{};
  std::uint64_t sent = 0;
  std::uint64_t missing = 0;
  const auto hear = [&](bool at_server, const link::Event& event) {
    if (!at_server || event.kind != link::Event::Kind::message) return;
    bits::Reader in(event.payload, event.bits);
    if (in.get(32) == missing && missing > 0) heard_at = pair.now();
  };
  while (pair.client().state() != link::State::open) pair.run_until(pair.now() + 10ms, hear);
  std::array<std::byte, kMessageBytes> bytes{};
  // Ten seconds without loss: each message goes once by then.
  for (const Time start = pair.now(); pair.now() < start + 11s;) {
    if (missing == 0 && pair.now() >= start + 10s) {
      missing = sent;
      sent_at = pair.now();
      client_to_lose = 1;
      server_to_lose = 3;
    }
    bits::Writer out(bytes);
    out.put(sent++, 32);
    out.finish();
    EXPECT_EQ(pair.client().send(0, 0, bytes, kMessageBytes * 8), Errc::none);
    pair.run_until(pair.now() + 16ms, hear);
  }
  EXPECT_EQ(client_to_lose + server_to_lose, 0U) << "all were lost that should be";
  const double late_ms =
      std::chrono::duration<double, std::milli>(heard_at - sent_at - kOneWay).count();
  EXPECT_GT(late_ms, 100) << "it was lost, and came a round trip later at best";
  EXPECT_LT(late_ms, 250);
}

// A run of losses takes eight acks: once the first of them is overdue, each packet that comes has an
// ack of its own, so that the run is over soon.
TEST(Latency, ARunOfLostAcksIsOverSoon) {
  bool from_server = false;
  std::size_t to_lose = 0;
  Time heard_at{};
  kit::SimPairOptions options{.conditions = {.delay = kOneWay}, .channels = {{Delivery::ordered}}};
  options.watch = [&](Time, bool is_server, std::span<const std::byte>) {
    from_server = is_server;
  };
  options.alter = [&](std::size_t, std::vector<std::byte>& datagram) {
    const bool lost = std::exchange(from_server, false) && to_lose > 0;
    if (!lost) return;
    --to_lose;
    datagram.clear();
  };
  kit::SimPair pair(options);
  const auto hear = [](bool, const link::Event&) {};
  while (pair.client().state() != link::State::open) pair.run_until(pair.now() + 10ms, hear);
  std::array<std::byte, kMessageBytes> bytes{};
  std::uint64_t acks = 0;
  Time lost_from{};
  for (const Time start = pair.now(); pair.now() < start + 4s;) {
    if (lost_from == Time{} && pair.now() >= start + 2s) {
      lost_from = pair.now();
      acks = pair.client().stats().datagrams_received;
      to_lose = 8;
    }
    EXPECT_EQ(pair.client().send(0, 0, bytes, kMessageBytes * 8), Errc::none);
    pair.run_until(pair.now() + 16ms, hear);
    // What was under way when the run began comes a way later at most.
    const bool in_run = lost_from != Time{} && pair.now() > lost_from + kOneWay + 16ms;
    if (!in_run) acks = pair.client().stats().datagrams_received;
    if (in_run && heard_at == Time{} && pair.client().stats().datagrams_received > acks) {
      heard_at = pair.now();
    }
  }
  ASSERT_EQ(to_lose, 0U) << "all were lost that should be";
  const double silent_ms = std::chrono::duration<double, std::milli>(heard_at - lost_from).count();
  EXPECT_GT(silent_ms, 200) << "the first ack must be overdue";
  EXPECT_LT(silent_ms, 600) << "eight acks a tenth of a second apart";
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
