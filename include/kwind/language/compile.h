// From the text of a .kw file to a schema::Protocol, or to all of its errors with their places.
// Used by the tool and the generators; no game links it. Pure functions of the text; safe anywhere.
#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "kwind/schema/protocol.h"

namespace kwind::language {

/// One error. Lines and columns count from 1; columns count bytes.
struct Diagnostic {
  std::uint32_t line = 1;
  std::uint32_t column = 1;
  std::uint32_t length = 1;  ///< bytes to underline, within the line
  std::string message;       ///< what is wrong and, after a semicolon, what to do
};

struct Compiled {
  schema::Protocol protocol;       ///< meaningful only without errors
  std::vector<Diagnostic> errors;  ///< in the order of their places, at most kMostErrors
  [[nodiscard]] bool ok() const { return errors.empty(); }
};

inline constexpr std::size_t kMostErrors = 50;
inline constexpr std::size_t kMostFileBytes = std::size_t{1} << 20;
/// A message must fit into one datagram beside the framing (1200 bytes less header, acks and
/// check).
inline constexpr std::uint32_t kMostMessageBytes = 1100;

/// Compiles a whole file. O(size of the text).
Compiled compile(std::string_view text);

/// "file:line:column: error: message", the line, and a caret under the place.
std::string render(const Diagnostic& diagnostic, std::string_view file_name, std::string_view text);

}  // namespace kwind::language
