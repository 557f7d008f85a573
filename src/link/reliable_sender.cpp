#include "reliable_sender.h"

#include <algorithm>

namespace kwind::link {

Errc ReliableSender::push(std::size_t tag, std::span<const std::byte> payload, std::size_t bits) {
  if (slots_.size() >= limit_) return Errc::queue_full;
  Slot& slot = slots_.push();
  slot.payload.assign(payload.begin(),
                      payload.begin() + static_cast<std::ptrdiff_t>(bits::bytes_for(bits)));
  slot.bits = bits;
  slot.tag = tag;
  slot.stage = Stage::waiting;
  slot.sent_before = false;
  return Errc::none;
}

std::optional<ReliableSender::Outgoing> ReliableSender::peek() const {
  if (!slots_.contains(waiting_) || waiting_ >= slots_.begin() + kWindowMessages)
    return std::nullopt;
  const Slot& slot = slots_[waiting_];
  if (bytes_in_flight_ > 0 && bytes_in_flight_ + slot.payload.size() > kWindowBytes) {
    return std::nullopt;
  }
  return Outgoing{waiting_, slot.tag, slot.payload, slot.bits, slot.sent_before};
}

void ReliableSender::sent(std::uint64_t index) {
  Slot& slot = slots_[index];
  slot.stage = Stage::in_flight;
  slot.sent_before = true;
  bytes_in_flight_ += slot.payload.size();
  find_waiting();
}

void ReliableSender::acked(std::uint64_t index) {
  if (!slots_.contains(index)) return;  // a repeat of it was acked before
  Slot& slot = slots_[index];
  if (slot.stage == Stage::in_flight) bytes_in_flight_ -= slot.payload.size();
  slot.stage = Stage::acked;
  while (!slots_.empty() && slots_[slots_.begin()].stage == Stage::acked) slots_.pop();
  find_waiting();
}

void ReliableSender::lost(std::uint64_t index) {
  if (!slots_.contains(index)) return;
  Slot& slot = slots_[index];
  if (slot.stage != Stage::in_flight) return;
  slot.stage = Stage::waiting;
  bytes_in_flight_ -= slot.payload.size();
  waiting_ = std::min(waiting_, index);
}

void ReliableSender::find_waiting() {
  waiting_ = std::max(waiting_, slots_.begin());
  while (slots_.contains(waiting_) && slots_[waiting_].stage != Stage::waiting) ++waiting_;
}

}  // namespace kwind::link
