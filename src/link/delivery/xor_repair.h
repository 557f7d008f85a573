// Forward error correction over small messages of one channel: parity is the exclusive or of
// several, and gives the one of them that is missing. What it takes at the receiver: messages that
// arrived of late, and parity of which more than one message is missing. Kept from the first parity
// on that a peer sends. Part of ReliableReceiver. One link, one thread.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>
#include <span>

#include "kwind/bits/reader.h"
#include "link/datagram/frames.h"

namespace kwind::link {

/// Messages up to here may be repeated ahead of loss detection, whole or combined.
inline constexpr std::size_t kSmallBytes = 256;

/// What small messages give under exclusive or, the shorter ones continued by zeros; in the same
/// way all but one of them and the parity give that one. 0 to kSmallBytes bytes each.
class Combined {
 public:
  void mix(bits::Reader message, std::size_t bits) {
    std::array<std::byte, kSmallBytes> plain{};
    message.get_bits(plain, bits);
    for (std::size_t i = 0; i < bits::bytes_for(bits); ++i) bytes_[i] ^= plain[i];
  }
  [[nodiscard]] std::span<const std::byte> bytes() const { return bytes_; }

 private:
  std::array<std::byte, kSmallBytes> bytes_{};
};

/// Parity that came when more than one of its messages was missing.
struct PendingParity {
  std::uint64_t index = 0;
  ParityMembers others = 0;
  std::size_t lengths = 0;
  std::size_t bits = 0;  // 0: nothing here
  std::array<std::byte, kSmallBytes> bytes{};
};
/// How many of these are kept, the newest: a run of losses of that length is repaired.
inline constexpr std::size_t kPendingParity = 8;

class XorRepair {
 public:
  std::array<PendingParity, kPendingParity> pending{};
  std::size_t next_pending = 0;
  std::size_t pending_now = 0;

  struct Message {
    std::uint64_t index = ~std::uint64_t{0};
    std::size_t bits = 0;
    std::array<std::byte, kSmallBytes> bytes{};
  };

  /// Requires: at most kSmallBytes.
  void add(std::uint64_t index, std::span<const std::byte> payload, std::size_t bits) {
    Message& slot = messages_[index % messages_.size()];
    slot.index = index;
    slot.bits = bits;
    std::copy(payload.begin(), payload.end(), slot.bytes.begin());
  }
  /// nullptr if it has not arrived, or too long ago.
  [[nodiscard]] const Message* find(std::uint64_t index) const {
    const Message& slot = messages_[index % messages_.size()];
    return slot.index == index ? &slot : nullptr;
  }

 private:
  // Parity follows its messages by at most five or six ticks.
  std::array<Message, 32> messages_{};
};

}  // namespace kwind::link
