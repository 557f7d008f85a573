// Asks the processor for memory that will be read soon, so that it is in a cache by then. Of use
// where more is worked on in turn than caches hold; costs little where it already is in one.
#pragma once
#include <cstddef>

namespace kwind::bits {

inline constexpr std::size_t kCacheLineBytes = 64;

/// `bytes` of any address, nullptr too: nothing is read.
inline void ask_for(const void* memory, std::size_t bytes) {
  const auto* line = static_cast<const char*>(memory);
  for (const char* const end = line + bytes; line < end; line += kCacheLineBytes) {
    __builtin_prefetch(line);
  }
}

}  // namespace kwind::bits
