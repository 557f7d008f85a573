// The link's mechanisms, each alone.
#include <gtest/gtest.h>

#include <array>
#include <random>
#include <set>

#include "kit/sim_pair.h"
#include "link/ack_block.h"
#include "link/ack_window.h"
#include "link/ordered.h"
#include "link/outbox.h"
#include "link/packet_number.h"
#include "link/reliable_sender.h"
#include "link/rtt.h"
#include "link/sent_ledger.h"
#include "link/sequenced.h"

namespace kwind::link {
namespace {

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

TEST(AckWindow, AgreesWithASetOfEverythingSeen) {
  std::mt19937_64 random(2);
  AckWindow window;
  std::set<std::uint64_t> seen;
  std::uint64_t centre = 300;
  for (int i = 0; i < 20000; ++i) {
    centre += random() % 3;
    if (random() % 500 == 0) centre += 400;  // a gap wider than the window
    const std::uint64_t number = centre - random() % 300;
    const bool too_old = !seen.empty() && number + AckWindow::kSpanPackets <= *seen.rbegin();
    const bool fresh = !too_old && !seen.contains(number);
    ASSERT_EQ(window.is_new(PacketNumber{number}), fresh) << number;
    if (!fresh) continue;
    window.mark_received(PacketNumber{number});
    seen.insert(number);
    ASSERT_EQ(raw(window.largest()), *seen.rbegin());
    std::vector<AckRange> ranges;
    window.ranges(64, 1000, ranges);
    std::set<std::uint64_t> listed;
    for (const AckRange& range : ranges) {
      for (std::uint64_t n = range.first; n <= range.last; ++n) listed.insert(n);
    }
    std::set<std::uint64_t> recent;
    for (auto n = seen.rbegin(); n != seen.rend() && *seen.rbegin() - *n < 64; ++n)
      recent.insert(*n);
    ASSERT_EQ(listed, recent);
  }
}

TEST(AckBlock, ComesBackAsItWasSent) {
  std::mt19937_64 random(3);
  for (int round = 0; round < 2000; ++round) {
    AckBlock block;
    std::uint64_t last = 1000 + random() % 100000;
    const std::uint64_t next_unsent = last + 1 + random() % 50;
    for (auto n = 1 + random() % kMostAckRanges; n > 0; --n) {
      const std::uint64_t first = last - random() % 10;
      block.ranges.push_back({first, last});
      last = first - 2 - random() % 5;
    }
    block.delay = std::chrono::microseconds(250) * (random() % 1024);
    std::array<std::byte, 256> memory{};
    bits::Writer out(memory);
    write(block, out);
    ASSERT_TRUE(out.ok());
    out.finish();
    bits::Reader in(memory, out.bit_count());
    AckBlock got;
    ASSERT_EQ(read(in, next_unsent, got), Errc::none);
    EXPECT_EQ(got.ranges, block.ranges);
    EXPECT_EQ(got.delay, block.delay);
    EXPECT_EQ(in.left_bits(), 0U);
    for (std::size_t cut = 0; cut < out.bit_count(); ++cut) {
      bits::Reader part(memory, cut);
      ASSERT_NE(read(part, next_unsent, got), Errc::none) << "cut at " << cut;
    }
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
    return read(in, next_unsent, got);
  };
  EXPECT_EQ(read_back({0ms, {{5, 9}}}, 10), Errc::none);
  EXPECT_EQ(read_back({0ms, {{5, 9}}}, 9), Errc::bad_ack) << "9 was not sent yet";
  EXPECT_EQ(read_back({0ms, {{0, 0}}}, 0), Errc::bad_ack) << "nothing was sent at all";
  // A run that would reach below packet 0.
  std::array<std::byte, 16> memory{};
  bits::Writer out(memory);
  out.put(3, 16);
  out.put(0, 10 + 4);
  out.put_count(7, 2);
  out.finish();
  bits::Reader in(memory, out.bit_count());
  AckBlock got;
  EXPECT_EQ(read(in, 10, got), Errc::bad_ack);
}

TEST(Rtt, FollowsThePathAndDiscountsStatedAckDelay) {
  Rtt rtt;
  rtt.sample(80ms, 0ms);
  EXPECT_EQ(rtt.smoothed(), Duration(80ms));
  for (int i = 0; i < 100; ++i) rtt.sample(120ms, 40ms);
  EXPECT_EQ(rtt.smoothed(), Duration(80ms));
  for (int i = 0; i < 100; ++i) rtt.sample(200ms, 0ms);
  EXPECT_NEAR(static_cast<double>(rtt.smoothed().count()), 200e6, 1e6);
  EXPECT_EQ(rtt.least(), Duration(80ms));
  // A peer that claims an absurd delay cannot push the estimate below the least time seen.
  for (int i = 0; i < 100; ++i) rtt.sample(90ms, 10s);
  EXPECT_GE(rtt.smoothed(), Duration(80ms));
}

TEST(SentLedger, CountsAPacketAsLostAfterThreeNewerAcks) {
  SentLedger ledger;
  Rtt rtt;
  rtt.sample(100ms, 0ms);
  for (std::uint64_t n = 0; n < 5; ++n) {
    ledger.begin();
    ledger.add_reliable({0, n});
    ledger.sent(at(1ms * n), true);
  }
  const auto second = ledger.on_ack(at(100ms), {0ms, {{2, 2}}}, rtt);
  EXPECT_EQ(second.packets_lost, 0U);
  EXPECT_EQ(second.acked.size(), 1U);
  EXPECT_TRUE(second.newest_acked);
  EXPECT_EQ(second.rtt, Duration(98ms));
  const auto third = ledger.on_ack(at(101ms), {0ms, {{2, 3}}}, rtt);
  ASSERT_EQ(third.lost.size(), 1U);
  EXPECT_EQ(third.lost[0].index, 0U);
  // Packet 1 is only two behind: time decides.
  EXPECT_EQ(ledger.loss_deadline(), at(1ms + 112500us));
  EXPECT_EQ(ledger.on_timer(at(113ms), rtt).packets_lost, 0U) << "early wakes change nothing";
  EXPECT_EQ(ledger.on_timer(at(114ms), rtt).packets_lost, 1U);
  EXPECT_EQ(ledger.on_timer(at(115ms), rtt).packets_lost, 0U) << "a packet is lost once";
}

TEST(SentLedger, ProbesEverMoreRarelyButEverySecond) {
  SentLedger ledger;
  Rtt rtt;
  EXPECT_EQ(ledger.probe_deadline(rtt, 50ms), kNever);
  ledger.begin();
  ledger.sent(at(0ms), true);
  const Duration first = ledger.probe_deadline(rtt, 50ms) - at(0ms);
  ledger.probe_sent();
  EXPECT_EQ(ledger.probe_deadline(rtt, 50ms) - at(0ms),
            std::max<Duration>(std::min<Duration>(2 * first, 1s), first));
  for (int i = 0; i < 50; ++i) ledger.probe_sent();
  EXPECT_LE(ledger.probe_deadline(rtt, 50ms) - at(0ms), Duration(1s));
}

TEST(SentLedger, HasRoomOnlyWhileNumbersAreUnambiguous) {
  SentLedger ledger;
  std::uint64_t sent = 0;
  while (ledger.has_room()) {
    ledger.begin();
    ledger.sent(at(0ms), true);
    ++sent;
  }
  EXPECT_EQ(sent, SentLedger::kMostInFlight);
  Rtt rtt;
  ledger.on_ack(at(10ms), {0ms, {{0, sent - 1}}}, rtt);
  EXPECT_TRUE(ledger.has_room());
  EXPECT_FALSE(ledger.anything_in_flight());
}

std::vector<std::uint64_t> drain(Inbox& inbox) {
  std::vector<std::uint64_t> numbers;
  while (const auto message = inbox.take()) {
    numbers.push_back(bits::Reader(message->payload, message->bits).get(16));
  }
  inbox.reclaim();
  return numbers;
}

OrderedReceiver::Taken give(OrderedReceiver& receiver, Inbox& inbox, std::uint16_t number) {
  std::array<std::byte, 2> payload{std::byte(number & 0xff), std::byte(number >> 8)};
  return receiver.receive(number, bits::Reader(payload), 16, 0, inbox);
}

TEST(Ordered, DeliversEachOnceInOrder) {
  OrderedReceiver receiver;
  Inbox inbox;
  EXPECT_EQ(give(receiver, inbox, 2), OrderedReceiver::Taken::kept);
  EXPECT_EQ(give(receiver, inbox, 2), OrderedReceiver::Taken::doubled);
  EXPECT_EQ(give(receiver, inbox, 1), OrderedReceiver::Taken::kept);
  EXPECT_TRUE(drain(inbox).empty());
  EXPECT_EQ(give(receiver, inbox, 0), OrderedReceiver::Taken::delivered);
  EXPECT_EQ(drain(inbox), (std::vector<std::uint64_t>{0, 1, 2}));
  EXPECT_EQ(give(receiver, inbox, 1), OrderedReceiver::Taken::doubled);
  EXPECT_FALSE(receiver.in_window(static_cast<std::uint16_t>(3 + kWindowMessages)));
  EXPECT_TRUE(receiver.in_window(static_cast<std::uint16_t>(2 + kWindowMessages)));
}

TEST(Ordered, GoesOnAcrossTheWrapOfItsNumbers) {
  OrderedReceiver receiver;
  Inbox inbox;
  for (std::uint32_t n = 0; n < 200000; ++n) {
    ASSERT_EQ(give(receiver, inbox, static_cast<std::uint16_t>(n)),
              OrderedReceiver::Taken::delivered);
    drain(inbox);
  }
}

TEST(Ordered, SenderKeepsToTheWindow) {
  ReliableSender sender(4096);
  const std::array<std::byte, 4> payload{};
  for (int i = 0; i < 1000; ++i) ASSERT_EQ(sender.push(0, payload, 32), Errc::none);
  std::uint64_t in_flight = 0;
  while (const auto next = sender.peek()) {
    sender.sent(next->index);
    ++in_flight;
  }
  EXPECT_EQ(in_flight, kWindowMessages);
  sender.acked(5);
  EXPECT_FALSE(sender.peek()) << "the oldest decides";
  sender.acked(0);
  ASSERT_TRUE(sender.peek());
  EXPECT_EQ(sender.peek()->index, kWindowMessages);
  sender.lost(3);
  ASSERT_TRUE(sender.peek());
  EXPECT_EQ(sender.peek()->index, 3U);
  EXPECT_TRUE(sender.peek()->repeated);
}

TEST(Ordered, SenderBoundsItsBytesInFlightAndItsQueue) {
  ReliableSender sender(200);
  const std::vector<std::byte> payload(1000);
  std::size_t pushed = 0;
  while (sender.push(0, payload, 8000) == Errc::none) ++pushed;
  EXPECT_EQ(pushed, 200U);
  std::size_t bytes = 0;
  while (const auto next = sender.peek()) {
    sender.sent(next->index);
    bytes += next->payload.size();
  }
  EXPECT_LE(bytes, kWindowBytes);
  EXPECT_GT(bytes, kWindowBytes - 1000);
}

TEST(Sequenced, AcceptsOnlyNewerAcrossTheWrap) {
  SequencedReceiver receiver;
  std::uint16_t number = 65000;
  for (int i = 0; i < 200000; ++i) {
    ASSERT_TRUE(receiver.accept(number));
    ASSERT_FALSE(receiver.accept(number)) << "a copy";
    ASSERT_FALSE(receiver.accept(static_cast<std::uint16_t>(number - 1)));
    ASSERT_FALSE(receiver.accept(static_cast<std::uint16_t>(number - 30000)));
    number = static_cast<std::uint16_t>(number + 1 + i % 50);
  }
}

TEST(Outbox, GivesUpOldMessagesForNewOnes) {
  Outbox outbox(100);
  const std::array<std::byte, 40> payload{};
  EXPECT_EQ(outbox.push(0, 0, payload, 320), 0U);
  EXPECT_EQ(outbox.push(0, 1, payload, 320), 0U);
  EXPECT_EQ(outbox.push(0, 2, payload, 320), 2U);
  ASSERT_FALSE(outbox.empty());
  EXPECT_EQ(outbox.front().tag, 2U);
}

}  // namespace
}  // namespace kwind::link
