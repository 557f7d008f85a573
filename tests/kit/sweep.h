// Which seeds a sweep runs: a slice by default, all with KWIND_SWEEP=full, one with KWIND_SEED=n,
// those from n to m with KWIND_SEED=n-m.
#pragma once
#include <cstdint>
#include <cstdlib>
#include <string>
#include <vector>

namespace kwind::kit {

/// Whether a sanitizer slows the tests down: long walks take fewer seeds then.
#if defined(__has_feature)
inline constexpr bool kSanitized =
    __has_feature(address_sanitizer) || __has_feature(thread_sanitizer);
#elif defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
inline constexpr bool kSanitized = true;
#else
inline constexpr bool kSanitized = false;
#endif

inline std::vector<std::uint64_t> seeds(std::uint64_t slice, std::uint64_t full) {
  const char* sweep = std::getenv("KWIND_SWEEP");
  std::uint64_t first = 1;
  std::uint64_t last = sweep != nullptr && std::string(sweep) == "full" ? full : slice;
  if (const char* wanted = std::getenv("KWIND_SEED")) {
    char* end = nullptr;
    first = last = std::strtoull(wanted, &end, 10);
    if (*end == '-') last = std::strtoull(end + 1, nullptr, 10);
  }
  std::vector<std::uint64_t> all;
  for (std::uint64_t seed = first; seed <= last; ++seed) all.push_back(seed);
  return all;
}

/// How many rounds: a slice by default, all with KWIND_SWEEP=full.
inline std::uint64_t sweep_size(std::uint64_t slice, std::uint64_t full) {
  const char* sweep = std::getenv("KWIND_SWEEP");
  return sweep != nullptr && std::string(sweep) == "full" ? full : slice;
}

}  // namespace kwind::kit
