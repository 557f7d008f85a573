// TOML text to a table: the one place that calls the parser, which throws. Optional, on toml++.
// Pure; safe anywhere.
#pragma once
#include <toml++/toml.h>

#include <string>
#include <string_view>
#include <tl/expected.hpp>

namespace kwind::budget {

/// Where a text is no TOML, and why.
struct TomlError {
  toml::source_region place{};
  std::string text;  ///< what is wrong there
};

/// Parses one TOML document. Never throws what the parser throws.
tl::expected<toml::table, TomlError> parse_toml(std::string_view text);

}  // namespace kwind::budget
