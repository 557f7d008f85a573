// Names, comments and literals in generated C++. A name that C++ or the generated struct has
// already gets a `_`; no name of a description ends in one, so two names never become the same.
#include "language/cpp_names.h"

#include <fmt/format.h>

#include <limits>

#include "language/reserved_names.h"
#include "language/snake_case.h"

namespace kwind::language {

std::string cpp_name(std::string_view name) {
  return is_reserved_member(name) ? fmt::format("{}_", name) : std::string(name);
}

std::string cpp_space(std::string_view protocol) {
  return is_reserved_namespace(protocol) ? fmt::format("{}_", protocol) : std::string(protocol);
}

// No name of a description ends in _, and none has one before a capital letter once it is a type's.
std::string cpp_one_of(std::string_view one_of) {
  return fmt::format("{}{}", one_of, one_of == "OneOf" ? "_" : "");
}

// A case's struct must not have the name of the type around it.
std::string cpp_case(std::string_view one_of, std::string_view name) {
  const std::string made = pascal_case(name);
  // The struct around it, whose name has a _ already, or the name of the variant of all cases.
  if (made == "OneOf") return one_of == made ? "OneOf_Case" : "OneOf_";
  return made == one_of ? made + "_" : made;
}

// Doc comments of a description as `///` lines; a trailing backslash would continue the line.
std::string cpp_comment(std::string_view text, std::string_view indent) {
  std::string out;
  while (!text.empty()) {
    const std::size_t end = text.find('\n');
    std::string_view line = text.substr(0, end);
    // A backslash at the end, with or without trailing blanks, would swallow the next line.
    while (line.ends_with('\\') || line.ends_with(' ') || line.ends_with('\t')) {
      line.remove_suffix(1);
    }
    out += fmt::format("{}///{}{}\n", indent, line.empty() ? "" : " ", line);
    text = end == std::string_view::npos ? std::string_view{} : text.substr(end + 1);
  }
  return out;
}

// A C++ literal: everything beyond plain ASCII is escaped, `?` too because of trigraphs.
std::string cpp_string(std::string_view text) {
  std::string out = "\"";
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (byte >= 0x20 && byte < 0x7f && c != '"' && c != '\\' && c != '?') {
      out += c;
    } else {
      out += fmt::format("\\{:03o}", byte);
    }
  }
  return out + '"';
}

std::string cpp_whole(std::int64_t value) {
  if (value == std::numeric_limits<std::int64_t>::min()) return "-9223372036854775807 - 1";
  return fmt::format("{}", value);
}

}  // namespace kwind::language
