// X25519 key pairs, and keys as base64url text.
#include "kwind/link/keys.h"

#include <sodium.h>

#include <algorithm>

#include "link/sodium_bytes.h"

namespace kwind::link {
namespace {

constexpr std::size_t kTextBytes = 43;

}  // namespace

// RFC 7748: the public key is the product of the secret and the base point.
KeyPair KeyPair::from_secret(const Secret32& secret) {
  KeyPair pair;
  pair.secret = secret;
  crypto_scalarmult_curve25519_base(sodium_out(pair.public_key), sodium_in(secret.bytes()));
  return pair;
}

// Base64url without padding (RFC 4648, section 5): 43 characters for 32 bytes.
std::string key_text(std::span<const std::byte, 32> key) {
  std::string text(kTextBytes + 1, '\0');
  sodium_bin2base64(text.data(), text.size(), sodium_in(key), key.size(),
                    sodium_base64_VARIANT_URLSAFE_NO_PADDING);
  text.resize(kTextBytes);
  return text;
}

// Accepts exactly the text that key_text() writes.
Result<Secret32> parse_secret_key(std::string_view text) {
  Secret32 key;
  std::size_t size = 0;
  const char* end = nullptr;
  if (text.size() != kTextBytes ||
      sodium_base642bin(sodium_out(key.bytes()), 32, text.data(), text.size(), nullptr, &size, &end,
                        sodium_base64_VARIANT_URLSAFE_NO_PADDING) != 0 ||
      size != 32 || end != text.data() + text.size()) {
    return fail(Errc::bad_key);
  }
  return key;
}

// The same text form as that of a secret key.
Result<PublicKey> parse_public_key(std::string_view text) {
  const auto bytes = parse_secret_key(text);
  if (!bytes) return fail(bytes.error());
  PublicKey key{};
  std::copy(bytes->bytes().begin(), bytes->bytes().end(), key.begin());
  return key;
}

}  // namespace kwind::link
