// Writes the TypeScript module of a protocol, for the package in web/. Pure; safe anywhere.
#pragma once
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/language/generate_cpp.h"

namespace kwind::language {

/// One module, `harbour.ts`: an interface for each record, message and entity, a constant of the
/// same name for each message, request and entity, and the tables of the protocol. It imports the
/// package `kestrel-wind`. The same protocol and name give the same text.
KWIND_API GeneratedFile generate_typescript(const schema::Protocol& protocol,
                                            std::string_view source_name);

}  // namespace kwind::language
