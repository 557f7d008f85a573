// Messages as people type and read them in one line: `Helm rudder=0.5 throttle=80`. For terminals,
// scripts and logs. Optional, on nlohmann-json. Pure functions; safe anywhere.
//
//   number, bool, enum       as it stands: 0.5, true, timber
//   text                     one word, or "several words" with the escapes of JSON
//   flags                    port,stern or none
//   ref                      7/2 (id and generation), 7, or none
//   maybe                    the value, or none
//   heading, vec, rotation   1,0.5 without blanks
//   bytes                    hexadecimal digits
//   record, list, grid, one of    JSON without the need of quotes around: {"x":1,"y":2}
//
// Instead of all fields, one JSON object may stand behind the kind.
#pragma once
#include <optional>
#include <string>
#include <string_view>
#include <tl/expected.hpp>
#include <vector>

#include "kwind/json/json.h"

namespace kwind::json {

/// A line that was read as a message.
struct Line {
  std::size_t kind = 0;  ///< place in Protocol::messages
  schema::Value value;
};

/// A kind and its fields. Fields that are left out get their defaults. Values that are out of range
/// are a problem that shows the range.
tl::expected<Line, Problem> parse_line(const schema::Protocol& protocol, std::string_view text);
/// The fields alone.
tl::expected<schema::Value, Problem> parse_fields(const schema::Protocol& protocol,
                                                  const std::vector<schema::Field>& fields,
                                                  std::string_view text);

/// The place of the message called `name`, or what is wrong with it, with the nearest name.
tl::expected<std::size_t, Problem> find_type(const schema::Protocol& protocol,
                                             std::string_view name);

/// The first value that is out of its range, and the range.
std::optional<Problem> out_of_range(const schema::Protocol& protocol,
                                    const std::vector<schema::Field>& fields,
                                    const schema::Value& value);

/// `rudder=0.5 throttle=80`: parse_fields() takes it back. Nothing in it moves a terminal's cursor
/// or colours: control and direction characters are escaped.
std::string line_text(const schema::Protocol& protocol, const std::vector<schema::Field>& fields,
                      const schema::Value& value);
/// A text of a peer in the same way, for consoles and logs: in quotes.
std::string shown(std::string_view text);

/// What may be typed on behind `typed`, as whole words in place of its last one: kinds that travel
/// `way`, then fields of the kind, then values of the field. `commands` may stand instead of a
/// kind.
std::vector<std::string> completions(const schema::Protocol& protocol, schema::Direction way,
                                     const std::vector<std::string>& commands,
                                     std::string_view typed);

/// One condition on a message: `tugs[0].speed>=3`, `words="ahoy"`, `tone!=plain`. A path names
/// members and items of the message's JSON; `=` and `!=` compare anything, the others numbers.
struct Condition {
  std::string path;
  std::string comparison;  ///< = != < <= > >=
  nlohmann::ordered_json value;
  std::string text;  ///< as it was written
};
tl::expected<Condition, Problem> parse_condition(std::string_view text);
/// Whether it holds; a path that is not there holds for nothing but `!=`.
bool holds(const Condition& condition, const nlohmann::ordered_json& fields);

/// Splits at blanks that stand in no quotes and no brackets.
std::vector<std::string_view> words_of(std::string_view text);

}  // namespace kwind::json
