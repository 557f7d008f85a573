// Takes values of 1 to 64 bits out of bytes that Writer filled, or that a hostile peer made up.
// Sticky: past the end it yields zeros and remembers it, so one check covers a block of reads.
// One reader, one thread. Allocates nothing, never reads outside its span.
#pragma once
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <span>

#include "kwind/bits/assert.h"
#include "kwind/bits/writer.h"

namespace kwind::bits {

class Reader {
 public:
  /// Reads all of `bytes`, borrowed while the reader lives.
  explicit Reader(std::span<const std::byte> bytes) : Reader(bytes, bytes.size() * 8) {}
  /// Reads the first `bits` bits of `bytes`. Requires: bytes holds that many.
  Reader(std::span<const std::byte> bytes, std::size_t bits) : bytes_(bytes), left_bits_(bits) {
    KWIND_ASSERT(bits <= bytes.size() * 8);
  }

  /// The next `bits` (0 to 64) bits. Past the end: 0, and ok() is false from then on. O(1).
  std::uint64_t get(unsigned bits) {
    KWIND_ASSERT(bits <= 64);
    if (bits > left_bits_) {
      failed_ = true;
      left_bits_ = 0;
      return 0;
    }
    left_bits_ -= bits;
    if (bits <= fill_) {
      const std::uint64_t value = accumulator_ & low_mask(bits);
      drop(bits);
      return value;
    }
    const unsigned had = fill_;  // below 64, as bits is at most 64
    std::uint64_t value = accumulator_;
    refill();
    const unsigned want = bits - had;
    value |= (accumulator_ & low_mask(want)) << had;
    drop(want);
    return value;
  }

  bool get_bool() { return get(1) != 0; }

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

  /// Copies the next `bits` bits to the start of `target`, the last byte padded with zeros.
  /// False, with ok() false, if fewer are left. Requires: target has room for them.
  bool get_bits(std::span<std::byte> target, std::size_t bits);

  [[nodiscard]] bool ok() const { return !failed_; }
  [[nodiscard]] std::size_t left_bits() const { return left_bits_; }
  void set_failed() {
    failed_ = true;
    left_bits_ = 0;
  }

 private:
  void drop(unsigned bits) {
    accumulator_ = bits < 64 ? accumulator_ >> bits : 0;
    fill_ -= bits;
  }
  void refill() {
    const std::size_t left = bytes_.size() - next_;
    const std::size_t bytes = left < 8 ? left : 8;
    accumulator_ = 0;
    std::memcpy(&accumulator_, bytes_.data() + next_, bytes);
    if constexpr (std::endian::native == std::endian::big) {
      accumulator_ = __builtin_bswap64(accumulator_);
    }
    next_ += bytes;
    fill_ = static_cast<unsigned>(bytes * 8);
  }

  std::span<const std::byte> bytes_;
  std::size_t left_bits_;
  std::size_t next_ = 0;  // first byte not yet in the accumulator
  std::uint64_t accumulator_ = 0;
  unsigned fill_ = 0;
  bool failed_ = false;
};

}  // namespace kwind::bits
