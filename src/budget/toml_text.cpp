// The only caller of the TOML parser, which throws.
#include "kwind/budget/toml_text.h"

namespace kwind::budget {

// The library throws; its exceptions end here.
tl::expected<toml::table, TomlError> parse_toml(std::string_view text) {
  try {
    return toml::parse(text);
  } catch (const toml::parse_error& error) {
    return tl::unexpected(TomlError{error.source(), std::string(error.description())});
  }
}

}  // namespace kwind::budget
