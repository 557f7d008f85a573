// Which packet numbers have arrived: the replay window, and the source of outgoing acks.
// Fed and read by Link. One link, one thread.
#pragma once
#include <array>
#include <cstdint>
#include <vector>

#include "link/packet_number.h"

namespace kwind::link {

/// A run of packet numbers, both ends included.
struct AckRange {
  std::uint64_t first = 0;
  std::uint64_t last = 0;
  friend bool operator==(const AckRange&, const AckRange&) = default;
};

class ReceivedPackets {
 public:
  static constexpr std::size_t kSpanPackets = 512;

  [[nodiscard]] bool any() const { return any_; }
  /// Requires: any().
  [[nodiscard]] PacketNumber largest() const { return PacketNumber{largest_}; }
  /// What the next packet in order would be numbered.
  [[nodiscard]] std::uint64_t expected() const { return any_ ? largest_ + 1 : 0; }

  /// Whether the packet could still be new: neither seen nor too old to check.
  [[nodiscard]] bool is_new(PacketNumber number) const;
  /// Requires: is_new(number).
  void mark_received(PacketNumber number);

  /// The runs received among the `span_packets` numbers up to `top` and from `floor` on, newest
  /// first, at most `most` of them. Requires: any(), `top` is not beyond the largest.
  void ranges(std::uint64_t top, std::size_t span_packets, std::uint64_t floor, std::size_t max,
              std::vector<AckRange>& out) const;
  /// Whether all of the newest `packets` numbers have arrived, or all there are.
  [[nodiscard]] bool has_newest(std::uint64_t packets) const;

 private:
  static constexpr std::size_t kWordBits = 64;
  [[nodiscard]] bool received(std::uint64_t age) const {
    return (received_[age / kWordBits] >> (age % kWordBits) & 1) != 0;
  }
  void move_on(std::uint64_t packets);
  [[nodiscard]] std::uint64_t end_of_run(std::uint64_t age, std::uint64_t end) const;

  bool any_ = false;
  std::uint64_t largest_ = 0;
  // Bit i of all words: largest_ - i has arrived.
  std::array<std::uint64_t, kSpanPackets / kWordBits> received_{};
};

}  // namespace kwind::link
