// Takes values of 1 to 64 bits out of bytes that Writer filled, or that a hostile peer made up.
// Sticky: past the end it yields zeros and remembers it, so one check covers a block of reads.
// One reader, one thread. Allocates nothing, never reads outside its span.
#pragma once
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <span>

#include "kwind/bits/writer.h"
#include "kwind/core/assert.h"
#include "kwind/core/compiler.h"

namespace kwind::bits {

/// A reader of values of 1 to 64 bits. Borrows its bytes.
class KWIND_API Reader {
 public:
  /// Reads all of `bytes`, borrowed while the reader lives.
  explicit Reader(std::span<const std::byte> bytes) : Reader(bytes, bytes.size() * 8) {}
  /// Reads the first `bits` bits of `bytes`. Requires: bytes holds that many.
  Reader(std::span<const std::byte> bytes, std::size_t bits)
      : bytes_(bytes.data()), size_(bytes.size()), left_bits_(bits) {
    KWIND_ASSERT(bits <= bytes.size() * 8);
  }

  /// The next `bits` (0 to 64) bits. Past the end: 0, and ok() is false from then on. O(1).
  KWIND_ALWAYS_INLINE std::uint64_t get(unsigned bits) {
    KWIND_ASSERT(bits <= 64);
    if (bits > left_bits_) [[unlikely]] {
      set_failed();
      return 0;
    }
    const std::size_t byte = at_bits_ / 8;
    const auto shift = static_cast<unsigned>(at_bits_ % 8);
    at_bits_ += bits;
    left_bits_ -= bits;
    std::uint64_t value = (byte + 8 <= size_ ? load(byte) : load_end(byte)) >> shift;
    // Bits that start inside a byte can reach into a ninth one, which then exists.
    if (shift + bits > 64)
      value |= std::to_integer<std::uint64_t>(bytes_[byte + 8]) << (64 - shift);
    return value & low_mask(bits);
  }

  bool get_bool() { return get(1) != 0; }

  /// The next `bits` (0 to 32) bits without passing over them; zeros past the end, which is no
  /// error. O(1).
  [[nodiscard]] std::uint64_t peek(unsigned bits) const {
    KWIND_ASSERT(bits <= 32);
    const std::size_t byte = at_bits_ / 8;
    const std::uint64_t value =
        (byte + 8 <= size_ ? load(byte) : load_end(byte)) >> static_cast<unsigned>(at_bits_ % 8);
    return value & low_mask(bits < left_bits_ ? bits : static_cast<unsigned>(left_bits_));
  }

  /// The inverse of Writer::put_count. A code for 2^32 or more is an error.
  std::uint64_t get_count(unsigned k) {
    KWIND_ASSERT(k < 32);
    unsigned zeros = 0;
    while (!get_bool()) {
      if (failed_ || ++zeros > 32) {
        set_failed();
        return 0;
      }
    }
    const std::uint64_t head = (std::uint64_t{1} << zeros) | get(zeros);
    const std::uint64_t value = ((head - 1) << k) | get(k);
    if (failed_ || value >> 32 != 0) {
      set_failed();
      return 0;
    }
    return value;
  }

  /// Moves the next `bits` bits to the start of `target`, the last byte padded with zeros.
  /// False, with ok() false, if fewer are left. Requires: target has room for them.
  bool get_bits(std::span<std::byte> target, std::size_t bits);

  /// Passes over `bits` bits. Past the end as get(). O(1).
  void skip(std::size_t bits) {
    if (bits > left_bits_) return set_failed();
    at_bits_ += bits;
    left_bits_ -= bits;
  }

  [[nodiscard]] bool ok() const { return !failed_; }
  [[nodiscard]] std::size_t left_bits() const { return left_bits_; }
  void set_failed() {
    failed_ = true;
    left_bits_ = 0;
  }

 private:
  [[nodiscard]] std::uint64_t load(std::size_t byte) const {
    std::uint64_t value = 0;
    std::memcpy(&value, bytes_ + byte, 8);
    if constexpr (std::endian::native == std::endian::big) value = swapped_bytes(value);
    return value;
  }
  // As load, of the last bytes: fewer than eight, or none.
  [[nodiscard]] std::uint64_t load_end(std::size_t byte) const {
    std::uint64_t value = 0;
    for (std::size_t i = 0; byte + i < size_; ++i) {
      value |= std::to_integer<std::uint64_t>(bytes_[byte + i]) << (8 * i);
    }
    return value;
  }

  const std::byte* bytes_;
  std::size_t size_;
  std::size_t at_bits_ = 0;
  std::size_t left_bits_;
  bool failed_ = false;
};

}  // namespace kwind::bits
