// Asks the processor for memory that will be read soon, so that it is in a cache by then. Of use
// where more is worked on in turn than caches hold; costs little where it already is in one.
#pragma once
#include <cstddef>
#include <cstdint>

namespace kwind {

inline constexpr std::size_t kCacheLineBytes = 64;

/// `bytes` of any address, nullptr too: nothing is read.
inline void prefetch(const void* memory, std::size_t bytes) {
  // Not as a pointer, which may lead nowhere but into its array.
  auto line = reinterpret_cast<std::uintptr_t>(memory);
  for (const std::uintptr_t end = line + bytes; line < end; line += kCacheLineBytes) {
    __builtin_prefetch(reinterpret_cast<const void*>(line));  // NOLINT
  }
}

}  // namespace kwind
