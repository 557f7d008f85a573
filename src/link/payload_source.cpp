// Weak references between a payload source and the slot of its link.
#include "kwind/link/payload_source.h"

namespace kwind::link {

// Source and slot point at each other; whichever is moved or ends updates the other.
PayloadSource::PayloadSource(PayloadSource&& other) noexcept
    : slot_(std::exchange(other.slot_, nullptr)) {
  if (slot_ != nullptr) slot_->payload_source_ = this;
}

PayloadSource& PayloadSource::operator=(PayloadSource&& other) noexcept {
  if (this == &other) return *this;
  if (slot_ != nullptr) slot_->set(nullptr);
  slot_ = std::exchange(other.slot_, nullptr);
  if (slot_ != nullptr) slot_->payload_source_ = this;
  return *this;
}

PayloadSource::~PayloadSource() {
  if (slot_ != nullptr) slot_->set(nullptr);
}

// Source and slot point at each other; a source that ends takes itself out.
void PayloadSlot::set(PayloadSource* payload_source) {
  if (payload_source == payload_source_) return;
  if (payload_source_ != nullptr) payload_source_->slot_ = nullptr;
  payload_source_ = payload_source;
  if (payload_source == nullptr) return;
  // Delivery reports of an earlier source carry an earlier generation and are not passed to this
  // one.
  ++generation_;
  if (payload_source->slot_ != nullptr) payload_source->slot_->payload_source_ = nullptr;
  payload_source->slot_ = this;
}

}  // namespace kwind::link
