// Rows of columns: the values of one entity at one tick, and a ring of them as history. One entity,
// one thread.
#pragma once
#include <algorithm>
#include <array>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "kwind/core/assert.h"
#include "replica/coding/strong_numbers.h"

namespace kwind::replica {

/// The bits of a column of varying size. Never changed once made, so that rows can share them.
struct BitString {
  std::vector<std::byte> bytes;
  std::size_t bits = 0;
  friend bool operator==(const BitString&, const BitString&) = default;
};
using SharedBits = std::shared_ptr<const BitString>;

/// Borrowed from whoever keeps it.
struct Row {
  std::span<const std::uint32_t> numbers;  ///< of all columns; 0 for varying ones
  std::span<const SharedBits> varying;     ///< of the varying columns, in order
};

/// States of an entity that a client has and that what comes is predicted from: so many, the
/// newest.
inline constexpr std::size_t kKnownStates = 4;
/// Their ticks, newest first; 0: none.
using KnownTicks = std::array<Tick, kKnownStates>;

/// A row of one's own.
struct OwnRow {
  std::vector<std::uint32_t> numbers;
  std::vector<SharedBits> varying;

  operator Row() const { return {numbers, varying}; }  // NOLINT: that is what it is
  void assign(const Row& row) {
    numbers.assign(row.numbers.begin(), row.numbers.end());
    varying.assign(row.varying.begin(), row.varying.end());
  }
};

inline bool same(const SharedBits& a, const SharedBits& b) {
  return a == b || (a != nullptr && b != nullptr && *a == *b);
}
inline bool same(const Row& a, const Row& b) {
  return std::equal(a.numbers.begin(), a.numbers.end(), b.numbers.begin(), b.numbers.end()) &&
         std::equal(a.varying.begin(), a.varying.end(), b.varying.begin(), b.varying.end(),
                    [](const SharedBits& x, const SharedBits& y) { return same(x, y); });
}

/// The newest rows of one entity by tick, at most `max` of them: then the oldest goes. Takes
/// memory as it needs it.
class Rows {
 public:
  /// Requires: `max` is 2 at least.
  Rows(std::size_t columns, std::size_t varying, std::size_t max)
      : columns_(columns), varying_(varying), max_(max) {
    KWIND_ASSERT(max >= 2);
  }

  [[nodiscard]] std::size_t size() const { return size_; }
  [[nodiscard]] bool empty() const { return size_ == 0; }
  /// The i-th from the oldest on. Requires: i < size().
  [[nodiscard]] Tick tick(std::size_t i) const { return ticks_[place(i)]; }
  [[nodiscard]] Row row(std::size_t i) const {
    const std::size_t at = place(i);
    return {std::span(numbers_).subspan(at * columns_, columns_),
            std::span(bits_).subspan(at * varying_, varying_)};
  }
  [[nodiscard]] Row newest() const { return row(size_ - 1); }
  [[nodiscard]] Tick newest_tick() const { return tick(size_ - 1); }

  /// The newest row at or before tick `wanted`: nothing if that may have gone.
  [[nodiscard]] std::optional<std::size_t> at_or_before(Tick wanted) const {
    for (std::size_t i = size_; i-- > 0;) {
      if (this->tick(i) <= wanted) return i;
    }
    return std::nullopt;
  }
  /// Requires: a tick above all before.
  void push(Tick at, const Row& row) {
    KWIND_ASSERT(empty() || at > newest_tick());
    KWIND_ASSERT(row.numbers.size() == columns_ && row.varying.size() == varying_);
    if (size_ == max_) {
      first_ = place(1);
      --size_;
    }
    if (size_ == ticks_.size()) grow();
    const std::size_t here = place(size_++);
    ticks_[here] = at;
    std::copy(row.numbers.begin(), row.numbers.end(), numbers_.begin() + offset(here * columns_));
    std::copy(row.varying.begin(), row.varying.end(), bits_.begin() + offset(here * varying_));
  }
  [[nodiscard]] std::size_t memory() const {
    return ticks_.capacity() * 4 + numbers_.capacity() * 4 + bits_.capacity() * sizeof(SharedBits);
  }

 private:
  [[nodiscard]] std::size_t place(std::size_t i) const {
    KWIND_ASSERT(i < ticks_.size());
    return first_ + i < ticks_.size() ? first_ + i : first_ + i - ticks_.size();
  }
  static std::ptrdiff_t offset(std::size_t at) { return static_cast<std::ptrdiff_t>(at); }
  void grow() {
    const std::size_t more = std::min(max_, std::max<std::size_t>(1, ticks_.size() * 2));
    std::rotate(ticks_.begin(), ticks_.begin() + offset(first_), ticks_.end());
    std::rotate(numbers_.begin(), numbers_.begin() + offset(first_ * columns_), numbers_.end());
    std::rotate(bits_.begin(), bits_.begin() + offset(first_ * varying_), bits_.end());
    first_ = 0;
    ticks_.resize(more);
    numbers_.resize(more * columns_);
    bits_.resize(more * varying_);
  }

  std::size_t columns_;
  std::size_t varying_;
  std::size_t max_;
  std::size_t first_ = 0;
  std::size_t size_ = 0;
  std::vector<Tick> ticks_;
  std::vector<std::uint32_t> numbers_;
  std::vector<SharedBits> bits_;
};

}  // namespace kwind::replica
