#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.h"

namespace kwind::tool {
namespace {

using nlohmann::ordered_json;
using schema::Protocol;

std::string counted(std::size_t count, std::string_view what) {
  return fmt::format("{} {}{}", count, what, count == 1 ? "" : "s");
}

std::string span_text(std::uint64_t fewest, std::uint64_t most) {
  return fewest == most ? fmt::format("{}", most) : fmt::format("{} to {}", fewest, most);
}

struct Row {
  std::string name;
  std::string type;
  std::string bits;
  std::string bytes;
  bool head;
};

// One head row for each message, one row for each field.
std::vector<Row> rows_of(const Protocol& protocol) {
  std::vector<Row> rows;
  for (const auto& message : protocol.messages) {
    const schema::Size size = schema::size_of(protocol, message.fields);
    const auto& channel = protocol.channels[message.channel];
    std::string how = fmt::format("{}, {} on {}", name_of(message.direction),
                                  name_of(channel.delivery), channel.name);
    if (message.at_most_per_second > 0)
      how += fmt::format(", at most {}/s", message.at_most_per_second);
    rows.push_back({message.name, how, span_text(size.fewest_bits, size.most_bits),
                    span_text(bits::bytes_for(size.fewest_bits), bits::bytes_for(size.most_bits)),
                    true});
    for (const auto& field : message.fields) {
      const schema::Size part = schema::size_of(protocol, field.type);
      rows.push_back({"  " + field.name, schema::type_text(protocol, field.type),
                      span_text(part.fewest_bits, part.most_bits), "", false});
    }
  }
  return rows;
}

void print_table(const Protocol& protocol, const std::string& file) {
  fmt::print("{}: protocol {} {}, {} on {}, digest {}\n\n", file, protocol.name, protocol.version,
             counted(protocol.messages.size(), "message"),
             counted(protocol.channels.size(), "channel"),
             bits::to_hex(schema::digest_of(protocol), 16));
  if (protocol.messages.empty()) {
    fmt::print(
        "no messages yet; add one, as in `message Move from client on moves {{ x : int 0..9 "
        "}}`\n");
    return;
  }
  const std::vector<Row> rows = rows_of(protocol);
  std::size_t name = 7;
  std::size_t type = 4;
  std::size_t bits = 4;
  std::size_t bytes = 5;
  for (const Row& row : rows) {
    name = std::max(name, row.name.size());
    type = std::max(type, row.type.size());
    bits = std::max(bits, row.bits.size());
    bytes = std::max(bytes, row.bytes.size());
  }
  fmt::print("{:<{}}  {:<{}}  {:>{}}  {:>{}}\n", "message", name, "way, delivery / type", type,
             "bits", bits, "bytes", bytes);
  fmt::print("{:-<{}}\n", "", name + type + bits + bytes + 6);
  for (const Row& row : rows) {
    if (row.head && &row != rows.data()) fmt::print("\n");
    fmt::print("{:<{}}  {:<{}}  {:>{}}  {:>{}}\n", row.name, name, row.type, type, row.bits, bits,
               row.bytes, bytes);
  }
  fmt::print(
      "\nFewest to most bits of the fields. A datagram adds 7 bytes (11 from the client), acks, "
      "and "
      "2 to 5 bytes a message.\n");
}

ordered_json json_of(const Protocol& protocol) {
  ordered_json out{{"protocol", protocol.name},
                   {"version", protocol.version},
                   {"digest", bits::to_hex(schema::digest_of(protocol), 16)},
                   {"messages", ordered_json::array()}};
  for (const auto& message : protocol.messages) {
    const schema::Size size = schema::size_of(protocol, message.fields);
    ordered_json made{{"name", message.name},
                      {"direction", name_of(message.direction)},
                      {"channel", protocol.channels[message.channel].name},
                      {"delivery", name_of(protocol.channels[message.channel].delivery)},
                      {"at_most_per_second", message.at_most_per_second},
                      {"fewest_bits", size.fewest_bits},
                      {"most_bits", size.most_bits},
                      {"fewest_bytes", bits::bytes_for(size.fewest_bits)},
                      {"most_bytes", bits::bytes_for(size.most_bits)},
                      {"fields", ordered_json::array()}};
    for (const auto& field : message.fields) {
      const schema::Size part = schema::size_of(protocol, field.type);
      made["fields"].push_back({{"name", field.name},
                                {"type", schema::type_text(protocol, field.type)},
                                {"fewest_bits", part.fewest_bits},
                                {"most_bits", part.most_bits}});
    }
    out["messages"].push_back(std::move(made));
  }
  return out;
}

int check(const std::string& file, bool json) {
  Source source;
  if (!json) {
    if (!load_source(file, source)) return kFoundWrong;
    print_table(source.compiled.protocol, file);
    return kFine;
  }
  if (!read_source(file, source)) return kFoundWrong;
  ordered_json out;
  if (source.compiled.ok()) out = json_of(source.compiled.protocol);
  out["errors"] = ordered_json::array();
  for (const auto& error : source.compiled.errors) {
    out["errors"].push_back(
        {{"line", error.line}, {"column", error.column}, {"message", error.message}});
  }
  fmt::print("{}\n", out.dump(2, ' ', false, ordered_json::error_handler_t::replace));
  return source.compiled.ok() ? kFine : kFoundWrong;
}

}  // namespace

void add_check(CLI::App& app, std::function<int()>& chosen) {
  struct Arguments {
    std::string file;
    bool json = false;
  };
  auto arguments = std::make_shared<Arguments>();
  CLI::App* command =
      app.add_subcommand("check", "Check a description and show what each message costs");
  command->add_option("FILE", arguments->file, "The description, a .kw file")->required();
  command->add_flag("--json", arguments->json, "Print one JSON object");
  command->footer("Example:\n  kwind check examples/harbour/harbour.kw");
  command->callback([arguments, &chosen] {
    chosen = [arguments] { return check(arguments->file, arguments->json); };
  });
}

}  // namespace kwind::tool
