#include "reliable_receiver.h"

#include "packet_number.h"
#include "reliable_sender.h"

namespace kwind::link {

bool ReliableReceiver::in_window(std::uint16_t low16) const {
  return expand16(slots_.begin(), low16) < slots_.begin() + kWindowMessages;
}

ReliableReceiver::Taken ReliableReceiver::receive(const Frame& frame, Inbox& inbox) {
  KWIND_ASSERT(in_window(frame.index));
  const std::uint64_t index = expand16(slots_.begin(), frame.index);
  if (index < slots_.begin()) return {Errc::none, true};
  while (!slots_.contains(index)) slots_.push().stage = Stage::absent;
  Slot& slot = slots_[index];
  if (slot.stage == Stage::complete || slot.stage == Stage::delivered) return {Errc::none, true};
  const bool piece = frame.kind == FrameKind::piece;
  if (slot.stage == Stage::absent) {
    const std::size_t bits = piece ? frame.total_bits : frame.bits;
    // Counted whole when it starts, as its memory is: see invariant 1 of ReliableSender.
    const std::size_t cost = bits::bytes_for(bits) + kMessageCost;
    if (started_cost_ + cost > std::max<std::uint64_t>(advertised_, kFirstWindowBytes)) {
      return {Errc::window_exceeded, false};
    }
    started_cost_ += cost;
    if (piece) slot.assembly = std::make_unique<Assembly>(bits);
    slot.stage = Stage::partial;
  } else if (!piece) {
    return {Errc::bad_piece, false};
  }
  if (piece) {
    if (!slot.assembly->add(frame)) return {Errc::bad_piece, false};
    if (!slot.assembly->complete()) return {};
    slot.bits = slot.assembly->bits();
  } else {
    slot.bits = frame.bits;
    slot.payload.resize(bits::bytes_for(frame.bits));
    bits::Reader in = frame.payload;
    in.get_bits(slot.payload, frame.bits);
  }
  slot.stage = Stage::complete;
  if (!ordered_) deliver(slot, frame.channel, inbox);
  while (!slots_.empty()) {
    Slot& first = slots_[slots_.begin()];
    if (ordered_ && first.stage == Stage::complete) deliver(first, frame.channel, inbox);
    if (first.stage != Stage::delivered) break;
    slots_.pop();
  }
  return {};
}

void ReliableReceiver::deliver(Slot& slot, std::uint8_t channel, Inbox& inbox) {
  inbox.add(channel, slot.assembly ? slot.assembly->payload() : std::span(slot.payload), slot.bits);
  slot.assembly.reset();
  slot.stage = Stage::delivered;
}

}  // namespace kwind::link
