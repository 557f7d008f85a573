// Packs values of 1 to 64 bits into caller-owned memory.
// The first value fills the lowest bits of the first byte; Reader takes them out in the same order.
// One writer, one thread. Allocates nothing.
#pragma once
#include <bit>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <span>

#include "kwind/bits/assert.h"

namespace kwind::bits {

/// A mask of the lowest `bits` bits, 0 to 64.
constexpr std::uint64_t low_mask(unsigned bits) {
  return bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits) - 1;
}

/// Bits needed to tell `count` values apart; 0 for one value.
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

class Writer {
 public:
  /// Borrows `memory` until the last call of finish().
  explicit Writer(std::span<std::byte> memory) : memory_(memory) {}

  /// Appends the lowest `bits` (0 to 64) bits of `value`; higher bits are ignored.
  /// Past the end of the memory nothing is written, and ok() is false from then on. O(1).
  void put(std::uint64_t value, unsigned bits) {
    KWIND_ASSERT(bits <= 64);
    if (failed_ || bits > memory_.size() * 8 - bit_count_) {
      failed_ = true;
      return;
    }
    value &= low_mask(bits);
    accumulator_ |= value << fill_;
    bit_count_ += bits;
    if (fill_ + bits < 64) {
      fill_ += bits;
      return;
    }
    store(accumulator_, 8);
    const unsigned used = 64 - fill_;  // bits of `value` that are already stored
    accumulator_ = used < 64 ? value >> used : 0;
    fill_ = fill_ + bits - 64;
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
  [[nodiscard]] std::size_t bit_count() const { return bit_count_; }
  [[nodiscard]] std::size_t room_bits() const {
    return failed_ ? 0 : memory_.size() * 8 - bit_count_;
  }

  /// Stores the bits still in the accumulator, the last byte padded with zeros, and returns the
  /// bytes used so far. May be called again after further puts.
  std::size_t finish() {
    if (fill_ > 0) {
      const std::size_t at = bytes_stored_;
      store(accumulator_, bytes_for(fill_));
      bytes_stored_ = at;
    }
    return bytes_for(bit_count_);
  }

 private:
  void store(std::uint64_t value, std::size_t bytes) {
    if constexpr (std::endian::native == std::endian::big) value = __builtin_bswap64(value);
    std::memcpy(memory_.data() + bytes_stored_, &value, bytes);
    bytes_stored_ += bytes;
  }

  std::span<std::byte> memory_;
  std::uint64_t accumulator_ = 0;
  unsigned fill_ = 0;  // bits in the accumulator, always below 64
  bool failed_ = false;
  std::size_t bytes_stored_ = 0;
  std::size_t bit_count_ = 0;
};

}  // namespace kwind::bits
