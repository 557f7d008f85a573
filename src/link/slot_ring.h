// A queue of slots addressed by an ever-growing index, whose slots keep their storage when reused:
// after warm-up it allocates nothing.
#pragma once
#include <cstdint>
#include <utility>
#include <vector>

#include "kwind/core/assert.h"
#include "kwind/core/prefetch.h"

namespace kwind::link {

template <class Slot>
class SlotRing {
 public:
  [[nodiscard]] std::uint64_t begin() const { return begin_; }  ///< index of the oldest slot
  [[nodiscard]] std::uint64_t end() const { return end_; }      ///< index after the newest
  [[nodiscard]] bool empty() const { return begin_ == end_; }
  /// Whether the next push() has to allocate.
  [[nodiscard]] bool full() const { return size() == slots_.size(); }
  [[nodiscard]] std::size_t size() const { return static_cast<std::size_t>(end_ - begin_); }
  [[nodiscard]] bool contains(std::uint64_t index) const { return index >= begin_ && index < end_; }

  /// Requires: contains(index).
  Slot& operator[](std::uint64_t index) {
    KWIND_ASSERT(contains(index));
    return slots_[index & (slots_.size() - 1)];
  }
  const Slot& operator[](std::uint64_t index) const {
    KWIND_ASSERT(contains(index));
    return slots_[index & (slots_.size() - 1)];
  }
  /// See kwind::prefetch.
  void prefetch_first() const { kwind::prefetch(at(begin_), slots_.empty() ? 0 : sizeof(Slot)); }
  void prefetch_next() const { kwind::prefetch(at(end_), slots_.empty() ? 0 : sizeof(Slot)); }
  /// Adds a slot at end(); it holds what its last tenant left.
  Slot& push() {
    if (full()) grow();
    return slots_[end_++ & (slots_.size() - 1)];
  }
  /// Requires: not empty.
  void pop() {
    KWIND_ASSERT(!empty());
    ++begin_;
  }

 private:
  [[nodiscard]] const Slot* at(std::uint64_t index) const {
    return slots_.data() + (slots_.empty() ? 0 : index & (slots_.size() - 1));
  }
  void grow() {
    std::vector<Slot> bigger(slots_.empty() ? 4 : slots_.size() * 2);
    for (std::uint64_t i = begin_; i < end_; ++i) {
      bigger[i & (bigger.size() - 1)] = std::move(slots_[i & (slots_.size() - 1)]);
    }
    slots_ = std::move(bigger);
  }

  std::vector<Slot> slots_;  // its size is a power of two
  std::uint64_t begin_ = 0;
  std::uint64_t end_ = 0;
};

}  // namespace kwind::link
