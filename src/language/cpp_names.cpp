#include "cpp_names.h"

#include <fmt/format.h>

#include <limits>
#include <set>

namespace kwind::language {
namespace {

// C++20 keywords, lower-case names that standard headers define as macros, and what every generated
// struct has.
const std::set<std::string_view> kReserved = {
    // clang-format off
    "alignas", "alignof", "and", "and_eq", "asm", "assert", "auto", "bitand", "bitor", "bool",
    "break", "case", "catch", "char", "char16_t", "char32_t", "char8_t", "class", "co_await",
    "co_return", "co_yield", "compl", "concept", "const", "const_cast", "consteval", "constexpr",
    "constinit", "continue", "decltype", "default", "delete", "do", "double", "dynamic_cast",
    "else", "enum", "errno", "explicit", "export", "extern", "false", "fields", "float", "for",
    "friend", "goto", "if", "info", "inline", "int", "linux", "long", "mutable", "namespace",
    "new", "noexcept", "not", "not_eq", "nullptr", "operator", "or", "or_eq", "private",
    "protected", "public", "register", "reinterpret_cast", "requires", "return", "short",
    "signed", "sizeof", "static", "static_assert", "static_cast", "stderr", "stdin", "stdout",
    "struct", "switch", "template", "this", "thread_local", "throw", "true", "try", "typedef",
    "typeid", "typename", "union", "unix", "unsigned", "using", "value", "virtual", "void",
    "volatile", "wchar_t", "while", "xor", "xor_eq"
    // clang-format on
};

}  // namespace

std::string cpp_name(std::string_view name) {
  return kReserved.contains(name) ? fmt::format("{}_", name) : std::string(name);
}

std::string cpp_comment(std::string_view text, std::string_view indent) {
  std::string out;
  while (!text.empty()) {
    const std::size_t end = text.find('\n');
    std::string_view line = text.substr(0, end);
    // A backslash at the end would swallow the next line.
    while (line.ends_with('\\')) line.remove_suffix(1);
    out += fmt::format("{}///{}{}\n", indent, line.empty() ? "" : " ", line);
    text = end == std::string_view::npos ? std::string_view{} : text.substr(end + 1);
  }
  return out;
}

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
