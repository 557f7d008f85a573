// Numbers of snapshots and of ticks as types of their own: neither is passed for the other, for an
// entity's id or for a count. Pure.
#pragma once
#include <cstddef>
#include <cstdint>

namespace kwind::replica {

/// 1 and up; 0 stands for "none". Differences are plain counts. Arithmetic wraps at 2^32, as that
/// of std::uint32_t does.
template <class Tag>
class StrongNumber {
 public:
  constexpr StrongNumber() = default;
  explicit constexpr StrongNumber(std::uint32_t raw) : raw_(raw) {}

  [[nodiscard]] constexpr std::uint32_t raw() const { return raw_; }
  /// Whether there is one.
  explicit constexpr operator bool() const { return raw_ != 0; }
  friend constexpr bool operator==(StrongNumber, StrongNumber) = default;
  friend constexpr bool operator<(StrongNumber a, StrongNumber b) { return a.raw_ < b.raw_; }
  friend constexpr bool operator>(StrongNumber a, StrongNumber b) { return b < a; }
  friend constexpr bool operator<=(StrongNumber a, StrongNumber b) { return !(b < a); }
  friend constexpr bool operator>=(StrongNumber a, StrongNumber b) { return !(a < b); }

  constexpr StrongNumber& operator++() {
    ++raw_;
    return *this;
  }
  constexpr StrongNumber& operator--() {
    --raw_;
    return *this;
  }
  constexpr StrongNumber& operator-=(std::uint32_t by) {
    raw_ -= by;
    return *this;
  }
  friend constexpr StrongNumber operator+(StrongNumber number, std::uint32_t by) {
    return StrongNumber(number.raw_ + by);
  }
  friend constexpr StrongNumber operator-(StrongNumber number, std::uint32_t by) {
    return StrongNumber(number.raw_ - by);
  }
  /// How far `b` lies behind `a`.
  friend constexpr std::uint32_t operator-(StrongNumber a, StrongNumber b) {
    return a.raw_ - b.raw_;
  }
  /// Its slot in a ring of so many.
  friend constexpr std::uint32_t operator%(StrongNumber number, std::size_t slots) {
    return static_cast<std::uint32_t>(number.raw_ % slots);
  }

 private:
  std::uint32_t raw_ = 0;
};

/// `number` - `by`, or none where there are not so many before it.
template <class Tag>
constexpr StrongNumber<Tag> number_before(StrongNumber<Tag> number, std::uint32_t by) {
  return number.raw() > by ? number - by : StrongNumber<Tag>();
}

using SnapshotNumber = StrongNumber<struct SnapshotNumberTag>;
using Tick = StrongNumber<struct TickTag>;

}  // namespace kwind::replica
