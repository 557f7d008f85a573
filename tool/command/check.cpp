// `kwind check`: errors and hints of descriptions, and a table of what each message costs.
#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.h"
#include "kwind/json/text.h"
#include "text_lines.h"

namespace kwind::tool {
namespace {

using nlohmann::ordered_json;
using schema::Protocol;

std::string counted(std::size_t count, std::string_view one, std::string_view many = "") {
  if (count == 1) return fmt::format("1 {}", one);
  return many.empty() ? fmt::format("{} {}s", count, one) : fmt::format("{} {}", count, many);
}

struct Row {
  std::string name;
  std::string what;
  std::string min, typical, max;  // bits
  std::string bytes;              // of heads
  bool head = false;
};

// A row of the table: name, what it is, bits or bytes.
Row row_of(std::string name, std::string what, const schema::Size& size) {
  return {std::move(name),
          std::move(what),
          fmt::format("{}", size.min_bits),
          fmt::format("{}", size.typical_bits),
          fmt::format("{}", size.max_bits),
          "",
          false};
}

// Words of an entity's field, as they stand behind its type.
std::string words_text(const schema::EntityWords& words) {
  std::string out;
  if (words.at_spawn) out += ", at spawn";
  if (words.owner_only) out += ", owner only";
  if (words.smooth) out += ", smooth";
  if (words.freshness != schema::Freshness::usual) {
    out += fmt::format(", {}", name_of(words.freshness));
  }
  if (words.follow) out += fmt::format(", follow {}", words.follow->speed);
  if (!words.relative_to.empty()) out += ", relative to " + words.relative_to;
  return out;
}

// The row of a message or entity: bytes, from the smallest to the largest.
void add_head(std::vector<Row>& rows, Row row, const schema::Size& size) {
  const auto bytes = [](std::uint32_t bits) { return bits::bytes_for(bits); };
  row.bytes = size.min_bits == size.max_bits
                  ? fmt::format("{}", bytes(size.max_bits))
                  : fmt::format("{} / {} / {}", bytes(size.min_bits), bytes(size.typical_bits),
                                bytes(size.max_bits));
  row.head = true;
  rows.push_back(std::move(row));
}

// Rows of fields; records are spelled out below their field.
void add_fields(const Protocol& protocol, const std::vector<schema::Field>& fields,
                std::vector<Row>& rows) {
  for (const auto& field : fields) {
    if (field.words.local != schema::Local::no) {
      rows.push_back({"  " + field.name,
                      field.words.local == schema::Local::server ? "server local" : "client local",
                      "-", "-", "-", "", false});
      continue;
    }
    std::string what = schema::type_text(protocol, field.type);
    if (!field.unit.empty()) what += " in " + field.unit;
    what += words_text(field.words) + schema::life_text(field.life, ", ");
    const bool gone = !field.travels(protocol.version);
    rows.push_back(row_of("  " + field.name, std::move(what),
                          gone ? schema::Size{} : schema::size_of(protocol, field.type)));
  }
}

// One head row for each message and entity, one row for each field.
std::vector<Row> rows_of(const Protocol& protocol) {
  std::vector<Row> rows;
  for (const auto& message : protocol.messages) {
    const schema::Size size = schema::size_of(protocol, message.fields);
    const auto& channel = protocol.channels[message.channel];
    std::string how = fmt::format("{}, {} on {}", name_of(message.direction),
                                  name_of(channel.delivery), channel.name);
    if (message.at_most_per_second > 0)
      how += fmt::format(", at most {}/s", message.at_most_per_second);
    if (message.split) how += ", split";
    if (!message.owner_field.empty()) how += ", owner of " + message.owner_field;
    add_head(rows, row_of(message.name, how + schema::life_text(message.life, ", "), size), size);
    add_fields(protocol, message.fields, rows);
  }
  for (const auto& entity : protocol.entities) {
    const schema::Size size = schema::size_of(protocol, entity.fields);
    add_head(rows,
             row_of(entity.name, "entity, all of it" + schema::life_text(entity.life, ", "), size),
             size);
    add_fields(protocol, entity.fields, rows);
  }
  return rows;
}

// Protocol, channels, then messages and entities with their sizes.
void print_table(const language::Compiled& source, const std::string& file) {
  const Protocol& protocol = source.protocol;
  fmt::print("{}: protocol {} {}, {} on {}, {}, digest {}\n", file, protocol.name, protocol.version,
             counted(protocol.messages.size(), "message"),
             counted(protocol.channels.size(), "channel"),
             counted(protocol.entities.size(), "entity type", "entity types"),
             to_hex(schema::digest_of(protocol, protocol.version), 16));
  const std::uint16_t oldest = schema::oldest_version(protocol);
  if (oldest < protocol.version) {
    fmt::print("speaks versions {} to {}\n", oldest, protocol.version);
  }
  fmt::print("\n");
  if (protocol.messages.empty() && protocol.entities.empty()) {
    fmt::print(
        "no messages yet; add one, as in `message Move from client on moves {{ x : int 0..9 "
        "}}`\n");
    return;
  }
  const std::vector<Row> rows = rows_of(protocol);
  std::size_t name = 16;
  std::size_t what = 21;
  std::size_t bits = 7;
  for (const Row& row : rows) {
    name = std::max(name, row.name.size());
    what = std::max(what, std::min<std::size_t>(64, row.what.size()));
    bits = std::max(bits, row.max.size());
  }
  fmt::print("{:<{}}  {:-^{}}  {}\n", "", name + 2 + what, " bits ", 3 * bits + 4,
             "min / typical /");
  fmt::print("{:<{}}  {:<{}}  {:>{}}  {:>{}}  {:>{}}  {}\n", "message / entity", name,
             "direction, delivery / type", what, "min", bits, "typical", bits, "max", bits,
             "max bytes");
  fmt::print("{:-<{}}\n", "", name + what + 3 * bits + 22);
  for (const Row& row : rows) {
    if (row.head && &row != rows.data()) fmt::print("\n");
    // A long type goes on in the next lines, broken at blanks.
    std::string_view left = row.what;
    std::string_view first = text_part(left, what);
    fmt::print("{:<{}}  {:<{}}  {:>{}}  {:>{}}  {:>{}}{}{}\n", row.name, name, first, what, row.min,
               bits, row.typical, bits, row.max, bits, row.bytes.empty() ? "" : "  ", row.bytes);
    while (!left.empty()) fmt::print("{:<{}}    {}\n", "", name, text_part(left, what - 2));
  }
  fmt::print(
      "\nBits of the fields in version {}; typical: texts and lists half full. A datagram adds 20 "
      "bytes\n(23 from the client): header, ack block and the AEAD tag of 16; a message adds 1 to "
      "4.\n",
      protocol.version);
}

ordered_json json_of(const schema::Size& size) {
  return {{"fewest", size.min_bits}, {"typical", size.typical_bits}, {"most", size.max_bits}};
}

// Fields as JSON, records as names.
ordered_json json_of(const Protocol& protocol, const std::vector<schema::Field>& fields) {
  ordered_json made = ordered_json::array();
  for (const auto& field : fields) {
    if (field.words.local != schema::Local::no) continue;
    made.push_back({{"name", field.name},
                    {"type", schema::type_text(protocol, field.type)},
                    {"unit", field.unit},
                    {"since", field.life.since},
                    {"until", field.life.until},
                    {"bits", json_of(schema::size_of(protocol, field.type))}});
  }
  return made;
}

// The protocol as JSON: what the table has.
ordered_json json_of(const Protocol& protocol) {
  ordered_json out{{"protocol", protocol.name},
                   {"version", protocol.version},
                   {"oldest", schema::oldest_version(protocol)},
                   {"digest", to_hex(schema::digest_of(protocol, protocol.version), 16)},
                   {"messages", ordered_json::array()},
                   {"entities", ordered_json::array()}};
  for (const auto& message : protocol.messages) {
    out["messages"].push_back({{"name", message.name},
                               {"direction", name_of(message.direction)},
                               {"channel", protocol.channels[message.channel].name},
                               {"delivery", name_of(protocol.channels[message.channel].delivery)},
                               {"at_most_per_second", message.at_most_per_second},
                               {"since", message.life.since},
                               {"until", message.life.until},
                               {"bits", json_of(schema::size_of(protocol, message.fields))},
                               {"fields", json_of(protocol, message.fields)}});
  }
  for (const auto& entity : protocol.entities) {
    out["entities"].push_back({{"name", entity.name},
                               {"bits", json_of(schema::size_of(protocol, entity.fields))},
                               {"fields", json_of(protocol, entity.fields)}});
  }
  return out;
}

// Diagnostics as JSON, for editors.
ordered_json json_of(const std::vector<language::Diagnostic>& all, const language::Compiled& in) {
  ordered_json out = ordered_json::array();
  for (const auto& one : all) {
    out.push_back({{"file", in.files[one.file].name},
                   {"line", one.line},
                   {"column", one.column},
                   {"message", one.message}});
  }
  return out;
}

// Errors go to stderr and end with 1; hints do not.
int check(const std::string& file, bool json) {
  language::Compiled source;
  if (!json) {
    if (!load_source(file, source)) return kFoundWrong;
    print_table(source, file);
    if (!source.hints.empty()) fmt::print("\n");
    for (const auto& hint : source.hints) {
      fmt::print("{}", language::render(hint, source, "hint"));
    }
    return kFine;
  }
  if (!read_source(file, source)) return kFoundWrong;
  ordered_json out;
  if (source.ok()) out = json_of(source.protocol);
  out["errors"] = json_of(source.errors, source);
  out["hints"] = json_of(source.hints, source);
  fmt::print("{}\n", json::text_of(out, 2));
  return source.ok() ? kFine : kFoundWrong;
}

}  // namespace

// The options of `kwind check`.
void add_check(Command app, std::function<int()>& chosen) {
  struct CheckArguments {
    std::string file;
    bool json = false;
  };
  auto arguments = std::make_shared<CheckArguments>();
  Command command =
      app.add_subcommand("check", "Check a description and show what each message costs");
  command.add_option("FILE", arguments->file, "The description, a .kw file").required();
  command.add_flag("--json", arguments->json, "Print one JSON object");
  command.footer("Example:\n  kwind check examples/harbour/harbour.kw");
  command.callback([arguments, &chosen] {
    chosen = [arguments] { return check(arguments->file, arguments->json); };
  });
}

}  // namespace kwind::tool
