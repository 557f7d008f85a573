// From the text of a .kw file to a schema::Protocol, or to all of its errors with their places.
// Used by the tool and the generators; no game links it. Pure functions of the text; safe anywhere.
#pragma once
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/schema/protocol.h"

namespace kwind::language {

/// One error or hint. Lines and columns count from 1; columns count bytes.
struct Diagnostic {
  std::uint32_t line = 1;
  std::uint32_t column = 1;
  std::uint32_t length = 1;  ///< bytes to underline, within the line
  std::string message;       ///< what is wrong and, after a semicolon, what to do
  std::uint16_t file = 0;    ///< place in Compiled::files
};

/// A file that was read: the one given, then those that `include` named.
struct SourceFile {
  std::string name;
  std::string text;
};

/// A description that was read: its protocol, or its errors.
struct Compiled {
  schema::Protocol protocol;       ///< meaningful only without errors
  std::vector<Diagnostic> errors;  ///< in the order of their places, at most kMaxErrors
  std::vector<Diagnostic> hints;   ///< what is right and could be better, likewise
  std::vector<SourceFile> files;
  [[nodiscard]] bool ok() const { return errors.empty(); }
};

/// Gives the text of an included file, or nothing if it cannot be read. `name` is as written, put
/// behind the folder of the including file: "quays/marks.kw". Core code reads no files itself.
using Loader = std::function<std::optional<std::string>(const std::string& name)>;

inline constexpr std::size_t kMaxErrors = 50;
/// Of all files together.
inline constexpr std::size_t kMaxFileBytes = std::size_t{1} << 20;
inline constexpr std::size_t kMaxFiles = 64;
/// What one datagram carries beside the framing (1200 bytes less header, acks and check): the most
/// of a message on an unreliable or sequenced channel unless it says `split`.
inline constexpr std::uint32_t kMaxMessageBytes = 1100;
/// The most of any message.
inline constexpr std::uint32_t kMaxSplitBytes = std::uint32_t{1} << 20;

/// Compiles a whole file, which `name` names in errors. Without a loader `include` is an error.
/// O(size of the text).
KWIND_API Compiled compile(std::string_view text, std::string_view name = "",
                           const Loader& load = {});

/// Looks at the syntax of one file alone, as of one that is made to be included: what it names need
/// not be declared in it. `names_protocol`: it has a `protocol` line, and is a whole description.
KWIND_API Compiled read_syntax(std::string_view text, std::string_view name, bool& names_protocol);

/// "file:line:column: error: message", the line, and a caret under the place.
KWIND_API std::string render(const Diagnostic& diagnostic, const Compiled& compiled,
                             std::string_view severity = "error");

}  // namespace kwind::language
