// BLAKE2b (RFC 7693) and SipHash-2-4 by libsodium.
#include "kwind/core/digest.h"

#include <sodium.h>

#include <algorithm>

namespace kwind {
namespace {

const unsigned char* raw_bytes(std::span<const std::byte> data) {
  return reinterpret_cast<const unsigned char*>(data.data());
}

}  // namespace

// Without a key: for digests that everybody can compute.
Digest128 blake2b_128(std::span<const std::byte> data) {
  Digest128 digest{};
  crypto_generichash(reinterpret_cast<unsigned char*>(digest.data()), digest.size(),
                     raw_bytes(data), data.size(), nullptr, 0);
  return digest;
}

Digest128 blake2b_128(std::string_view text) {
  return blake2b_128(std::as_bytes(std::span(text.data(), text.size())));
}

// The label keeps uses of one key apart.
Digest128 keyed_blake2b_128(const Key128& key, std::string_view label,
                            std::span<const std::byte> data) {
  Digest128 digest{};
  crypto_generichash_state state;
  crypto_generichash_init(&state, raw_bytes(key), key.size(), digest.size());
  // The length goes first so that no label is the start of another label and its data.
  const auto length = static_cast<unsigned char>(label.size());
  crypto_generichash_update(&state, &length, 1);
  crypto_generichash_update(&state, reinterpret_cast<const unsigned char*>(label.data()),
                            label.size());
  crypto_generichash_update(&state, raw_bytes(data), data.size());
  crypto_generichash_final(&state, reinterpret_cast<unsigned char*>(digest.data()), digest.size());
  return digest;
}

std::uint32_t keyed_check(const Key128& key, std::span<const std::byte> data, std::uint64_t extra) {
  // SipHash of the data first, then of that result with `extra`: no copy of the datagram is needed.
  std::array<unsigned char, 16> second{};
  static_assert(crypto_shorthash_BYTES == 8 && crypto_shorthash_KEYBYTES == 16);
  crypto_shorthash(second.data(), raw_bytes(data), data.size(), raw_bytes(key));
  for (std::size_t i = 0; i < 8; ++i) second[8 + i] = static_cast<unsigned char>(extra >> (8 * i));
  std::array<unsigned char, 8> out{};
  crypto_shorthash(out.data(), second.data(), second.size(), raw_bytes(key));
  std::uint32_t check = 0;
  for (std::size_t i = 0; i < 4; ++i) check |= std::uint32_t{out[i]} << (8 * i);
  return check;
}

bool same_bytes(const Digest128& a, const Digest128& b) {
  return sodium_memcmp(a.data(), b.data(), a.size()) == 0;
}

// Lower-case digits.
std::string to_hex(std::span<const std::byte> data, std::size_t bytes) {
  static constexpr std::string_view kDigits = "0123456789abcdef";
  std::string text;
  for (const std::byte byte : data.first(std::min(bytes, data.size()))) {
    text += kDigits[std::to_integer<std::size_t>(byte) >> 4];
    text += kDigits[std::to_integer<std::size_t>(byte) & 15];
  }
  return text;
}

}  // namespace kwind
