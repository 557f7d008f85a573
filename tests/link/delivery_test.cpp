// What a link makes of a narrow or lossy path: order of filling, large messages, repeats, tokens,
// pace.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>

#include "kit/sim_pair.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind {
namespace delivery_test {

using namespace std::chrono_literals;
using kit::at;
using kit::SimPair;

std::vector<std::byte> numbered(std::uint32_t number, std::size_t bytes) {
  std::vector<std::byte> payload(bytes);
  bits::Writer out(payload);
  while (out.room_bits() >= 32) out.put(number, 32);
  out.finish();
  return payload;
}
std::uint32_t number_of(const link::Event& event) {
  return static_cast<std::uint32_t>(bits::Reader(event.payload, event.bits).get(32));
}

io::sim::Conditions narrow(double kbit, Duration delay, std::size_t queue = 65536) {
  io::sim::Conditions conditions{.delay = delay};
  conditions.rate = kbit * 125;
  conditions.queue_bytes = queue;
  return conditions;
}

TEST(LargeMessages, ArriveWholeOnEveryReliableChannelUpToTheLimit) {
  SimPair pair({.seed = 5, .conditions = {.delay = 10ms, .jitter = 5ms, .loss = 0.02}});
  pair.run_until(at(1s));
  const std::size_t sizes[] = {link::kMaxWholeBytes, link::kMaxWholeBytes + 1, 5000, 100000,
                               link::kMaxMessageBytes};
  std::map<std::size_t, std::vector<std::size_t>> heard;
  const auto hear = [&](bool at_server, const link::Event& event) {
    if (event.kind != link::Event::Kind::message || !at_server) return;
    heard[event.channel].push_back(event.payload.size());
    const std::uint32_t number = number_of(event);
    bits::Reader in(event.payload, event.bits);
    while (in.left_bits() >= 32) ASSERT_EQ(in.get(32), number);
  };
  for (const std::size_t channel : {2U, 3U}) {
    std::uint32_t number = 0;
    for (const std::size_t size : sizes) {
      ASSERT_EQ(pair.client().send(channel, 0, numbered(++number, size), size * 8), Errc::none);
    }
  }
  pair.run_until(at(60s), hear);
  EXPECT_EQ(heard[2], std::vector<std::size_t>(std::begin(sizes), std::end(sizes)));
  std::sort(heard[3].begin(), heard[3].end());
  EXPECT_EQ(heard[3], std::vector<std::size_t>(std::begin(sizes), std::end(sizes)));
  EXPECT_GT(pair.client().stats().mtu, link::kBaseDatagramBytes) << "found on the way";
}

TEST(LargeMessages, OfStateArriveWholeOrNotAtAll) {
  SimPair pair({.seed = 6, .conditions = {.delay = 10ms, .loss = 0.05}});
  pair.run_until(at(1s));
  std::size_t heard = 0;
  const auto hear = [&](bool, const link::Event& event) {
    if (event.kind != link::Event::Kind::message) return;
    EXPECT_EQ(event.payload.size(), 6000U);
    ++heard;
  };
  for (std::uint32_t i = 0; i < 200; ++i) {
    ASSERT_EQ(pair.client().send(5, 0, numbered(i, 6000), 48000), Errc::none);
    pair.run_until(pair.now() + 50ms, hear);
  }
  // 0.95^6 of them have all of their pieces.
  EXPECT_GT(heard, 110U);
  EXPECT_LT(heard, 180U);
  EXPECT_GT(pair.server().stats().messages_incomplete, 10U);
}

TEST(Repeats, SequencedMessagesThatWereLostArriveOldestFirst) {
  std::size_t lost_by_plain = 0;
  std::size_t lost_by_repeat = 0;
  SimPair pair({.seed = 7, .conditions = {.delay = 20ms, .loss = 0.15}});
  pair.run_until(at(1s));
  std::map<std::size_t, std::vector<std::uint32_t>> heard;
  const auto hear = [&](bool, const link::Event& event) {
    if (event.kind == link::Event::Kind::message) heard[event.channel].push_back(number_of(event));
  };
  constexpr std::uint32_t kCount = 500;
  for (std::uint32_t i = 0; i < kCount; ++i) {
    for (const std::size_t channel : {1U, 4U}) {
      ASSERT_EQ(pair.client().send(channel, 0, numbered(i, 8), 64), Errc::none);
    }
    pair.run_until(pair.now() + 33ms, hear);
  }
  pair.run_until(pair.now() + 1s, hear);
  for (auto& [channel, numbers] : heard) {
    EXPECT_TRUE(std::is_sorted(numbers.begin(), numbers.end())) << channel;
  }
  lost_by_plain = kCount - heard[1].size();
  lost_by_repeat = kCount - heard[4].size();
  EXPECT_GT(lost_by_plain, 40U);
  EXPECT_LT(lost_by_repeat, 10U) << "three datagrams in a row must be lost for it";
}

TEST(Repeats, SmallOrdersAreRepeatedAheadOfLossDetectionOnlyWherePacketsAreLost) {
  const auto run = [](double loss) {
    SimPair pair({.seed = 8, .conditions = {.delay = 50ms, .loss = loss}});
    pair.run_until(at(1s));
    std::vector<double> late;
    std::map<std::uint32_t, Time> sent;
    const auto hear = [&](bool at_server, const link::Event& event) {
      if (event.kind != link::Event::Kind::message || !at_server) return;
      late.push_back(
          std::chrono::duration<double, std::milli>(pair.now() - sent[number_of(event)] - 50ms)
              .count());
    };
    for (std::uint32_t i = 0; i < 3000; ++i) {
      sent[i] = pair.now();
      EXPECT_EQ(pair.client().send(2, 0, numbered(i, 40), 320), Errc::none);
      pair.run_until(pair.now() + 16667us, hear);
    }
    pair.run_until(pair.now() + 1s, hear);
    EXPECT_EQ(late.size(), 3000U);
    std::sort(late.begin(), late.end());
    return std::tuple(late[late.size() * 99 / 100], pair.client().stats().redundant_copies,
                      pair.server().stats().messages_recovered);
  };
  const auto [clean_p99, clean_copies, clean_recovered] = run(0);
  EXPECT_LT(clean_copies, 700U) << "only until the path is measured";
  EXPECT_EQ(clean_recovered, 0U);
  EXPECT_LT(clean_p99, 1);
  const auto [lossy_p99, lossy_copies, lossy_recovered] = run(0.05);
  EXPECT_GT(lossy_copies, 5900U);
  EXPECT_LT(lossy_copies, 6200U) << "a copy of each, and parity of which each is the newest";
  EXPECT_GT(lossy_recovered, 3U) << "one in 400 loses both copies";
  EXPECT_LT(lossy_p99, 36) << "two ticks";
}

TEST(Repeats, WhatTwoDatagramsInARowLoseComesWithTheThirdAfterThem) {
  bool from_client = false;
  int to_lose = 0;
  kit::SimPairOptions options{.seed = 12, .conditions = {.delay = 50ms, .loss = 0.05}};
  options.alter = [&](std::size_t, std::vector<std::byte>& bytes) {
    if (!from_client || to_lose == 0) return;
    --to_lose;
    bytes.back() ^= std::byte{1};  // it will not open, which is as good as lost
  };
  SimPair pair(options);
  pair.run_until(at(1s));
  std::map<std::uint32_t, Time> sent;
  std::map<std::uint32_t, Duration> late;
  const auto hear = [&](bool at_server, const link::Event& event) {
    if (event.kind != link::Event::Kind::message || !at_server) return;
    late[number_of(event)] = pair.now() - sent[number_of(event)] - 50ms;
  };
  std::uint32_t next = 0;
  const auto tick = [&] {
    sent[next] = pair.now();
    EXPECT_EQ(pair.client().send(2, 0, numbered(next++, 40), 320), Errc::none);
    from_client = true;
    pair.run_until(pair.now(), hear);
    from_client = false;
    pair.run_until(pair.now() + 16667us, hear);
  };
  while (next < 600) tick();  // that the path is lossy is known by now
  pair.set_conditions({.delay = 50ms});
  while (next < 640) tick();
  // The third in a row: told with the partner's message, or sent again by itself.
  for (const std::uint32_t phase : {0U, 1U, 2U, 3U}) {
    while (next % 4 != phase) tick();
    const std::uint32_t lost = next;
    to_lose = 2;
    while (next < lost + 8) tick();
    pair.run_until(pair.now() + 200ms, hear);
    ASSERT_EQ(late.count(lost), 1U);
    EXPECT_GT(late[lost], 20ms);
    EXPECT_LT(late[lost], 52ms) << "three ticks; message " << lost;
  }
}

TEST(Priorities, UrgentOrdersPassAGreedyTransferThroughABottleneck) {
  kit::SimPairOptions options{.seed = 3, .conditions = narrow(1000, 50ms)};
  options.channels = {{Delivery::ordered}, {Delivery::ordered}};
  options.channels[0].priority = link::Priority::high;
  options.channels[1].priority = link::Priority::bulk;
  SimPair pair(options);
  pair.run_until(at(1s));
  std::vector<double> late;
  std::map<std::uint32_t, Time> sent;
  std::size_t bulk = 0;
  const auto hear = [&](bool, const link::Event& event) {
    if (event.kind != link::Event::Kind::message) return;
    if (pair.now() < at(6s)) return;
    if (event.channel == 1) {
      bulk += event.payload.size();
    } else if (sent.contains(number_of(event))) {
      late.push_back(
          std::chrono::duration<double, std::milli>(pair.now() - sent[number_of(event)] - 50ms)
              .count());
    }
  };
  for (std::uint32_t i = 0; i < 700; ++i) {
    while (pair.client().send(1, 0, numbered(i, 8192), 65536) == Errc::none) {
    }
    if (pair.now() >= at(6s)) sent[i] = pair.now();
    ASSERT_EQ(pair.client().send(0, 0, numbered(i, 40), 320), Errc::none);
    pair.run_until(pair.now() + 50ms, hear);
  }
  std::sort(late.begin(), late.end());
  EXPECT_LT(late[late.size() * 99 / 100], 40);
  const double seconds = std::chrono::duration<double>(pair.now() - at(6s)).count();
  EXPECT_GT(static_cast<double>(bulk) / seconds, 0.9 * 125000) << "bytes a second of 125000";
}

TEST(Pace, RandomLossAloneNeverThrottlesState) {
  SimPair pair({.seed = 9, .conditions = {.delay = 50ms, .loss = 0.05}});
  pair.run_until(at(1s));
  std::size_t heard = 0;
  const auto hear = [&](bool, const link::Event& event) {
    heard += event.kind == link::Event::Kind::message ? 1 : 0;
  };
  // 200 kbit/s: 60 a second of 416 bytes.
  for (std::uint32_t i = 0; i < 3600; ++i) {
    ASSERT_EQ(pair.client().send(0, 0, numbered(i, 416), 3328), Errc::none);
    pair.run_until(pair.now() + 16667us, hear);
  }
  EXPECT_EQ(pair.client().stats().messages_expired, 0U);
  EXPECT_NEAR(static_cast<double>(heard), 3600 * 0.95, 60);
}

TEST(Pace, StaleStateIsGivenUpRatherThanQueued) {
  SimPair pair({.seed = 10, .conditions = narrow(200, 30ms)});
  pair.run_until(at(1s));
  std::map<std::uint32_t, Time> sent;
  Duration oldest{0};
  const auto hear = [&](bool, const link::Event& event) {
    if (event.kind != link::Event::Kind::message || pair.now() < at(5s)) return;
    oldest = std::max(oldest, pair.now() - sent[number_of(event)]);
  };
  // Three times what the path carries.
  for (std::uint32_t i = 0; i < 600; ++i) {
    sent[i] = pair.now();
    ASSERT_EQ(pair.client().send(0, 0, numbered(i, 1000), 8000), Errc::none);
    pair.run_until(pair.now() + 13333us, hear);
  }
  EXPECT_GT(pair.client().stats().messages_expired, 100U);
  EXPECT_LT(oldest, Duration(1500ms)) << "half a second of waiting, and what stands in the path";
}

TEST(Pace, BudgetIsWhatThePathCarries) {
  SimPair pair({.seed = 11, .conditions = narrow(800, 30ms)});
  pair.run_until(at(1s));
  EXPECT_EQ(pair.client().budget(pair.now()) > 0, true);
  std::size_t sent = 0;
  for (std::uint32_t tick = 0; tick < 400; ++tick) {
    // An upper layer that fills the budget with state, each tick.
    std::size_t left = pair.client().budget(pair.now());
    for (; left >= 1000; left -= 1000) {
      ASSERT_EQ(pair.client().send(0, 0, numbered(tick, 900), 7200), Errc::none);
      sent += tick >= 100 ? 1000 : 0;
    }
    pair.run_until(pair.now() + 50ms);
  }
  const double rate = static_cast<double>(sent) / 15;
  EXPECT_GT(rate, 0.6 * 100000);
  EXPECT_LT(rate, 1.1 * 100000);
  EXPECT_LT(pair.client().stats().messages_expired, 20U) << "what the budget permits is sent";
}

// ---- a path that shrinks ----

// Nothing but large datagrams leaves, and then the path takes none of them any more: orders arrive
// again within a second or so, not after the half minute that it took them once.
TEST(NarrowPath, GoesBackToTheBaseSizeAfterSilence) {
  for (const Duration one_way : {Duration(20ms), Duration(60ms)}) {
    for (const std::size_t a_tick : {std::size_t{1400}, std::size_t{5600}}) {
      SCOPED_TRACE(std::to_string(one_way / 1ms) + " ms, " + std::to_string(a_tick) + " bytes");
      SimPair pair({.seed = 31, .conditions = {.delay = one_way}});
      pair.run_until(at(1s));
      Time newest{};
      const auto hear = [&](bool at_server, const link::Event& event) {
        if (at_server && event.kind == link::Event::Kind::message && event.channel == 2) {
          newest = pair.now();
        }
      };
      const std::vector<std::byte> piece(700);
      const auto talk = [&](Duration time) {
        for (Duration t{0}; t < time; t += 50ms) {
          for (std::size_t sent = 0; sent < a_tick; sent += piece.size()) {
            (void)pair.client().send(sent == 0 ? 2 : 0, 0, piece, piece.size() * 8);
          }
          pair.run_until(pair.now() + 50ms, hear);
        }
      };
      talk(10s);
      ASSERT_GT(pair.client().stats().mtu, 1250U) << "large datagrams were in use";
      pair.narrow_to(1250);
      const Time shrunk = pair.now();
      while (pair.client().stats().mtu > 1250 && pair.now() < shrunk + 30s) talk(50ms);
      const Duration until_small = pair.now() - shrunk;
      EXPECT_LE(until_small, Duration(1500ms));
      const Time before = newest;
      talk(2s);
      EXPECT_GT(newest, before + 1s) << "orders arrive again";
      talk(10s);
      EXPECT_LE(pair.client().stats().mtu, 1250U);
      EXPECT_EQ(pair.client().state(), link::State::open);
    }
  }
}

// ---- space for others ----

class Numbers final : public link::PayloadSource {
 public:
  std::optional<std::uint64_t> fill(Time, bits::Writer& out) override {
    if (next_ >= max_ || out.room_bits() < 64) return std::nullopt;
    out.put(next_, 64);
    return next_++;
  }
  void on_delivery(std::uint64_t token, bool arrived) noexcept override {
    if (arrived) {
      EXPECT_TRUE(acked_.insert(token).second);
    } else {
      EXPECT_TRUE(lost_.insert(token).second);
      EXPECT_FALSE(acked_.contains(token)) << "acked is final";
    }
  }
  std::set<std::uint64_t> acked_;
  std::set<std::uint64_t> lost_;
  std::uint64_t next_ = 0;
  std::uint64_t max_ = 0;
};

TEST(Fills, ThatFindAFullInboxAreRefusedUnacknowledged) {
  SimPair pair({.seed = 5, .conditions = {.delay = 10ms}});
  pair.run_until(at(1s));
  // The server's program takes nothing: datagrams are handed over by hand.
  class Large final : public link::PayloadSource {
   public:
    std::optional<std::uint64_t> fill(Time, bits::Writer& out) override {
      while (out.room_bits() >= 64) out.put(0x5a, 64);
      return tokens_++;
    }
    void on_delivery(std::uint64_t, bool arrived) noexcept override { acked_ += arrived ? 1 : 0; }
    std::uint64_t tokens_ = 0;
    std::size_t acked_ = 0;
  };
  Large large;
  std::array<std::byte, link::kMaxDatagramBytes> memory{};
  std::size_t taken = 0;
  std::size_t refused = 0;
  Time now = pair.now();
  for (int i = 0; i < 2000; ++i, now += 20ms) {
    pair.client().schedule_payload(&large, 1);
    if (now >= pair.client().next_wakeup()) pair.client().wake(now);
    while (const std::size_t size = pair.client().poll_datagram(now, memory)) {
      if (link::Listener::is_lost(std::span(memory).first(size))) continue;
      const Errc error = pair.server().receive(now, std::span(memory).first(size));
      ASSERT_TRUE(error == Errc::none || error == Errc::inbox_full) << error_info(error).name;
      (error == Errc::none ? taken : refused) += 1;
    }
    if (now >= pair.server().next_wakeup()) pair.server().wake(now);
    while (const std::size_t size = pair.server().poll_datagram(now, memory)) {
      EXPECT_EQ(pair.client().receive(now, std::span(memory).first(size)), Errc::none);
    }
    if (refused > 20) break;
  }
  EXPECT_GT(refused, 20U);
  EXPECT_EQ(pair.server().stats().drops.of(Errc::inbox_full), refused);
  std::size_t heard = 0;
  while (const auto event = pair.server().poll_event()) {
    heard += event->kind == link::Event::Kind::payload ? 1 : 0;
  }
  EXPECT_LE(large.acked_, heard) << "what is acknowledged is what the program gets";
  EXPECT_GT(heard, 300U);
}

TEST(Fills, ArriveUnderTokensThatAreToldAckedOrLost) {
  SimPair pair({.seed = 12, .conditions = {.delay = 30ms, .jitter = 20ms, .loss = 0.1}});
  pair.run_until(at(1s));
  Numbers numbers;
  std::set<std::uint64_t> heard;
  const auto hear = [&](bool at_server, const link::Event& event) {
    if (at_server && event.kind == link::Event::Kind::payload) {
      EXPECT_EQ(event.bits, 64U);
      heard.insert(bits::Reader(event.payload, event.bits).get(64));
    }
  };
  for (int tick = 0; tick < 300; ++tick) {
    numbers.max_ = numbers.next_ + 2;
    pair.client().schedule_payload(&numbers, 2);
    pair.run_until(pair.now() + 50ms, hear);
  }
  pair.client().schedule_payload(&numbers, 0);
  pair.run_until(pair.now() + 3s, hear);
  EXPECT_GE(numbers.next_, 300U);
  EXPECT_EQ(numbers.acked_, heard)
      << "acked means heard, and in the end all that was heard is acked";
  for (std::uint64_t token = 0; token < numbers.next_; ++token) {
    EXPECT_TRUE(numbers.acked_.contains(token) || numbers.lost_.contains(token)) << token;
  }
  EXPECT_GT(numbers.lost_.size(), 10U);
}

// Whoever fills may go, move or be followed by another while its link lives, and the other way
// round.
TEST(Fills, AFillerMayEndOrMoveBeforeItsLink) {
  SimPair pair({.seed = 14, .conditions = {.delay = 30ms}});
  pair.run_until(at(1s));
  std::set<std::uint64_t> heard;
  const auto hear = [&](bool at_server, const link::Event& event) {
    if (at_server && event.kind == link::Event::Kind::payload) {
      heard.insert(bits::Reader(event.payload, event.bits).get(64));
    }
  };
  auto first = std::make_unique<Numbers>();
  first->max_ = 100;
  pair.client().schedule_payload(first.get(), 5);
  first.reset();
  pair.run_until(pair.now() + 200ms, hear);
  EXPECT_TRUE(heard.empty()) << "it was gone before a datagram left";

  auto moved_from = std::make_unique<Numbers>();
  moved_from->max_ = 100;
  pair.client().schedule_payload(moved_from.get(), 5);
  Numbers moved(std::move(*moved_from));
  moved_from.reset();
  pair.run_until(pair.now() + 20ms, hear);
  EXPECT_EQ(moved.next_, 5U);
  EXPECT_TRUE(moved.acked_.empty());
  Numbers another;  // hears nothing of what the one before it wrote
  pair.client().schedule_payload(&another, 0);
  pair.run_until(pair.now() + 200ms, hear);
  EXPECT_EQ(heard.size(), 5U);
  EXPECT_TRUE(another.acked_.empty() && another.lost_.empty());

  // A payload source that changes to another link leaves the one where it was.
  SimPair elsewhere({.seed = 15, .conditions = {.delay = 30ms}});
  elsewhere.run_until(at(1s));
  moved.max_ = 200;
  pair.client().schedule_payload(&moved, 5);
  elsewhere.client().schedule_payload(&moved, 2);
  pair.run_until(pair.now() + 200ms, hear);
  EXPECT_EQ(heard.size(), 5U);
  elsewhere.run_until(elsewhere.now() + 200ms);
  EXPECT_EQ(moved.next_, 7U);
  EXPECT_EQ(moved.acked_.size(), 2U);
  {
    SimPair short_lived({.seed = 16, .conditions = {.delay = 30ms}});
    short_lived.run_until(at(1s));
    short_lived.client().schedule_payload(&moved, 2);
  }
  elsewhere.client().schedule_payload(&moved, 1);
  elsewhere.run_until(elsewhere.now() + 200ms);
  EXPECT_EQ(moved.next_, 8U);
}

TEST(Fills, WhoHasNothingToSayMakesNoDatagram) {
  SimPair pair({.seed = 13, .conditions = {.delay = 30ms}});
  pair.run_until(at(1s));
  Numbers numbers;
  const std::uint64_t before = pair.client().stats().datagrams_sent;
  for (int tick = 0; tick < 100; ++tick) {
    numbers.max_ = numbers.next_ + 1;
    pair.client().schedule_payload(&numbers, 2);  // of which it has use for one
    pair.run_until(pair.now() + 50ms);
  }
  EXPECT_EQ(numbers.next_, 100U);
  EXPECT_LE(pair.client().stats().datagrams_sent - before, 104U) << "a keepalive or two";
  EXPECT_GE(pair.client().stats().datagrams_sent - before, 100U);
}

}  // namespace delivery_test
}  // namespace kwind
