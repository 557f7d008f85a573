// `kwind lag`: a bad path between clients and a server, by options, by name or by a timetable.
#include <fmt/format.h>

#include <memory>
#include <nlohmann/json.hpp>
#include <sstream>

#include "capture/files.h"
#include "commands.h"
#include "interrupt.h"
#include "kwind/io/clock.h"
#include "kwind/json/text.h"
#include "lag/proxy.h"

namespace kwind::tool {
namespace {

using io::sim::Conditions;

struct Ways {
  double delay_ms = -1;
  double jitter_ms = -1;
  double loss = -1;
  double loss_run = -1;
  double duplicate = -1;
  double reorder = -1;
  double rate_kbit = -1;
  double queue_kib = -1;

  // Options that were given replace those of the preset; negative stands for "not given".
  void apply(Conditions& c) const {
    const auto ms = [](double v) { return Duration(static_cast<Duration::rep>(v * 1e6)); };
    if (delay_ms >= 0) c.delay = ms(delay_ms);
    if (jitter_ms >= 0) c.jitter = ms(jitter_ms);
    if (loss >= 0) c.loss = loss / 100;
    if (loss_run >= 0) c.loss_run = loss_run;
    if (duplicate >= 0) c.duplicate = duplicate / 100;
    if (reorder >= 0) c.reorder = reorder / 100;
    if (rate_kbit >= 0) c.rate = rate_kbit * 125;
    if (queue_kib >= 0) c.queue_bytes = static_cast<std::size_t>(queue_kib * 1024);
  }
};

struct LagArguments {
  std::string listen = "127.0.0.1:4100";
  std::string to;
  std::string preset;
  Ways both;
  Ways up;
  Ways down;
  std::string timetable;
  std::string record;
  std::uint64_t seed = 1;
  double seconds = 0;
  bool json = false;
  bool list = false;
};

// The conditions of one direction, in words.
std::string one_way(const Conditions& c) {
  std::string text =
      fmt::format("{} ms", std::chrono::duration<double, std::milli>(c.delay).count());
  if (c.jitter > Duration{0}) {
    text += fmt::format(" +-{} ms", std::chrono::duration<double, std::milli>(c.jitter).count());
  }
  if (c.loss > 0) {
    text += fmt::format(", loss {} %", c.loss * 100);
    if (c.loss_run > 1) text += fmt::format(" in runs of {}", c.loss_run);
  }
  if (c.duplicate > 0) text += fmt::format(", doubled {} %", c.duplicate * 100);
  if (c.reorder > 0) text += fmt::format(", held back {} %", c.reorder * 100);
  if (c.rate > 0) {
    text += fmt::format(", {:.0f} kbit/s with {:.0f} KiB of queue", c.rate / 125,
                        static_cast<double>(c.queue_bytes) / 1024);
  }
  return text;
}

// All presets with what they do to each direction.
int list_presets(bool json) {
  nlohmann::ordered_json out;
  if (!json) fmt::print("{:<10} {:<36} each way\n", "preset", "");
  for (const lag::Preset& each : lag::presets()) {
    if (json) {
      out.push_back(
          {{"name", each.name}, {"what", each.what}, {"each_way", one_way(each.each_way)}});
    } else {
      fmt::print("{:<10} {:<36} {}\n", each.name, each.what, one_way(each.each_way));
    }
  }
  if (json) {
    fmt::print("{}\n", json::text_of(out, 2));
  } else {
    fmt::print("Round values of our own making, to have names for kinds of path.\n");
  }
  return kFine;
}

// Counts of one direction as JSON.
nlohmann::ordered_json to_json(const lag::DirectionCounts& way) {
  return {{"datagrams", way.datagrams},       {"bytes", way.bytes},
          {"lost", way.paths.lost},           {"duplicated", way.paths.duplicated},
          {"reordered", way.paths.reordered}, {"overflowed", way.paths.overflowed}};
}

// Two lines of headings, one above the other.
void print_header() {
  fmt::print(
      "{:>6} {:>8}   {:<46}  {}\n{:>6} {:>8}   {:>8} {:>8} {:>6} {:>6} {:>6} {:>6}   {:>8} {:>8} "
      "{:>6} {:>6} {:>6} {:>6}\n",
      "", "", "to server", "to clients", "s", "clients", "dgrams/s", "kbit/s", "lost", "dupl",
      "held", "full", "dgrams/s", "kbit/s", "lost", "dupl", "held", "full");
}

// Rates of one direction since the last line.
std::string direction_text(const lag::DirectionCounts& before, const lag::DirectionCounts& now,
                           double seconds) {
  return fmt::format(
      "{:>8.0f} {:>8.0f} {:>6} {:>6} {:>6} {:>6}",
      static_cast<double>(now.datagrams - before.datagrams) / seconds,
      static_cast<double>(now.bytes - before.bytes) * 8 / 1000 / seconds,
      now.paths.lost - before.paths.lost, now.paths.duplicated - before.paths.duplicated,
      now.paths.reordered - before.paths.reordered, now.paths.overflowed - before.paths.overflowed);
}

// The conditions of both directions: a preset, then options for both, then options for one.
// Returns nothing, and says so, if there is no such preset.
std::optional<lag::BothWays> conditions_of(const LagArguments& arguments) {
  lag::BothWays conditions;
  if (!arguments.preset.empty()) {
    std::string problem;
    const auto preset = lag::preset(arguments.preset, problem);
    if (!preset) {
      fmt::print(stderr, "--preset: {}\n", problem);
      return std::nullopt;
    }
    conditions = {*preset, *preset};
  }
  for (Conditions* way : {&conditions.up, &conditions.down}) arguments.both.apply(*way);
  arguments.up.apply(conditions.up);
  arguments.down.apply(conditions.down);
  return conditions;
}

// Says what changes, where the conditions do.
void print_conditions(std::FILE* status, double at, const lag::BothWays& now) {
  const std::string up = one_way(now.up);
  const std::string down = one_way(now.down);
  fmt::print(status, "from {:.0f} s: {}\n", at,
             up == down ? "both directions: " + up : "to server " + up + "; to clients " + down);
}

// Passes datagrams on until the time is over or somebody interrupts, by the timetable, with a line
// a second.
void pass_on(const LagArguments& arguments, lag::Proxy& proxy, const lag::Timetable& timetable,
             std::FILE* status) {
  const Time start = io::now();
  lag::ProxyCounts shown = proxy.counts();
  std::size_t next_step = 0;
  double next_second = 1;
  const auto elapsed = [&] { return std::chrono::duration<double>(io::now() - start).count(); };
  while (!interrupted() && (arguments.seconds <= 0 || elapsed() < arguments.seconds)) {
    for (; next_step < timetable.steps.size() && elapsed() >= timetable.steps[next_step].at;
         ++next_step) {
      const lag::Step& step = timetable.steps[next_step];
      proxy.set_conditions(step.conditions);
      print_conditions(status, step.at, step.conditions);
    }
    proxy.run_once(io::now() + std::chrono::milliseconds(50));
    if (elapsed() < next_second) continue;
    const lag::ProxyCounts now = proxy.counts();
    if (!arguments.json) {
      fmt::print("{:>6.0f} {:>8}   {}   {}\n", next_second, now.clients,
                 direction_text(shown.up, now.up, 1), direction_text(shown.down, now.down, 1));
    }
    std::fflush(status);
    shown = now;
    next_second += 1;
  }
}

// Sums over the run, when it ends.
void print_totals(const LagArguments& arguments, const lag::Proxy& proxy, const Endpoint& server) {
  const lag::ProxyCounts all = proxy.counts();
  if (arguments.json) {
    fmt::print("{}\n", json::text_of({{"listening", proxy.local().text()},
                                      {"server", server.text()},
                                      {"seed", arguments.seed},
                                      {"clients", all.clients},
                                      {"refused", all.refused},
                                      {"too_long", all.too_long},
                                      {"to_server", to_json(all.up)},
                                      {"to_client", to_json(all.down)}},
                                     2));
  } else {
    fmt::print("in all: {} datagrams to the server, {} lost; {} to clients, {} lost\n",
               all.up.datagrams, all.up.paths.lost + all.up.paths.overflowed, all.down.datagrams,
               all.down.paths.lost + all.down.paths.overflowed);
  }
  if (all.refused > 0) {
    fmt::print(stderr,
               "{} datagrams were refused: {} clients at once are the most, each takes a socket "
               "(`ulimit -n`)\n",
               all.refused, lag::Proxy::kMaxClients);
  }
  if (all.too_long > 0) {
    fmt::print(stderr, "{} datagrams were longer than 2048 bytes and dropped\n", all.too_long);
  }
}

// Whether the recording is what it should be.
bool is_fine(CaptureFile& capture) {
  const std::string problem = capture.problem();
  if (!problem.empty()) fmt::print(stderr, "--record {}\n", problem);
  return problem.empty();
}

// Between the server at `server` and clients that come to `transport`.
int stand_between(const LagArguments& arguments, const Endpoint& server,
                  std::unique_ptr<io::UdpTransport> transport, const lag::BothWays& conditions,
                  const lag::Timetable& timetable) {
  lag::Proxy proxy(std::move(transport), io::reachable(server), conditions, arguments.seed);
  std::optional<CaptureFile> capture;
  if (!arguments.record.empty()) {
    capture.emplace(arguments.record, fmt::format("kwind lag --server {}", arguments.to));
    if (!is_fine(*capture)) return kFoundWrong;
    proxy.watch(
        [&capture](Time now, const Endpoint& from, const Endpoint& to,
                   std::span<const std::byte> datagram) { capture->add(now, from, to, datagram); });
  }
  std::FILE* const status = arguments.json ? stderr : stdout;
  fmt::print(status, "listening on {}, server at {}, seed {}\n", proxy.local().text(),
             server.text(), arguments.seed);
  print_conditions(status, 0, conditions);
  if (!arguments.json) print_header();
  std::fflush(status);
  watch_interrupts();
  pass_on(arguments, proxy, timetable, status);
  print_totals(arguments, proxy, server);
  if (!capture) return kFine;
  if (!is_fine(*capture)) return kFoundWrong;
  fmt::print(status, "{}: {} datagrams as the clients saw them\n", arguments.record,
             capture->packets());
  return kFine;
}

// Opens the proxy, then one line a second until stopped.
int run_lag(const LagArguments& arguments) {
  if (arguments.list) return list_presets(arguments.json);
  if (arguments.to.empty()) {
    fmt::print(stderr, "kwind lag: --server HOST:PORT is required: where the server is\n");
    return kUsedWrongly;
  }
  const auto conditions = conditions_of(arguments);
  if (!conditions) return kUsedWrongly;
  lag::Timetable timetable;
  if (!arguments.timetable.empty()) {
    timetable = lag::read_timetable(arguments.timetable, *conditions);
    if (!timetable.problem.empty()) {
      fmt::print(stderr, "{}\n", timetable.problem);
      return kFoundWrong;
    }
  }
  const auto server = io::resolve(arguments.to);
  if (!server) {
    fmt::print(stderr, "--server {}: not HOST:PORT, or no such host\n", arguments.to);
    return kFoundWrong;
  }
  const auto here = io::resolve(arguments.listen);
  auto transport = here ? io::UdpTransport::open(*here) : tl::unexpected<Errc>(here.error());
  if (!transport) {
    fmt::print(stderr, "cannot listen on {}: {}\n", arguments.listen,
               error_info(transport.error()).text);
    return kFoundWrong;
  }
  return stand_between(arguments, *server, std::move(*transport), *conditions, timetable);
}

// The same options for both directions and for each.
void add_directions(Command command, Ways& ways, const std::string& prefix,
                    const std::string& which) {
  const auto add = [&](const char* name, double& value, double max, const char* what) {
    command.add_option("--" + prefix + name, value, what + which).range(0.0, max);
  };
  add("delay", ways.delay_ms, 10000, "Milliseconds one way");
  add("jitter", ways.jitter_ms, 10000, "The delay varies by this much, in milliseconds");
  add("loss", ways.loss, 100, "Datagrams lost, in percent");
  add("loss-run", ways.loss_run, 1000, "Mean length of a run of losses, in datagrams");
  add("duplicate", ways.duplicate, 100, "Datagrams duplicated, in percent");
  add("reorder", ways.reorder, 100, "Datagrams delayed by 40 ms more, in percent");
  add("bandwidth", ways.rate_kbit, 1e7, "Bottleneck in kbit/s, headers counted");
  add("queue", ways.queue_kib, 1e6, "Queue before the bottleneck, in KiB");
}

}  // namespace

// The options of `kwind lag`.
void add_lag(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<LagArguments>();
  Command command =
      app.add_subcommand("lag", "Put a bad path between any UDP clients and a server");
  command.add_option("--listen", arguments->listen, "Where clients are to connect")
      .type_name("HOST:PORT")
      .capture_default_str();
  command.add_option("--server", arguments->to, "Where the server is").type_name("HOST:PORT");
  command.add_option("--preset", arguments->preset, "Conditions by name; see --presets");
  command.add_flag("--presets", arguments->list, "List the presets");
  add_directions(command, arguments->both, "", ", both directions");
  add_directions(command, arguments->up, "to-server-", ", to the server");
  add_directions(command, arguments->down, "to-client-", ", to the clients");
  command
      .add_option("--timetable", arguments->timetable,
                  "Conditions that change over time: [[step]] with `at` in seconds")
      .type_name("FILE.toml");
  command
      .add_option("--record", arguments->record,
                  "Keep what passes on the clients' side in a capture")
      .type_name("FILE.pcapng");
  command.add_option("--seed", arguments->seed, "Chance of all that happens").capture_default_str();
  command.add_option("--seconds", arguments->seconds, "Stop by itself; 0: when interrupted")
      .range(0.0, 1e7)
      .capture_default_str();
  command.add_flag("--json", arguments->json, "Print one JSON object at the end");
  command.footer(
      "Example:\n  kwind lag --server 127.0.0.1:4000 --preset bus --to-server-loss 5\n"
      "Clients then connect to 127.0.0.1:4100. Counters are printed each second: datagrams and "
      "kbit\n"
      "per second that came in, and of them those lost, doubled, held back, and those that found "
      "the\n"
      "bottleneck's queue full.");
  command.callback([arguments, &chosen] { chosen = [arguments] { return run_lag(*arguments); }; });
}

}  // namespace kwind::tool
