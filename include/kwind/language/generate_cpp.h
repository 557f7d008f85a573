// Writes the C++ headers of a protocol. Pure; safe anywhere.
#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/schema/protocol.h"

namespace kwind::language {

/// A file to be written, its path below the chosen folder.
struct GeneratedFile {
  std::string path;
  std::string text;
};

/// One header for each declaration, `harbour/helm.h`; `harbour.h`, which includes them all and
/// holds the tables; and where entities have local fields `harbour_server.h` and
/// `harbour_client.h`, which no code of the other side includes. The same protocol and name give
/// the same texts: a declaration's header changes when it, or what stands in the table for it,
/// does.
KWIND_API std::vector<GeneratedFile> generate_cpp(const schema::Protocol& protocol,
                                                  std::string_view source_name);

}  // namespace kwind::language
