// Values of a description to JSON and back: for tools, logs and tests, not for the wire. An
// optional component on nlohmann-json; no game needs to link it. Pure functions; safe anywhere.
//
//   bool                     true or false
//   int, count, tick, peer   a whole number
//   real, turn, f32, f64     a number
//   text; bytes              a string; its bytes in hexadecimal
//   enum                     the name of the value
//   flags                    the names of those that are set
//   heading, vec, rotation   an array of numbers; a rotation is [w, x, y, z]
//   list, grid               an array; a grid row by row, each an array
//   record                   an object
//   maybe                    null or the value; [] or [value] if the value itself can be null
//   one of                   {"case": value}; the name alone for a case that carries nothing
//   ref                      null or {"id": 7, "generation": 2}
#pragma once
#include <nlohmann/json.hpp>
#include <string>
#include <tl/expected.hpp>

#include "kwind/schema/protocol.h"

namespace kwind::json {

/// Fields keep the order of the description.
nlohmann::ordered_json to_json(const schema::Protocol& protocol,
                               const std::vector<schema::Field>& fields,
                               const schema::Value& value);
nlohmann::ordered_json to_json(const schema::Protocol& protocol, const schema::Type& type,
                               const schema::Value& value);

/// Where JSON does not fit the description, and how: "tugs[2].speed: expected a number, found a
/// string".
using Problem = std::string;

/// Fields that are left out get their defaults; unknown ones are a problem. Numbers are taken as
/// they are: whether they are in range shows at encode.
tl::expected<schema::Value, Problem> from_json(const schema::Protocol& protocol,
                                               const std::vector<schema::Field>& fields,
                                               const nlohmann::ordered_json& json);

}  // namespace kwind::json
