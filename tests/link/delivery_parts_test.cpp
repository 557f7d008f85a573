// The parts of channels, each alone: windows, parity, repeats, sequencing, pieces.
#include <gtest/gtest.h>

#include <array>
#include <map>
#include <random>
#include <set>

#include "kit/sim_pair.h"
#include "link/datagram/frames.h"
#include "link/delivery/assembly.h"
#include "link/delivery/reliable_receiver.h"
#include "link/delivery/reliable_sender.h"
#include "link/delivery/repeat.h"
#include "link/delivery/unreliable_receiver.h"
#include "link/delivery/unreliable_sender.h"

namespace kwind::link {
namespace delivery_parts_test {

using namespace std::chrono_literals;
using kit::at;

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

}  // namespace delivery_parts_test
}  // namespace kwind::link
