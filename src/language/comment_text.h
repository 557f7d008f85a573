// Text of a description in comments of generated code.
#pragma once
#include <string>
#include <string_view>

namespace kwind::language {

/// The line with a space between each `first` and the `second` right after it: so that it neither
/// ends nor opens a comment. O(characters).
inline std::string kept_apart(std::string_view line, char first, char second) {
  std::string out;
  out.reserve(line.size());
  for (const char c : line) {
    if (c == second && !out.empty() && out.back() == first) out += ' ';
    out += c;
  }
  return out;
}

}  // namespace kwind::language
