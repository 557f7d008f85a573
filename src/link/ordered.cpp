#include "ordered.h"

#include "packet_number.h"
#include "reliable_sender.h"

namespace kwind::link {

bool OrderedReceiver::in_window(std::uint16_t low16) const {
  return expand16(early_.begin(), low16) < early_.begin() + kWindowMessages;
}

OrderedReceiver::Taken OrderedReceiver::receive(std::uint16_t low16, bits::Reader in,
                                                std::size_t bits, std::uint8_t channel,
                                                Inbox& inbox) {
  KWIND_ASSERT(in_window(low16));
  const std::uint64_t index = expand16(early_.begin(), low16);
  if (index < early_.begin()) return Taken::doubled;
  while (!early_.contains(index)) early_.push().present = false;
  Slot& slot = early_[index];
  if (slot.present) return Taken::doubled;
  slot.present = true;
  slot.bits = bits;
  slot.payload.resize(bits::bytes_for(bits));
  in.get_bits(slot.payload, bits);
  if (index != early_.begin()) return Taken::kept;
  while (!early_.empty() && early_[early_.begin()].present) {
    const Slot& due = early_[early_.begin()];
    inbox.add(channel, due.payload, due.bits);
    early_.pop();
  }
  return Taken::delivered;
}

}  // namespace kwind::link
