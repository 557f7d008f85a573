// `kwind budget`: prints and draws what a plan of traffic costs.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.h"
#include "kwind/budget/advice.h"
#include "kwind/budget/cost.h"
#include "kwind/json/text.h"
#include "kwind/replica/code_tables.h"
#include "kwind/schema/columns.h"
#include "plot.h"
#include "read_files.h"
#include "text_lines.h"

namespace kwind::tool {
namespace {

namespace fs = std::filesystem;
using budget::Coding;
using budget::Traffic;

// What a client has acknowledged is a round trip old.
constexpr double kRoundTrip = 0.1;
// Shares of what replication makes of a plan.
constexpr const char* kByDeltas = "by deltas";

struct BudgetArguments {
  std::string plan;
  std::string codes;
  std::string chart;
  bool json = false;
};

// Three figures that matter: 1.23, 12.3, 123, 1234.
std::string figure(double value) {
  if (value == 0) return "0";
  return fmt::format("{:.{}f}", value, value < 10 ? 2 : value < 100 ? 1 : 0);
}

// Bytes a second, in the unit that fits.
std::string rate(double bytes) {
  if (bytes >= 1e6) return figure(bytes / 1e6) + " MB/s";
  if (bytes >= 1e3) return figure(bytes / 1e3) + " kB/s";
  return figure(bytes) + " B/s";
}

// A rate in the largest unit that leaves a digit before the point.
std::string line_rate(double bytes) {
  const double bits = bytes * 8;
  if (bits >= 1e9) return figure(bits / 1e9) + " Gbit/s";
  if (bits >= 1e6) return figure(bits / 1e6) + " Mbit/s";
  return figure(bits / 1e3) + " kbit/s";
}

std::string times(double value, double ours) {
  return ours == 0 || value == 0 ? ""
                                 : fmt::format("{:.{}f}x", value / ours, value / ours < 10 ? 1 : 0);
}

// One direction: a line for each coding, with its ratio to the library's.
void print_direction(const budget::ReadPlan& read, const budget::Cost& cost, bool from_client) {
  const auto of = [&](const Coding& coding) -> const Traffic& {
    return from_client ? coding.up : coding.down;
  };
  if (of(cost.codings.front()).bytes_per_second == 0) {
    fmt::print("\n{}: the plan sends nothing\n", from_client ? "up" : "down");
    return;
  }
  const double ours = of(cost.codings.front()).bytes_per_second;
  fmt::print("\n{:<30}{:>12}{:>16}{:>14}{:>8}   {}\n",
             from_client ? "up, one client to the server" : "down, the server to one client",
             "bytes/tick", "datagrams/tick", "with headers", "",
             fmt::format("{} clients", read.plan.clients));
  fmt::print("{:-<102}\n", "");
  for (const Coding& coding : cost.codings) {
    if (from_client && &coding == &cost.codings.back() && !read.plan.state.empty()) continue;
    const Traffic& traffic = of(coding);
    fmt::print("{:<30}{:>12}{:>16}{:>14}{:>8}   {}\n", coding.name,
               figure(traffic.payload_bytes_per_tick), figure(traffic.datagrams_per_tick),
               rate(traffic.bytes_per_second),
               &coding == &cost.codings.front() ? "" : times(traffic.bytes_per_second, ours),
               line_rate(traffic.bytes_per_second * read.plan.clients));
  }
}

// The library's bytes by entity and message type.
void print_shares(const budget::Cost& cost) {
  fmt::print("\nwhat ours is spent on\n{:-<102}\n", "");
  for (const budget::Share& share : cost.shares) {
    // Shares of the same thing by two codings.
    const bool by_deltas = share.what == kByDeltas;
    const Coding& ours = cost.codings[by_deltas ? 1 : 0];
    const double all = (share.from_client ? ours.up : ours.down).bytes_per_second;
    fmt::print("{:<5} {:<24}{:<15}{:>14}{:>6.0f} %{:>16}\n", share.from_client ? "up" : "down",
               share.name, share.what, rate(share.bytes_per_second),
               all > 0 ? 100 * share.bytes_per_second / all : 0,
               share.each_bits > 0 ? fmt::format("{} bits each", figure(share.each_bits)) : "");
  }
}

// Prints the advice on single fields.
void print_advice(const budget::ReadPlan& read) {
  const auto all = budget::advice_for(read.description.protocol, read.plan);
  if (all.empty()) return;
  fmt::print("\nwhat may be cheaper\n{:-<102}\n", "");
  for (const budget::Advice& each : all) {
    const std::string name = each.entity + '.' + each.field;
    std::string_view left = each.text;
    constexpr std::size_t kName = 24;
    constexpr std::size_t kText = 78;
    fmt::print("{:<{}}{}\n", name, std::max(kName, name.size() + 1), text_part(left, kText));
    while (!left.empty()) fmt::print("{:<{}}{}\n", "", kName, text_part(left, kText));
  }
}

// Head, both directions, shares.
void print_tables(const BudgetArguments& arguments, const budget::ReadPlan& read,
                  const budget::Cost& cost) {
  double population = 0;
  double in_view = 0;
  for (const auto& state : read.plan.state) {
    population += state.population;
    in_view += state.in_view;
  }
  const schema::Protocol& protocol = read.description.protocol;
  fmt::print(
      "{}: {} clients of {} {}, {} ticks a second, {:g} of {:g} entities in view, {} bytes of "
      "headers a datagram\n",
      arguments.plan, read.plan.clients, protocol.name, protocol.version,
      read.plan.ticks_per_second, in_view, population, read.plan.header_bytes);
  print_direction(read, cost, false);
  print_direction(read, cost, true);
  print_shares(cost);
  print_advice(read);
  fmt::print(
      "\nMeans of {} ticks of made-up values, seed {}. Of an entity what changed is counted, "
      "whole values without\ndeltas or prediction, in every form. A stream needs a transport "
      "that loses nothing.\n",
      budget::kMeasuredTicks, read.plan.seed);
  if (arguments.codes.empty()) return;
  fmt::print(
      "By deltas: what {} expects of traffic that it suits, {:.0f} ms after its acks; not "
      "measured on these values.\n",
      arguments.codes, kRoundTrip * 1000);
}

// One direction of one coding.
nlohmann::ordered_json json_of(const Traffic& traffic, double clients) {
  return {{"payload_bytes_per_tick", traffic.payload_bytes_per_tick},
          {"datagrams_per_tick", traffic.datagrams_per_tick},
          {"bytes_per_second", traffic.bytes_per_second},
          {"bytes_per_second_all_clients", traffic.bytes_per_second * clients}};
}

// Everything that the tables show, as JSON.
void print_json(const budget::ReadPlan& read, const budget::Cost& cost) {
  nlohmann::ordered_json out{{"protocol", read.description.protocol.name},
                             {"version", read.description.protocol.version},
                             {"clients", read.plan.clients},
                             {"ticks_per_second", read.plan.ticks_per_second},
                             {"header_bytes", read.plan.header_bytes},
                             {"codings", nlohmann::ordered_json::array()},
                             {"shares", nlohmann::ordered_json::array()},
                             {"advice", nlohmann::ordered_json::array()}};
  for (const Coding& coding : cost.codings) {
    out["codings"].push_back({{"name", coding.name},
                              {"down", json_of(coding.down, read.plan.clients)},
                              {"up", json_of(coding.up, read.plan.clients)}});
  }
  for (const budget::Share& share : cost.shares) {
    out["shares"].push_back({{"name", share.name},
                             {"what", share.what},
                             {"way", share.from_client ? "up" : "down"},
                             {"bytes_per_second", share.bytes_per_second},
                             {"each_bits", share.each_bits}});
  }
  for (const budget::Advice& each : budget::advice_for(read.description.protocol, read.plan)) {
    out["advice"].push_back({{"entity", each.entity}, {"field", each.field}, {"text", each.text}});
  }
  fmt::print("{}\n", json::text_of(out, 2));
}

// ---- what replication makes of it ----

// A plan's state as replica sends it, as far as a code tables tells; see docs/budget.md.
Coding replicated(const budget::ReadPlan& read, budget::Cost& cost, const schema::EntitiesInfo& all,
                  const replica::CodeTables& codes) {
  constexpr double kHeadBits = 28;  // with its share of digests
  constexpr double kPlaceBits = 8;  // which one, among those in view
  constexpr double kArrivalBits = 14;
  const budget::Plan& plan = read.plan;
  const auto age = static_cast<std::uint32_t>(std::ceil(kRoundTrip * plan.ticks_per_second)) + 1;
  double bits = kHeadBits;
  for (const budget::StatePlan& state : plan.state) {
    const schema::EntityInfo& info = *all.types[state.entity];
    const replica::ExpectedBits each = replica::expected_bits(codes, info, age);
    const double changing = state.in_view * state.changing;
    // As many start as stop: those of whom the frame before spoke, and this one does not.
    const double continuing = each.changes > 0 ? changing / each.changes : 0;
    const double starting = continuing - changing;
    const double entering = state.entering / plan.ticks_per_second;
    double whole = 0;
    for (const schema::ColumnInfo& column : info.columns) {
      whole += column.form == schema::ColumnForm::varying ? column.last / 2.0 : column.bits;
    }
    const double spent = continuing * each.continuing + changing * each.errors +
                         starting * (kPlaceBits + each.starts - each.continuing) +
                         entering * (kArrivalBits + whole + kPlaceBits);
    bits += spent;
    cost.shares.push_back({std::string(info.name), kByDeltas, false,
                           spent / 8 * plan.ticks_per_second, changing > 0 ? spent / changing : 0});
  }
  const Traffic& ours = cost.codings.front().down;
  double other = 0;  // bytes a second of everything else, headers included
  for (const budget::Share& share : cost.shares) {
    if (!share.from_client && share.what != "entity" && share.what != kByDeltas) {
      other += share.bytes_per_second;
    }
  }
  Coding made{"ours, by deltas and codes", ours, cost.codings.front().up};
  const double headers = ours.datagrams_per_tick * plan.header_bytes;
  made.down.datagrams_per_tick = std::min(ours.datagrams_per_tick, 1.0);
  const double fewer = headers - made.down.datagrams_per_tick * plan.header_bytes;
  made.down.bytes_per_second =
      bits / 8 * plan.ticks_per_second + other - fewer * plan.ticks_per_second;
  made.down.payload_bytes_per_tick = made.down.bytes_per_second / plan.ticks_per_second -
                                     made.down.datagrams_per_tick * plan.header_bytes;
  return made;
}

// ---- the chart: bars of one client, down beside up ----

// Bars of all codings of one direction, as a part of the chart.
std::string panel(const std::vector<Coding>& codings, bool from_client) {
  const double ours = (from_client ? codings.front().up : codings.front().down).bytes_per_second;
  double max = 0;
  std::string rows;
  std::string names;
  for (std::size_t i = 0; i < codings.size(); ++i) {
    const double bytes = (from_client ? codings[i].up : codings[i].down).bytes_per_second;
    max = std::max(max, bytes);
    const double y = -static_cast<double>(i);
    rows += fmt::format("{} {} {} \"{}{}\"\n", bytes / 1000, y, i == 0 ? 0x1f7a8c : 0xb8c4ce,
                        rate(bytes), i == 0 ? "" : "   " + times(bytes, ours));
    names += fmt::format("{}'{}' {}", i == 0 ? "" : ", ", codings[i].name, y);
  }
  return fmt::format(
      "set title '{}' font ',13' textcolor rgb '#22303a'\n"
      "set xlabel 'kB a second and client, headers included' textcolor rgb '#3b4a57'\n"
      "set xrange [0:{}]\nset yrange [{}:0.7]\nset ytics ({})\nset grid noytics xtics\n"
      "$rows << EOD\n{}EOD\n"
      "plot $rows using ($1/2):2:($1/2):(0.34):3 with boxxyerror fc rgb variable fs solid notitle, "
      "$rows using 1:2:4 with labels left offset 0.6,0 textcolor rgb '#22303a' notitle\n",
      from_client ? "Up: one client to the server" : "Down: the server to one client",
      std::max(0.001, max / 1000 * 1.45), -static_cast<double>(codings.size()) + 0.3, names, rows);
}

// The chart as a script for gnuplot, which draws it.
std::string chart(const budget::ReadPlan& read, const budget::Cost& cost) {
  std::vector<Coding> codings = cost.codings;
  // The whole world would leave the others too short to be told apart; the table has it.
  if (!read.plan.state.empty()) codings.pop_back();
  const bool down = codings.front().down.bytes_per_second > 0;
  const bool up = codings.front().up.bytes_per_second > 0;
  std::string script = fmt::format(
      "set multiplot layout 1,{} title '{} {}: {} ticks a second' font ',15' "
      "textcolor rgb '#22303a'\nset tics out\nunset key\n",
      down && up ? 2 : 1, read.description.protocol.name, read.description.protocol.version,
      read.plan.ticks_per_second);
  if (down) script += panel(codings, false);
  if (up) script += panel(codings, true);
  return script + "unset multiplot\n";
}

// Reads the plan, measures, then prints and draws.
int show_budget(const BudgetArguments& arguments) {
  const std::string ending = fs::path(arguments.chart).extension().string();
  if (!arguments.chart.empty() && ending != ".svg" && ending != ".png") {
    fmt::print(stderr, "kwind budget: --chart writes FILE.svg or FILE.png, not {}\n",
               arguments.chart);
    return kUsedWrongly;
  }
  if (fs::path(arguments.plan).extension() == ".kw") {
    fmt::print(stderr,
               "kwind budget: {} is a description; write a plan that names it, as "
               "examples/descriptions/world.toml does\n",
               arguments.plan);
    return kUsedWrongly;
  }
  std::string text;
  if (!read_text(arguments.plan, text)) {
    fmt::print(stderr, "kwind budget: cannot read {}\n", arguments.plan);
    return kFoundWrong;
  }
  const fs::path folder = fs::path(arguments.plan).parent_path();
  const auto read = budget::read_plan(text, arguments.plan, [&](const std::string& name) {
    std::string found;
    return read_text(folder / name, found) ? std::optional(found) : std::nullopt;
  });
  if (!read.problems.empty()) {
    for (const std::string& problem : read.problems) fmt::print(stderr, "{}", problem);
    return kFoundWrong;
  }
  budget::Cost cost = budget::cost_of(read.description.protocol, read.plan);
  if (!arguments.codes.empty()) {
    const schema::EntityTables tables(read.description.protocol);
    const auto codes = load_codes(arguments.codes, tables.info());
    if (codes == nullptr) return kFoundWrong;
    cost.codings.insert(cost.codings.begin() + 1, replicated(read, cost, tables.info(), *codes));
  }
  if (arguments.json) {
    print_json(read, cost);
  } else {
    print_tables(arguments, read, cost);
  }
  if (arguments.chart.empty()) return kFine;
  constexpr int kWidth = 1280;
  constexpr int kHeight = 460;
  if (!draw_file(chart(read, cost), kWidth, kHeight, arguments.chart)) {
    fmt::print(stderr,
               "kwind budget: {} could not be drawn; install the package gnuplot-nox, and see that "
               "the folder can be written\n",
               arguments.chart);
    return kFoundWrong;
  }
  return kFine;
}

}  // namespace

// The options of `kwind budget`.
void add_budget(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<BudgetArguments>();
  Command command = app.add_subcommand(
      "budget", "Say what planned traffic will cost, beside the same as JSON, CBOR and compressed");
  command.add_option("PLAN", arguments->plan, "The plan, a TOML file").required();
  command
      .add_option("--code-tables", arguments->codes,
                  "Also what replication takes with these code tables, of kwind train")
      .type_name("FILE.codes");
  command.add_option("--chart", arguments->chart, "Draw it into FILE.svg or FILE.png");
  command.add_flag("--json", arguments->json, "Print one JSON object");
  command.footer(
      "A plan names a description, and says what is sent how often: docs/budget.md.\n"
      "Example:\n  kwind budget examples/descriptions/world.toml --chart budget.svg");
  command.callback(
      [arguments, &chosen] { chosen = [arguments] { return show_budget(*arguments); }; });
}

}  // namespace kwind::tool
