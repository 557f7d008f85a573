// Wiping and constant-time comparison by libsodium: neither is optimised away.
#include "kwind/core/secret.h"

#include <sodium.h>

#include "kwind/core/assert.h"

namespace kwind {
namespace {

const unsigned char* raw(std::span<const std::byte> data) {
  return reinterpret_cast<const unsigned char*>(data.data());
}

}  // namespace

void wipe(std::span<std::byte> bytes) noexcept {
  if (!bytes.empty()) sodium_memzero(bytes.data(), bytes.size());
}

bool same_secret(std::span<const std::byte> a, std::span<const std::byte> b) {
  KWIND_ASSERT(a.size() == b.size());
  return sodium_memcmp(a.data(), b.data(), a.size()) == 0;
}

// BLAKE2b (RFC 7693) under the key, over the label with its length and the data.
Secret32 derive(const Secret32& key, std::string_view label, std::span<const std::byte> data) {
  KWIND_ASSERT(label.size() < 256);
  Secret32 out;
  crypto_generichash_state state;
  crypto_generichash_init(&state, raw(key.bytes()), key.bytes().size(), out.bytes().size());
  // The length goes first so that no label is the start of another label and its data.
  const auto length = static_cast<unsigned char>(label.size());
  crypto_generichash_update(&state, &length, 1);
  crypto_generichash_update(&state, reinterpret_cast<const unsigned char*>(label.data()),
                            label.size());
  crypto_generichash_update(&state, raw(data), data.size());
  crypto_generichash_final(&state, reinterpret_cast<unsigned char*>(out.bytes().data()),
                           out.bytes().size());
  sodium_memzero(&state, sizeof state);
  return out;
}

}  // namespace kwind
