#include "kwind/link/filler.h"

namespace kwind::link {

Filler::Filler(Filler&& other) noexcept : slot_(std::exchange(other.slot_, nullptr)) {
  if (slot_ != nullptr) slot_->filler_ = this;
}

Filler& Filler::operator=(Filler&& other) noexcept {
  if (this == &other) return *this;
  if (slot_ != nullptr) slot_->set(nullptr);
  slot_ = std::exchange(other.slot_, nullptr);
  if (slot_ != nullptr) slot_->filler_ = this;
  return *this;
}

Filler::~Filler() {
  if (slot_ != nullptr) slot_->set(nullptr);
}

void FillerSlot::set(Filler* filler) {
  if (filler == filler_) return;
  if (filler_ != nullptr) filler_->slot_ = nullptr;
  filler_ = filler;
  if (filler == nullptr) return;
  ++generation_;
  if (filler->slot_ != nullptr) filler->slot_->filler_ = nullptr;
  filler->slot_ = this;
}

}  // namespace kwind::link
