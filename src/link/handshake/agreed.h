// What both ends hold when the handshake is done, apart from what the game sees.
#pragma once
#include <variant>

#include "kwind/link/spec.h"
#include "link/datagram/envelope.h"
#include "link/handshake/handshake.h"

namespace kwind::link {

struct Agreed {
  ConnectionId id{};
  std::uint16_t version = 0;
  std::uint8_t code_tables = 0;
  bool resumed = false;
  TransportKind transport_kind = TransportKind::datagrams;
  std::variant<CheckKeys, AeadKeys> keys;
  ResetToken reset{};
  std::uint64_t reset_nonce = 0;
  Secret32 resume;
  Duration resume_for{0};
};

}  // namespace kwind::link
