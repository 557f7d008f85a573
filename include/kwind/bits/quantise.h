// Quantisers: from a value with a stated range to the index that travels, and back.
// Pure functions of their members; safe anywhere.
#pragma once
#include <cmath>
#include <cstdint>
#ifdef __SSE2__
#include <emmintrin.h>
#endif

#include "kwind/bits/writer.h"
#include "kwind/core/compiler.h"

namespace kwind::bits {

/// What the caller wants done with a value outside its range at encode. Every case is counted.
enum class Policy : std::uint8_t {
  clamp,         ///< the nearest value of the range is sent; NaN becomes the low end
  refuse,        ///< nothing is sent, the call returns Errc::out_of_range
  assert_range,  ///< the process stops: for development
};

/// An index, and whether the value had to be moved into the range to get it.
struct Quantised {
  std::uint64_t index;
  bool in_range;
};

/// `value` without its fraction; what 64 bits cannot hold, and NaN, becomes the least number.
inline std::int64_t truncated(double value) {
#ifdef __SSE2__
  return _mm_cvttsd_si64(_mm_set_sd(value));  // means this without the comparisons below
#else
  constexpr double kBeyond = 9223372036854775808.0;
  return value >= -kBeyond && value < kBeyond ? static_cast<std::int64_t>(value) : INT64_MIN;
#endif
}

/// Whole numbers `lo` to `hi`, both included. Requires: lo <= hi.
/// Law: value_of(index_of(v).index) == v for every v in range.
struct KWIND_API IntRange {
  std::int64_t lo;
  std::int64_t hi;

  /// hi - lo; the number of values is one more, which 64 bits may not hold.
  [[nodiscard]] constexpr std::uint64_t last_index() const {
    return static_cast<std::uint64_t>(hi) - static_cast<std::uint64_t>(lo);
  }
  [[nodiscard]] constexpr unsigned bits() const {
    return static_cast<unsigned>(std::bit_width(last_index()));
  }
  [[nodiscard]] constexpr Quantised index_of(std::int64_t value) const {
    const std::uint64_t index = static_cast<std::uint64_t>(value) - static_cast<std::uint64_t>(lo);
    if (index <= last_index()) [[likely]]
      return {index, true};  // also below lo: it wraps
    return {value < lo ? 0 : last_index(), false};
  }
  /// Requires: index <= last_index().
  [[nodiscard]] constexpr std::int64_t value_of(std::uint64_t index) const {
    return static_cast<std::int64_t>(static_cast<std::uint64_t>(lo) + index);
  }
  friend constexpr bool operator==(const IntRange&, const IntRange&) = default;
};

/// Real numbers (lo + i * step) / scale for i in 0 .. count - 1: range and step are kept as whole
/// multiples of 1 / scale, so that both ends and every step are the double nearest to the written
/// value. Requires: step, scale, count >= 1; all products below 2^51, which the compiler of .kw
/// files checks. Law: value_of(index_of(v).index) is within step / 2 of v for every v in range;
/// halves round up.
struct KWIND_API RealRange {
  std::int64_t lo;
  std::int64_t step;
  std::int64_t scale;
  std::uint64_t count;

  [[nodiscard]] constexpr std::uint64_t last_index() const { return count - 1; }
  [[nodiscard]] constexpr unsigned bits() const { return bits_for(count); }
  /// In range is what rounds to an index of the range: up to half a step beyond either end.
  [[nodiscard]] Quantised index_of(double value) const {
    const double position =
        (value * static_cast<double>(scale) - static_cast<double>(lo)) / static_cast<double>(step);
    // One more than the index, so that truncation rounds down from half a step below the range too:
    // then one comparison finds what is beyond either end, and NaN.
    const std::uint64_t index = static_cast<std::uint64_t>(truncated(position + 1.5)) - 1;
    if (index < count) [[likely]]
      return {index, true};
    return {position > 0 ? count - 1 : 0, false};  // NaN becomes 0
  }
  /// Requires: index < count.
  [[nodiscard]] constexpr double value_of(std::uint64_t index) const {
    return static_cast<double>(lo + static_cast<std::int64_t>(index) * step) /
           static_cast<double>(scale);
  }
  friend constexpr bool operator==(const RealRange&, const RealRange&) = default;
};

/// A finite angle, moved into 0 to 360 (which rounding may give) by whole turns.
KWIND_API double wrapped_degrees(double degrees);

/// Angles in degrees that wrap at 360, in `count` equal steps: i * step / scale.
/// Any finite angle is in range: -90 and 630 are both 270. NaN and infinities become 0, out of
/// range. Law: value_of(index_of(v).index) is within step / 2 of v, the short way round.
struct KWIND_API AngleRange {
  std::int64_t step;
  std::int64_t scale;
  std::uint64_t count;

  [[nodiscard]] constexpr std::uint64_t last_index() const { return count - 1; }
  [[nodiscard]] constexpr unsigned bits() const { return bits_for(count); }
  [[nodiscard]] Quantised index_of(double degrees) const {
    const std::uint64_t index = nearest(degrees);
    if (index < count) [[likely]]
      return {index, true};
    if (!std::isfinite(degrees)) return {0, false};
    const std::uint64_t wrapped = nearest(wrapped_degrees(degrees));
    return {wrapped < count ? wrapped : 0, true};  // the last half step rounds up to a full turn
  }
  /// Requires: index < count.
  [[nodiscard]] constexpr double value_of(std::uint64_t index) const {
    return static_cast<double>(static_cast<std::int64_t>(index) * step) /
           static_cast<double>(scale);
  }
  friend constexpr bool operator==(const AngleRange&, const AngleRange&) = default;

 private:
  [[nodiscard]] std::uint64_t nearest(double degrees) const {
    const double position = degrees * static_cast<double>(scale) / static_cast<double>(step);
    return static_cast<std::uint64_t>(truncated(position + 1.5)) - 1;
  }
};

}  // namespace kwind::bits
