// What a finished handshake hands from Listener to Link.
#pragma once
#include <cstdint>
#include <memory>
#include <optional>

#include "kwind/core/digest.h"
#include "kwind/core/endpoint.h"
#include "kwind/core/time.h"
#include "kwind/link/spec.h"
#include "kwind/link/ticket_gate.h"

namespace kwind::link {

struct Agreed;  // keys and tokens

/// The server's half of a finished handshake; from Listener::receive.
struct Admission {
  ConnectionId id{};
  std::uint16_t version = 0;     ///< the agreed version of the protocol
  std::uint8_t code_tables = 0;  ///< 0: the built-in one; else place in the client's list plus one
  std::uint64_t code_tables_digest = 0;  ///< of that set; 0: the built-in one
  std::uint64_t serial = 0;  ///< of connections of this listener: never used again, as ids are
  /// The client came back: it is to take over what the connection with this serial was.
  std::optional<std::uint64_t> replaces{};
  /// By which this one may come back, as a digest; if it may.
  std::optional<Digest128> resume{};
  Endpoint from{};                         ///< where its connect came from
  Time answered{};                         ///< when
  std::shared_ptr<const Claims> claims{};  ///< of its ticket, if tickets are asked for
  /// Its keys, which the Link that is made of it takes: to be reset then.
  std::shared_ptr<const Agreed> agreed{};
  bool vacated = false;  ///< see Listener::vacate()
};

}  // namespace kwind::link
