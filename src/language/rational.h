// Exact arithmetic on the numbers of a .kw file: ranges and steps must meet exactly, not nearly.
#pragma once
#include <cstdint>
#include <numeric>
#include <optional>

#include "kwind/core/compiler.h"

namespace kwind::language {

__extension__ using Wide = __int128;

/// `a * b` if it fits into 64 bits.
inline std::optional<std::int64_t> product(std::int64_t a, std::int64_t b) {
  std::int64_t out = 0;
  if (multiply_overflows(a, b, out)) return std::nullopt;
  return out;
}

/// The least common multiple of two positive numbers if it fits into 64 bits.
inline std::optional<std::int64_t> common_multiple(std::int64_t a, std::int64_t b) {
  return product(a / std::gcd(a, b), b);
}

}  // namespace kwind::language
