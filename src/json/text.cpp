#include "kwind/json/text.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

namespace kwind::json {

using nlohmann::ordered_json;

tl::expected<ordered_json, TextError> parse_text(std::string_view text) {
  try {
    return ordered_json::parse(text);
  } catch (const ordered_json::parse_error& error) {
    return tl::unexpected(
        TextError{error.byte, fmt::format("not JSON, from byte {} on", error.byte)});
  } catch (const ordered_json::exception&) {
    return tl::unexpected(TextError{0, "a number in it is too large to be held"});
  }
}

std::string text_of(const ordered_json& json, int indent) {
  return json.dump(indent, ' ', false, ordered_json::error_handler_t::replace);
}

}  // namespace kwind::json
