// `kwind load`: grows a crowd of bots, or the world that they see, step by step until a limit
// breaks. The first half of a step lets connections and filters settle; figures are of the second
// half.
#include <fmt/format.h>

#include <atomic>
#include <charconv>
#include <cmath>
#include <csignal>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.h"
#include "harbour_world.h"
#include "kwind/io/clock.h"
#include "kwind/json/text.h"
#include "load_target.h"
#include "plot.h"

namespace kwind::tool {
namespace {

std::atomic<bool> g_stopped = false;

// A number, or one that grows: "200..1000/200".
struct Ramp {
  std::size_t from = 0;
  std::size_t to = 0;
  std::size_t step = 0;
  [[nodiscard]] bool grows() const { return from < to; }
};

// "10" or "10..200/10": from, to, and the size of a step.
std::optional<Ramp> ramp_of(std::string_view text) {
  Ramp ramp;
  const auto number = [&](std::size_t& to) {
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), to);
    if (error != std::errc{} || to == 0) return false;
    text.remove_prefix(static_cast<std::size_t>(end - text.data()));
    return true;
  };
  if (!number(ramp.from)) return std::nullopt;
  if (text.empty()) {
    ramp.to = ramp.from;
    return ramp;
  }
  if (!text.starts_with("..")) return std::nullopt;
  text.remove_prefix(2);
  if (!number(ramp.to) || ramp.to <= ramp.from || !text.starts_with("/")) return std::nullopt;
  text.remove_prefix(1);
  if (!number(ramp.step) || !text.empty()) return std::nullopt;
  return ramp;
}

struct Step {
  std::size_t bots = 0;
  bots::CrowdStats seen;
  std::optional<bots::HarbourLoad> harbour;
};

// What can be limited, how it reads off a step, and what it is in words.
struct Measure {
  const char* name;
  const char* unit;
  const char* text;
  std::optional<double> (*of)(const Step&);
};
std::optional<double> at_99(const bots::Histogram& values) {
  return values.count() > 0 ? std::optional(values.at(0.99)) : std::nullopt;
}
// Nothing before a datagram was sent.
std::optional<double> loss_of(const Step& step) {
  if (step.seen.datagrams_sent == 0) return std::nullopt;
  return 100.0 * static_cast<double>(step.seen.packets_lost) /
         static_cast<double>(step.seen.datagrams_sent);
}
const Measure kMeasures[] = {
    {"gone", "%", "bots that did not come in, or were gone",
     [](const Step& step) -> std::optional<double> {
       return 100.0 * static_cast<double>(step.seen.wanted - step.seen.there) /
              static_cast<double>(std::max<std::size_t>(1, step.seen.wanted));
     }},
    {"rtt", "ms", "round trip, 99th percentile",
     [](const Step& step) { return at_99(step.seen.round_trips); }},
    {"answer", "ms", "from a request to its answer, 99th percentile",
     [](const Step& step) { return at_99(step.seen.answers); }},
    {"gap", "ms", "between two snapshots of a bot, 99th percentile",
     [](const Step& step) { return at_99(step.seen.gaps); }},
    {"loss", "%", "datagrams of the bots lost", loss_of},
    {"tick", "ms", "CPU time of a server tick, 99th percentile (--harbour)",
     [](const Step& step) { return step.harbour ? at_99(step.harbour->ticks) : std::nullopt; }},
};

struct Limit {
  const Measure* measure;
  double value;
};

// "rtt=50": the name of a measure and its largest value.
std::optional<Limit> limit_of(const std::string& text) {
  const auto equals = text.find('=');
  for (const Measure& measure : kMeasures) {
    if (text.substr(0, equals) != measure.name || equals == std::string::npos) continue;
    const char* const begin = text.c_str() + equals + 1;
    char* end = nullptr;
    const double value = std::strtod(begin, &end);
    if (end == begin || *end != '\0' || !(value >= 0)) return std::nullopt;
    return Limit{&measure, value};
  }
  return std::nullopt;
}

// All measures with their meanings, for --help.
std::string limits_text() {
  std::string text = "Limits, as in --limit rtt=50:";
  for (const Measure& measure : kMeasures) {
    text += fmt::format("\n  {:<7} {:<3} {}", measure.name, measure.unit, measure.text);
  }
  return text;
}

double kbit_a_bot(std::uint64_t bytes, const Step& step) {
  return static_cast<double>(bytes) * 8 / 1000 / step.seen.seconds /
         static_cast<double>(std::max<std::size_t>(1, step.seen.there));
}
double state_bytes(const Step& step) {
  return step.seen.snapshots > 0 ? static_cast<double>(step.seen.state_bits) / 8 /
                                       static_cast<double>(step.seen.snapshots)
                                 : 0;
}
std::string two(const bots::Histogram& values) {
  if (values.count() == 0) return "-";
  return fmt::format("{:.1f}, {:.1f}", values.at(0.5), values.at(0.99));
}

class Run {
 public:
  Run(const LoadArguments& arguments, const Ramp& bots, const Ramp& entities,
      std::vector<Limit> limits)
      : arguments_(arguments), bots_(bots), entities_(entities), limits_(std::move(limits)) {}

  // Step by step: so many bots, so many seconds, a row of figures; the first limit that breaks ends
  // it.
  int run(bots::CrowdOptions options, bots::Harbour* harbour) {
    bots::Crowd crowd(std::move(options));
    header(harbour != nullptr);
    const bool more_bots = bots_.grows();
    const Ramp& ramp = more_bots ? bots_ : entities_;
    std::string broken;
    for (std::size_t at = ramp.from; broken.empty() && !g_stopped;) {
      const std::size_t bots = more_bots ? at : bots_.from;
      if (harbour != nullptr) harbour->fill_up_to(more_bots ? entities_.from : at);
      const std::string problem = crowd.grow_to(bots);
      if (!problem.empty()) {
        fmt::print(stderr, "kwind load: {}\n", problem);
        return kFoundWrong;
      }
      const auto stop = [] { return g_stopped.load(); };
      const Duration hold(static_cast<Duration::rep>(arguments_.hold_seconds * 1e9));
      // The first half is for coming in and settling; how long they took to is kept.
      crowd.run(io::now() + hold / 2, stop);
      const bots::CrowdStats coming = crowd.take();
      if (harbour != nullptr) harbour->take();
      crowd.run(io::now() + hold / 2, stop);
      is_cut_short_ = g_stopped;  // then the step says nothing about what holds
      Step step{bots, crowd.take(), std::nullopt};
      step.seen.connecting.add(coming.connecting);
      for (const auto& [reason, count] : coming.ends) step.seen.ends[reason] += count;
      if (harbour != nullptr) step.harbour = harbour->take();
      row(step);
      if (!is_cut_short_) broken = broken_limit(step);
      steps_.push_back(std::move(step));
      if (at == ramp.to) break;
      at += std::min(ramp.step, ramp.to - at);
    }
    crowd.close();
    if (steps_.empty()) return kFoundWrong;
    finish(broken);
    if (!arguments_.picture.empty() && !draw()) return kFoundWrong;
    return broken.empty() ? kFine : kFoundWrong;
  }

 private:
  // Headings of the table.
  void header(bool harbour) const {
    if (arguments_.json) return;
    fmt::print("{:>6} {:>6} {:>8} {:>14} {:>6} {:>9} {:>15} {:>9}{}\n", "bots", "there", "entities",
               "round trip ms", "lost", "snapshot", "snapshot gap ms", "in",
               harbour ? fmt::format(" {:>14} {:>5}", "tick ms", "core") : "");
    fmt::print("{:>6} {:>6} {:>8} {:>14} {:>6} {:>9} {:>15} {:>9}{}\n", "", "", "seen", "p50, p99",
               "%", "bytes", "p50, p99", "kbit/s",
               harbour ? fmt::format(" {:>14} {:>5}", "p50, p99", "%") : "");
  }
  // One step's figures.
  void row(const Step& step) const {
    if (arguments_.json) return;
    const bots::CrowdStats& seen = step.seen;
    fmt::print("{:>6} {:>6} {:>8.1f} {:>14} {:>6} {:>9.1f} {:>15} {:>9.1f}", step.bots, seen.there,
               seen.entities, two(seen.round_trips),
               loss_of(step) ? fmt::format("{:.2f}", *loss_of(step)) : "-", state_bytes(step),
               two(seen.gaps), kbit_a_bot(seen.bytes_in, step));
    if (step.harbour) {
      fmt::print(" {:>14} {:>5.0f}", two(step.harbour->ticks), step.harbour->busy * 100);
    }
    fmt::print("\n");
    std::fflush(stdout);
  }

  // Which limit the step breaks, in a sentence; "" if none.
  std::string broken_limit(const Step& step) const {
    for (const Limit& limit : limits_) {
      const auto value = limit.measure->of(step);
      if (!value || *value <= limit.value) continue;
      std::string text = fmt::format("{} = {:.2f} {} is above {:g}: {}", limit.measure->name,
                                     *value, limit.measure->unit, limit.value, limit.measure->text);
      for (const auto& [reason, count] : step.seen.ends) {
        text += fmt::format("\n  {} bot{}: {}", count, count == 1 ? "" : "s", reason);
      }
      return text;
    }
    return {};
  }
  [[nodiscard]] std::string place_of(const Step& step) const {
    return bots_.grows() || !step.harbour ? fmt::format("{} bots", step.bots)
                                          : fmt::format("{} entities", step.harbour->entities);
  }

  // Bars of a sort of values, from the least to the most.
  static void bars(const char* what, const bots::Histogram& values) {
    if (values.count() == 0) return;
    fmt::print("\n{}: {} values, p50 {:.2f}, p90 {:.2f}, p99 {:.2f}, p99.9 {:.2f}, most {:.2f}\n",
               what, values.count(), values.at(0.5), values.at(0.9), values.at(0.99),
               values.at(0.999), values.max());
    if (values.max() == 0) return;  // all of them are in one place
    std::uint64_t max = 1;
    const auto rows = values.rows(10);
    for (const auto& row : rows) max = std::max(max, row.count);
    for (const auto& row : rows) {
      const double share = static_cast<double>(row.count) / static_cast<double>(values.count());
      const auto width = static_cast<std::size_t>(
          std::ceil(50 * static_cast<double>(row.count) / static_cast<double>(max)));
      fmt::print("  below {:>8.2f} {:>6.2f} % {}\n", row.below, share * 100,
                 std::string(width, '#'));
    }
  }

  // The last step that held, or all of it.
  void finish(const std::string& broken) const {
    if (arguments_.json) return print_json(broken);
    const Step& last = steps_.back();
    bots::Histogram connecting;
    for (const Step& step : steps_) connecting.add(step.seen.connecting);
    bars("connecting, ms, all steps", connecting);
    if (steps_.size() > 1) fmt::print("\nin the last step");
    bars("round trip, ms", last.seen.round_trips);
    bars("from request to answer, ms", last.seen.answers);
    bars("between snapshots of a bot, ms", last.seen.gaps);
    bars("lost of a bot's datagrams, %", last.seen.losses);
    fmt::print("\n");
    if (last.seen.messages_sent + last.seen.messages_refused > 0) {
      fmt::print(
          "messages     {} sent, {} held back by limits, {} received; {} requests without answer\n",
          last.seen.messages_sent, last.seen.messages_refused, last.seen.messages_received,
          last.seen.requests_unanswered);
    }
    fmt::print("state        {} snapshots, {} that could not be read\n", last.seen.snapshots,
               last.seen.snapshots_refused);
    fmt::print("the bots     took {:.1f} ms a round (p99): times above may be so much too long\n",
               last.seen.turns.at(0.99));
    if (last.harbour && last.harbour->skipped > 0) {
      fmt::print("the server   left out {} ticks\n", last.harbour->skipped);
    }
    if (!broken.empty()) {
      fmt::print("\nbroke at {}: {}\n", place_of(last), broken);
      if (steps_.size() > 1) fmt::print("held at {}\n", place_of(steps_[steps_.size() - 2]));
    } else {
      fmt::print("\n");
      if (is_cut_short_) fmt::print("stopped at {}, before they were measured\n", place_of(last));
      const std::size_t held = steps_.size() - (is_cut_short_ ? 1 : 0);
      if (held > 0) fmt::print("held at {}\n", place_of(steps_[held - 1]));
    }
  }

  // Steps with their figures as JSON.
  void print_json(const std::string& broken) const {
    nlohmann::ordered_json all{{"steps", nlohmann::ordered_json::array()}};
    const auto spread = [](const bots::Histogram& values) {
      nlohmann::ordered_json object{{"count", values.count()}};
      if (values.count() == 0) return object;
      object.update({{"p50", values.at(0.5)},
                     {"p90", values.at(0.9)},
                     {"p99", values.at(0.99)},
                     {"p999", values.at(0.999)},
                     {"most", values.max()}});
      return object;
    };
    for (const Step& step : steps_) {
      const bots::CrowdStats& seen = step.seen;
      nlohmann::ordered_json one{{"bots", step.bots},
                                 {"there", seen.there},
                                 {"seconds", seen.seconds},
                                 {"entities_seen", seen.entities},
                                 {"connecting_ms", spread(seen.connecting)},
                                 {"round_trip_ms", spread(seen.round_trips)},
                                 {"answer_ms", spread(seen.answers)},
                                 {"snapshot_gap_ms", spread(seen.gaps)},
                                 {"lost_percent_of_a_bot", spread(seen.losses)},
                                 {"bots_round_ms", spread(seen.turns)},
                                 {"state_bytes_per_snapshot", state_bytes(step)},
                                 {"snapshots", seen.snapshots},
                                 {"snapshots_refused", seen.snapshots_refused},
                                 {"kbit_a_second_in", kbit_a_bot(seen.bytes_in, step)},
                                 {"kbit_a_second_out", kbit_a_bot(seen.bytes_out, step)},
                                 {"messages_sent", seen.messages_sent},
                                 {"messages_held_back", seen.messages_refused},
                                 {"messages_received", seen.messages_received},
                                 {"requests_unanswered", seen.requests_unanswered}};
      if (const auto loss = loss_of(step)) one["lost_percent"] = *loss;
      if (step.harbour) {
        one["tick_ms"] = spread(step.harbour->ticks);
        one["core_percent"] = step.harbour->busy * 100;
        one["ticks_left_out"] = step.harbour->skipped;
        one["entities"] = step.harbour->entities;
      }
      one["ends"] = seen.ends;
      all["steps"].push_back(std::move(one));
    }
    all["last_step_cut_short"] = is_cut_short_;
    all["broken"] =
        broken.empty() ? nlohmann::ordered_json(nullptr) : nlohmann::ordered_json(broken);
    fmt::print("{}\n", json::text_of(all, 2));
  }

  // How what was limited, and the round trip, grew from step to step.
  [[nodiscard]] bool draw() const {
    std::string data;
    for (const Step& step : steps_) {
      const bool bots = bots_.grows() || !step.harbour;
      data += fmt::format("{} {} {} {} {}\n", bots ? step.bots : step.harbour->entities,
                          step.seen.round_trips.at(0.5), step.seen.round_trips.at(0.99),
                          step.seen.gaps.at(0.99),
                          step.harbour ? step.harbour->ticks.at(0.99) : std::nan(""));
    }
    const bool with_tick = steps_.back().harbour.has_value();
    std::string script = fmt::format(
        "set title 'kwind load: {} s a step'\nset xlabel '{}'\nset ylabel 'milliseconds'\n"
        "set yrange [0:*]\nset grid ytics\nset key below\n$d << END\n{}END\n"
        "plot $d using 1:2 with linespoints pt 7 lw 2 lc rgb '#2f7f94' title 'round trip, median', "
        "\\\n"
        "  $d using 1:3 with linespoints pt 7 lw 2 lc rgb '#c2673c' title 'round trip, 99th "
        "percentile', "
        "\\\n  $d using 1:4 with linespoints pt 7 lw 2 lc rgb '#d9a441' title 'between "
        "snapshots, 99th percentile'",
        arguments_.hold_seconds, bots_.grows() || !with_tick ? "bots" : "entities", data);
    if (with_tick) {
      script +=
          ", \\\n  $d using 1:5 with linespoints pt 7 lw 2 lc rgb '#22303a' title 'server tick, "
          "99th percentile'";
    }
    for (const Limit& limit : limits_) {
      if (std::string_view(limit.measure->unit) != "ms") continue;
      script += fmt::format(", \\\n  {} with lines dt 2 lc rgb '#8a9aa5' title 'limit: {}'",
                            limit.value, limit.measure->name);
    }
    if (draw_file(script + "\n", 1280, 800, arguments_.picture)) return true;
    fmt::print(stderr,
               "--chart {}: it could not be drawn; install the package gnuplot-nox, and see that "
               "the folder can be written\n",
               arguments_.picture);
    return false;
  }

  const LoadArguments& arguments_;
  Ramp bots_;
  Ramp entities_;
  std::vector<Limit> limits_;
  std::vector<Step> steps_;
  bool is_cut_short_ = false;  // the last of them
};

// Options that contradict each other, or are out of range. Empty: none do.
std::string contradiction(const LoadArguments& arguments, const Ramp& bots, const Ramp& entities) {
  constexpr std::size_t kMaxBots = 60000;
  if (bots.to > kMaxBots) return fmt::format("--bots: 1 to {}", kMaxBots);
  if (bots.grows() && entities.grows()) return "bots or entities grow, not both";
  if (!arguments.harbour && arguments.server.empty()) {
    return "name a server with --server HOST:PORT, or --harbour";
  }
  if (arguments.harbour && !arguments.server.empty()) {
    return "--harbour is a server of its own: leave --server out";
  }
  if (arguments.harbour && !(arguments.description.empty() && arguments.key.empty() &&
                             arguments.ticket.empty() && arguments.rate == LoadArguments{}.rate &&
                             arguments.ticks_per_second == LoadArguments{}.ticks_per_second)) {
    return "--harbour has its own description, key, rate and ticks: leave FILE, --server-key, "
           "--ticket, --message-rate and --tick-rate out";
  }
  if (!arguments.harbour && arguments.entities != LoadArguments{}.entities) {
    return "--entities are those of --harbour";
  }
  if (entities.from < bots::Harbour::kMin || entities.to > harbour_world::kEntities.up_to) {
    return fmt::format("--entities: {} to {}", bots::Harbour::kMin, harbour_world::kEntities.up_to);
  }
  return {};
}

// The limits of --limit; bots that are gone are one where it is not named.
tl::expected<std::vector<Limit>, std::string> limits_of(const LoadArguments& arguments) {
  std::vector<Limit> limits;
  bool gone = false;
  for (const std::string& text : arguments.limits) {
    const auto limit = limit_of(text);
    if (!limit) {
      return tl::unexpected(fmt::format("--limit {}: write NAME=NUMBER\n{}", text, limits_text()));
    }
    if (!arguments.harbour && std::string_view(limit->measure->name) == "tick") {
      return tl::unexpected(std::string(
          "--limit tick: ticks are seen of a server in this process only, with --harbour"));
    }
    gone = gone || limit->measure == &kMeasures[0];
    limits.push_back(*limit);
  }
  if (!gone) limits.insert(limits.begin(), {&kMeasures[0], 0});
  return limits;
}

// Whether the chart can be written: found out before the run rather than after it.
int check_picture(const LoadArguments& arguments) {
  if (arguments.picture.empty()) return kFine;
  std::error_code error;
  const std::filesystem::path picture = std::filesystem::absolute(arguments.picture, error);
  const std::string ending = picture.extension().string();
  if (ending != ".svg" && ending != ".png") {
    return load_used_wrongly(
        fmt::format("--chart writes FILE.svg or FILE.png, not {}", arguments.picture));
  }
  if (!std::filesystem::is_directory(picture.parent_path(), error)) {
    fmt::print(stderr, "--chart {}: there is no folder {}; make it first\n", arguments.picture,
               picture.parent_path().string());
    return kFoundWrong;
  }
  return kFine;
}

// Checks the options, finds or opens the target, runs.
int run_load(const LoadArguments& arguments) {
  const auto bots = ramp_of(arguments.bots);
  const auto entities = ramp_of(arguments.entities);
  if (!bots || !entities) {
    return load_used_wrongly(
        fmt::format("{} {}: write a number, or how it grows, as in 200..1000/200",
                    bots ? "--entities" : "--bots", bots ? arguments.entities : arguments.bots));
  }
  if (const std::string why = contradiction(arguments, *bots, *entities); !why.empty()) {
    return load_used_wrongly(why);
  }
  auto limits = limits_of(arguments);
  if (!limits) return load_used_wrongly(limits.error());
  if (const int result = check_picture(arguments); result != kFine) return result;
  LoadTarget target;
  if (const int result = target.open(arguments, bots->to); result != kFine) return result;
  std::signal(SIGINT, [](int) { g_stopped = true; });
  std::signal(SIGTERM, [](int) { g_stopped = true; });
  return Run(arguments, *bots, *entities, std::move(*limits))
      .run(std::move(target.options), target.harbour.get());
}

}  // namespace

// The options of `kwind load`.
void add_load(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<LoadArguments>();
  Command command = app.add_subcommand(
      "load", "Let bots loose on a server, more and more of them, until a limit breaks");
  command.add_option("FILE", arguments->description, "The server's description, a .kw file");
  command
      .add_option("--server", arguments->server,
                  "The server to load; over a web socket: ws://HOST:PORT/PATH")
      .type_name("HOST:PORT");
  command.add_option("--server-key", arguments->key, "The server's public key, or a file with it")
      .type_name("KEY|FILE");
  command.add_option("--ticket", arguments->ticket, "A ticket or password for all bots")
      .type_name("TEXT|FILE");
  command.add_flag("--plaintext", arguments->plaintext, "Encrypt nothing; on this machine only");
  command.add_flag("--harbour", arguments->harbour,
                   "Be the server, too: Saltmarsh Harbour, in this process");
  command.add_option("--bots", arguments->bots, "How many, or how they grow: FROM..TO/STEP")
      .type_name("N")
      .capture_default_str();
  command
      .add_option("--entities", arguments->entities,
                  "Of the harbour: how many, or how they grow: FROM..TO/STEP")
      .type_name("N")
      .capture_default_str();
  command.add_option("--hold", arguments->hold_seconds, "How long a step takes; half of it counts")
      .type_name("SECONDS")
      .range(1.0, 3600.0)
      .capture_default_str();
  command
      .add_option("--message-rate", arguments->rate,
                  "Made-up messages a second of each bot, of all kinds that a client may send")
      .range(0.0, 1000.0)
      .capture_default_str();
  command.add_option("--tick-rate", arguments->ticks_per_second, "Of the server's world, a second")
      .range(1.0, 240.0)
      .capture_default_str();
  command.add_option("--limit", arguments->limits, "What ends it; see below. Always: gone=0")
      .type_name("NAME=NUMBER");
  command.add_option("--chart", arguments->picture, "Draw how times grew from step to step")
      .type_name("FILE.png|svg");
  command.add_option("--seed", arguments->seed, "Of the made-up messages").capture_default_str();
  command.add_flag("--json", arguments->json, "Print one JSON object at the end");
  command.footer(
      limits_text() +
      "\n\nExamples:\n"
      "  kwind load --harbour --bots 100..1000/100 --limit tick=25 --limit rtt=50\n"
      "  kwind load --harbour --bots 100 --entities 1300..20000/2000 --limit tick=25\n"
      "  kwind load harbour.kw --server 127.0.0.1:4000 --server-key server.pub --bots 200\n\n"
      "Exit code 0 when all steps held, 1 when a limit broke.");
  command.callback([arguments, &chosen] { chosen = [arguments] { return run_load(*arguments); }; });
}

}  // namespace kwind::tool
