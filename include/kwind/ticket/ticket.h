// Tickets: what a login service gives a client, and the client gives a game server, to say who it
// is. A ticket is a JSON Web Token (RFC 7519) signed with Ed25519 (EdDSA, RFC 8037, and no other
// algorithm), so that any backend with a JWT library can issue one. Optional: needs nlohmann-json.
// Values and pure functions; safe anywhere.
//
// Claims: `sub` who it is, `exp` until when, `jti` its own id, `aud` the server's public key as
// text (kwind::link::key_text); `nbf` if it must not be used at once; `iat` when it was issued; any
// others are the game's.
#pragma once
#include <array>
#include <cstdint>
#include <string>
#include <string_view>

#include "kwind/core/errors.h"
#include "kwind/core/secret.h"
#include "kwind/link/keys.h"
#include "kwind/link/ticket_gate.h"

namespace kwind::ticket {

/// What a game server holds: with it tickets can be checked, not made.
using VerifyKey = std::array<std::byte, 32>;

/// What the login service holds.
struct SigningKey {
  Secret32 seed;
  VerifyKey verify{};

  /// The key that belongs to 32 random bytes (RFC 8032, 5.1.5).
  static SigningKey from_seed(const Secret32& seed);
};

/// As JSON Web Keys (RFC 8037, 2): what other libraries read.
std::string to_jwk(const SigningKey& key);
std::string to_jwk(const VerifyKey& key);
/// Errors: bad_key for anything that is not such a key. A private one gives its public half.
Result<SigningKey> signing_key_from_jwk(std::string_view text);
Result<VerifyKey> verify_key_from_jwk(std::string_view text);

/// What a ticket states.
struct Ticket {
  std::string subject;
  std::string id;               ///< must never repeat while the ticket is valid: it counts once
  std::int64_t expires = 0;     ///< seconds since 1970
  std::int64_t not_before = 0;  ///< 0: at once
  std::int64_t issued = 0;      ///< seconds since 1970; 0: the ticket does not say
  std::string audience;         ///< link::key_text of the server's public key
  std::string app = "{}";       ///< further claims, a JSON object
};

/// Signs a ticket. Errors: ticket_invalid if subject, id or audience is empty, or `app` is not an
/// object or names a claim that stands above; message_too_large beyond link::kMaxTicketBytes.
Result<std::string> issue(const Ticket& ticket, const SigningKey& key);

/// Reads a ticket without checking who signed it: for people to look at. Errors: ticket_invalid.
Result<Ticket> read_unchecked(std::string_view text);

/// Checks all of a ticket: form, algorithm, signature, audience, times. A ticket that was issued
/// before `issued_from`, or does not say when, has expired. Errors: ticket_invalid, ticket_expired.
/// O(length); the signature is checked before the claims are read.
Result<link::Claims> check(std::string_view text, const VerifyKey& key, std::string_view audience,
                           std::int64_t unix_seconds, std::int64_t issued_from = 0);

/// The gate of a server that lets in who brings a ticket: give it to host::ServerOptions::gate.
class Gate final : public link::TicketGate {
 public:
  /// `issued_from`: with the start of this process a ticket that a predecessor with the same key
  /// has let in counts no second time; clients that hold an older one log in again. 0: all are
  /// taken.
  Gate(const VerifyKey& key, const link::PublicKey& server, std::int64_t issued_from = 0)
      : key_(key), audience_(link::key_text(server)), issued_from_(issued_from) {}
  [[nodiscard]] Result<link::Claims> check(std::string_view ticket,
                                           std::int64_t unix_seconds) const override {
    return ticket::check(ticket, key_, audience_, unix_seconds, issued_from_);
  }

 private:
  VerifyKey key_;
  std::string audience_;
  std::int64_t issued_from_;
};

}  // namespace kwind::ticket
