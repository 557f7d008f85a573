#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <atomic>
#include <csignal>
#include <filesystem>
#include <memory>

#include "commands.h"
#include "demo/report.h"
#include "demo/run.h"
#include "demo/summary.h"

namespace kwind::tool {
namespace {

using demo::Moment;

std::atomic<bool> g_interrupted = false;

void print_status(std::FILE* out, const Moment& before, const Moment& now) {
  const double seconds = now.seconds - before.seconds;
  const auto rate = [&](std::uint64_t to, std::uint64_t from) {
    return static_cast<double>(to - from) / seconds;
  };
  fmt::print(out,
             "{:>3.0f} s  {:>2} clients  datagrams/s out {:>4.0f} in {:>4.0f}  {:>4.0f} "
             "B/client/tick  RTT {:>3.0f} ms  lost {:>3}  repeated {:>3}\n",
             now.seconds, now.clients,
             rate(now.server.datagrams_sent, before.server.datagrams_sent),
             rate(now.server.datagrams_received, before.server.datagrams_received),
             demo::bytes_per_client_tick(before, now), demo::mean(now.rtt_ms),
             now.server.packets_lost + now.bots.packets_lost,
             now.server.messages_repeated + now.bots.messages_repeated);
  std::fflush(out);
}

void print_summary(const demo::Outcome& outcome) {
  const demo::Summary summary = demo::summarize(outcome);
  fmt::print("\n{:<10} {:<17} {:<34} {:>9} {:>7}\n{:-<81}\n", "message", "direction", "delivery",
             "bytes", "share", "");
  for (const demo::KindRow& row : summary.kinds) {
    fmt::print("{:<10} {:<17} {:<34} {:>9} {:>5.1f} %\n", row.name, row.direction, row.delivery,
               row.bytes, row.share * 100);
  }
  fmt::print("{:<10} {:<17} {:<34} {:>9}\n", "all", "",
             fmt::format("{} datagrams", summary.datagrams), summary.bytes);
  fmt::print("{:<10} {:<17} {:<34} {:>9}  {:.1f}x as much\n\n", "as JSON", "",
             "text alone, no headers", summary.json_bytes, summary.json_ratio);
  fmt::print("per client and tick   {:.0f} bytes down, headers and acks included\n",
             summary.bytes_per_client_tick);
  fmt::print("round trip            {:.0f} ms in the mean\n", summary.rtt_ms);
  fmt::print("lost, repeated        {} packets, {} ordered messages\n", summary.lost,
             summary.repeated);
  for (const auto& [cause, count] : summary.drops) {
    fmt::print("dropped               {}: {}\n", count, cause);
  }
  for (const demo::BotRecord& bot : outcome.bots) {
    if (!bot.late || !bot.complete) continue;
    fmt::print("late joiner           bot {} held every tug's position and name after {:.0f} ms\n",
               bot.number,
               std::chrono::duration<double, std::milli>(*bot.complete - bot.started).count());
  }
  const demo::ErrorSplit& worst = outcome.verdict.worst;
  fmt::print(
      "position error        {:.2f} m mean, {:.2f} m worst (bot {}), of which {:.2f} m path delay, "
      "{:.2f} m send interval, {:.2f} m loss\n\n",
      outcome.verdict.mean_error, worst.total, outcome.verdict.worst_bot, worst.path,
      worst.interval, worst.loss);
}

int run_demo(const demo::Settings& settings) {
  std::FILE* const status = settings.json ? stderr : stdout;
  if (!settings.report.empty()) {  // found out now rather than after the run
    const auto folder = std::filesystem::absolute(settings.report).parent_path();
    std::error_code error;
    if (!std::filesystem::is_directory(folder, error)) {
      fmt::print(stderr, "--report {}: there is no folder {}; make it first\n", settings.report,
                 folder.string());
      return kFoundWrong;
    }
  }
  std::signal(SIGINT, [](int) { g_interrupted = true; });
  fmt::print(
      status,
      "Saltmarsh Harbour: {} bot{}, {} s, {} ms round trip, {} ms jitter, {} % loss each way, "
      "seed {}\n{}\n",
      settings.bots, settings.bots == 1 ? "" : "s", settings.seconds, settings.delay_ms,
      settings.jitter_ms, settings.loss_percent, settings.seed,
      settings.clear ? "CLEAR mode: datagrams are not encrypted; loopback only"
                     : "datagrams are sealed under a key made for this run");
  if (!settings.keys.empty()) {
    fmt::print(status, "KEYS of all datagrams are written to {}: who has them can read it all\n",
               settings.keys);
  }
  const demo::Outcome outcome = demo::run(
      settings, [&](const Moment& before, const Moment& now) { print_status(status, before, now); },
      [] { return g_interrupted.load(); });
  if (!outcome.error.empty()) {
    fmt::print(stderr, "{}\n", outcome.error);
    return kFoundWrong;
  }
  if (settings.json) {
    fmt::print("{}\n", demo::to_json(settings, outcome).dump(2));
  } else {
    print_summary(outcome);
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
    fmt::print(status, "capture: {}; kwind explain examples/harbour/harbour.kw --capture {}{}\n",
               settings.record, settings.record,
               settings.keys.empty() ? "" : " --keys " + settings.keys);
  }
  return outcome.verdict.all_agree() ? kFine : kFoundWrong;
}

}  // namespace

void add_demo(CLI::App& app, std::function<int()>& chosen) {
  auto settings = std::make_shared<demo::Settings>();
  CLI::App* command = app.add_subcommand(
      "demo", "Run Saltmarsh Harbour: a server and bots on real sockets, through a bad link");
  command->add_option("--seconds", settings->seconds, "How long the tugs sail")
      ->check(CLI::Range(2, 600))
      ->capture_default_str();
  command
      ->add_option("--bots", settings->bots, "How many pilots; the last joins after half the time")
      ->check(CLI::Range(1, 64))
      ->capture_default_str();
  command->add_option("--delay", settings->delay_ms, "Round trip in milliseconds")
      ->check(CLI::Range(0, 2000))
      ->capture_default_str();
  command
      ->add_option("--jitter", settings->jitter_ms,
                   "The round trip varies by this much, in milliseconds")
      ->check(CLI::Range(0, 1000))
      ->capture_default_str();
  command->add_option("--loss", settings->loss_percent, "Datagrams lost each way, in percent")
      ->check(CLI::Range(0.0, 50.0))
      ->capture_default_str();
  command->add_option("--seed", settings->seed, "Chance of the link and the pilots")
      ->check([](const std::string& text) {
        return std::string(text.starts_with('-') ? "must be a whole number from 0 up" : "");
      })
      ->capture_default_str();
  command->add_option("--port", settings->port, "Port of the server; 0 lets the system choose")
      ->check(CLI::Range(0, 65535))
      ->capture_default_str();
  command
      ->add_option("--places", settings->places, "Most clients of the server; 0: as many as bots")
      ->check(CLI::Range(0, 64))
      ->capture_default_str();
  command->add_option("--report", settings->report, "Write an HTML report with charts")
      ->type_name("FILE.html");
  command->add_option("--record", settings->record, "Keep what passes at the server in a capture")
      ->type_name("FILE.pcapng");
  command
      ->add_option("--keys", settings->keys,
                   "Keep the keys of its datagrams, with which anybody can open that capture")
      ->type_name("FILE");
  command->add_flag("--clear", settings->clear,
                    "Do not seal datagrams: for captures that anybody can read");
  command->add_flag("--json", settings->json,
                    "Print one JSON object at the end, progress on stderr");
  command->footer(
      "Example:\n  kwind demo --seconds 20 --loss 5 --report demo.html\n\n"
      "Exit code 0 when all bots agree with the server, 1 otherwise.");
  command->callback([settings, &chosen] { chosen = [settings] { return run_demo(*settings); }; });
}

}  // namespace kwind::tool
