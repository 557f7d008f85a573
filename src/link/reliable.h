// The receiving half of reliable delivery: hands out what arrives at once, each message once.
// One channel of one link, one thread.
#pragma once
#include <cstdint>

#include "packet_number.h"
#include "reliable_sender.h"
#include "slot_ring.h"

namespace kwind::link {

class ReliableReceiver {
 public:
  /// Whether the index is one that an honest sender may use now (invariant 1 of ReliableSender: it
  /// has nothing in flight further beyond what has not arrived).
  [[nodiscard]] bool in_window(std::uint16_t low16) const {
    return expand16(arrived_.begin(), low16) < arrived_.begin() + kWindowMessages;
  }

  /// False for a message that had arrived before. Requires: in_window(low16).
  bool accept(std::uint16_t low16) {
    KWIND_ASSERT(in_window(low16));
    const std::uint64_t index = expand16(arrived_.begin(), low16);
    if (index < arrived_.begin()) return false;
    while (!arrived_.contains(index)) arrived_.push() = false;
    if (arrived_[index]) return false;
    arrived_[index] = true;
    while (!arrived_.empty() && arrived_[arrived_.begin()]) arrived_.pop();
    return true;
  }

 private:
  SlotRing<std::uint8_t> arrived_;  // begin() is the first index that has not arrived
};

}  // namespace kwind::link
