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
    if (recent_ && slot.payload.size() <= kSmallBytes) {
      recent_->add(index, slot.payload, slot.bits);
    }
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

ReliableReceiver::Taken ReliableReceiver::receive_pair(const Frame& frame, Inbox& inbox) {
  // What came before is not remembered: the next pairs can be of use.
  if (!recent_) recent_ = std::make_unique<RecentMessages>();
  const std::uint64_t index = expand16(slots_.begin(), frame.index);
  const RecentMessages::Message* const first = recent_->find(index);
  const RecentMessages::Message* const second = recent_->find(index + kPairDistance);
  if ((first == nullptr) == (second == nullptr)) return {};
  const RecentMessages::Message& known = first != nullptr ? *first : *second;
  const std::uint64_t missing = first != nullptr ? index + kPairDistance : index;
  const bool arrived = missing < slots_.begin() ||
                       (slots_.contains(missing) && slots_[missing].stage != Stage::absent);
  if (arrived) return {};
  const std::size_t bits = known.bits ^ static_cast<std::size_t>(frame.value);
  if (bits > frame.bits) return {Errc::bad_piece, false};
  Combined other;
  other.mix(frame.payload, frame.bits);
  other.mix(bits::Reader(known.bytes, known.bits), known.bits);
  Frame message;
  message.kind = FrameKind::message;
  message.channel = frame.channel;
  message.index = static_cast<std::uint16_t>(missing);
  message.bits = bits;
  message.payload = bits::Reader(other.bytes(), bits);
  Taken taken = receive(message, inbox);
  taken.recovered = taken.error == Errc::none;
  return taken;
}

void ReliableReceiver::deliver(Slot& slot, std::uint8_t channel, Inbox& inbox) {
  inbox.add(channel, slot.assembly ? slot.assembly->payload() : std::span(slot.payload), slot.bits);
  slot.assembly.reset();
  slot.stage = Stage::delivered;
}

}  // namespace kwind::link
