// Bytes that must not outlive their use: wiped when destroyed, never printed, compared only in
// constant time. Plain values otherwise; safe anywhere.
#pragma once
#include <algorithm>
#include <array>
#include <cstddef>
#include <span>
#include <string_view>

#include "kwind/core/compiler.h"

namespace kwind {

/// Overwrites `bytes` in a way that the compiler does not leave out.
KWIND_API void wipe(std::span<std::byte> bytes) noexcept;

/// Compares in a time that does not depend on the contents. Requires: equal lengths.
KWIND_API bool same_secret(std::span<const std::byte> a, std::span<const std::byte> b);

/// N secret bytes, wiped when destroyed; so is each copy.
template <std::size_t N>
class Secret {
 public:
  Secret() = default;
  explicit Secret(std::span<const std::byte, N> bytes) {
    std::copy(bytes.begin(), bytes.end(), bytes_.begin());
  }
  Secret(const Secret&) = default;
  Secret& operator=(const Secret&) = default;
  ~Secret() { wipe(bytes_); }

  [[nodiscard]] std::span<const std::byte, N> bytes() const { return bytes_; }
  std::span<std::byte, N> bytes() { return bytes_; }

 private:
  std::array<std::byte, N> bytes_{};
};

/// A key of 32 bytes.
using Secret32 = Secret<32>;

/// BLAKE2b with a 32-byte output under `key` (RFC 7693); `label`, below 256 bytes, keeps uses of
/// one key apart.
KWIND_API Secret32 derive(const Secret32& key, std::string_view label,
                          std::span<const std::byte> data = {});

}  // namespace kwind
