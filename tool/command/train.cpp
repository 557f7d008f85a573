#include <fmt/format.h>

#include <cmath>
#include <filesystem>
#include <fstream>
#include <map>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.h"
#include "generate.h"
#include "kwind/capture/state_traffic.h"
#include "kwind/json/text.h"
#include "kwind/schema/columns.h"
#include "read_files.h"

namespace kwind::tool {
namespace {

struct TrainArguments {
  std::string description;
  std::vector<std::string> captures;
  std::string keys;
  std::string out;
  std::string codes;  // in use when the captures were made
  std::string check;
  double rate = 20;
  bool json = false;
};

// A set that takes so much more than one that fits is said to fit no longer.
constexpr double kFits = 1.1;

struct Bits {
  std::uint64_t symbols = 0;
  double before = 0;
  double after = 0;
  double floor = 0;
};

std::string name_of(const schema::EntitiesInfo& entities, const replica::AlphabetCost& cost) {
  switch (cost.of) {
    case replica::AlphabetCost::Of::continuing: return "change mask, continuing entities";
    case replica::AlphabetCost::Of::unexpected: return "change mask, unexpected updates";
    case replica::AlphabetCost::Of::errors: break;
  }
  const schema::EntityInfo& info = *entities.types[cost.type];
  const std::uint16_t field = info.columns[cost.column].field;
  std::size_t place = 0;
  for (std::size_t c = 0; c < cost.column; ++c) place += info.columns[c].field == field ? 1 : 0;
  const std::string_view name = info.fields[field].name;
  const bool several = place > 0 || (cost.column + 1U < info.columns.size() &&
                                     info.columns[cost.column + 1U].field == field);
  return several ? fmt::format("{}[{}]", name, place) : std::string(name);
}

double sum_of(const std::vector<replica::AlphabetCost>& costs) {
  double sum = 0;
  for (const auto& cost : costs) sum += cost.bits;
  return sum;
}

bool read_captures(const TrainArguments& arguments, const schema::Protocol& protocol,
                   capture::StateTraffic& traffic) {
  const auto keys = load_keys(arguments.keys);
  if (!keys) return false;
  std::uint64_t unopened = 0;
  for (const std::string& path : arguments.captures) {
    const auto contents = load_capture(path);
    if (!contents) return false;
    capture::AccountOptions options;
    options.observer.keys = *keys;
    capture::Account account(protocol, std::move(options));
    for (const capture::Packet& packet : contents->packets) traffic.add(account.add(packet));
    unopened += account.unopened();
  }
  if (unopened > 0) {
    fmt::print(stderr, "{} sealed datagrams were not opened: {}\n", unopened,
               keys->empty()
                   ? "give their keys with --key-log, as `kwind demo --key-log` writes them"
                   : "their keys are not in that file");
  }
  if (traffic.frames() > 0) return true;
  fmt::print(stderr,
             "there are no state frames in {}: record a server that tells its clients of entities, "
             "from before they connect\n",
             arguments.captures.size() == 1 ? arguments.captures.front() : "these captures");
  return false;
}

void print_table(const schema::EntitiesInfo& entities,
                 const std::map<std::pair<std::uint16_t, std::string>, Bits>& rows) {
  fmt::print("{:<34}{:>10}{:>10}{:>10}{:>10}\n", "bits of a symbol", "symbols", "before", "after",
             "entropy");
  int kind = -1;
  for (const auto& [key, bits] : rows) {
    if (key.first != kind) fmt::print("{}\n", entities.types[key.first]->name);
    kind = key.first;
    const auto n = static_cast<double>(bits.symbols);
    fmt::print("  {:<32}{:>10}{:>10.2f}{:>10.2f}{:>10.2f}\n", key.second, bits.symbols,
               bits.before / n, bits.after / n, bits.floor / n);
  }
}

int train(const TrainArguments& arguments) {
  if (arguments.out.empty() == arguments.check.empty()) {
    fmt::print(stderr,
               "kwind train: say either -o FILE, to write codes, or --check FILE, to see whether "
               "codes still fit\n");
    return kUsedWrongly;
  }
  std::vector<std::string> read = arguments.captures;
  read.insert(read.end(), {arguments.description, arguments.keys, arguments.codes});
  for (const std::string& file : read) {
    std::error_code error;
    if (arguments.out.empty() || !std::filesystem::equivalent(file, arguments.out, error)) continue;
    fmt::print(stderr, "-o {}: is what is read; name another file\n", arguments.out);
    return kUsedWrongly;
  }
  language::Compiled source;
  if (!load_source(arguments.description, source)) return kFoundWrong;
  if (source.protocol.entities.empty()) {
    fmt::print(stderr, "{}: has no entities, so there is nothing to train\n",
               arguments.description);
    return kFoundWrong;
  }
  const schema::EntityTables tables(source.protocol);
  const schema::EntitiesInfo& entities = tables.info();
  std::shared_ptr<const replica::CodeTables> in_use = replica::built_in_codes(entities);
  if (!arguments.codes.empty()) in_use = load_codes(arguments.codes, entities);
  if (in_use == nullptr) return kFoundWrong;
  std::shared_ptr<const replica::CodeTables> before = in_use;
  if (!arguments.check.empty()) before = load_codes(arguments.check, entities);
  if (before == nullptr) return kFoundWrong;

  capture::StateTraffic traffic(entities, arguments.rate, in_use);
  if (!read_captures(arguments, source.protocol, traffic)) return kFoundWrong;
  const replica::SymbolCounts symbol_counts = traffic.symbol_counts();
  if (symbol_counts.snapshot_modes() == replica::SnapshotModes::both) {
    fmt::print(stderr,
               "these captures mix exact frames and speculative_baselines ones, and codes for the "
               "mixture fit "
               "neither well; train a set for each\n");
    return kFoundWrong;
  }
  const replica::CodeTables fitted(replica::SymbolCounts::fitted(entities, symbol_counts));

  std::map<std::pair<std::uint16_t, std::string>, Bits> rows;
  Bits all;
  for (const auto& cost : replica::costs_of(symbol_counts, *before)) {
    Bits& row = rows[{cost.type, name_of(entities, cost)}];
    row.symbols += cost.symbols;
    row.before += cost.bits;
    row.floor += cost.floor;
    all.symbols += cost.symbols;
    all.before += cost.bits;
    all.floor += cost.floor;
  }
  for (const auto& cost : replica::costs_of(symbol_counts, fitted)) {
    rows[{cost.type, name_of(entities, cost)}].after += cost.bits;
    all.after += cost.bits;
  }
  if (all.symbols == 0) {
    fmt::print(stderr,
               "no state could be read: {} of {} state frames are unread; is {} the description of "
               "these captures, and did they begin before the clients came?\n",
               traffic.unread(), traffic.frames() + traffic.unread(), arguments.description);
    return kFoundWrong;
  }
  // Codes from one half of the clients, tried on the other.
  double crossed = 0;
  const bool can_cross = traffic.clients() > 1;
  for (std::size_t half = 0; can_cross && half < 2; ++half) {
    const replica::CodeTables other(
        replica::SymbolCounts::fitted(entities, traffic.halves()[1 - half]));
    crossed += sum_of(replica::costs_of(traffic.halves()[half], other));
  }
  const double used = sum_of(replica::costs_of(symbol_counts, *in_use));
  const auto frames = static_cast<double>(traffic.frames());
  const double bytes = static_cast<double>(traffic.bits()) / 8 / frames;
  const double bytes_before = bytes + (all.before - used) / 8 / frames;
  const double bytes_after = bytes + ((can_cross ? crossed : all.after) - used) / 8 / frames;
  const bool fits = all.before <= kFits * (can_cross ? crossed : all.after);

  if (arguments.json) {
    nlohmann::ordered_json out{{"frames", traffic.frames()},
                               {"clients", traffic.clients()},
                               {"unread", traffic.unread()},
                               {"bytes_a_frame_before", bytes_before},
                               {"bytes_a_frame_after", bytes_after},
                               {"tried_on_other_clients", can_cross},
                               {"fits", fits},
                               {"digest", fmt::format("{:016x}", fitted.digest())},
                               {"alphabets", nlohmann::ordered_json::array()}};
    for (const auto& [key, bits] : rows) {
      const auto n = static_cast<double>(bits.symbols);
      out["alphabets"].push_back({{"kind", entities.types[key.first]->name},
                                  {"of", key.second},
                                  {"symbols", bits.symbols},
                                  {"before", bits.before / n},
                                  {"after", bits.after / n},
                                  {"entropy", bits.floor / n}});
    }
    fmt::print("{}\n", json::text_of(out, 2));
  } else {
    print_table(entities, rows);
    fmt::print(
        "\n{} state frames of {} client{}, bytes a frame: {:.1f} {}, {:.1f} with codes trained on "
        "{}\n",
        traffic.frames(), traffic.clients(), traffic.clients() == 1 ? "" : "s", bytes_before,
        arguments.check.empty() ? "as recorded" : fmt::format("with {}", arguments.check),
        bytes_after, can_cross ? "other clients" : "themselves");
    fmt::print(
        "of all their symbols, {:.2f} bits before and {:.2f} after; no prefix code takes less than "
        "{:.2f}\n",
        all.before / static_cast<double>(all.symbols), all.after / static_cast<double>(all.symbols),
        all.floor / static_cast<double>(all.symbols));
  }
  std::fflush(stdout);
  if (traffic.unread() > 0) {
    fmt::print(
        stderr, "{} frames could not be read: {}\n", traffic.unread(),
        arguments.codes.empty()
            ? "the capture begins when clients were there already, or other codes than the "
              "built-in ones were in use (--code-tables)"
            : "the capture begins when clients were there already, or other codes were in use");
  }
  if (!arguments.check.empty()) {
    if (!arguments.json) {
      fmt::print("{} {}\n", arguments.check,
                 fits ? "fits this traffic"
                      : fmt::format("no longer fits: its symbols take {:.0f} % more than need be; "
                                    "train the tables again with `kwind train`",
                                    (all.before / (can_cross ? crossed : all.after) - 1) * 100));
    }
    return fits ? kFine : kFoundWrong;
  }
  std::ofstream file(arguments.out, std::ios::binary);
  file << replica::text_of(fitted, entities, source.protocol.name);
  if (!file.flush().good()) {
    fmt::print(stderr, "{}: cannot be written\n", arguments.out);
    return kFoundWrong;
  }
  if (!arguments.json) {
    fmt::print("{}: set {:016x}; both ends have to hold it, see docs/code-tables.md\n",
               arguments.out, fitted.digest());
  }
  return kFine;
}

}  // namespace

void add_train(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<TrainArguments>();
  Command command = app.add_subcommand("train", "Make field codes from recorded state traffic");
  command.footer(
      "Example:\n  kwind demo --record evening.pcapng --key-log evening.keys\n"
      "  kwind train harbour_world.kw evening.pcapng --key-log evening.keys -o harbour.codes\n"
      "  kwind train harbour_world.kw evening.pcapng --key-log evening.keys --check "
      "harbour.codes\n\n"
      "A capture has to begin before its clients connect. Exit code 1 when --check finds that the\n"
      "codes no longer fit.");
  command.add_option("FILE", arguments->description, "The description, a .kw file").required();
  command.add_option("CAPTURE", arguments->captures, "Captures, pcapng or pcap").required();
  command.add_option("-o,--output", arguments->out, "Write the codes here");
  command.add_option("--key-log", arguments->keys,
                     "Keys of sealed datagrams, as kwind demo --key-log writes them");
  command.add_option("--code-tables", arguments->codes,
                     "The codes in use when this was recorded (else the built-in ones)");
  command.add_option("--check", arguments->check,
                     "Say whether these codes still fit; exit 1 if not");
  command.add_option("--tick-rate", arguments->rate, "Ticks a second of the server's world")
      .range(1.0, 1000.0)
      .capture_default_str();
  command.add_flag("--json", arguments->json, "Write the report as JSON");
  command.callback([arguments, &chosen] { chosen = [arguments] { return train(*arguments); }; });
}

}  // namespace kwind::tool
