// Admission control: what a Listener asks about the ticket of a connecting client.
// kwind/ticket/ticket.h implements it for JSON Web Tokens. One thread.
#pragma once
#include <cstdint>
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"

namespace kwind::link {

/// What a valid ticket says.
struct Claims {
  std::string subject;       ///< who it is
  std::string id;            ///< of the ticket: it counts once
  std::int64_t expires = 0;  ///< seconds since 1970
  std::string app;           ///< all claims, as JSON text, for the game
};

/// Decides about tickets. Implement it for a login service of your own.
class KWIND_API TicketGate {
 public:
  virtual ~TicketGate() = default;
  /// Errors: ticket_invalid, ticket_expired.
  [[nodiscard]] virtual Result<Claims> check(std::string_view ticket,
                                             std::int64_t unix_seconds) const = 0;
  /// Called once when the connection opens that brought the ticket, after the listener's own table
  /// of used tickets: false if it counts as used, and the connection ends with ticket_used. For
  /// what is to hold beyond this process, in a store that several servers share. Not to block.
  [[nodiscard]] virtual bool take(const Claims& /*claims*/) const { return true; }
  /// Called when a client resumes without its ticket, by what that said: false for one
  /// that was banned meanwhile. Whether it has expired is checked in any case.
  [[nodiscard]] virtual bool may_resume(const Claims& /*claims*/) const { return true; }
};

}  // namespace kwind::link
