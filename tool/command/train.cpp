// `kwind train`: counts the symbols of recorded snapshots and writes code tables that fit them.
// Captures are read twice: first to choose the predictor of each column, then to count the
// residuals that these predictors leave. Tables made from half of the clients are tried on the
// other half, so that the report does not praise a fit to its own data.
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
  bool advise = false;
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

// The row of a report: the place of an entity type behind 0, which stands for all snapshots.
std::uint32_t row_of(const replica::AlphabetCost& cost) {
  return cost.of == replica::AlphabetCost::Of::heads ? 0 : cost.type + 1U;
}
std::string_view row_name(const schema::EntitiesInfo& entities, std::uint32_t row) {
  return row == 0 ? "Snapshots" : entities.types[row - 1]->name;
}

std::string name_of(const schema::EntitiesInfo& entities, const replica::AlphabetCost& cost) {
  switch (cost.of) {
    case replica::AlphabetCost::Of::continuing: return "change mask, continuing entities";
    case replica::AlphabetCost::Of::unexpected: return "change mask, unexpected updates";
    case replica::AlphabetCost::Of::heads: return "head";
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

// Reads the captures once for all of `traffic`.
bool read_captures(const TrainArguments& arguments, const schema::Protocol& protocol,
                   const std::vector<capture::StateTraffic*>& all_traffic) {
  const auto keys = load_keys(arguments.keys);
  if (!keys) return false;
  const capture::StateTraffic& traffic = *all_traffic.front();
  std::uint64_t unopened = 0;
  for (const std::string& path : arguments.captures) {
    const auto contents = load_capture(path);
    if (!contents) return false;
    capture::AccountOptions options;
    options.observer.keys = *keys;
    capture::Account account(protocol, std::move(options));
    for (const capture::Packet& packet : contents->packets) {
      const capture::Line line = account.add(packet);
      for (capture::StateTraffic* const each : all_traffic) each->add(line);
    }
    unopened += account.unopened();
  }
  if (unopened > 0) {
    fmt::print(stderr, "{} encrypted datagrams were not opened: {}\n", unopened,
               keys->empty()
                   ? "give their keys with --key-log, as `kwind demo --key-log` writes them"
                   : "their keys are not in that file");
  }
  if (traffic.snapshots() > 0) return true;
  fmt::print(stderr,
             "there are no snapshots in {}: record a server that tells its clients of entities, "
             "from before they connect\n",
             arguments.captures.size() == 1 ? arguments.captures.front() : "these captures");
  return false;
}

void print_table(const schema::EntitiesInfo& entities,
                 const std::map<std::pair<std::uint32_t, std::string>, Bits>& rows) {
  fmt::print("{:<34}{:>10}{:>10}{:>10}{:>10}\n", "bits of a symbol", "symbols", "before", "after",
             "entropy");
  std::optional<std::uint32_t> row;
  for (const auto& [key, bits] : rows) {
    if (row != key.first) fmt::print("{}\n", row_name(entities, key.first));
    row = key.first;
    const auto n = static_cast<double>(bits.symbols);
    fmt::print("  {:<32}{:>10}{:>10.2f}{:>10.2f}{:>10.2f}\n", key.second, bits.symbols,
               bits.before / n, bits.after / n, bits.floor / n);
  }
}

// What other words, or predictors of the tables, bring for each field.
void print_advice(const schema::EntitiesInfo& entities, const replica::SymbolCounts& counted) {
  constexpr double kWorthwhile = 0.97;  // of the bits by the words
  constexpr double kSixteenths = 16;
  fmt::print("\n");
  bool any = false;
  for (std::size_t k = 0; k < entities.types.size(); ++k) {
    const schema::EntityInfo& info = *entities.types[k];
    const replica::SymbolCounts::Type& type = counted.types()[k];
    double changes = 0;
    const auto add = [&](const auto& by_age, std::size_t others) {
      for (const auto& symbols : by_age) {
        for (std::size_t s = 0; s + others < symbols.size(); ++s) changes += symbols[s];
      }
    };
    add(type.continuing, 2);
    add(type.unexpected, 1);
    for (std::size_t c = 0; c < info.columns.size() && changes > 0; ++c) {
      const auto& trials = type.trials[c];
      const auto words = static_cast<std::size_t>(type.predictors[c]);
      std::size_t best = words;
      for (std::size_t p = 0; p < trials.size(); ++p) {
        if (trials[p] > 0 && trials[p] < trials[best]) best = p;
      }
      const auto bits = [&](std::size_t p) {
        return static_cast<double>(trials[p]) / kSixteenths / changes;
      };
      if (best == words || bits(best) > kWorthwhile * bits(words)) continue;
      any = true;
      const std::string name = name_of(
          entities, {info.type, replica::AlphabetCost::Of::errors, static_cast<std::uint16_t>(c)});
      const bool would_be_smooth =
          !info.columns[c].smooth && type.predictors[c] == replica::Predictor::hold;
      fmt::print("{}.{}: `{}` takes {:.1f} bits a change, `{}` {:.1f}; {}\n", info.name, name,
                 name_of(type.predictors[c]), bits(words),
                 name_of(static_cast<replica::Predictor>(best)), bits(best),
                 would_be_smooth ? "trained tables use it, and the built-in ones if the field is "
                                   "`smooth`"
                                 : "trained tables use it");
    }
  }
  if (!any) fmt::print("the predictors in use are the best ones for all fields\n");
}

int train(const TrainArguments& arguments) {
  if (arguments.out.empty() == arguments.check.empty()) {
    fmt::print(
        stderr,
        "kwind train: say either -o FILE, to write code tables, or --check FILE, to see whether "
        "tables still fit\n");
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

  capture::StateTraffic traffic(entities, in_use, before.get());
  capture::StateTraffic as_recorded(entities, in_use);
  if (!read_captures(arguments, source.protocol, {&traffic, &as_recorded})) return kFoundWrong;
  const replica::SymbolCounts symbol_counts = traffic.symbol_counts();
  if (symbol_counts.snapshot_modes() == replica::SnapshotModes::both) {
    fmt::print(
        stderr,
        "these captures mix exact snapshots and speculative_baselines ones, and code tables for "
        "the mixture fit neither well; train tables for each\n");
    return kFoundWrong;
  }
  // First the predictors, then codes for the residuals that these leave.
  const replica::CodeTables predictors(replica::SymbolCounts::fitted(entities, symbol_counts));
  capture::StateTraffic predicted(entities, in_use, &predictors);
  if (!read_captures(arguments, source.protocol, {&predicted})) return kFoundWrong;
  const auto fitted_to = [&](const replica::SymbolCounts& counted) {
    return replica::CodeTables(
        replica::SymbolCounts::fitted(entities, counted, replica::SymbolCounts::Choose::nothing));
  };
  const replica::SymbolCounts predicted_counts = predicted.symbol_counts();
  const replica::CodeTables fitted = fitted_to(predicted_counts);

  std::map<std::pair<std::uint32_t, std::string>, Bits> rows;
  Bits all;
  for (const auto& cost : replica::costs_of(symbol_counts, *before)) {
    Bits& row = rows[{row_of(cost), name_of(entities, cost)}];
    row.symbols += cost.symbols;
    row.before += cost.bits;
    all.symbols += cost.symbols;
    all.before += cost.bits;
  }
  for (const auto& cost : replica::costs_of(predicted_counts, fitted)) {
    Bits& row = rows[{row_of(cost), name_of(entities, cost)}];
    row.symbols = std::max(row.symbols, cost.symbols);
    row.after += cost.bits;
    row.floor += cost.floor;
    all.after += cost.bits;
    all.floor += cost.floor;
  }
  if (all.symbols == 0) {
    fmt::print(stderr,
               "no state could be read: {} of {} snapshots are unread; is {} the description of "
               "these captures, and did they begin before the clients came?\n",
               traffic.unread(), traffic.snapshots() + traffic.unread(), arguments.description);
    return kFoundWrong;
  }
  // Tables from one half of the clients, tried on the other.
  double crossed = 0;
  const bool can_cross = traffic.clients() > 1;
  for (std::size_t half = 0; can_cross && half < 2; ++half) {
    crossed += sum_of(
        replica::costs_of(predicted.halves()[half], fitted_to(predicted.halves()[1 - half])));
  }
  const double used = sum_of(replica::costs_of(as_recorded.symbol_counts(), *in_use));
  const auto snapshots = static_cast<double>(traffic.snapshots());
  const double bytes = static_cast<double>(traffic.bits()) / 8 / snapshots;
  const double bytes_before = bytes + (all.before - used) / 8 / snapshots;
  const double bytes_after = bytes + ((can_cross ? crossed : all.after) - used) / 8 / snapshots;
  const bool fits = all.before <= kFits * (can_cross ? crossed : all.after);

  if (arguments.json) {
    nlohmann::ordered_json out{{"snapshots", traffic.snapshots()},
                               {"clients", traffic.clients()},
                               {"unread", traffic.unread()},
                               {"bytes_per_snapshot_before", bytes_before},
                               {"bytes_per_snapshot_after", bytes_after},
                               {"tried_on_other_clients", can_cross},
                               {"fits", fits},
                               {"digest", fmt::format("{:016x}", fitted.digest())},
                               {"alphabets", nlohmann::ordered_json::array()}};
    for (const auto& [key, bits] : rows) {
      const auto n = static_cast<double>(bits.symbols);
      out["alphabets"].push_back({{"type", row_name(entities, key.first)},
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
        "\n{} snapshots of {} client{}, bytes each: {:.1f} {}, {:.1f} with tables trained on {}\n",
        traffic.snapshots(), traffic.clients(), traffic.clients() == 1 ? "" : "s", bytes_before,
        arguments.check.empty() ? "as recorded" : fmt::format("with {}", arguments.check),
        bytes_after, can_cross ? "other clients" : "themselves");
    fmt::print(
        "of all their symbols, {:.2f} bits before and {:.2f} after; no prefix code takes less than "
        "{:.2f}\n",
        all.before / static_cast<double>(all.symbols), all.after / static_cast<double>(all.symbols),
        all.floor / static_cast<double>(all.symbols));
  }
  if (arguments.advise && !arguments.json) print_advice(entities, symbol_counts);
  std::fflush(stdout);
  if (traffic.unread() > 0) {
    fmt::print(
        stderr, "{} snapshots could not be read: {}\n", traffic.unread(),
        arguments.codes.empty()
            ? "the capture begins when clients were there already, or other code "
              "tables than the built-in ones were in use (--code-tables)"
            : "the capture begins when clients were there already, or other code tables were "
              "in use");
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
  Command command = app.add_subcommand("train", "Make code tables from recorded state traffic");
  command.footer(
      "Example:\n  kwind demo --record evening.pcapng --key-log evening.keys\n"
      "  kwind train harbour_world.kw evening.pcapng --key-log evening.keys -o harbour.codes\n"
      "  kwind train harbour_world.kw evening.pcapng --key-log evening.keys --check "
      "harbour.codes\n\n"
      "A capture has to begin before its clients connect. Exit code 1 when --check finds that the\n"
      "tables no longer fit.");
  command.add_option("FILE", arguments->description, "The description, a .kw file").required();
  command.add_option("CAPTURE", arguments->captures, "Captures, pcapng or pcap").required();
  command.add_option("-o,--output", arguments->out, "Write the code tables here");
  command.add_option("--key-log", arguments->keys,
                     "Keys of encrypted datagrams, as kwind demo --key-log writes them");
  command.add_option("--code-tables", arguments->codes,
                     "The code tables in use when this was recorded (else the built-in ones)");
  command.add_option("--check", arguments->check,
                     "Say whether these code tables still fit; exit 1 if not");
  command.add_flag("--advise", arguments->advise,
                   "Say which words of fields, or predictors, would take fewer bits");
  command.add_flag("--json", arguments->json, "Write the report as JSON");
  command.callback([arguments, &chosen] { chosen = [arguments] { return train(*arguments); }; });
}

}  // namespace kwind::tool
