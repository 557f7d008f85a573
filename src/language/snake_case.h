// Names in other shapes: TakeTow and take_tow. Pure.
#pragma once
#include <string>
#include <string_view>

namespace kwind::language {

/// TakeTow to take_tow: where a capital follows a small letter or digit, a _ comes between.
inline std::string snake_case(std::string_view name) {
  std::string out;
  char before = '_';
  for (const char c : name) {
    const bool capital = c >= 'A' && c <= 'Z';
    if (capital && ((before >= 'a' && before <= 'z') || (before >= '0' && before <= '9'))) {
      out += '_';
    }
    out += capital ? static_cast<char>(c - 'A' + 'a') : c;
    before = c;
  }
  return out;
}

/// cargo_kind to CargoKind.
inline std::string pascal_case(std::string_view name) {
  std::string out;
  bool upper = true;
  for (const char c : name) {
    if (c == '_') {
      upper = true;
      continue;
    }
    out += upper && c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
    upper = false;
  }
  return out;
}

}  // namespace kwind::language
