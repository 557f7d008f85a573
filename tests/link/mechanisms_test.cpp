// The link's mechanisms, each alone.
#include <gtest/gtest.h>

#include <array>
#include <map>
#include <random>
#include <set>

#include "kit/sim_pair.h"
#include "link/datagram/ack_block.h"
#include "link/datagram/frames.h"
#include "link/delivery/assembly.h"
#include "link/delivery/reliable_receiver.h"
#include "link/delivery/reliable_sender.h"
#include "link/delivery/repeat.h"
#include "link/delivery/unreliable_receiver.h"
#include "link/delivery/unreliable_sender.h"
#include "link/packet_number.h"
#include "link/path/ack_history.h"
#include "link/path/controller.h"
#include "link/path/mtu.h"
#include "link/path/path.h"
#include "link/path/received_packets.h"
#include "link/path/rtt.h"
#include "link/path/sent_packets.h"
#include "link/random.h"

namespace kwind::link {
namespace mechanisms_test {

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
  for (int i = 0; i < 20000; ++i) {
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
  history.sent(0, 4);
  history.sent(1, 7);
  history.sent(2, 9);
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
  history.sent(3, 10);
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

SentRef message(std::uint64_t index) {
  return {SentRef::Kind::reliable, 0, 0, 0, index};
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
  EXPECT_EQ(ledger.lost()[0].index, 0U);
  // Packet 1 is only two behind: time decides.
  EXPECT_EQ(ledger.loss_deadline(), at(1ms + 112500us));
  EXPECT_EQ(ledger.on_timer(at(113ms), rtt).packets_lost, 0U) << "early wakes change nothing";
  EXPECT_EQ(ledger.on_timer(at(114ms), rtt).packets_lost, 1U);
  EXPECT_EQ(ledger.on_timer(at(115ms), rtt).packets_lost, 0U) << "a packet is lost once";
  // It was only late: what it carried has arrived after all.
  ledger.on_ack(at(120ms), {0ms, false, false, {{0, 3}}}, rtt);
  std::set<std::uint64_t> late;
  for (const SentRef& ref : ledger.acked()) late.insert(ref.index);
  EXPECT_EQ(late, (std::set<std::uint64_t>{0, 1}));
  EXPECT_EQ(ledger.bytes_in_flight(), 100U) << "packet 4";
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

std::vector<std::uint64_t> drain(Inbox& inbox) {
  std::vector<std::uint64_t> numbers;
  while (const auto message = inbox.take()) {
    numbers.push_back(bits::Reader(message->payload, message->bits).get(16));
  }
  inbox.reclaim();
  return numbers;
}

ReliableReceiver::Taken give(ReliableReceiver& receiver, Inbox& inbox, std::uint16_t number) {
  static std::array<std::byte, 2> payload;
  payload = {std::byte(number & 0xff), std::byte(number >> 8)};
  Frame frame;
  frame.kind = FrameKind::message;
  frame.index = number;
  frame.bits = 16;
  frame.payload = bits::Reader(payload);
  return receiver.receive(frame, inbox);
}

TEST(Ordered, DeliversEachOnceInOrder) {
  ReliableReceiver receiver(true, kFirstWindowBytes);
  Inbox inbox;
  EXPECT_FALSE(give(receiver, inbox, 2).doubled);
  EXPECT_TRUE(give(receiver, inbox, 2).doubled);
  EXPECT_FALSE(give(receiver, inbox, 1).doubled);
  EXPECT_TRUE(drain(inbox).empty());
  EXPECT_FALSE(give(receiver, inbox, 0).doubled);
  EXPECT_EQ(drain(inbox), (std::vector<std::uint64_t>{0, 1, 2}));
  EXPECT_TRUE(give(receiver, inbox, 1).doubled);
  EXPECT_FALSE(receiver.in_window(static_cast<std::uint16_t>(3 + kWindowMessages)));
  EXPECT_TRUE(receiver.in_window(static_cast<std::uint16_t>(2 + kWindowMessages)));
}

TEST(Reliable, DeliversEachOnceAtOnce) {
  ReliableReceiver receiver(false, kFirstWindowBytes);
  Inbox inbox;
  for (const int number : {2, 0, 2, 1, 0})
    give(receiver, inbox, static_cast<std::uint16_t>(number));
  EXPECT_EQ(drain(inbox), (std::vector<std::uint64_t>{2, 0, 1}));
}

TEST(Ordered, GoesOnAcrossTheWrapOfItsNumbersWhileTheGameTakesMessages) {
  ReliableReceiver receiver(true, kFirstWindowBytes);
  Inbox inbox;
  for (std::uint32_t n = 0; n < 200000; ++n) {
    ASSERT_EQ(give(receiver, inbox, static_cast<std::uint16_t>(n)).error, Errc::none) << n;
    drain(inbox);
    receiver.handed_out(16);
    if (receiver.should_advertise()) receiver.advertised();
  }
}

TEST(Ordered, AGameThatTakesNothingLetsTheWindowShut) {
  ReliableReceiver receiver(true, kFirstWindowBytes);
  Inbox inbox;
  std::uint32_t n = 0;
  while (give(receiver, inbox, static_cast<std::uint16_t>(n)).error == Errc::none) ++n;
  EXPECT_EQ(n, kFirstWindowBytes / (2 + kMessageCost));
}

// Messages `index` and the one two behind it, combined.
ReliableReceiver::Taken give_two(ReliableReceiver& receiver, Inbox& inbox, std::uint16_t index,
                                 std::vector<std::byte> first, std::vector<std::byte> second) {
  Combined combined;
  combined.mix(bits::Reader(first), first.size() * 8);
  combined.mix(bits::Reader(second), second.size() * 8);
  Frame frame;
  frame.kind = FrameKind::parity;
  frame.index = index;
  frame.bits = std::max(first.size(), second.size()) * 8;
  frame.others = 0b10;  // the one two after it
  frame.value = (first.size() * 8) ^ (second.size() * 8);
  frame.payload = bits::Reader(combined.bytes());
  return receiver.receive_parity(frame, inbox);
}
std::vector<std::byte> two_bytes(std::uint16_t number) {
  return {std::byte(number & 0xff), std::byte(number >> 8)};
}

TEST(Parity, GivesTheMissingOneOfTwo) {
  ReliableReceiver receiver(true, kFirstWindowBytes);
  Inbox inbox;
  EXPECT_EQ(give_two(receiver, inbox, 0, two_bytes(0), two_bytes(2)).recovered, 0U)
      << "what came before the first parity is not remembered";
  for (std::uint16_t number = 0; number < 3; ++number) give(receiver, inbox, number);
  EXPECT_EQ(give_two(receiver, inbox, 0, two_bytes(0), two_bytes(2)).recovered, 0U);
  EXPECT_EQ(give_two(receiver, inbox, 1, two_bytes(1), two_bytes(3)).recovered, 1U);
  give(receiver, inbox, 6);
  EXPECT_EQ(give_two(receiver, inbox, 4, two_bytes(4), two_bytes(6)).recovered, 1U);
  const std::vector<std::byte> long_one{std::byte{7}, std::byte{0}, std::byte{0xaa}};
  give(receiver, inbox, 5);
  EXPECT_EQ(give_two(receiver, inbox, 5, two_bytes(5), long_one).recovered, 1U);
  EXPECT_EQ(give_two(receiver, inbox, 8, two_bytes(8), two_bytes(10)).recovered, 0U)
      << "neither is here";
  EXPECT_EQ(drain(inbox), (std::vector<std::uint64_t>{0, 1, 2, 3, 4, 5, 6, 7}));
}

// Parity of `index` and of those that `others` names.
ReliableReceiver::Taken give_parity(ReliableReceiver& receiver, Inbox& inbox, std::uint16_t index,
                                    ParityMembers others) {
  Combined combined;
  std::size_t lengths = 0;
  for (std::uint16_t i = 0; i <= kParityReach; ++i) {
    if (i > 0 && (others >> (i - 1) & 1) == 0) continue;
    const auto bytes = two_bytes(static_cast<std::uint16_t>(index + i));
    combined.mix(bits::Reader(bytes), 16);
    lengths ^= 16;
  }
  Frame frame;
  frame.kind = FrameKind::parity;
  frame.index = index;
  frame.others = others;
  frame.bits = 16;
  frame.value = lengths;
  frame.payload = bits::Reader(combined.bytes());
  return receiver.receive_parity(frame, inbox);
}

TEST(Parity, ThatMissesMoreThanOneWaitsUntilOthersCame) {
  ReliableReceiver receiver(true, kFirstWindowBytes);
  Inbox inbox;
  give_parity(receiver, inbox, 0, 0b1);
  give(receiver, inbox, 0);
  EXPECT_EQ(give_parity(receiver, inbox, 0, 0b1010).recovered, 0U) << "2 and 4 are missing";
  EXPECT_EQ(give_parity(receiver, inbox, 2, 0b1010).recovered, 0U) << "2, 4 and 6 are";
  EXPECT_EQ(give_parity(receiver, inbox, 4, 0b1010).recovered, 0U) << "4, 6 and 8 are";
  EXPECT_EQ(give(receiver, inbox, 8).recovered, 0U);
  EXPECT_EQ(give(receiver, inbox, 2).recovered, 2U) << "4 from the first, then 6 from the second";
  for (const int number : {1, 3, 5, 7}) give(receiver, inbox, static_cast<std::uint16_t>(number));
  EXPECT_EQ(drain(inbox), (std::vector<std::uint64_t>{0, 1, 2, 3, 4, 5, 6, 7, 8}));
}

TEST(Parity, ThatNobodyCanUseIsForgotten) {
  ReliableReceiver receiver(false, kFirstWindowBytes);
  Inbox inbox;
  give_parity(receiver, inbox, 0, 0b1);
  // More of it than is kept: the newest is used, the oldest gives nothing.
  for (std::uint16_t i = 0; i <= kPendingParity; ++i) {
    const auto index = static_cast<std::uint16_t>(10 + 2 * i);
    EXPECT_EQ(give_parity(receiver, inbox, index, 0b1).recovered, 0U);
  }
  EXPECT_EQ(give(receiver, inbox, 10).recovered, 0U);
  EXPECT_EQ(give(receiver, inbox, 12).recovered, 1U);
}

TEST(Parity, IsOfTheSecondAndFourthBeforeOrOfTheTwoBeforeWhereMessagesAreRare) {
  for (const bool rare : {false, true}) {
    ReliableSender sender;
    const std::array<std::byte, 4> payload{};
    const Duration pause = rare ? 50ms : 16ms;
    for (int i = 0; i < 5; ++i) {
      ASSERT_TRUE(sender.push({Delivery::ordered}, 0, {payload, 32}).taken);
      const auto next = sender.peek();
      sender.sent(*next, 0, at(i * pause));
    }
    std::map<std::uint64_t, std::pair<std::uint64_t, int>> made;
    const Time now = at(5 * pause);
    while (const auto parity = sender.peek_parity(now, 4ms)) {
      made[parity->newest] = {parity->first, parity->others};
      sender.parity_sent(*parity, now);
    }
    using Made = std::map<std::uint64_t, std::pair<std::uint64_t, int>>;
    if (rare) {
      EXPECT_EQ(made, (Made{{1, {0, 0b1}}, {2, {0, 0b11}}, {3, {1, 0b11}}, {4, {2, 0b11}}}));
    } else {
      EXPECT_EQ(made, (Made{{2, {0, 0b10}}, {3, {1, 0b10}}, {4, {0, 0b1010}}}));
    }
  }
}

TEST(Parity, ThatContradictsWhatIsHereIsRefused) {
  ReliableReceiver receiver(true, kFirstWindowBytes);
  Inbox inbox;
  give_two(receiver, inbox, 20, two_bytes(20), two_bytes(22));
  give(receiver, inbox, 0);
  Frame frame;
  frame.kind = FrameKind::parity;
  frame.bits = 16;
  frame.others = 0b10;
  frame.value = 16 ^ 17;  // the other would be longer than the parity
  const auto bytes = two_bytes(7);
  frame.payload = bits::Reader(bytes);
  EXPECT_EQ(receiver.receive_parity(frame, inbox).error, Errc::bad_piece);
}

constexpr ChannelSpec kOrdered{Delivery::ordered};

TEST(Ordered, SenderKeepsToTheWindow) {
  ReliableSender sender;
  const std::array<std::byte, 4> payload{};
  for (int i = 0; i < 1000; ++i) ASSERT_TRUE(sender.push(kOrdered, 0, {payload, 32}).taken);
  std::uint64_t in_flight = 0;
  while (const auto next = sender.peek()) {
    sender.sent(*next, 0, at(0ms));
    ++in_flight;
  }
  EXPECT_EQ(in_flight, kWindowMessages);
  sender.acked(5, 0, 0);
  EXPECT_FALSE(sender.peek()) << "the oldest decides";
  sender.acked(0, 0, 0);
  ASSERT_TRUE(sender.peek());
  EXPECT_EQ(sender.peek()->index, kWindowMessages);
  sender.lost(3, 0, 0);
  ASSERT_TRUE(sender.peek());
  EXPECT_EQ(sender.peek()->index, 3U);
  EXPECT_TRUE(sender.peek()->repeated);
}

TEST(Ordered, SenderStopsAtTheReceiversLimitUntilItMoves) {
  ReliableSender sender;
  const std::vector<std::byte> payload(1000);
  for (int i = 0; i < 200; ++i) ASSERT_TRUE(sender.push(kOrdered, 0, {payload, 8000}).taken);
  const auto send_all = [&] {
    std::size_t cost = 0;
    while (const auto next = sender.peek()) {
      sender.sent(*next, 0, at(0ms));
      cost += next->payload.size() + kMessageCost;
    }
    return cost;
  };
  EXPECT_EQ(send_all(), kFirstWindowBytes / 1032 * 1032);
  sender.set_limit(kFirstWindowBytes + 1032);
  EXPECT_EQ(send_all(), 1032U);
  sender.set_limit(100);
  EXPECT_EQ(send_all(), 0U) << "a limit that came late does not go back";
}

TEST(Ordered, QueueKeepsItsLimitsByPolicy) {
  ChannelSpec spec{Delivery::ordered};
  spec.queue_messages = 3;
  const std::array<std::byte, 1> payload{};
  ReliableSender refusing;
  for (int i = 0; i < 3; ++i) EXPECT_TRUE(refusing.push(spec, 0, {payload, 8}).taken);
  EXPECT_FALSE(refusing.push(spec, 0, {payload, 8}).taken);
  spec.at_limit = AtLimit::drop_oldest;
  ReliableSender dropping;
  for (std::size_t tag = 0; tag < 3; ++tag) dropping.push(spec, tag, {payload, 8});
  EXPECT_EQ(dropping.push(spec, 3, {payload, 8}).discarded, 1U);
  EXPECT_EQ(dropping.peek()->tag, 1U);
  EXPECT_EQ(dropping.peek()->index, 0U) << "what was never sent leaves no hole";
}

TEST(Ordered, ACopyStillUnderWayKeepsALostOneFromBeingSentAgain) {
  ReliableSender sender;
  const std::array<std::byte, 4> payload{};
  sender.push(kOrdered, 0, {payload, 32});
  sender.sent(*sender.peek(), 0, at(0ms));
  EXPECT_FALSE(sender.peek_repeat(at(3ms), 4ms, 2)) << "too soon";
  const auto repeat = sender.peek_repeat(at(5ms), 4ms, 2);
  ASSERT_TRUE(repeat);
  sender.repeated(*repeat, at(5ms));
  EXPECT_FALSE(sender.peek_repeat(at(50ms), 4ms, 2)) << "two copies are enough";
  sender.lost(0, 0, 0);
  EXPECT_FALSE(sender.peek()) << "the other may have arrived";
  sender.lost(0, 0, 0);
  EXPECT_TRUE(sender.peek());
}

TEST(Ordered, ALossThatIsHeardOfWhileTheMessageWaitsCountsToo) {
  ReliableSender sender;
  const std::array<std::byte, 4> payload{};
  sender.push(kOrdered, 0, {payload, 32});
  sender.sent(*sender.peek(), 0, at(0ms));
  sender.resend(0, 0, 0);  // a probe
  sender.lost(0, 0, 0);    // the first copy, before the second has left
  sender.sent(*sender.peek(), 0, at(1ms));
  sender.lost(0, 0, 0);
  EXPECT_TRUE(sender.peek()) << "no copy is under way any more";
}

TEST(Repeats, AreManyEnoughAndNoneWhereAQueueStands) {
  EXPECT_EQ(Repeats::care(0, false), 1U);
  EXPECT_EQ(Repeats::care(0.004, false), 2U);
  EXPECT_EQ(Repeats::care(0.01, false), 3U);
  EXPECT_EQ(Repeats::care(0.5, false), 3U);
  EXPECT_EQ(Repeats::care(0.05, true), 1U);
  EXPECT_EQ(Repeats::care(Repeats::assumed(0, 0), false), 3U) << "until it is measured";
  EXPECT_EQ(Repeats::care(Repeats::assumed(0, Repeats::kPacketsToMeasure), false), 1U);
}

TEST(Repeats, AMessageThatWasLostIsSentThreeTimesFiveMillisecondsApart) {
  ReliableSender sender;
  const std::array<std::byte, 4> payload{};
  ASSERT_TRUE(sender.push(kOrdered, 0, {payload, 32}).taken);
  sender.sent(*sender.peek(), 0, at(0ms));
  EXPECT_EQ(sender.next_copy(20ms), at(20ms));
  sender.lost(0, 0, 0);
  const auto again = sender.peek();
  ASSERT_TRUE(again);
  EXPECT_TRUE(again->repeated);
  sender.sent(*again, 0, at(100ms));
  for (const Duration due : {105ms, 110ms}) {
    EXPECT_EQ(sender.next_copy(20ms), at(due));
    const auto copy = sender.peek_repeat(at(due), 4ms, 2);
    ASSERT_TRUE(copy);
    sender.repeated(*copy, at(due));
  }
  EXPECT_EQ(sender.next_copy(20ms), kNever);
  EXPECT_FALSE(sender.peek_repeat(at(200ms), 4ms, 2));
}

TEST(Sequenced, AcceptsOnlyNewerOnes) {
  SequencedReceiver receiver;
  EXPECT_TRUE(receiver.accept(Origin(0, 0)));
  EXPECT_FALSE(receiver.accept(Origin(0, 0))) << "a copy";
  EXPECT_TRUE(receiver.accept(Origin(0, 1))) << "later in the same packet";
  EXPECT_TRUE(receiver.accept(Origin(70000, 3)));
  EXPECT_FALSE(receiver.accept(Origin(69999, 40)));
}

TEST(UnreliableSender, GivesUpOldMessagesForNewOnesAndStaleOnes) {
  ChannelSpec spec{Delivery::sequenced};
  spec.queue_bytes = 100;
  UnreliableSender sender;
  const std::array<std::byte, 40> payload{};
  EXPECT_EQ(sender.push(spec, 0, {payload, 320}), 0U);
  EXPECT_EQ(sender.push(spec, 1, {payload, 320}), 0U);
  EXPECT_EQ(sender.expire(at(1ms), 500ms), 0U);
  EXPECT_EQ(sender.push(spec, 2, {payload, 320}), 1U);
  EXPECT_EQ(sender.front().tag, 1U);
  EXPECT_EQ(sender.expire(at(2ms), 500ms), 0U);
  EXPECT_EQ(sender.expire(at(502ms), 500ms), 1U);
  EXPECT_EQ(sender.front().tag, 2U);
}

// A client that moves all the time is no client: each move lets the server send to a new address.
TEST(Path, MovesAreLimited) {
  Path path;
  path.set_active(Endpoint::v4(10, 0, 0, 1, 1));
  Time now = at(100s);
  const auto move = [&](unsigned to) {
    const Endpoint from = Endpoint::v4(10, 0, 0, static_cast<std::uint8_t>(to), 1);
    path.heard(now, from, 2000, true, to, 1s);
    return path.answered(now, from, to) != Path::Change::none;
  };
  unsigned moved = 0;
  for (unsigned i = 2; i < 20; ++i, now += 10ms) moved += move(i) ? 1U : 0U;
  EXPECT_EQ(moved, Path::kMaxMoves);
  now += Path::kMoveEvery;
  EXPECT_TRUE(move(30)) << "one is forgiven";
  now += 10ms;
  EXPECT_FALSE(move(31));
  now += 10 * Path::kMoveEvery;
  moved = 0;
  for (unsigned i = 40; i < 60; ++i, now += 10ms) moved += move(i) ? 1U : 0U;
  EXPECT_EQ(moved, Path::kMaxMoves) << "never more at once";
}

// A client that moves on before it has answered must not wait until its first move is out of date.
TEST(Path, AThirdAddressGetsItsTurnSoon) {
  Path path;
  const Endpoint first = Endpoint::v4(10, 0, 0, 2, 2);
  const Endpoint second = Endpoint::v4(10, 0, 0, 3, 3);
  path.set_active(Endpoint::v4(10, 0, 0, 1, 1));
  path.heard(at(0ms), first, 40, true, 7, 3s);
  path.heard(at(80ms), second, 40, true, 8, 3s);
  EXPECT_EQ(path.challenge(at(80ms), 30)->to, first);
  const Time later = at(Path::kMinTrial);
  path.heard(later, second, 40, false, 9, 3s);
  EXPECT_EQ(path.challenge(later, 30)->to, first) << "an old datagram moves nothing";
  path.heard(later, second, 40, true, 9, 3s);
  ASSERT_TRUE(path.challenge(later, 30));
  EXPECT_EQ(path.challenge(later, 30)->to, second);
  EXPECT_EQ(path.answered(later, first, 7), Path::Change::none);
  EXPECT_EQ(path.answered(later, second, 9), Path::Change::address);
}

TEST(KeyedRandom, OneUseSaysNothingOfAnother) {
  KeyedRandom a(kit::secret_of(1), "skipped numbers");
  KeyedRandom same(kit::secret_of(1), "skipped numbers");
  KeyedRandom other_use(kit::secret_of(1), "path challenges");
  KeyedRandom other_key(kit::secret_of(2), "skipped numbers");
  std::set<std::uint64_t> seen;
  for (int i = 0; i < 1000; ++i) {
    const std::uint64_t number = a.next();
    EXPECT_EQ(number, same.next());
    seen.insert(number);
    seen.insert(other_use.next());
    seen.insert(other_key.next());
  }
  EXPECT_EQ(seen.size(), 3000U);
}

// Who sends a piece of a large message pays for a page of it, not for all.
TEST(Assembly, TakesMemoryAsPiecesCome) {
  const std::size_t bits = kMaxMessageBytes * 8;
  Assembly assembly(bits);
  std::vector<std::byte> bytes(kFragmentBytes);
  Frame piece;
  piece.total_bits = bits;
  piece.bits = kFragmentBytes * 8;
  piece.first_chunk = chunks_of(bits) / 2;
  bytes[5] = std::byte{42};
  piece.payload = bits::Reader(bytes, piece.bits);
  EXPECT_TRUE(assembly.add(piece));
  EXPECT_LE(assembly.memory(), 2 * Assembly::kPageBytes + 8192);
  // All of it, the last pieces first.
  for (std::size_t chunk = chunks_of(bits); chunk-- > 0;) {
    bytes[5] = static_cast<std::byte>(chunk);
    piece.first_chunk = chunk;
    piece.payload = bits::Reader(bytes, piece.bits);
    EXPECT_FALSE(assembly.complete());
    EXPECT_TRUE(assembly.add(piece));
  }
  ASSERT_TRUE(assembly.complete());
  ASSERT_EQ(assembly.payload().size(), kMaxMessageBytes);
  for (std::size_t chunk = 0; chunk < chunks_of(bits); ++chunk) {
    const auto wanted =
        chunk == chunks_of(bits) / 2 ? std::byte{42} : static_cast<std::byte>(chunk);
    ASSERT_EQ(assembly.payload()[chunk * kFragmentBytes + 5], wanted) << chunk;
  }
}

TEST(Path, OneNewAddressAtATimeAndNoMoreToItThanItSent) {
  Path path;
  const Endpoint old = Endpoint::v4(10, 0, 0, 1, 1);
  const Endpoint a = Endpoint::v4(10, 0, 0, 2, 2);
  const Endpoint b = Endpoint::v4(10, 0, 0, 3, 3);
  path.set_active(old);
  path.heard(at(0ms), a, 40, false, 7, 1s);
  EXPECT_FALSE(path.challenge(at(0ms), 30)) << "an old packet suggests nothing";
  path.heard(at(0ms), a, 40, true, 7, 1s);
  path.heard(at(1ms), b, 4000, true, 8, 1s);
  ASSERT_TRUE(path.challenge(at(1ms), 30));
  EXPECT_EQ(path.challenge(at(1ms), 30)->to, a) << "the first candidate keeps its turn";
  EXPECT_FALSE(path.challenge(at(1ms), 41)) << "it sent 40 bytes";
  path.challenge_sent(30);
  path.challenge_again();
  EXPECT_FALSE(path.challenge(at(2ms), 30)) << "60 bytes would be more than 40";
  EXPECT_EQ(path.answered(at(3ms), b, 7), Path::Change::none) << "from elsewhere";
  EXPECT_EQ(path.answered(at(3ms), a, 6), Path::Change::none) << "with a wrong number";
  EXPECT_EQ(path.active(), old);
  EXPECT_EQ(path.answered(at(3ms), a, 7), Path::Change::address);
  EXPECT_EQ(path.active(), a);
  path.heard(at(4ms), Endpoint::v4(10, 0, 0, 2, 9), 40, true, 9, 1s);
  EXPECT_EQ(path.answered(at(4ms), Endpoint::v4(10, 0, 0, 2, 9), 9), Path::Change::port);
}

TEST(PathMtu, GrowsByProbesAndGoesBackWhenLargeDatagramsVanish) {
  PathMtu mtu(true);
  EXPECT_EQ(mtu.probe_due(at(0ms)), 0U) << "nobody needs it";
  mtu.wanted();
  EXPECT_EQ(mtu.probe_due(at(0ms)), 1300U);
  const auto first = mtu.probe_sent(1300);
  EXPECT_EQ(mtu.probe_due(at(0ms)), 0U) << "one at a time";
  mtu.probe_acked(first);
  EXPECT_EQ(mtu.current(), 1300U);
  for (int i = 0; i < 3; ++i) {
    EXPECT_EQ(mtu.probe_due(at(1s)), 1392U);
    mtu.probe_lost(at(1s), mtu.probe_sent(1392));
  }
  EXPECT_EQ(mtu.probe_due(at(2s)), 0U);
  mtu.look_again(at(2s));
  EXPECT_EQ(mtu.probe_due(at(2s)), 0U) << "not for ten minutes";
  mtu.look_again(at(602s));
  EXPECT_EQ(mtu.probe_due(at(602s)), 1392U);
  for (int i = 0; i < 6; ++i) mtu.large_lost(at(603s), 1);
  EXPECT_EQ(mtu.current(), kBaseDatagramBytes);
}

TEST(PathMtu, AProbeOfThePathBeforeSaysNothingOfThisOne) {
  PathMtu mtu(true);
  mtu.wanted();
  const auto old = mtu.probe_sent(1300);
  mtu.reset(at(1s));
  mtu.probe_acked(old);
  EXPECT_EQ(mtu.current(), kBaseDatagramBytes);
  mtu.wanted();
  const auto first = mtu.probe_sent(1300);
  mtu.probe_lost(at(1s), old);
  EXPECT_EQ(mtu.probe_due(at(1s)), 0U) << "the new one is still under way";
  mtu.probe_acked(first);
  EXPECT_EQ(mtu.current(), 1300U);
}

TEST(Pacer, LetsDatagramsLeaveAtTheRateAndUrgentOnesOverdraw) {
  Pacer pacer;
  pacer.set_rate(120000);
  std::size_t sent = 0;
  for (Time now = at(0ms); now < at(1s); now = std::max(now + 1us, pacer.next(now))) {
    while (pacer.ready(now)) {
      pacer.sent(now, 1200);
      sent += 1200;
    }
  }
  EXPECT_NEAR(static_cast<double>(sent), 120000, 5000);
  for (int i = 0; i < 10; ++i) pacer.sent(at(1s), 1200);
  EXPECT_GT(pacer.next(at(1s)), at(1080ms)) << "the rest waits for what the urgent took";
}

}  // namespace mechanisms_test
}  // namespace kwind::link
