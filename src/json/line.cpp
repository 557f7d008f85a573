// One line of text to a message and back. A line is a message's name and `field=value` words; a
// value is JSON where it parses as JSON of the field's type, else the short form of the header.
//
// Grammar of a line: TYPE { FIELD=VALUE }. Short forms: numbers and names as they are, flags and
// vectors with commas, a reference as ID/GENERATION, `none` for absence. A value that begins with
// {, [ or " is JSON.
// Law: parse_fields(line_text(v)) == v for each value within its ranges; a property test holds it.
#include "kwind/json/line.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>

#include "json/nullable.h"
#include "kwind/bits/nearest.h"
#include "kwind/bits/writer.h"
#include "kwind/core/printable.h"
#include "kwind/json/text.h"
#include "kwind/schema/runtime.h"

namespace kwind::json {
namespace {

using nlohmann::ordered_json;
using schema::Field;
using schema::Protocol;
using schema::Type;
using schema::TypeKind;
using schema::Value;

// JSON text in which nothing can move a cursor: such characters are written as \uXXXX, which JSON
// reads back as the same value.
std::string escaped(const std::string& json) {
  std::string out;
  // One character of UTF-8 in each pass. The text comes from the JSON library and is valid.
  for (std::size_t i = 0; i < json.size();) {
    const auto byte = static_cast<unsigned char>(json[i]);
    const std::size_t length = byte < 0x80 ? 1 : byte < 0xe0 ? 2 : byte < 0xf0 ? 3 : 4;
    std::uint32_t c = byte < 0x80 ? byte : byte & (0xffU >> (length + 1));
    for (std::size_t k = 1; k < length && i + k < json.size(); ++k) {
      c = c << 6 | (static_cast<unsigned char>(json[i + k]) & 0x3fU);
    }
    if (moves_text(c)) {
      out += fmt::format("\\u{:04x}", c);
    } else {
      out += json.substr(i, length);
    }
    i += length;
  }
  return out;
}

// JSON for a terminal.
std::string json_text(const ordered_json& json) {
  return escaped(text_of(json));
}

// Whether a text can stand on a line without quotes. `none` cannot: it stands for no value.
bool plain_word(const std::string& text) {
  return !text.empty() && text != "none" &&
         // Letters of ASCII alone: others might look like the characters that separate words.
         std::all_of(text.begin(), text.end(), [](unsigned char c) {
           return std::isalnum(c) != 0 || c == '_' || c == '-' || c == '.' || c == ':' || c == '/';
         });
}

// The short form of a value, which typed_value() reads back.
std::string value_line(const Type& type, const ordered_json& json) {
  switch (type.kind) {
    case TypeKind::enumeration: return json.get<std::string>();
    // Without quotes an empty value could not be told from a missing one.
    case TypeKind::bytes: return json.get<std::string>().empty() ? "\"\"" : json.get<std::string>();
    case TypeKind::text: {
      const auto text = json.get<std::string>();
      return plain_word(text) ? text : json_text(json);
    }
    case TypeKind::flags: {
      std::string all;
      // Names in the order of their bits.
      for (const ordered_json& flag : json) {
        if (!all.empty()) all += ',';
        all += flag.get<std::string>();
      }
      return all.empty() ? "none" : all;
    }
    case TypeKind::ref:
      if (json.is_null()) return "none";
      return fmt::format("{}/{}", json["id"].get<std::int64_t>(),
                         json["generation"].get<std::int64_t>());
    case TypeKind::maybe: {
      const Type& inner = type.element.front();
      // A `maybe` of a type that may be null itself is a list of none or one, see json/nullable.h.
      if (!can_be_null(inner)) return json.is_null() ? "none" : value_line(inner, json);
      return json.empty() ? "none" : json_text(json);
    }
    case TypeKind::direction2:
    case TypeKind::direction3:
    case TypeKind::rotation:
    case TypeKind::vec: {
      std::string all;
      // Components as JSON prints them, so that they read back exactly.
      for (const ordered_json& number : json) {
        if (!all.empty()) all += ',';
        all += text_of(number);
      }
      return all;
    }
    case TypeKind::one_of: return json.is_string() ? json.get<std::string>() : json_text(json);
    default: return json_text(json);
  }
}

// Names in the order of their numbers.
std::vector<std::string> names_of(const std::vector<schema::Option>& options) {
  std::vector<std::string> names;
  names.reserve(options.size());
  for (const schema::Option& option : options) names.push_back(option.name);
  return names;
}

// "1,2,3" in three parts; an empty text is one empty part.
std::vector<std::string> split_at_commas(const std::string& word) {
  std::vector<std::string> parts;
  // `at` is one past the comma; a comma at the end makes an empty last part.
  for (std::size_t at = 0; at <= word.size();) {
    const std::size_t end = std::min(word.find(',', at), word.size());
    parts.push_back(word.substr(at, end - at));
    at = end + 1;
  }
  return parts;
}

// JSON's own reading of a number, and nothing but a number.
tl::expected<ordered_json, Problem> typed_number(const std::string& digits) {
  auto parsed = parse_text(digits);
  if (!parsed || !parsed->is_number()) {
    return tl::unexpected(fmt::format("expected a number, found {}", shown(digits)));
  }
  return std::move(*parsed);
}

// ID, or ID/GENERATION.
tl::expected<ordered_json, Problem> typed_ref(const std::string& word) {
  if (word == "none") return ordered_json(nullptr);
  const std::size_t slash = word.find('/');
  // Without a slash the generation is 0.
  auto id = typed_number(word.substr(0, slash));
  if (!id) return id;
  ordered_json made{{"id", *id}};
  if (slash != std::string::npos) {
    auto generation = typed_number(word.substr(slash + 1));
    if (!generation) return generation;
    made["generation"] = *generation;
  }
  return made;
}

// A value as typed, to the JSON that from_json() takes.
tl::expected<ordered_json, Problem> typed_value(const Type& type, std::string_view text) {
  // A first character of JSON decides. No short form begins with one.
  const bool json = !text.empty() && (text[0] == '{' || text[0] == '[' || text[0] == '"');
  if (json) {
    auto parsed = parse_text(text);
    if (!parsed) return tl::unexpected(fmt::format("{} is not JSON", text));
    return std::move(*parsed);
  }
  const std::string word(text);
  switch (type.kind) {
    case TypeKind::boolean:
      if (word == "true" || word == "yes") return ordered_json(true);
      if (word == "false" || word == "no") return ordered_json(false);
      return tl::unexpected(fmt::format("expected true or false, found {}", shown(word)));
    case TypeKind::text:
    case TypeKind::bytes:
    case TypeKind::enumeration:
    case TypeKind::one_of: return ordered_json(word);
    case TypeKind::flags: {
      ordered_json all = ordered_json::array();
      if (word != "none" && !word.empty()) {
        for (const std::string& part : split_at_commas(word)) all.push_back(part);
      }
      return all;
    }
    case TypeKind::ref: return typed_ref(word);
    case TypeKind::maybe: {
      const Type& inner = type.element.front();
      // `none` is the outer absence: an inner one must be written as JSON.
      const bool wrapped = can_be_null(inner);
      if (word == "none") return wrapped ? ordered_json::array() : ordered_json(nullptr);
      auto value = typed_value(inner, text);
      if (!value || !wrapped) return value;
      return ordered_json::array({*value});
    }
    case TypeKind::direction2:
    case TypeKind::direction3:
    case TypeKind::rotation:
    case TypeKind::vec: {
      ordered_json all = ordered_json::array();
      // Each component is a JSON number: 1e3 and -0.5 are fine, 0x10 is not.
      for (const std::string& part : split_at_commas(word)) {
        auto component = typed_number(part);
        if (!component) return component;
        all.push_back(*component);
      }
      return all;
    }
    case TypeKind::record:
    case TypeKind::list:
    case TypeKind::grid:
      return tl::unexpected(fmt::format(
          "expected JSON, {}, found {}",
          type.kind == TypeKind::record ? "{\"field\":value}" : "[item,item]", shown(word)));
    default: return typed_number(word);
  }
}

}  // namespace

// A text in quotes, for messages: its limits are seen, and it cannot move the cursor.
std::string shown(std::string_view text) {
  return json_text(ordered_json(std::string(text)));
}

// Spaces within quotes, brackets and braces part no words.
std::vector<std::string_view> words_of(std::string_view text) {
  std::vector<std::string_view> words;
  std::size_t start = std::string_view::npos;
  // `depth` counts open brackets and braces, outside quotes.
  int depth = 0;
  bool quoted = false;
  // A character may end a word only outside quotes and outside brackets.
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (quoted) {
      if (c == '\\') ++i;
      if (c == '"') quoted = false;
      continue;
    }
    if (std::isspace(static_cast<unsigned char>(c)) != 0 && depth == 0) {
      if (start != std::string_view::npos) words.push_back(text.substr(start, i - start));
      start = std::string_view::npos;
      continue;
    }
    if (start == std::string_view::npos) start = i;
    if (c == '"') quoted = true;
    if (c == '{' || c == '[') ++depth;
    if ((c == '}' || c == ']') && depth > 0) --depth;
  }
  if (start != std::string_view::npos) words.push_back(text.substr(start));
  return words;
}

// The message type of a name; a near miss is suggested.
tl::expected<std::size_t, Problem> find_type(const Protocol& protocol, std::string_view name) {
  std::vector<std::string> known;
  known.reserve(protocol.messages.size());
  // Linear; a protocol has some dozens of types.
  for (const auto& message : protocol.messages) {
    if (message.name == name) return known.size();
    known.push_back(message.name);
  }
  // The message ends with what to do next: the nearest name, or all of them.
  const std::string near = bits::nearest(std::string(name), known);
  return tl::unexpected(
      near.empty()
          ? fmt::format("there is no message {}; there are {}", shown(name), fmt::join(known, ", "))
          : fmt::format("there is no message {}; did you mean {}?", shown(name), near));
}

// `name=value` words in any order, or one JSON object. Fields that are left out keep their initial
// value.
tl::expected<Value, Problem> parse_fields(const Protocol& protocol,
                                          const std::vector<Field>& fields, std::string_view text) {
  const auto words = words_of(text);
  ordered_json json = ordered_json::object();
  // The fields as one JSON object, or word by word.
  if (words.size() == 1 && words[0].starts_with('{')) {
    auto parsed = parse_text(words[0]);
    if (!parsed) return tl::unexpected(fmt::format("{} is not JSON", words[0]));
    json = std::move(*parsed);
  } else {
    // Word by word; the first error ends it.
    for (const std::string_view word : words) {
      const std::size_t equals = word.find('=');
      const std::string name(word.substr(0, equals));
      const auto field = std::find_if(fields.begin(), fields.end(),
                                      [&](const Field& each) { return each.name == name; });
      if (field == fields.end()) {
        std::vector<std::string> known;
        known.reserve(fields.size());
        for (const Field& each : fields) known.push_back(each.name);
        const std::string near = bits::nearest(name, known);
        if (known.empty()) return tl::unexpected(fmt::format("{}: it has no fields", shown(word)));
        return tl::unexpected(near.empty() ? fmt::format("there is no field {}; there are {}",
                                                         shown(name), fmt::join(known, ", "))
                                           : fmt::format("there is no field {}; did you mean {}?",
                                                         shown(name), near));
      }
      if (equals == std::string_view::npos) {
        return tl::unexpected(fmt::format("{0}: write {0}=VALUE, {1}", name,
                                          schema::type_text(protocol, field->type)));
      }
      auto value = typed_value(field->type, word.substr(equals + 1));
      if (!value) {
        return tl::unexpected(fmt::format("{}: {}; it is {}", name, value.error(),
                                          schema::type_text(protocol, field->type)));
      }
      json[name] = std::move(*value);
    }
  }
  // from_json() names the path of what is wrong inside.
  auto value = from_json(protocol, fields, json);
  if (!value) return value;
  // A value out of range would be moved by the encoder: whoever typed it wants to know.
  if (auto problem = out_of_range(protocol, fields, *value)) return tl::unexpected(*problem);
  return value;
}

// A message's name, then its fields.
tl::expected<Line, Problem> parse_line(const Protocol& protocol, std::string_view text) {
  const auto words = words_of(text);
  if (words.empty()) return tl::unexpected(Problem("nothing to send"));
  const auto kind = find_type(protocol, words[0]);
  if (!kind) return tl::unexpected(kind.error());
  // Words are views of the text, so their place in it is known.
  const auto end = static_cast<std::size_t>(words[0].data() - text.data()) + words[0].size();
  const schema::MessageType& message = protocol.messages[*kind];
  auto value = parse_fields(protocol, message.fields, text.substr(end));
  if (!value) return tl::unexpected(fmt::format("{}: {}", message.name, value.error()));
  return Line{*kind, std::move(*value)};
}

// Names the first field that the encoder would have clamped.
std::optional<Problem> out_of_range(const Protocol& protocol, const std::vector<Field>& fields,
                                    const Value& value) {
  std::vector<std::byte> memory(bits::bytes_for(schema::size_of(protocol, fields).max_bits) + 16);
  schema::Encoder out{bits::Writer(memory)};
  // Spans in the order of the bits; the first with a fault is named.
  for (const schema::Span& span : schema::encode_explained(protocol, fields, value, memory, out)) {
    if (!span.fault) continue;
    // The path of a field as a JSON pointer (RFC 6901): a.b[3] is /a/b/3.
    // What was asked for, not what it was moved to.
    const ordered_json json = to_json(protocol, fields, value);
    std::string path = "/" + span.path;
    std::replace(path.begin(), path.end(), '.', '/');
    std::replace(path.begin(), path.end(), '[', '/');
    path.erase(std::remove(path.begin(), path.end(), ']'), path.end());
    const auto pointer = ordered_json::json_pointer(path);
    return fmt::format("{}: {} is not within {}", span.path,
                       json.contains(pointer) ? json_text(json[pointer]) : "the value", span.type);
  }
  return std::nullopt;
}

// The short form in which parse_fields() reads the fields back.
std::string line_text(const Protocol& protocol, const std::vector<Field>& fields,
                      const Value& value) {
  std::string text;
  // Fields of the game alone have no text.
  for (std::size_t i = 0; i < fields.size(); ++i) {
    if (fields[i].untyped) continue;
    if (!text.empty()) text += ' ';
    text += fields[i].name;
    text += '=';
    text += value_line(fields[i].type, to_json(protocol, fields[i].type, value.items[i]));
  }
  return text;
}

// For the console: types first, then fields, then the values that a field can have.
std::vector<std::string> completions(const Protocol& protocol, schema::Direction way,
                                     const std::vector<std::string>& commands,
                                     std::string_view typed) {
  const auto words = words_of(typed);
  // A blank at the end begins a new word.
  const bool fresh = typed.empty() || typed.back() == ' ';
  const std::string last(fresh || words.empty() ? std::string_view() : words.back());
  std::vector<std::string> all;
  // Only words that begin as the last one does.
  const auto offer = [&](std::string word) {
    if (word.starts_with(last)) all.push_back(std::move(word));
  };
  if (words.empty() || (words.size() == 1 && !fresh)) {
    for (const auto& message : protocol.messages) {
      const bool goes = message.direction == schema::Direction::both || message.direction == way;
      if (goes && message.role != schema::MessageRole::answer) offer(message.name);
    }
    for (const std::string& command : commands) offer(command);
    return all;
  }
  // A kind may stand behind a command: `to 2 Hail`, `expect Notice`.
  std::size_t at = 0;
  while (at < words.size() && !find_type(protocol, words[at])) ++at;
  if (at == words.size() || (at + 1 == words.size() && !fresh)) {
    for (const auto& message : protocol.messages) offer(message.name);
    return all;
  }
  const schema::MessageType& message = protocol.messages[*find_type(protocol, words[at])];
  // A name without `=` completes to a field, a name with it to one of the field's values.
  const std::size_t equals = last.find('=');
  // Names of fields that are not written yet, or values of the field that is being written.
  for (const Field& field : message.fields) {
    if (equals == std::string::npos) {
      const bool used = std::any_of(words.begin(), words.end(), [&](std::string_view word) {
        return word.starts_with(field.name + "=");
      });
      if (!used) offer(field.name + "=");
      continue;
    }
    if (last.substr(0, equals) != field.name) continue;
    std::vector<std::string> values;
    const Type& type = field.type;
    if (type.kind == TypeKind::boolean) values = {"true", "false"};
    if (type.kind == TypeKind::enumeration) {
      values = names_of(protocol.enums[type.index].options);
    }
    if (type.kind == TypeKind::flags) values = names_of(protocol.flags[type.index].options);
    if (type.kind == TypeKind::ref || type.kind == TypeKind::maybe) values = {"none"};
    for (const std::string& value : values) offer(field.name + "=" + value);
  }
  return all;
}

// `path OP value`; a path leads into records by dots and into lists by [index].
tl::expected<Condition, Problem> parse_condition(std::string_view text) {
  // Longer ones first: `<=` begins with `<`.
  static constexpr std::string_view kComparisons[] = {"!=", "<=", ">=", "=", "<", ">"};
  const std::size_t at = text.find_first_of("=<>!");
  if (at == 0 || at == std::string_view::npos) {
    return tl::unexpected(
        fmt::format("{} is no condition; write FIELD=VALUE, or != < <= > >=", shown(text)));
  }
  // The first comparison that the text begins with.
  for (const std::string_view comparison : kComparisons) {
    if (!text.substr(at).starts_with(comparison)) continue;
    Condition made{std::string(text.substr(0, at)), std::string(comparison), {}, std::string(text)};
    const std::string value(text.substr(at + comparison.size()));
    if (value != "none") {
      auto parsed = parse_text(value);
      made.value = parsed ? std::move(*parsed) : ordered_json(value);
    }
    if (comparison != "=" && comparison != "!=" && !made.value.is_number()) {
      return tl::unexpected(fmt::format("{}: {} compares numbers", shown(text), comparison));
    }
    return made;
  }
  return tl::unexpected(fmt::format("{} is no condition", shown(text)));
}

// Follows the path into the fields. `=` and `!=` compare any values, the others numbers alone.
bool holds(const Condition& condition, const ordered_json& fields) {
  const ordered_json* at = &fields;
  std::string_view rest = condition.path;
  // One step of the path in each pass. `at` is nullptr once a step leads nowhere.
  while (at != nullptr && !rest.empty()) {
    // A step of the path: a field's name, or an index in brackets.
    const std::size_t end = std::min(rest.find_first_of(".[", 1), rest.size());
    std::string part(rest.substr(0, end));
    rest.remove_prefix(end);
    if (rest.starts_with('.')) rest.remove_prefix(1);
    if (part.starts_with('[') && part.ends_with(']')) {
      const std::string digits = part.substr(1, part.size() - 2);
      const bool number = !digits.empty() && digits.size() < 9 &&
                          digits.find_first_not_of("0123456789") == std::string::npos;
      std::size_t place = ~std::size_t{0};
      if (number) std::from_chars(digits.data(), digits.data() + digits.size(), place);
      at = at->is_array() && place < at->size() ? &(*at)[place] : nullptr;
    } else {
      at = at->is_object() && at->contains(part) ? &(*at)[part] : nullptr;
    }
  }
  // A field that is not there differs from every value.
  if (at == nullptr) return condition.comparison == "!=";
  const ordered_json& value = condition.value;
  if (condition.comparison == "=") return *at == value;
  if (condition.comparison == "!=") return *at != value;
  if (!at->is_number()) return false;
  const double a = at->get<double>();
  const double b = value.get<double>();
  if (condition.comparison == "<") return a < b;
  if (condition.comparison == "<=") return a <= b;
  if (condition.comparison == ">") return a > b;
  return a >= b;
}

}  // namespace kwind::json
