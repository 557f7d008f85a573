// What a finished handshake hands from Listener to Link.
#pragma once
#include <cstdint>
#include <memory>
#include <optional>

#include "kwind/link/spec.h"
#include "kwind/link/ticket_gate.h"

namespace kwind::link {

struct Agreed;  // keys and tokens

/// The server's half of a finished handshake; from Listener::receive.
struct Admission {
  ConnectionId id{};
  std::uint16_t version = 0;  ///< the agreed version of the protocol
  std::uint8_t code_set = 0;  ///< 0: the built-in one; else place in the client's list plus one
  std::uint64_t code_set_digest = 0;  ///< of that set; 0: the built-in one
  /// The client came back: it is to take over what this connection was.
  std::optional<ConnectionId> replaces{};
  std::shared_ptr<const Claims> claims{};  ///< of its ticket, if tickets are asked for
  std::shared_ptr<const Agreed> agreed{};
};

}  // namespace kwind::link
