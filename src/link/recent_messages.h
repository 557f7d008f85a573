// Small messages of one channel that arrived of late: with one of two, and what both are combined
// by exclusive or, the other is known. Kept from the first combination on that a peer sends. Part
// of ReliableReceiver. One link, one thread.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>
#include <span>

#include "kwind/bits/reader.h"

namespace kwind::link {

/// Messages up to here may be repeated ahead of loss detection, whole or combined.
inline constexpr std::size_t kSmallBytes = 256;

/// Numbers n and n + 2 are combined, where n has no 2 in it: 0 and 2, 1 and 3, 4 and 6 ...
inline constexpr std::uint64_t kPairDistance = 2;

/// What two small messages give under exclusive or, the shorter one continued by zeros; in the same
/// way one of them and the combination give the other. 0 to kSmallBytes bytes each.
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

class RecentMessages {
 public:
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
  // A combination follows its messages by three or four ticks.
  std::array<Message, 32> messages_{};
};

}  // namespace kwind::link
