// Packet numbers, ack blocks, round-trip times and packets in flight, each alone.
#include <gtest/gtest.h>

#include <array>
#include <random>
#include <set>

#include "kit/sim_pair.h"
#include "kit/sweep.h"
#include "link/datagram/ack_block.h"
#include "link/packet_number.h"
#include "link/path/ack_history.h"
#include "link/path/received_packets.h"
#include "link/path/rtt.h"
#include "link/path/sent_packets.h"

namespace kwind::link {
namespace loss_detection_test {

using namespace std::chrono_literals;
using kit::at;

TEST(PacketNumbers, ExpandToTheNearestOfTheirLowBits) {
  std::mt19937_64 random(1);
  for (int i = 0; i < 20000; ++i) {
    const std::uint64_t expected = random() >> (random() % 60 + 4);
    const auto off = static_cast<std::int64_t>(random() % 60000) - 30000;
    if (off < 0 && expected < static_cast<std::uint64_t>(-off)) continue;
    const std::uint64_t number = expected + static_cast<std::uint64_t>(off);
    ASSERT_EQ(expand16(expected, number & 0xffff), number) << expected << " " << off;
  }
}

TEST(ReceivedPackets, AgreesWithASetOfEverythingSeen) {
  std::mt19937_64 random(2);
  ReceivedPackets window;
  std::set<std::uint64_t> seen;
  std::uint64_t centre = 600;
  for (int i = 0; i < (kit::kSanitized ? 3000 : 20000); ++i) {
    centre += random() % 3;
    if (random() % 500 == 0) centre += 700;  // a gap wider than the window
    const std::uint64_t number = centre - random() % 600;
    const bool too_old = !seen.empty() && number + ReceivedPackets::kSpanPackets <= *seen.rbegin();
    const bool fresh = !too_old && !seen.contains(number);
    ASSERT_EQ(window.is_new(PacketNumber{number}), fresh) << number;
    if (!fresh) continue;
    window.mark_received(PacketNumber{number});
    seen.insert(number);
    ASSERT_EQ(raw(window.largest()), *seen.rbegin());
    const std::uint64_t span = random() % 3 == 0 ? ReceivedPackets::kSpanPackets : 64;
    // From the newest back, or from an older number.
    const std::uint64_t top =
        *seen.rbegin() -
        (random() % 4 == 0
             ? random() % std::min<std::uint64_t>(ReceivedPackets::kSpanPackets, *seen.rbegin())
             : 0);
    std::vector<AckRange> ranges;
    window.ranges(top, span, 0, 1000, ranges);
    std::set<std::uint64_t> listed;
    for (const AckRange& range : ranges) {
      ASSERT_TRUE(listed.empty() || range.last + 1 < *listed.begin()) << "runs, newest first";
      for (std::uint64_t n = range.first; n <= range.last; ++n) listed.insert(n);
    }
    std::set<std::uint64_t> recent;
    for (auto n = seen.rbegin(); n != seen.rend(); ++n) {
      const bool near = *n <= top && top - *n < span;
      if (near && *seen.rbegin() - *n < ReceivedPackets::kSpanPackets) recent.insert(*n);
    }
    ASSERT_EQ(listed, recent);
    std::vector<AckRange> first_two;
    window.ranges(top, span, 0, 2, first_two);
    ranges.resize(std::min<std::size_t>(ranges.size(), 2));
    ASSERT_EQ(first_two, ranges);
  }
}

TEST(AckBlock, ComesBackAsItWasSent) {
  constexpr std::array kSteps{0, 1, 2, 3, 4, 6, 8, 10, 13, 17, 22, 28, 36, 46, 60, 80};
  std::mt19937_64 random(3);
  for (int round = 0; round < 4000; ++round) {
    AckBlock block;
    block.wide = random() % 2 == 0;
    const std::uint64_t newest = 1000 + random() % 100000;
    const std::uint64_t newest_narrow = newest + random() % 63;
    const std::uint64_t unsent = (block.wide ? newest : newest_narrow) + 1 + random() % 50;
    std::uint64_t last = newest;
    for (auto n = 1 + random() % kMaxAckRanges; n > 0; --n) {
      const std::uint64_t first = last - random() % 10;
      block.ranges.push_back({first, last});
      last = first - 2 - random() % 5;
    }
    const int step = kSteps[random() % kSteps.size()];
    block.delay = std::chrono::milliseconds(step);
    block.whole = round % 10 == 0;
    if (block.whole) {
      block.wide = false;
      block.ranges = {{newest - random() % 16, newest}};
    }
    std::array<std::byte, 256> memory{};
    bits::Writer out(memory);
    write(block, out);
    if (block.whole) {
      EXPECT_EQ(out.bit_count(), 11U) << "what most datagrams carry";
      block.ranges[0].first = newest - 15;
    }
    ASSERT_TRUE(out.ok());
    out.finish();
    bits::Reader in(memory, out.bit_count());
    AckBlock got;
    ASSERT_EQ(read(in, unsent, newest_narrow, got), Errc::none);
    EXPECT_EQ(got.ranges, block.ranges);
    EXPECT_EQ(got.delay, block.delay);
    EXPECT_EQ(in.left_bits(), 0U);
    for (std::size_t cut = 0; cut < out.bit_count(); ++cut) {
      bits::Reader part(memory, cut);
      ASSERT_NE(read(part, unsent, newest_narrow, got), Errc::none) << "cut at " << cut;
    }
  }
}

TEST(AckBlock, RoundsTheDelayDown) {
  for (int tenths = 0; tenths < 1500; ++tenths) {
    AckBlock block{std::chrono::microseconds(100 * tenths), false, true, {{0, 3}}};
    std::array<std::byte, 16> memory{};
    bits::Writer out(memory);
    write(block, out);
    out.finish();
    bits::Reader in(memory, out.bit_count());
    AckBlock got;
    ASSERT_EQ(read(in, 4, 3, got), Errc::none);
    EXPECT_LE(got.delay, block.delay);
    EXPECT_GE(got.delay, std::min<Duration>(block.delay * 2 / 3 - 1ms, 80ms)) << tenths;
  }
}

TEST(AckBlock, RefusesAcksOfPacketsNeverSent) {
  const auto read_back = [](const AckBlock& block, std::uint64_t next_unsent) {
    std::array<std::byte, 256> memory{};
    bits::Writer out(memory);
    write(block, out);
    out.finish();
    bits::Reader in(memory, out.bit_count());
    AckBlock got;
    return read(in, next_unsent, 9, got);
  };
  EXPECT_EQ(read_back({0ms, false, false, {{5, 9}}}, 10), Errc::none);
  EXPECT_EQ(read_back({0ms, false, false, {{5, 9}}}, 9), Errc::bad_ack) << "9 was not sent yet";
  EXPECT_EQ(read_back({0ms, true, false, {{5, 9}}}, 9), Errc::bad_ack);
  EXPECT_EQ(read_back({0ms, true, false, {{0, 0}}}, 0), Errc::bad_ack) << "nothing was sent at all";
  EXPECT_EQ(read_back({0ms, false, false, {{20, 20}}}, 10), Errc::bad_ack) << "20 is 53 beyond -33";
  // A run that would reach below packet 0.
  std::array<std::byte, 16> memory{};
  bits::Writer out(memory);
  out.put(0, 2);
  out.put(3, 6);
  out.put(0, 4);
  out.put_count(0, 0);
  out.put_count(7, 2);
  out.finish();
  bits::Reader in(memory, out.bit_count());
  AckBlock got;
  EXPECT_EQ(read(in, 10, 9, got), Errc::bad_ack);
}

TEST(AckHistory, ForgetsWhatThePeerKnowsAndRemembersWhatComesLate) {
  AckHistory history;
  EXPECT_EQ(history.floor(), 0U);
  history.sent(Time{}, 0, 4);
  history.sent(Time{}, 1, 7);
  history.sent(Time{}, 2, 9);
  history.acked(std::vector<AckRange>{{1, 1}});
  EXPECT_EQ(history.floor(), 8U);
  history.acked(std::vector<AckRange>{{0, 0}});
  EXPECT_EQ(history.floor(), 8U) << "it never falls by an ack";
  history.received(5);
  EXPECT_EQ(history.floor(), 5U) << "5 was in none of these blocks";
  history.received(10);
  EXPECT_EQ(history.floor(), 5U);
  history.acked(std::vector<AckRange>{{0, 2}});
  EXPECT_EQ(history.floor(), 5U) << "those blocks left before 5 came";
  history.sent(Time{}, 3, 10);
  history.acked(std::vector<AckRange>{{0, 3}});
  EXPECT_EQ(history.floor(), 11U);
}

TEST(Rtt, FollowsThePathAndDiscountsStatedAckDelay) {
  Rtt rtt;
  rtt.sample(80ms, 0ms);
  EXPECT_EQ(rtt.smoothed(), Duration(80ms));
  for (int i = 0; i < 100; ++i) rtt.sample(120ms, 40ms);
  EXPECT_EQ(rtt.smoothed(), Duration(80ms));
  for (int i = 0; i < 100; ++i) rtt.sample(200ms, 0ms);
  EXPECT_NEAR(static_cast<double>(rtt.smoothed().count()), 200e6, 1e6);
  EXPECT_EQ(rtt.min(), Duration(80ms));
  // A peer that claims an absurd delay cannot push the estimate below the least time seen.
  for (int i = 0; i < 100; ++i) rtt.sample(90ms, 10s);
  EXPECT_GE(rtt.smoothed(), Duration(80ms));
}

std::uint64_t index_of(const SentRef& ref) {
  std::uint64_t index = ~std::uint64_t{0};
  ref.visit(Overloaded{[&](const ReliableRef& message) { index = message.index; },
                       [](const auto&) { ADD_FAILURE() << "only messages were sent"; }});
  return index;
}

SentRef message(std::uint64_t index) {
  return ReliableRef{.index = index};
}

void send(SentPackets& ledger, Time now, std::uint64_t index) {
  ledger.begin();
  ledger.add(message(index));
  ledger.sent(now, 100, true, false);
}

TEST(SentPackets, CountsAPacketAsLostAfterThreeNewerAcks) {
  SentPackets ledger;
  Rtt rtt;
  rtt.sample(100ms, 0ms);
  for (std::uint64_t n = 0; n < 5; ++n) send(ledger, at(1ms * n), n);
  const auto second = ledger.on_ack(at(100ms), {0ms, false, false, {{2, 2}}}, rtt);
  EXPECT_EQ(second.packets_lost, 0U);
  EXPECT_EQ(ledger.acked().size(), 1U);
  EXPECT_TRUE(second.newest_acked);
  EXPECT_EQ(second.rtt, Duration(98ms));
  ledger.on_ack(at(101ms), {0ms, false, false, {{2, 3}}}, rtt);
  ASSERT_EQ(ledger.lost().size(), 1U);
  EXPECT_EQ(index_of(ledger.lost()[0]), 0U);
  // Packet 1 is only two behind: time decides.
  EXPECT_EQ(ledger.loss_deadline(), at(1ms + 112500us));
  EXPECT_EQ(ledger.on_timer(at(113ms), rtt).packets_lost, 0U) << "early wakes change nothing";
  EXPECT_EQ(ledger.on_timer(at(114ms), rtt).packets_lost, 1U);
  EXPECT_EQ(ledger.on_timer(at(115ms), rtt).packets_lost, 0U) << "a packet is lost once";
  // It was only late: what it carried has arrived after all.
  ledger.on_ack(at(120ms), {0ms, false, false, {{0, 3}}}, rtt);
  std::set<std::uint64_t> late;
  for (const SentRef& ref : ledger.acked()) late.insert(index_of(ref));
  EXPECT_EQ(late, (std::set<std::uint64_t>{0, 1}));
  EXPECT_EQ(ledger.bytes_in_flight(), 100U) << "packet 4";
}

// A program that stood still answers late: that is no time and no rate of the path.
TEST(SentPackets, WhatWaitedForAProgramThatStoodStillIsNoSample) {
  SentPackets ledger;
  Rtt rtt;
  rtt.sample(100ms, 0ms);
  send(ledger, at(0ms), 0);
  send(ledger, at(0ms), 1);
  const auto slow = ledger.on_ack(at(2900ms), {0ms, false, false, {{0, 0}}}, rtt);
  EXPECT_TRUE(slow.newest_acked) << "a path may be that slow";
  EXPECT_EQ(slow.rtt, Duration(2900ms));
  const auto late = ledger.on_ack(at(60s), {0ms, false, false, {{0, 1}}}, rtt);
  EXPECT_FALSE(late.newest_acked);
  EXPECT_EQ(late.bytes_acked, 100U) << "it has arrived all the same";
  EXPECT_EQ(late.rate.bytes_per_s, 0) << "no sample of the rate";
  send(ledger, at(60s), 2);
  const auto next = ledger.on_ack(at(60s + 100ms), {0ms, false, false, {{0, 2}}}, rtt);
  EXPECT_TRUE(next.newest_acked);
  EXPECT_EQ(next.rtt, Duration(100ms));
}

TEST(SentPackets, AnAckOfASkippedNumberIsALie) {
  SentPackets ledger;
  Rtt rtt;
  send(ledger, at(0ms), 0);
  ledger.skip();
  send(ledger, at(1ms), 1);
  EXPECT_EQ(ledger.on_ack(at(9ms), {0ms, false, false, {{0, 2}}}, rtt).error, Errc::bad_ack);
  EXPECT_EQ(ledger.bytes_in_flight(), 200U) << "nothing of it counted";
  EXPECT_EQ(ledger.on_ack(at(10ms), {0ms, false, false, {{2, 2}, {0, 0}}}, rtt).error, Errc::none);
  EXPECT_FALSE(ledger.anything_in_flight());
}

TEST(SentPackets, ProbesEverMoreRarelyButEverySecond) {
  SentPackets ledger;
  Rtt rtt;
  EXPECT_EQ(ledger.probe_deadline(rtt, 50ms), kNever);
  send(ledger, at(0ms), 0);
  const Duration first = ledger.probe_deadline(rtt, 50ms) - at(0ms);
  ledger.probe_sent();
  EXPECT_EQ(ledger.probe_deadline(rtt, 50ms) - at(0ms),
            std::max<Duration>(std::min<Duration>(2 * first, 1s), first));
  for (int i = 0; i < 50; ++i) ledger.probe_sent();
  EXPECT_LE(ledger.probe_deadline(rtt, 50ms) - at(0ms), Duration(1s));
}

TEST(SentPackets, HasRoomOnlyWhileNumbersAreUnambiguous) {
  SentPackets ledger;
  std::uint64_t sent = 0;
  while (ledger.has_room()) send(ledger, at(0ms), sent++);
  EXPECT_EQ(sent, SentPackets::kMaxInFlight);
  Rtt rtt;
  ledger.on_ack(at(10ms), {0ms, false, false, {{0, sent - 1}}}, rtt);
  EXPECT_TRUE(ledger.has_room());
  EXPECT_FALSE(ledger.anything_in_flight());
}

TEST(SentPackets, MeasuresLossAndHowFastPacketsArrive) {
  SentPackets ledger;
  Rtt rtt;
  rtt.sample(50ms, 0ms);
  double rate = 0;
  for (std::uint64_t n = 0; n < 3000; ++n) {
    const Time now = at(10ms * n);
    send(ledger, now, n);
    if (n < 10) continue;
    const std::uint64_t newest = n - 5;
    if (newest % 10 == 0) continue;  // one in ten never arrives
    const auto outcome = ledger.on_ack(now, {0ms, false, false, {{newest, newest}}}, rtt);
    if (outcome.rate.bytes_per_s > 0) rate = outcome.rate.bytes_per_s;
  }
  EXPECT_NEAR(ledger.loss(), 0.1, 0.05);
  EXPECT_NEAR(rate, 9000, 1500) << "100 bytes each 10 ms, nine of ten";
}

}  // namespace loss_detection_test
}  // namespace kwind::link
