// Receiving side of reliable and ordered delivery: a bitmap of delivered messages, and reordering
// for ordered channels.
#include "link/delivery/reliable_receiver.h"

#include "link/delivery/reliable_sender.h"
#include "link/packet_number.h"

namespace kwind::link {

// An index below the window is a copy of a delivered message and is permitted; an index beyond the
// window was never permitted.
bool ReliableReceiver::in_window(std::uint16_t low16) const {
  return expand16(slots_.begin(), low16) < slots_.begin() + kWindowMessages;
}

// A message that arrives may be the last one that waiting parity lacked.
ReliableReceiver::Taken ReliableReceiver::receive(const Frame& frame, Inbox& inbox) {
  Taken taken = take(frame, inbox);
  recover_pending(frame.channel, inbox, taken);
  return taken;
}

// Each message of the window has a slot: absent, then partial while fragments arrive, complete, and
// delivered. A `reliable` channel delivers a message when it is complete, an `ordered` channel when
// all messages before it are delivered too.
ReliableReceiver::Taken ReliableReceiver::take(const Frame& frame, Inbox& inbox) {
  KWIND_ASSERT(in_window(frame.index));
  const std::uint64_t index = expand16(slots_.begin(), frame.index);
  if (index < slots_.begin()) return {Errc::none, true};
  // Slots up to the index, at most kWindowMessages of them: the caller checked the window.
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
  // The window moves over everything that is delivered. In an ordered channel this is the place
  // where messages that waited for an earlier one are delivered.
  while (!slots_.empty()) {
    Slot& first = slots_[slots_.begin()];
    if (ordered_ && first.stage == Stage::complete) deliver(first, frame.channel, inbox);
    if (first.stage != Stage::delivered) break;
    slots_.pop();
  }
  return {};
}

// XOR parity over a few messages (RFC 5109 describes the scheme for RTP). A parity that lacks two
// members or more is kept until they arrive; the oldest of kPendingParity gives way to a new one.
ReliableReceiver::Taken ReliableReceiver::receive_parity(const Frame& frame, Inbox& inbox) {
  // What came before is not remembered: later parity can be of use.
  if (!recent_) recent_ = std::make_unique<XorRepair>();
  PendingParity parity{expand16(slots_.begin(), frame.index),
                       frame.others,
                       static_cast<std::size_t>(frame.value),
                       frame.bits,
                       {}};
  bits::Reader in = frame.payload;
  in.get_bits(parity.bytes, frame.bits);
  bool settled = false;
  Taken taken = recover(parity, frame.channel, inbox, settled);
  if (settled) {
    if (taken.recovered > 0) recover_pending(frame.channel, inbox, taken);
    return taken;
  }
  PendingParity& slot = recent_->pending[recent_->next_pending++ % kPendingParity];
  if (slot.bits == 0) ++recent_->pending_now;
  slot = parity;
  return taken;
}

// XORs all members that are known out of the parity: with one member missing the rest is that
// member, and the XOR of the lengths is its length. Sets `settled` when the parity can give nothing
// further.
ReliableReceiver::Taken ReliableReceiver::recover(const PendingParity& parity, std::uint8_t channel,
                                                  Inbox& inbox, bool& settled) {
  std::size_t missing_now = 0;
  std::uint64_t missing = 0;
  std::size_t bits = parity.lengths;
  Combined rest;
  rest.mix(bits::Reader(parity.bytes), parity.bits);
  settled = true;
  for (unsigned i = 0; i <= kParityReach; ++i) {
    if (i > 0 && (parity.others >> (i - 1) & 1) == 0) continue;
    const std::uint64_t index = parity.index + i;
    if (const XorRepair::Message* const known = recent_->find(index)) {
      bits ^= known->bits;
      rest.mix(bits::Reader(known->bytes), known->bits);
      continue;
    }
    const bool arrived =
        index < slots_.begin() || (slots_.contains(index) && slots_[index].stage != Stage::absent);
    if (arrived) return {};  // its bytes are forgotten: this parity can give nothing any more
    missing = index;
    ++missing_now;
  }
  settled = missing_now < 2 || parity.bits == 0;
  if (missing_now != 1) return {};
  // No member is longer than the longest one, whose length is that of the parity.
  if (bits > parity.bits) return {Errc::bad_piece, false};
  Frame message;
  message.kind = FrameKind::message;
  message.channel = channel;
  message.index = static_cast<std::uint16_t>(missing);
  message.bits = bits;
  message.payload = bits::Reader(rest.bytes(), bits);
  if (!in_window(message.index)) return {Errc::window_exceeded, false};
  Taken taken = take(message, inbox);
  taken.recovered = taken.error == Errc::none ? 1 : 0;
  return taken;
}

// Each message that came may complete parity that waits, and what that gives may complete other
// parity. Ends: each round settles one of at most kPendingParity.
void ReliableReceiver::recover_pending(std::uint8_t channel, Inbox& inbox, Taken& taken) {
  if (recent_ == nullptr) return;
  for (bool again = true; again && recent_->pending_now > 0 && taken.error == Errc::none;) {
    again = false;
    for (PendingParity& parity : recent_->pending) {
      if (parity.bits == 0) continue;
      bool settled = false;
      const Taken made = recover(parity, channel, inbox, settled);
      if (!settled) continue;
      parity.bits = 0;
      --recent_->pending_now;
      taken.recovered += made.recovered;
      again = again || made.recovered > 0;
      if (made.error != Errc::none) taken.error = made.error;
      if (taken.error != Errc::none) return;
    }
  }
}

// Hands a message to the game and frees its memory, but not its slot.
void ReliableReceiver::deliver(Slot& slot, std::uint8_t channel, Inbox& inbox) {
  inbox.add(channel, slot.assembly ? slot.assembly->payload() : std::span(slot.payload), slot.bits);
  slot.assembly.reset();
  // Small ones are used again, so that a steady tick allocates nothing; what was large is not kept
  // for as long as the connection lasts.
  if (slot.payload.capacity() > kSmallBytes) std::vector<std::byte>().swap(slot.payload);
  slot.stage = Stage::delivered;
}

}  // namespace kwind::link
