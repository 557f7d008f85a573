// Parses and prints JSON with limits that the JSON library does not have: depth, and no key twice.
#include "kwind/json/text.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>
#include <set>
#include <string>
#include <vector>

namespace kwind::json {

using nlohmann::ordered_json;

// Refuses members of one name and deep nesting, which the library would accept; exceptions end
// here.
tl::expected<ordered_json, TextError> parse_text(std::string_view text) {
  constexpr int kDeepest = 100;  // what is deeper cannot be shown without recursion
  std::string problem;
  std::vector<std::set<std::string>> keys;  // of the objects that are open
  const auto look = [&](int depth, ordered_json::parse_event_t event, ordered_json& part) {
    using Event = ordered_json::parse_event_t;
    if (depth > kDeepest && problem.empty()) {
      problem = fmt::format("nested more than {} deep", kDeepest);
    }
    if (event == Event::object_start) keys.emplace_back();
    if (event == Event::object_end) keys.pop_back();
    if (event == Event::key && !keys.back().insert(part.get<std::string>()).second &&
        problem.empty()) {
      problem = fmt::format("{} is there twice in one object", text_of(part));
    }
    return problem.empty();
  };
  try {
    ordered_json made = ordered_json::parse(text, look);
    if (!problem.empty()) return tl::unexpected(TextError{0, problem});
    return made;
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
