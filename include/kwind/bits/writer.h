// Packs values of 1 to 64 bits into caller-owned memory.
// The first value fills the lowest bits of the first byte; Reader takes them out in the same order.
// One writer, one thread. Allocates nothing.
#pragma once
#include <bit>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <span>

#include "kwind/core/assert.h"
#include "kwind/core/compiler.h"

namespace kwind::bits {

/// A mask of the lowest `bits` bits, 0 to 64.
constexpr std::uint64_t low_mask(unsigned bits) {
  return bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits) - 1;
}

/// Bits needed to distinguish `count` values; 0 for one value.
constexpr unsigned bits_for(std::uint64_t count) {
  return count <= 1 ? 0U : static_cast<unsigned>(std::bit_width(count - 1));
}

/// Bits that Writer::put_count spends on `value`.
constexpr unsigned count_bits(std::uint64_t value, unsigned k) {
  return 2 * static_cast<unsigned>(std::bit_width((value >> k) + 1)) - 1 + k;
}

constexpr std::size_t bytes_for(std::size_t bits) {
  return (bits + 7) / 8;
}

/// A writer of values of 1 to 64 bits. Borrows its memory.
class KWIND_API Writer {
 public:
  /// Borrows `memory` until the last call of finish().
  explicit Writer(std::span<std::byte> memory)
      : next_(memory.data()), all_bits_(memory.size() * 8), room_bits_(all_bits_) {}

  /// Appends the lowest `bits` (0 to 64) bits of `value`; higher bits are ignored.
  /// Past the end of the memory nothing is written, and ok() is false from then on. O(1).
  KWIND_ALWAYS_INLINE void put(std::uint64_t value, unsigned bits) {
    KWIND_ASSERT(bits <= 64);
    put_clean(value & low_mask(bits), bits);
  }
  /// As put, of a value that has no higher bits. Requires that: others would spoil what follows.
  KWIND_ALWAYS_INLINE void put_clean(std::uint64_t value, unsigned bits) {
    if (bits > room_bits_) [[unlikely]]
      return fail();
    room_bits_ -= bits;
    accumulator_ |= value << fill_;
    fill_ += bits;
    if (fill_ < 64) return;
    store(accumulator_, 8);
    next_ += 8;
    fill_ -= 64;
    // The bits of `value` that did not fit. Two shifts, as one by 64 means nothing in C++.
    accumulator_ = (value >> 1) >> (bits - 1 - fill_);
  }

  void put_bool(bool value) { put(value ? 1 : 0, 1); }

  /// Appends the first `bits` bits of `source`. Requires: source holds that many. O(bits / 64).
  void put_bits(std::span<const std::byte> source, std::size_t bits);

  /// Appends a count in the Exp-Golomb code of order `k`: small counts cost few bits, and
  /// v costs 2 * bit_width((v >> k) + 1) - 1 + k. Requires: value < 2^32, k < 32.
  void put_count(std::uint64_t value, unsigned k) {
    KWIND_ASSERT(value < (std::uint64_t{1} << 32) && k < 32);
    const std::uint64_t head = (value >> k) + 1;
    const auto width = static_cast<unsigned>(std::bit_width(head));
    put(std::bit_floor(head), width);  // width - 1 zeros, then a one
    put(head, width - 1);              // its leading one is known
    put(value, k);
  }

  [[nodiscard]] bool ok() const { return !failed_; }
  /// Bits written so far, also after a failure.
  [[nodiscard]] std::size_t bit_count() const {
    return failed_ ? written_bits_ : all_bits_ - room_bits_;
  }
  [[nodiscard]] std::size_t room_bits() const { return room_bits_; }

  /// Stores the bits still in the accumulator, the last byte padded with zeros, and returns the
  /// bytes used so far. May be called again after further puts.
  std::size_t finish() {
    if (fill_ > 0) store(accumulator_, bytes_for(fill_));
    return bytes_for(bit_count());
  }

 private:
  void store(std::uint64_t value, std::size_t bytes) {
    if constexpr (std::endian::native == std::endian::big) value = swapped_bytes(value);
    std::memcpy(next_, &value, bytes);
  }

  void fail() {
    if (!failed_) written_bits_ = all_bits_ - room_bits_;
    failed_ = true;
    room_bits_ = 0;
  }

  std::byte* next_;  // where the accumulator goes once it is full
  std::size_t all_bits_;
  std::size_t room_bits_;  // 0 after a failure
  std::uint64_t accumulator_ = 0;
  unsigned fill_ = 0;  // bits in the accumulator, always below 64
  bool failed_ = false;
  std::size_t written_bits_ = 0;  // when it failed
};

}  // namespace kwind::bits
