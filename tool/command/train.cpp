// `kwind train`: counts the symbols of recorded snapshots and writes code tables that fit them.
// Captures are read twice: first to choose the predictor of each column, then to count the
// residuals that these predictors leave. Tables made from half of the clients are tried on the
// other half, so that the report does not praise a fit to its own data.
#include <fmt/format.h>

#include <algorithm>
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

// Which alphabet of symbols a row is about, in words.
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
  if (const std::uint64_t older = traffic.of_older_versions(); older > 0) {
    const bool any = traffic.snapshots() > 0;
    fmt::print(stderr, "{} snapshots are of older versions of the description and left out: {}\n",
               older, any ? "tables are for the newest" : "train with the one that the server had");
    if (!any) return false;
  }
  if (traffic.snapshots() > 0) return true;
  fmt::print(stderr,
             "there are no snapshots in {}: record a server that replicates entities, "
             "from before they connect\n",
             arguments.captures.size() == 1 ? arguments.captures.front() : "these captures");
  return false;
}

// Entity types of which no change was counted.
std::vector<std::string_view> types_without_changes(const schema::EntitiesInfo& entities,
                                                    const replica::SymbolCounts& counted) {
  std::vector<std::string_view> found;
  for (std::size_t k = 0; k < entities.types.size(); ++k) {
    if (!entities.has(k)) continue;
    // The last symbols of both alphabets are no changes.
    const auto any = [](const auto& by_age, std::size_t others) {
      return std::any_of(by_age.begin(), by_age.end(), [&](const auto& symbols) {
        return std::any_of(symbols.begin(), symbols.end() - static_cast<std::ptrdiff_t>(others),
                           [](std::uint32_t count) { return count > 0; });
      });
    };
    const replica::SymbolCounts::Type& type = counted.types()[k];
    if (!any(type.continuing, 2) && !any(type.unexpected, 1)) {
      found.push_back(entities.types[k]->name);
    }
  }
  return found;
}

std::string_view name_of(std::optional<replica::SnapshotModes> modes) {
  if (modes == replica::SnapshotModes::both) return "both";
  return modes == replica::SnapshotModes::exact ? "exact" : "speculative";
}

// Bits of each alphabet before and after training, beside the entropy.
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

// Combinations of options that mean nothing.
int wrong_arguments(const TrainArguments& arguments) {
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
  return kFine;
}

// One training: reads, fits, reports, writes. Each step returns kFine, or an exit code after it was
// printed why.
class Training {
 public:
  explicit Training(const TrainArguments& arguments) : arguments_(arguments) {}
  int run() {
    for (const auto step : {&Training::load, &Training::count, &Training::compare}) {
      if (const int result = (this->*step)(); result != kFine) return result;
    }
    if (arguments_.json) {
      print_json();
    } else {
      print_text();
    }
    std::fflush(stdout);
    print_unread();
    return arguments_.check.empty() ? write() : say_whether_it_fits();
  }

 private:
  using Rows = std::map<std::pair<std::uint32_t, std::string>, Bits>;

  // Reads description and traffic. Snapshots that cannot be read are counted.
  int load() {
    if (!load_source(arguments_.description, source_)) return kFoundWrong;
    if (source_.protocol.entities.empty()) {
      fmt::print(stderr, "{}: has no entities, so there is nothing to train\n",
                 arguments_.description);
      return kFoundWrong;
    }
    tables_.emplace(source_.protocol);
    in_use_ = arguments_.codes.empty() ? replica::built_in_codes(entities())
                                       : load_codes(arguments_.codes, entities());
    if (in_use_ == nullptr) return kFoundWrong;
    before_ = arguments_.check.empty() ? in_use_ : load_codes(arguments_.check, entities());
    return before_ == nullptr ? kFoundWrong : kFine;
  }

  // First the predictors, then codes for the residuals that these leave.
  int count() {
    traffic_.emplace(entities(), in_use_, before_.get());
    as_recorded_.emplace(entities(), in_use_);
    if (!read_captures(arguments_, source_.protocol, {&*traffic_, &*as_recorded_})) {
      return kFoundWrong;
    }
    counts_.emplace(traffic_->symbol_counts());
    predictors_.emplace(replica::SymbolCounts::fitted(entities(), *counts_));
    predicted_.emplace(entities(), in_use_, &*predictors_);
    if (!read_captures(arguments_, source_.protocol, {&*predicted_})) return kFoundWrong;
    fitted_.emplace(fitted_to(predicted_->symbol_counts()));
    return kFine;
  }

  [[nodiscard]] replica::CodeTables fitted_to(const replica::SymbolCounts& counted) const {
    return replica::CodeTables(
        replica::SymbolCounts::fitted(entities(), counted, replica::SymbolCounts::Choose::nothing));
  }

  // What the traffic takes before and after, by alphabet and in all.
  int compare() {
    for (const auto& cost : replica::costs_of(*counts_, *before_)) {
      Bits& row = rows_[{row_of(cost), name_of(entities(), cost)}];
      row.symbols += cost.symbols;
      row.before += cost.bits;
      all_.symbols += cost.symbols;
      all_.before += cost.bits;
    }
    for (const auto& cost : replica::costs_of(predicted_->symbol_counts(), *fitted_)) {
      Bits& row = rows_[{row_of(cost), name_of(entities(), cost)}];
      row.symbols = std::max(row.symbols, cost.symbols);
      row.after += cost.bits;
      row.floor += cost.floor;
      all_.after += cost.bits;
      all_.floor += cost.floor;
    }
    if (all_.symbols == 0) {
      fmt::print(stderr,
                 "no state could be read: {} of {} snapshots are unread; is {} the description of "
                 "these captures, and did they begin before the clients came?\n",
                 traffic_->unread(), traffic_->snapshots() + traffic_->unread(),
                 arguments_.description);
      return kFoundWrong;
    }
    // Tables from one half of the clients, tried on the other.
    is_crossed_ = traffic_->clients() > 1;
    tried_ = is_crossed_ ? 0 : all_.after;
    for (std::size_t half = 0; is_crossed_ && half < 2; ++half) {
      tried_ += sum_of(
          replica::costs_of(predicted_->halves()[half], fitted_to(predicted_->halves()[1 - half])));
    }
    const double used = sum_of(replica::costs_of(as_recorded_->symbol_counts(), *in_use_));
    const auto snapshots = static_cast<double>(traffic_->snapshots());
    const double bytes = static_cast<double>(traffic_->bits()) / 8 / snapshots;
    bytes_before_ = bytes + (all_.before - used) / 8 / snapshots;
    bytes_after_ = bytes + (tried_ - used) / 8 / snapshots;
    fits_ = all_.before <= kFits * tried_;
    return kFine;
  }

  // Figures as JSON.
  void print_json() const {
    nlohmann::ordered_json out{
        {"snapshots", traffic_->snapshots()},
        {"clients", traffic_->clients()},
        {"unread", traffic_->unread()},
        {"bytes_per_snapshot_before", bytes_before_},
        {"bytes_per_snapshot_after", bytes_after_},
        {"tried_on_other_clients", is_crossed_},
        {"fits", fits_},
        {"digest", fmt::format("{:016x}", fitted_->digest())},
        {"modes", name_of(counts_->snapshot_modes())},
        {"types_without_changes", types_without_changes(entities(), *counts_)},
        {"alphabets", nlohmann::ordered_json::array()}};
    for (const auto& [key, bits] : rows_) {
      const auto n = static_cast<double>(bits.symbols);
      out["alphabets"].push_back({{"type", row_name(entities(), key.first)},
                                  {"of", key.second},
                                  {"symbols", bits.symbols},
                                  {"before", bits.before / n},
                                  {"after", bits.after / n},
                                  {"entropy", bits.floor / n}});
    }
    fmt::print("{}\n", json::text_of(out, 2));
  }

  // Figures as a table, then advice.
  void print_text() const {
    print_table(entities(), rows_);
    fmt::print(
        "\n{} snapshots of {} client{}, bytes each: {:.1f} {}, {:.1f} with tables trained on {}\n",
        traffic_->snapshots(), traffic_->clients(), traffic_->clients() == 1 ? "" : "s",
        bytes_before_,
        arguments_.check.empty() ? "as recorded" : fmt::format("with {}", arguments_.check),
        bytes_after_, is_crossed_ ? "other clients" : "themselves");
    const auto n = static_cast<double>(all_.symbols);
    fmt::print(
        "of all their symbols, {:.2f} bits before and {:.2f} after; no prefix code takes less than "
        "{:.2f}\n",
        all_.before / n, all_.after / n, all_.floor / n);
    print_unseen();
    if (arguments_.advise) print_advice(entities(), *counts_);
  }

  // Says which entity types and which mode were not recorded.
  void print_unseen() const {
    std::string types;
    for (const std::string_view type : types_without_changes(entities(), *counts_)) {
      types += types.empty() ? type : fmt::format(", {}", type);
    }
    if (!types.empty()) {
      fmt::print("no change was seen of {}: the codes of their fields stay built-in\n", types);
    }
    if (counts_->snapshot_modes() == replica::SnapshotModes::both) return;
    const bool exact = counts_->snapshot_modes() == replica::SnapshotModes::exact;
    fmt::print("all snapshots were {}: {}; captures of both modes make one set for both\n",
               exact ? "exact" : "speculative",
               exact ? "a server with speculative baselines does not take these tables"
                     : "only a server with speculative baselines takes these tables");
  }

  // Says how many snapshots were of other code tables, or damaged.
  void print_unread() const {
    if (traffic_->unread() == 0) return;
    fmt::print(
        stderr, "{} snapshots could not be read: {}\n", traffic_->unread(),
        arguments_.codes.empty()
            ? "the capture begins when clients were there already, or other code "
              "tables than the built-in ones were in use (--code-tables)"
            : "the capture begins when clients were there already, or other code tables were "
              "in use");
  }

  // With --check: whether tables fit the traffic within a margin.
  [[nodiscard]] int say_whether_it_fits() const {
    if (!arguments_.json) {
      fmt::print("{} {}\n", arguments_.check,
                 fits_ ? "fits this traffic"
                       : fmt::format("no longer fits: its symbols take {:.0f} % more than need be; "
                                     "train the tables again with `kwind train`",
                                     (all_.before / tried_ - 1) * 100));
    }
    return fits_ ? kFine : kFoundWrong;
  }

  // Writes the tables with their digest.
  [[nodiscard]] int write() const {
    std::ofstream file(arguments_.out, std::ios::binary);
    file << replica::text_of(*fitted_, entities(), source_.protocol.name);
    if (!file.flush().good()) {
      fmt::print(stderr, "{}: cannot be written\n", arguments_.out);
      return kFoundWrong;
    }
    if (!arguments_.json) {
      fmt::print("{}: set {:016x}; both ends have to hold it, see docs/code-tables.md\n",
                 arguments_.out, fitted_->digest());
    }
    return kFine;
  }

  [[nodiscard]] const schema::EntitiesInfo& entities() const { return tables_->info(); }

  const TrainArguments& arguments_;
  language::Compiled source_;
  std::optional<schema::EntityTables> tables_;
  std::shared_ptr<const replica::CodeTables> in_use_;  // when the captures were made
  std::shared_ptr<const replica::CodeTables> before_;  // held against the fitted ones
  std::optional<capture::StateTraffic> traffic_;       // with the predictors of `before_`
  std::optional<capture::StateTraffic> as_recorded_;
  std::optional<replica::CodeTables> predictors_;   // those that were chosen
  std::optional<capture::StateTraffic> predicted_;  // with these
  std::optional<replica::SymbolCounts> counts_;     // of `traffic_`
  std::optional<replica::CodeTables> fitted_;
  Rows rows_;
  Bits all_;
  bool is_crossed_ = false;  // half of the clients against the other half
  double tried_ = 0;         // bits of all symbols in fitted tables
  double bytes_before_ = 0;  // of a snapshot
  double bytes_after_ = 0;
  bool fits_ = false;
};

int train(const TrainArguments& arguments) {
  const int wrong = wrong_arguments(arguments);
  return wrong == kFine ? Training(arguments).run() : wrong;
}

}  // namespace

// The options of `kwind train`.
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
