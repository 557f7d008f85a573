// Numbers of snapshots and of ticks, and ids of entities, as types of their own: none of them is
// passed for another one or for a count. Pure.
#pragma once
#include <cstddef>
#include <cstdint>
#include <vector>

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
/// Ids begin at 1 and are small: tables have an element for each id up to the largest in use.
using EntityId = StrongNumber<struct EntityIdTag>;

/// An element for each entity id, and one for id 0, which no entity has.
template <class Element>
class ById {
 public:
  [[nodiscard]] Element& operator[](EntityId id) { return all_[id.raw()]; }
  [[nodiscard]] const Element& operator[](EntityId id) const { return all_[id.raw()]; }
  /// One more than the largest id that has an element.
  [[nodiscard]] std::size_t size() const { return all_.size(); }
  [[nodiscard]] bool has(EntityId id) const { return id.raw() < all_.size(); }
  [[nodiscard]] EntityId end_id() const {
    return EntityId(static_cast<std::uint32_t>(all_.size()));
  }
  void resize(std::size_t size) { all_.resize(size); }
  void emplace_back() { all_.emplace_back(); }
  /// Bytes of the elements themselves.
  [[nodiscard]] std::size_t memory() const { return all_.capacity() * sizeof(Element); }
  [[nodiscard]] auto begin() const { return all_.begin(); }
  [[nodiscard]] auto end() const { return all_.end(); }

 private:
  std::vector<Element> all_ = std::vector<Element>(1);
};

}  // namespace kwind::replica
