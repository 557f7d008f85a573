// The receiving half of ordered delivery: keeps what came early until its turn.
// One channel of one link, one thread.
#pragma once
#include <cstdint>
#include <vector>

#include "inbox.h"
#include "slot_ring.h"

namespace kwind::link {

class OrderedReceiver {
 public:
  enum class Taken : std::uint8_t { delivered, kept, doubled };

  /// Whether the index is one that an honest sender may use now (invariant 1).
  [[nodiscard]] bool in_window(std::uint16_t low16) const;
  /// Takes a message; adds it, and all that waited for it, to the inbox once its turn has come.
  /// Requires: in_window(low16) and that `in` has `bits` bits.
  Taken receive(std::uint16_t low16, bits::Reader in, std::size_t bits, std::uint8_t channel,
                Inbox& inbox);

 private:
  struct Slot {
    bool present = false;
    std::vector<std::byte> payload;
    std::size_t bits = 0;
  };
  SlotRing<Slot> early_;  // begin() is the next index to deliver
};

}  // namespace kwind::link
