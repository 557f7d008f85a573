// When small reliable messages are worth sending again before anybody knows that they are lost: a
// copy costs its bits in a datagram that mostly leaves anyway, a loss costs a round trip and more.
// Pure functions.
#pragma once
#include <algorithm>
#include <cstdint>

#include "kwind/core/time.h"

namespace kwind::link {

struct Repeats {
  /// No sooner than this after the last copy: what loses one datagram often loses the next.
  static constexpr Duration kEarliest = std::chrono::milliseconds(4);
  /// Beside other messages until here; then in a datagram of its own.
  static constexpr Duration kLatest = std::chrono::milliseconds(20);

  /// A message that was lost and is sent again has cost a round trip already: its copies follow
  /// each other this closely, in datagrams of their own.
  static constexpr Duration kLatestAgain = std::chrono::milliseconds(5);
  /// Number of copies of such a message, the first retransmission included.
  static constexpr unsigned kCopiesAgain = 3;

  /// Until this many packets have met their fate, the path is taken to lose kAssumedLoss of them at
  /// least: without that the first loss of a connection is always a round trip's stall.
  static constexpr std::uint64_t kPacketsToMeasure = 300;
  static constexpr double kAssumedLoss = 0.02;
  static double assumed(double loss, std::uint64_t packets_settled) {
    return packets_settled < kPacketsToMeasure ? std::max(loss, kAssumedLoss) : loss;
  }

  /// How carefully each small message is sent. 1: once. 2: a copy follows. 3: a copy, and parity
  /// with its neighbours, in three datagrams: five chances to arrive, see
  /// ReliableSender::peek_parity. As much as it takes for fewer than one message in 50,000 to lose
  /// all of them, where losses are independent: one that does holds up all that comes after it on
  /// an ordered channel. 1 while a queue stands: more would be part of what fills it.
  static unsigned care(double loss, bool queue) {
    if (queue || loss < 0.002) return 1;
    return loss * loss < 0.00002 ? 2 : 3;
  }
};

}  // namespace kwind::link
