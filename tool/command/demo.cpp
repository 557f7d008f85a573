// `kwind demo`: runs Saltmarsh Harbour with bots and holds what they saw against the server's
// world.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <csignal>
#include <filesystem>
#include <memory>
#include <vector>

#include "commands.h"
#include "demo/harbour_motion.h"
#include "demo/report.h"
#include "demo/run.h"
#include "demo/summary.h"
#include "demo/why.h"
#include "interrupt.h"
#include "kwind/json/text.h"
#include "read_files.h"
#ifdef KWIND_HAS_PAGE
#include "shore/shore_server.h"
#endif

namespace kwind::tool {
namespace {

using demo::Moment;

std::atomic<bool> g_interrupted = false;

// One line a second: rates since the last line.
void print_status(std::FILE* out, const Moment& before, const Moment& now) {
  const double seconds = now.seconds - before.seconds;
  const auto rate = [&](std::uint64_t to, std::uint64_t from) {
    return static_cast<double>(to - from) / seconds;
  };
  fmt::print(out,
             "{:>3.0f} s  {:>2} clients  datagrams/s out {:>4.0f} in {:>4.0f}  state {:>5.1f} "
             "B/client/tick  RTT {:>3.0f} ms  lost {:>3}\n",
             now.seconds, now.clients,
             rate(now.server.datagrams_sent, before.server.datagrams_sent),
             rate(now.server.datagrams_received, before.server.datagrams_received),
             demo::state_bytes(before, now), demo::mean(now.rtt_ms),
             now.server.packets_lost + now.bots.packets_lost);
  std::fflush(out);
}

// Bits of state by entity type and field.
void print_shares(const demo::Summary& summary) {
  double all = 0;
  for (const demo::FieldShare& share : summary.shares) all += share.bits;
  fmt::print("\n{:<10} {:<24} {:>24} {:>7}\n{:-<68}\n", "state of", "field",
             "bits per client and tick", "share", "");
  std::string before;
  for (const demo::FieldShare& share : summary.shares) {
    if (share.bits < 0.05) continue;
    fmt::print("{:<10} {:<24} {:>24.1f} {:>5.1f} %\n", share.kind == before ? "" : share.kind,
               share.field, share.bits, share.bits * 100 / std::max(1.0, all));
    before = share.kind;
  }
}

// Values compared, bytes sent, and the figures of the network.
void print_summary(const demo::Outcome& outcome) {
  const demo::Summary summary = demo::summarize(outcome);
  const replica::ReplicatorCounts& counts = outcome.server.counts_of_replicators;
  print_shares(summary);
  fmt::print("\n{:<10} {:<17} {:<36} {:>9} {:>7}\n{:-<83}\n", "sent", "direction", "delivery",
             "bytes", "share", "");
  for (const demo::TypeRow& row : summary.kinds) {
    fmt::print("{:<10} {:<17} {:<36} {:>9} {:>5.1f} %\n", row.name, row.direction, row.delivery,
               row.bytes, row.share * 100);
  }
  fmt::print("{:<10} {:<17} {:<36} {:>9}\n\n", "all", "",
             fmt::format("{} datagrams", summary.datagrams), summary.bytes);
  fmt::print(
      "state                 {:.1f} bytes per client and tick on average, 95th percentile {:.0f}, "
      "{}\n",
      summary.state_mean, summary.state_p95,
      outcome.server.codes != 0 ? "trained codes" : "built-in codes");
  fmt::print("as JSON               {:.0f} bytes for all in view, {:.0f}x as much\n", summary.json,
             summary.json / std::max(0.1, summary.state_mean));
  fmt::print(
      "entities              {:.1f} of 1300 in view, {:.1f} changed, {:.1f} sent, {:.1f} "
      "deferred\n",
      summary.in_view, summary.changed, summary.sent, summary.deferred);
  fmt::print("a datagram of state   {:.0f} bytes with IP and UDP; an input {:.1f} bytes\n",
             summary.datagram, summary.input_bytes);
  fmt::print("round trip            {:.0f} ms on average\n", summary.rtt_ms);
  fmt::print("lost, repeated        {} packets, {} ordered messages; {} snapshots discarded\n",
             summary.lost, summary.repeated, counts.discarded);
  for (const auto& [cause, count] : summary.drops) {
    fmt::print("dropped               {}: {}\n", count, cause);
  }
  for (const demo::BotVerdict& bot : outcome.verdict.bots) {
    if (bot.number != outcome.verdict.bots.size() || bot.complete_ms <= 0 || bot.number == 1)
      continue;
    fmt::print("late joiner           bot {} saw its tug and what is around it after {:.0f} ms\n",
               bot.number, bot.complete_ms);
  }
  fmt::print(
      "position error        {:.3f} m mean, {:.2f} m worst (bot {}), of what moves, at the tick "
      "drawn\n",
      outcome.verdict.mean_error, outcome.verdict.worst_error, outcome.verdict.worst_bot);
  fmt::print("compared              {} values, bit for bit\n\n", outcome.verdict.values);
}

#ifdef KWIND_HAS_PAGE
// PORT stands for 127.0.0.1:PORT.
int run_web(const demo::Settings& settings) {
  shore::Settings shore;
  const bool is_port = settings.web.find_first_not_of("0123456789") == std::string::npos;
  shore.address = is_port ? "127.0.0.1:" + settings.web : settings.web;
  shore.certificate_file = settings.certificate;
  shore.private_key_file = settings.private_key;
  shore.origins = settings.origins;
  shore.secret_key_file = settings.secret_key_file;
  shore.seed = settings.seed;
  watch_interrupts();
  const std::string problem = shore::serve(
      shore,
      [](const std::string& url) {
        fmt::print("Saltmarsh Harbour in a page: open {}  (Ctrl+C ends it)\n", url);
        std::fflush(stdout);
      },
      interrupted);
  if (problem.empty()) return kFine;
  fmt::print(stderr, "kwind demo --web: {}\n", problem);
  return kFoundWrong;
}
#else
int run_web(const demo::Settings&) {
  fmt::print(stderr,
             "kwind demo --web: this program has no page; build kwind with KWIND_WEB_PAGES=ON\n");
  return kUsedWrongly;
}
#endif

// Whether the report can be written: found out before the run rather than after it.
int check_report(const demo::Settings& settings) {
  if (settings.report.empty()) return kFine;
  std::error_code error;
  const auto folder = std::filesystem::absolute(settings.report, error).parent_path();
  if (!std::filesystem::is_directory(folder, error)) {
    fmt::print(stderr, "--report {}: there is no folder {}; make it first\n", settings.report,
               folder.string());
    return kFoundWrong;
  }
  if (std::filesystem::is_directory(settings.report, error)) {
    fmt::print(stderr, "--report {}: is a folder; name a file in it\n", settings.report);
    return kFoundWrong;
  }
  return kFine;
}

// Tables that `kwind train` made, for server and bots alike.
int load_code_tables(demo::Settings& settings) {
  if (settings.codes.empty()) return kFine;
  settings.code_tables = load_codes(settings.codes, harbour_world::kEntities);
  if (settings.code_tables == nullptr) return kFoundWrong;
  const auto trained = settings.code_tables->trained_on();
  if (!trained || (*trained == replica::SnapshotModes::speculative_baselines) ==
                      settings.speculative_baselines) {
    return kFine;
  }
  fmt::print(stderr,
             "{}: these code tables were trained on {} snapshots, and this demo makes {} ones: "
             "they would "
             "cost more than the built-in tables; {}\n",
             settings.codes, settings.speculative_baselines ? "exact" : "speculative",
             settings.speculative_baselines ? "speculative" : "exact",
             settings.speculative_baselines
                 ? "leave out --speculative-baselines, or train on a recording made with it"
                 : "add --speculative-baselines, or train on a recording made without it");
  return kFoundWrong;
}

// Whose updates are to be explained.
int find_why(demo::Settings& settings) {
  if (settings.why.empty()) return kFine;
  const demo::NamedEntity named = demo::entity_named(settings.why, settings.seed);
  settings.why_id = named.id;
  settings.why_type = named.type;
  if (named.problem.empty()) return kFine;
  fmt::print(stderr, "--why: {}\n", named.problem);
  return kUsedWrongly;
}

// The conditions of the run, before the first second.
void print_settings(std::FILE* status, const demo::Settings& settings) {
  fmt::print(
      status,
      "Saltmarsh Harbour: {} bot{}, {} s, {} ms round trip, {} ms jitter, {} % loss each way, "
      "seed {}\n{}\n",
      settings.bots, settings.bots == 1 ? "" : "s", settings.seconds, settings.rtt_ms,
      settings.jitter_ms, settings.loss_percent, settings.seed,
      settings.plaintext ? "PLAINTEXT: datagrams are not encrypted; loopback only"
                         : "datagrams are encrypted under a key made for this run");
  if (!settings.keys.empty()) {
    fmt::print(status, "KEYS of all datagrams are written to {}: who has them can read it all\n",
               settings.keys);
  }
}

// Exit code 1 if a bot's copy differs from the server's world.
int print_outcome(std::FILE* status, const demo::Settings& settings, const demo::Outcome& outcome) {
  if (settings.json) {
    fmt::print("{}\n", json::text_of(demo::to_json(settings, outcome), 2));
  } else {
    print_summary(outcome);
    if (!settings.why.empty()) fmt::print("{}", demo::why_text(settings, outcome.server));
    for (const demo::BotVerdict& bot : outcome.verdict.bots) {
      if (!bot.agrees) fmt::print("bot {} does not agree: {}\n", bot.number, bot.why_not);
    }
    fmt::print("{} of {} bots agree with the server\n", outcome.verdict.agreeing,
               outcome.verdict.bots.size());
  }
  if (!settings.report.empty()) {
    const std::string problem = demo::write_report(settings.report, settings, outcome);
    if (!problem.empty()) {
      fmt::print(stderr, "{}\n", problem);
      return kFoundWrong;
    }
    fmt::print(status, "report: {}\n", settings.report);
  }
  if (!settings.record.empty()) {
    fmt::print(status,
               "capture: {}; kwind explain examples/harbour/harbour_world.kw --capture {}{}\n",
               settings.record, settings.record,
               settings.keys.empty() ? "" : " --key-log " + settings.keys);
  }
  return outcome.verdict.all_agree() ? kFine : kFoundWrong;
}

// The run itself, with a line for each second of it.
int run_demo(demo::Settings settings) {
  if (settings.web.empty()) {
    fmt::print(stderr, "kwind demo: --web takes a port, HOST:PORT, or nothing\n");
    return kUsedWrongly;
  }
  if (settings.web != "off") return run_web(settings);
  std::FILE* const status = settings.json ? stderr : stdout;
  if (const int result = check_report(settings); result != kFine) return result;
  if (!settings.record.empty() && settings.record == settings.keys) {
    fmt::print(stderr, "--record and --key-log: two files, not one\n");
    return kUsedWrongly;
  }
  if (const int result = load_code_tables(settings); result != kFine) return result;
  if (const int result = find_why(settings); result != kFine) return result;
  std::signal(SIGINT, [](int) { g_interrupted = true; });
  std::signal(SIGTERM, [](int) { g_interrupted = true; });
  print_settings(status, settings);
  const demo::Outcome outcome = demo::run(
      settings, [&](const Moment& before, const Moment& now) { print_status(status, before, now); },
      [] { return g_interrupted.load(); });
  if (!outcome.error.empty()) {
    fmt::print(stderr, "{}\n", outcome.error);
    return kFoundWrong;
  }
  return print_outcome(status, settings, outcome);
}

// The options of a run with bots. Returns those that mean nothing for a page.
std::vector<Option> add_run_options(Command command, demo::Settings& settings) {
  std::vector<Option> of_bots;
  const auto bots = [&](const Option& option) { of_bots.push_back(option); };
  bots(command.add_option("--seconds", settings.seconds, "How long the harbour is watched")
           .range(2, 600)
           .capture_default_str());
  bots(command
           .add_option("--bots", settings.bots,
                       "How many pilots; the last joins after half the time")
           .range(1, 40)
           .capture_default_str());
  bots(command.add_option("--rtt", settings.rtt_ms, "Round trip in milliseconds")
           .range(0, 2000)
           .capture_default_str());
  bots(command
           .add_option("--jitter", settings.jitter_ms,
                       "The round trip varies by this much, in milliseconds")
           .range(0, 1000)
           .capture_default_str());
  bots(command.add_option("--loss", settings.loss_percent, "Datagrams lost each way, in percent")
           .range(0.0, 50.0)
           .capture_default_str());
  command.add_option("--seed", settings.seed, "Chance of the link and the pilots")
      .capture_default_str();
  bots(command.add_option("--port", settings.port, "Port of the server; 0 lets the system choose")
           .range(0, 65535)
           .capture_default_str());
  bots(command
           .add_option("--capacity", settings.places,
                       "Maximum number of clients of the server; 0: the number of bots")
           .range(0, 40)
           .capture_default_str());
  bots(command.add_option("--report", settings.report, "Write an HTML report with charts")
           .type_name("FILE.html"));
  bots(
      command.add_option("--record", settings.record, "Keep what passes at the server in a capture")
          .type_name("FILE.pcapng"));
  bots(command
           .add_option("--key-log", settings.keys,
                       "Keep the keys of its datagrams, with which anybody can open that capture")
           .type_name("FILE"));
  bots(command.add_option("--code-tables", settings.codes, "Code tables that kwind train has made")
           .type_name("FILE.codes"));
  bots(command
           .add_option(
               "--why", settings.why,
               "Say of one entity, for each client: how often it was updated, how, and why not; "
               "an id, or a type for the first of it")
           .type_name("ENTITY"));
  bots(command.add_flag("--speculative-baselines", settings.speculative_baselines,
                        "Snapshots build on others that are still in flight"));
  bots(command.add_flag("--plaintext", settings.plaintext,
                        "Do not encrypt datagrams: for captures that anybody can read"));
  bots(command.add_flag("--json", settings.json,
                        "Print one JSON object at the end, progress on stderr"));
  return of_bots;
}

// The options of the page: all but --web go with it alone. `of_bots`: the options of a run with
// bots, none of which a page takes.
void add_page_options(Command command, demo::Settings& settings,
                      const std::vector<Option>& of_bots) {
  Option web =
      command
          .add_option(
              "--web", settings.web,
              "Serve a page to play in, and its web socket, until stopped; PORT of 127.0.0.1, or "
              "HOST:PORT")
          .type_name("PORT")
          .optional_value("8080");
  for (const Option& each : of_bots) web.excludes(each);
  command
      .add_option("--origin", settings.origins,
                  "With --web: pages of this origin may connect as well, https://HOST")
      .type_name("ORIGIN")
      .needs(web);
  command
      .add_option("--certificate", settings.certificate,
                  "With --web: serve https and wss with this certificate chain")
      .type_name("FILE.pem")
      .needs(web);
  command
      .add_option("--private-key", settings.private_key, "With --web: the key of the certificate")
      .type_name("FILE.pem")
      .needs(web);
  command
      .add_option("--secret-key-file", settings.secret_key_file,
                  "With --web: the server's key; without it each run has a new one")
      .type_name("FILE")
      .needs(web);
}

}  // namespace

// The options of `kwind demo`.
void add_demo(Command app, std::function<int()>& chosen) {
  auto settings = std::make_shared<demo::Settings>();
  Command command = app.add_subcommand("demo",
                                       "Run Saltmarsh Harbour: 1300 entities, a server and bots "
                                       "on real sockets, through a bad link");
  add_page_options(command, *settings, add_run_options(command, *settings));
  command.footer(
      "Example:\n  kwind demo --seconds 20 --loss 5 --report demo.html\n\n"
      "Exit code 0 when all bots agree with the server, 1 otherwise.");
  command.callback([settings, &chosen] { chosen = [settings] { return run_demo(*settings); }; });
}

}  // namespace kwind::tool
