// What both ends hold when the handshake is done, apart from what the game sees.
#pragma once
#include <variant>

#include "envelope.h"
#include "handshake.h"
#include "kwind/link/spec.h"

namespace kwind::link {

struct Agreed {
  ConnectionId id{};
  std::uint16_t version = 0;
  std::uint8_t code_set = 0;
  bool returned = false;
  Carrier carrier = Carrier::datagrams;
  std::variant<CheckKeys, SealKeys> keys;
  GoneToken gone{};
  std::uint64_t gone_nonce = 0;
  bits::Secret32 comeback;
  Duration comeback_for{0};
};

}  // namespace kwind::link
