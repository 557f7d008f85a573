// Digests and keyed checks, from libsodium: BLAKE2b (RFC 7693) and SipHash-2-4.
// Pure functions; safe anywhere.
#pragma once
#include <array>
#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"

namespace kwind {

/// 16 bytes of a hash.
using Digest128 = std::array<std::byte, 16>;
/// 16 bytes of a key.
using Key128 = std::array<std::byte, 16>;

/// BLAKE2b with a 16-byte output and no key.
KWIND_API Digest128 blake2b_128(std::span<const std::byte> data);
KWIND_API Digest128 blake2b_128(std::string_view text);

/// BLAKE2b with a 16-byte output under `key`; `label` keeps uses of one key apart.
KWIND_API Digest128 keyed_blake2b_128(const Key128& key, std::string_view label,
                                      std::span<const std::byte> data);

/// The low 32 bits of SipHash-2-4 over `data` and then `extra`, for the check of plaintext
/// datagrams. Holds off accident and strangers, not somebody who read the handshake.
KWIND_API std::uint32_t keyed_check(const Key128& key, std::span<const std::byte> data,
                                    std::uint64_t extra);

/// Compares in a time that does not depend on the contents.
KWIND_API bool same_bytes(const Digest128& a, const Digest128& b);

/// The first `bytes` bytes in lower-case hexadecimal.
KWIND_API std::string to_hex(std::span<const std::byte> data, std::size_t bytes);

}  // namespace kwind
