// JSON text to values and back: the one place that instantiates the JSON library's parser and
// writer, which take seconds to compile. Optional, on nlohmann-json. Pure functions; safe anywhere.
#pragma once
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <string_view>
#include <tl/expected.hpp>

namespace kwind::json {

/// Why a text is not JSON that can be held.
struct TextError {
  std::size_t byte = 0;  ///< where the fault was seen, from 1; 0: not known
  std::string text;      ///< what is wrong: "not JSON, from byte 7 on"
};

/// Parses one JSON document. Never throws: a number beyond a double is an error like another.
tl::expected<nlohmann::ordered_json, TextError> parse_text(std::string_view text);

/// Writes `json` as text: in one line, or indented by `indent` spaces a level if that is not
/// negative. Strings that are not UTF-8 keep what is valid; the rest becomes U+FFFD.
std::string text_of(const nlohmann::ordered_json& json, int indent = -1);

}  // namespace kwind::json
