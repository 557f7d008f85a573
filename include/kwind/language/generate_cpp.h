// Writes the C++ header of a protocol. Pure; safe anywhere.
#pragma once
#include <string>
#include <string_view>

#include "kwind/schema/protocol.h"

namespace kwind::language {

/// The text of a header with one struct for each record and message, their codecs and the tables.
/// The same protocol and name give the same text. `source_name` is named in its first line.
std::string generate_cpp(const schema::Protocol& protocol, std::string_view source_name);

}  // namespace kwind::language
