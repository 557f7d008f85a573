// Values to JSON and back by walking over the type. Reading checks every type and range, and a
// problem names the path to the value: `crates[2].label: expected a text, found 7`.
//
// Recursive descent, one function for each shape of value. Errors travel as a C++ exception inside
// this file alone: each level on the way out puts its own step before the path. The functions at
// the end of the file turn the exception into a value, so that none reaches a caller.
// Mapping of types that JSON lacks: bytes are hexadecimal, flags an array of names, a grid an
// array of rows, a reference an object, a case of a `one of` its name or an object with one
// member.
#include "kwind/json/json.h"

#include <fmt/format.h>

#include <cmath>
#include <limits>

#include "json/nullable.h"
#include "kwind/bits/nearest.h"
#include "kwind/core/printable.h"
#include "kwind/json/text.h"

namespace kwind::json {
namespace {

using nlohmann::ordered_json;
using schema::Field;
using schema::Options;
using schema::Protocol;
using schema::Type;
using schema::TypeKind;
using schema::Value;

// Two digits for each byte.
std::string hex_of(const std::string& bytes) {
  std::string out;
  for (const char c : bytes) out += fmt::format("{:02x}", static_cast<unsigned char>(c));
  return out;
}

// Components of vectors, directions and rotations.
ordered_json numbers(const Value& value) {
  ordered_json made = ordered_json::array();
  for (const Value& item : value.items) made.push_back(item.real);
  return made;
}

// A grid as an array of rows.
// Invariant: items of a grid lie row by row, item `y * width + x` is the cell of column x in row
// y.
ordered_json rows(const Protocol& protocol, const Type& type, const Value& value) {
  ordered_json made = ordered_json::array();
  for (std::uint32_t y = 0; y < type.height; ++y) {
    ordered_json row = ordered_json::array();
    for (std::uint32_t x = 0; x < type.limit; ++x) {
      row.push_back(to_json(protocol, type.element.front(), value.items[y * type.limit + x]));
    }
    made.push_back(std::move(row));
  }
  return made;
}

struct Wrong {  // thrown with the path filled in on the way out
  std::string path;
  std::string message;
};

class Reading {
 public:
  explicit Reading(const Protocol& protocol) : protocol_(protocol) {}

  // An object with a member for each field. Unknown members are errors; missing ones keep their
  // initial value.
  Value fields(const std::vector<Field>& all, const ordered_json& json) {
    // Three passes, since the order of errors is the order in which a reader of the JSON would
    // mend them: first the shape, then each field of the description, last the members that no
    // field has.
    if (!json.is_object()) stop("an object", json);
    Value made;
    made.items.reserve(all.size());
    std::vector<std::string> names;
    names.reserve(all.size());
    for (const Field& field : all) {
      names.push_back(field.name);
      const auto found = json.find(field.name);
      // A local field of a type that only the game knows has no JSON form: it stays empty.
      if (found == json.end() || field.untyped) {
        made.items.push_back(field.untyped ? Value{} : schema::initial_value(protocol_, field));
        continue;
      }
      made.items.push_back(inside(field.name, [&] { return value(field.type, *found); }));
    }
    for (const auto& [name, ignored] : json.items()) {
      if (std::find(names.begin(), names.end(), name) == names.end()) unknown("field", name, names);
    }
    return made;
  }

 private:
  // Adds the place to what went wrong further inside: "at.x".
  template <class Read>
  static Value inside(const std::string& part, const Read& read) {
    try {
      return read();
    } catch (Wrong& wrong) {
      // An index joins the step before it without a dot: "crates" and "[2]" make "crates[2]".
      const bool index = wrong.path.starts_with('[') || wrong.path.empty();
      wrong.path = part + (index ? "" : ".") + wrong.path;
      throw;
    }
  }

  // Names what was expected and shows what was found, cut to a readable length.
  [[noreturn]] static void stop(std::string_view expected, const ordered_json& found) {
    std::string shown = text_of(found);
    // Cut at a boundary of UTF-8 characters, so that the error is valid text itself.
    if (shown.size() > 40) shown = shown.substr(0, valid_utf8_prefix(shown, 37)) + "...";
    throw Wrong{"", fmt::format("expected {}, found {}", expected, shown)};
  }
  // An unknown name, with the nearest known one.
  [[noreturn]] static void unknown(std::string_view what, const std::string& name,
                                   const std::vector<std::string>& known) {
    const std::string near = bits::nearest(name, known);
    throw Wrong{"", near.empty()
                        ? fmt::format("there is no {} `{}`; there are {}", what, name,
                                      fmt::join(known, ", "))
                        : fmt::format("there is no {} `{}`; did you mean `{}`?", what, name, near)};
  }

  // Whole numbers beyond 64 bits, and fractions, are refused.
  static std::int64_t whole(const ordered_json& json) {
    if (json.is_number_unsigned()) {
      const auto value = json.get<std::uint64_t>();
      if (value <= static_cast<std::uint64_t>(std::numeric_limits<std::int64_t>::max())) {
        return static_cast<std::int64_t>(value);
      }
      stop("a whole number below 2^63", json);
    }
    if (json.is_number_integer()) return json.get<std::int64_t>();
    // 9e15 is below 2^53: up to there each double that is whole is exact.
    if (json.is_number_float()) {
      const double value = json.get<double>();
      if (value == std::floor(value) && std::abs(value) < 9e15) {
        return static_cast<std::int64_t>(value);
      }
    }
    stop("a whole number", json);
  }
  static double number(const ordered_json& json) {
    if (!json.is_number()) stop("a number", json);
    return json.get<double>();
  }
  static const std::string& string(const ordered_json& json, std::string_view what) {
    if (!json.is_string()) stop(what, json);
    return json.get_ref<const std::string&>();
  }

  // The index of a name among options.
  std::size_t place(const Options& options, std::string_view what, const std::string& name) {
    std::vector<std::string> names;
    names.reserve(options.options.size());
    for (std::size_t i = 0; i < options.options.size(); ++i) {
      if (options.options[i].name == name) return i;
      names.push_back(options.options[i].name);
    }
    unknown(what, name, names);
  }

  // A fixed number of numbers.
  Value components(std::size_t count, const ordered_json& json) {
    // A short or a long array is an error, not filled up: a missing z is more often a slip than a
    // wish.
    if (!json.is_array() || json.size() != count) {
      stop(fmt::format("an array of {} numbers", count), json);
    }
    Value made;
    for (std::size_t i = 0; i < count; ++i) {
      made.items.push_back(inside(fmt::format("[{}]", i), [&] {
        Value component;
        component.real = number(json[i]);
        return component;
      }));
    }
    return made;
  }

  // Items in order, each with its index as the place.
  void items(const Type& element, const ordered_json& json, Value& to) {
    for (std::size_t i = 0; i < json.size(); ++i) {
      to.items.push_back(inside(fmt::format("[{}]", i), [&] { return value(element, json[i]); }));
    }
  }

  // Rows of equal length, one for each row of the grid.
  Value grid(const Type& type, const ordered_json& json) {
    if (!json.is_array() || json.size() != type.height) {
      stop(fmt::format("an array of {} rows", type.height), json);
    }
    Value made;
    // Rows are checked one by one, so that the error names the row that is too short.
    for (std::size_t y = 0; y < type.height; ++y) {
      (void)inside(fmt::format("[{}]", y), [&] {
        if (!json[y].is_array() || json[y].size() != type.limit) {
          stop(fmt::format("a row of {} cells", type.limit), json[y]);
        }
        items(type.element.front(), json[y], made);
        return Value{};
      });
    }
    return made;
  }

  // A case without a value is its name; one with a value is an object with one member.
  Value one_of(const Options& options, const ordered_json& json) {
    const bool alone = json.is_string();
    if (!alone && !(json.is_object() && json.size() == 1)) {
      stop("the name of a case, or {\"case\": value}", json);
    }
    const std::string name = alone ? json.get<std::string>() : json.begin().key();
    Value made;
    const std::size_t found = place(options, "case", name);
    made.whole = static_cast<std::int64_t>(found);
    const auto& type = options.options[found].type;
    // A case with a value needs the object, a case without one must not have it.
    if (type.empty() != alone) {
      stop(type.empty() ? fmt::format("\"{}\" alone: it carries nothing", name)
                        : fmt::format("{{\"{}\": value}}", name),
           json);
    }
    if (!type.empty()) {
      made.items.push_back(inside(name, [&] { return value(type.front(), *json.begin()); }));
    }
    return made;
  }

  // The reverse of to_json(), type by type.
  Value value(const Type& type, const ordered_json& json) {
    Value made;
    switch (type.kind) {
      case TypeKind::boolean:
        if (!json.is_boolean()) stop("true or false", json);
        made.whole = json.get<bool>() ? 1 : 0;
        return made;
      case TypeKind::integer:
      case TypeKind::count:
      case TypeKind::peer: made.whole = whole(json); return made;
      case TypeKind::tick:
        made.whole = whole(json);
        if (made.whole < 0 || made.whole > 0xffffffff) stop("a tick, 0 to 4294967295", json);
        return made;
      case TypeKind::real:
      case TypeKind::angle:
      case TypeKind::f32:
      case TypeKind::f64: made.real = number(json); return made;
      case TypeKind::direction2: return components(2, json);
      case TypeKind::direction3: return components(3, json);
      case TypeKind::rotation: return components(4, json);
      case TypeKind::vec:
        if (!json.is_array() || json.size() != type.limit) {
          stop(fmt::format("an array of {} numbers", type.limit), json);
        }
        items(type.element.front(), json, made);
        return made;
      case TypeKind::text: made.text = string(json, "a string"); return made;
      case TypeKind::bytes: return bytes(json);
      case TypeKind::enumeration:
        made.whole = static_cast<std::int64_t>(
            place(protocol_.enums[type.index], "value", string(json, "the name of a value")));
        return made;
      case TypeKind::flags: {
        if (!json.is_array()) stop("an array of the flags that are set", json);
        std::uint64_t set = 0;
        for (const ordered_json& flag : json) {
          set |= std::uint64_t{1} << place(protocol_.flags[type.index], "flag",
                                           string(flag, "the name of a flag"));
        }
        made.whole = static_cast<std::int64_t>(set);
        return made;
      }
      case TypeKind::record: return fields(protocol_.records[type.index].fields, json);
      case TypeKind::list:
        if (!json.is_array()) stop("an array", json);
        items(type.element.front(), json, made);
        return made;
      case TypeKind::grid: return grid(type, json);
      case TypeKind::maybe:
        // null cannot stand for absence where the inner value can be null itself: json/nullable.h.
        if (can_be_null(type.element.front())) {
          if (!json.is_array() || json.size() > 1) stop("[] or [value]", json);
          items(type.element.front(), json, made);
          return made;
        }
        if (!json.is_null()) made.items.push_back(value(type.element.front(), json));
        return made;
      case TypeKind::one_of: return one_of(protocol_.one_ofs[type.index], json);
      case TypeKind::ref: return reference(json);
    }
    return made;
  }

  // Hexadecimal digits in pairs, of either case.
  static Value bytes(const ordered_json& json) {
    const std::string& text = string(json, "bytes in hexadecimal");
    const auto digit = [](char c) {
      // -1 for all other characters, so that one comparison rejects both a wrong digit and a
      // missing one.
      return c >= '0' && c <= '9'   ? c - '0'
             : c >= 'a' && c <= 'f' ? c - 'a' + 10
             : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                    : -1;
    };
    Value made;
    for (std::size_t i = 0; i < text.size(); i += 2) {
      const int high = digit(text[i]);
      const int low = i + 1 < text.size() ? digit(text[i + 1]) : -1;
      if (high < 0 || low < 0) stop("pairs of hexadecimal digits", json);
      made.text += static_cast<char>(high * 16 + low);
    }
    return made;
  }

  // null, or an object with `id` and, where it is not 0, `generation`.
  static Value reference(const ordered_json& json) {
    Value made;
    if (json.is_null()) return made;
    if (!json.is_object() || !json.contains("id")) {
      stop("null or {\"id\": 7, \"generation\": 2}", json);
    }
    for (const auto& [name, ignored] : json.items()) {
      if (name != "id" && name != "generation") unknown("part", name, {"id", "generation"});
    }
    // A reference packs into 40 bits: id below, generation above, as the interpreting codec has
    // it.
    const std::int64_t id = whole(json["id"]);
    const std::int64_t generation = json.contains("generation") ? whole(json["generation"]) : 0;
    if (id < 0 || id > 0xffffffff || generation < 0 || generation > 255) {
      stop("an id below 2^32 and a generation below 256", json);
    }
    made.whole = id | generation << 32;
    return made;
  }

  const Protocol& protocol_;
};

}  // namespace

// Members in the order of the description.
ordered_json to_json(const Protocol& protocol, const std::vector<Field>& fields,
                     const Value& value) {
  ordered_json made = ordered_json::object();
  for (std::size_t i = 0; i < fields.size(); ++i) {
    if (fields[i].untyped) continue;
    made[fields[i].name] = to_json(protocol, fields[i].type, value.items[i]);
  }
  return made;
}

// 64-bit numbers stay numbers: the JSON library keeps them exact.
ordered_json to_json(const Protocol& protocol, const Type& type, const Value& value) {
  const auto all = [&] {
    ordered_json made = ordered_json::array();
    for (const Value& item : value.items) {
      made.push_back(to_json(protocol, type.element.front(), item));
    }
    return made;
  };
  switch (type.kind) {
    case TypeKind::boolean: return value.whole != 0;
    case TypeKind::integer:
    case TypeKind::count:
    case TypeKind::peer:
    case TypeKind::tick: return value.whole;
    case TypeKind::real:
    case TypeKind::angle:
    case TypeKind::f32:
    case TypeKind::f64: return value.real;
    case TypeKind::direction2:
    case TypeKind::direction3:
    case TypeKind::rotation: return numbers(value);
    case TypeKind::text: return value.text;
    case TypeKind::bytes: return hex_of(value.text);
    case TypeKind::enumeration:
      return protocol.enums[type.index].options[static_cast<std::size_t>(value.whole)].name;
    case TypeKind::flags: {
      ordered_json made = ordered_json::array();
      const auto& options = protocol.flags[type.index].options;
      // In the order of the description, not of the bits that came.
      for (std::size_t i = 0; i < options.size(); ++i) {
        if ((static_cast<std::uint64_t>(value.whole) >> i & 1) != 0) {
          made.push_back(options[i].name);
        }
      }
      return made;
    }
    case TypeKind::record: return to_json(protocol, protocol.records[type.index].fields, value);
    case TypeKind::vec:
    case TypeKind::list: return all();
    case TypeKind::grid: return rows(protocol, type, value);
    case TypeKind::maybe:
      if (can_be_null(type.element.front())) return all();
      return value.items.empty() ? ordered_json(nullptr)
                                 : to_json(protocol, type.element.front(), value.items.front());
    case TypeKind::one_of: {
      const schema::Option& option =
          protocol.one_ofs[type.index].options[static_cast<std::size_t>(value.whole)];
      if (option.type.empty()) return option.name;
      ordered_json made = ordered_json::object();
      made[option.name] = to_json(protocol, option.type.front(), value.items.front());
      return made;
    }
    case TypeKind::ref: {
      if (static_cast<std::uint32_t>(value.whole) == 0) return nullptr;
      ordered_json made = ordered_json::object();
      made["id"] = static_cast<std::uint32_t>(value.whole);
      made["generation"] = value.whole >> 32;
      return made;
    }
  }
  return nullptr;
}

// The first thing that is wrong, with its place; exceptions end here.
tl::expected<Value, Problem> from_json(const Protocol& protocol, const std::vector<Field>& fields,
                                       const ordered_json& json) {
  try {
    return Reading(protocol).fields(fields, json);
  } catch (const Wrong& wrong) {
    return tl::unexpected<Problem>(wrong.path.empty() ? wrong.message
                                                      : wrong.path + ": " + wrong.message);
  }
}

}  // namespace kwind::json
