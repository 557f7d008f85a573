// The key pair that a server is known by: X25519 (RFC 7748). Clients hold the public half, from an
// option, a file or a login's response. Plain values; safe anywhere.
#pragma once
#include <array>
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"
#include "kwind/core/secret.h"

namespace kwind::link {

using PublicKey = std::array<std::byte, 32>;

/// A public key and its secret half.
struct KWIND_API KeyPair {
  PublicKey public_key{};
  Secret32 secret;

  /// The pair that belongs to 32 random bytes.
  static KeyPair from_secret(const Secret32& secret);
};

/// 43 characters of base64url (RFC 4648, 5) without padding.
KWIND_API std::string key_text(std::span<const std::byte, 32> key);
/// The inverse. Errors: bad_key for anything else, be it one bit of it.
KWIND_API Result<Secret32> parse_secret_key(std::string_view text);
KWIND_API Result<PublicKey> parse_public_key(std::string_view text);

}  // namespace kwind::link
