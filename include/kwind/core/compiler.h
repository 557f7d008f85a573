// What the library asks of a compiler beyond the standard: exported symbols, forced inlining, the
// swap of bytes. All compiler built-ins but prefetch.h's stand here. No neighbours.
#pragma once
#include <cstdint>

/// Marks what the shared library exports: every other symbol of it is hidden. On Windows the
/// library's own build exports (KWIND_BUILDS_LIBRARY) and programs import, unless they link the
/// static library (KWIND_STATIC, set by the CMake package).
#if !defined(_WIN32)
#define KWIND_API [[gnu::visibility("default")]]
#elif defined(KWIND_BUILDS_LIBRARY)
#define KWIND_API [[gnu::dllexport]]
#elif defined(KWIND_STATIC)
#define KWIND_API
#else
#define KWIND_API [[gnu::dllimport]]
#endif

/// For the few functions that must see their callers' constants: ranges fold to shifts and masks
/// only where they are inlined, and a large message is more than compilers inline by themselves.
#define KWIND_ALWAYS_INLINE [[gnu::always_inline]] inline

namespace kwind {

constexpr std::uint64_t swapped_bytes(std::uint64_t word) {
  return __builtin_bswap64(word);
}

/// a * b in `out`; true if 64 bits do not hold it.
constexpr bool multiply_overflows(std::int64_t a, std::int64_t b, std::int64_t& out) {
  return __builtin_mul_overflow(a, b, &out);
}

}  // namespace kwind
