// Writes the documentation of a protocol. Pure; safe anywhere.
#pragma once
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/schema/protocol.h"

namespace kwind::language {

/// One page that needs no other file: what the protocol declares, each message and entity with a
/// drawing of its bits (SVG) and a table of its fields. The same protocol gives the same text.
KWIND_API std::string generate_html(const schema::Protocol& protocol, std::string_view source_name);

/// The same in Markdown, with the bits drawn in characters, two a bit.
KWIND_API std::string generate_markdown(const schema::Protocol& protocol,
                                        std::string_view source_name);

}  // namespace kwind::language
