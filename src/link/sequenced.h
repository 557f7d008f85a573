// Sequenced delivery at the receiver: only messages newer than the last delivered one pass.
// Numbers have 16 bits and wrap; see invariant 2 in reliable_sender.h for why they are never
// ambiguous.
#pragma once
#include <cstdint>

namespace kwind::link {

class SequencedReceiver {
 public:
  /// Whether the message is newer than all before; if so it becomes the newest.
  bool accept(std::uint16_t sequence) {
    if (any_ && static_cast<std::int16_t>(static_cast<std::uint16_t>(sequence - newest_)) <= 0) {
      return false;
    }
    any_ = true;
    newest_ = sequence;
    return true;
  }

 private:
  bool any_ = false;
  std::uint16_t newest_ = 0;
};

}  // namespace kwind::link
