// A plugin for the packet analyser, made from a description. Pure; safe anywhere.
#pragma once
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/schema/protocol.h"

namespace kwind::language {

/// Lua text that shows plaintext (or opened) datagrams of the protocol: link header, acks, frames,
/// messages and fields, each field one that can be filtered by. Reads every version of the
/// description; which one a connection speaks it takes from the handshake, else it is the newest.
/// `source` is named in the first line. O(size of the description).
KWIND_API std::string generate_dissector(const schema::Protocol& protocol, std::string_view source);

}  // namespace kwind::language
