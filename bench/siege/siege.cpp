// A siege of a server: one row for each attack or fault, beside a quiet run, and what of the goals
// was missed. Usage: kwind_siege [SECONDS] [ROW...]; writes build/bench/siege.json. Exits with 1 if
// a goal was missed.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <sys/resource.h>

#include <cerrno>
#include <filesystem>
#include <fstream>
#include <thread>

#include "besieged.h"
#include "kit/failing_calls.h"

using namespace kwind;
using namespace kwind::siege_bench;
using namespace std::chrono_literals;

namespace {

struct Row {
  std::string name;
  std::vector<Attack> attacks;
  std::optional<Fault> fault;
};

// Each kind of call fails for 300 ms, one kind after the other, 1.5 s apart.
Fault failing_with(const char* name, int error) {
  constexpr Duration kApart = 1500ms;
  constexpr Duration kLong = 300ms;
  Fault fault;
  fault.name = fmt::format("{} from each system call", name);
  for (std::size_t i = 0; i < kit::kSystemCalls.size(); ++i) {
    fault.ends.push_back(kApart * (i + 1) + kLong);
  }
  fault.act = [=](Duration since) {
    const auto turn = static_cast<std::size_t>(since / kApart);
    const bool fails = turn >= 1 && turn <= kit::kSystemCalls.size() && since % kApart < kLong;
    kit::fail_calls(fails ? kit::kSystemCalls[turn - 1] : kit::SystemCall::none, error);
  };
  return fault;
}

Fault wall_clock() {
  Fault fault;
  fault.name = "the wall clock a day forward, then back";
  fault.ends = {2s, 4s};
  fault.act = [](Duration since) {
    kit::shift_wall_clock(since >= 2s && since < 4s ? std::chrono::hours(24)
                                                    : std::chrono::hours(0));
  };
  return fault;
}

Fault pause_of(Duration length) {
  Fault fault;
  fault.name = fmt::format("a pause of {} s", length / 1s);
  fault.ends = {2s + length};
  fault.act = [length, paused = false](Duration since) mutable {
    if (paused || since < 2s) return;
    paused = true;
    std::this_thread::sleep_for(length);
  };
  return fault;
}

std::vector<Row> rows() {
  std::vector<Row> all{
      {"quiet", {}, {}},
      {"random bytes, 100,000 a second", {random_bytes(100000)}, {}},
      {"hellos, 1,000 addresses", {knocking(1000, Knock::hello)}, {}},
      {"junk connects, 1 address", {knocking(1, Knock::junk)}, {}},
      {"junk connects, 16 addresses", {knocking(16, Knock::junk)}, {}},
      {"junk connects, 1,000 addresses", {knocking(1000, Knock::junk)}, {}},
      {"one connect replayed", {knocking(1, Knock::replay)}, {}},
      {"unfinished, 4 addresses", {knocking(4, Knock::unfinished)}, {}},
      {"unfinished, 64 addresses", {knocking(64, Knock::unfinished)}, {}},
      {"unfinished, 1,000 addresses", {knocking(1000, Knock::unfinished)}, {}},
      {"resume tokens of others, 1,000 addresses", {knocking(1000, Knock::resume)}, {}},
      {"one TCP stream at full speed", {tcp_flood}, {}},
      {"10,000 TCP streams that whisper", {whispers}, {}},
      {"no descriptors left", {no_descriptors}, {}},
      {"source port 0", {port_zero}, {}},
      {"a client that sends all it may", {greedy_client}, {}},
      {"copies of live traffic", {copies}, {}},
      {"clients that never acknowledge", {never_acknowledge}, {}},
      {"acknowledgements of what never came", {acknowledge_unseen}, {}},
      {"desync reports and resync requests", {desync_reports}, {}},
      {"first pieces of large messages", {first_pieces}, {}},
      {"1,000 open requests", {thousand_requests}, {}},
      {"references to what is not in view", {unseen_references}, {}},
      {"address moves", {address_moves}, {}},
  };
  Row together{"all of these at once", {}, {}};
  for (const Row& row : all) {
    // Without descriptors the attackers would keep each other out.
    if (row.name == "no descriptors left") continue;
    together.attacks.insert(together.attacks.end(), row.attacks.begin(), row.attacks.end());
  }
  all.push_back(std::move(together));
  for (Fault fault : {failing_with("ENOBUFS", ENOBUFS), failing_with("EPERM", EPERM),
                      failing_with("ENETDOWN", ENETDOWN), wall_clock(), pause_of(5s)}) {
    const std::string name = fault.name;
    all.push_back({name, {}, std::move(fault)});
  }
  return all;
}

// What of the goals a row missed; see docs/security.md.
std::vector<std::string> missed_goals(const Row& row, Figures& figures, Figures& quiet) {
  const double quiet_p99_ms = at(quiet.up_ms, 0.99);
  const double quiet_mib = quiet.mib_after - quiet.mib_before;  // histories that fill up
  std::vector<std::string> missed;
  if (row.fault) {
    if (figures.recovery_ms > 1000) missed.emplace_back("recovery");
  } else {
    if (figures.ticks + 1 < figures.due) missed.emplace_back("ticks");
    if (figures.longest_receive_ms > 10) missed.emplace_back("receive()");
    if (at(figures.up_ms, 0.99) > std::max(2 * quiet_p99_ms, quiet_p99_ms + 10)) {
      missed.emplace_back("p99");
    }
    if (figures.not_admitted > 0 || at(figures.admitted_ms, 1) > 2000) {
      missed.emplace_back("admission");
    }
    if (figures.mib_after - figures.mib_before > quiet_mib + 4) missed.emplace_back("memory");
  }
  if (figures.alive < kClients || figures.orders_out_of_turn > 0 ||
      figures.orders_heard < figures.orders_sent) {
    missed.emplace_back("promises");
  }
  return missed;
}

// The limit of descriptors that the process may have, raised: thousands of sockets of attackers
// stand beside those of server and clients.
void permit_many_sockets() {
  rlimit limit{};
  ::getrlimit(RLIMIT_NOFILE, &limit);
  limit.rlim_cur = std::min<rlim_t>(limit.rlim_max, 20000);
  ::setrlimit(RLIMIT_NOFILE, &limit);
}

// A row with its figures and the goals that it missed.
struct Outcome {
  const Row& row;
  Figures figures;
  double sent_per_second = 0;
  double answers = 0;  ///< bytes that came back, of one that was sent
  std::string missed;
};

// A row in which the machine itself stood still for longer is run again, so many times at most.
constexpr double kMachineStallMs = 3;
constexpr int kTries = 4;

// `quiet`: the figures of the first row, which is the quiet one.
Outcome run(const Row& row, double seconds, std::optional<Figures>& quiet) {
  const double length = row.fault ? std::max(seconds, 9.0) : seconds;
  Outcome outcome{row, {}, 0, 0, {}};
  std::optional<Sent> of_try;
  for (int attempt = 0; attempt < kTries; ++attempt) {
    Sent& sent = of_try.emplace();
    outcome.figures = Besieged().run(length, row.attacks, row.fault ? &*row.fault : nullptr, sent);
    kit::fail_calls(kit::SystemCall::none, 0);
    // Delays are no goal of a fault's row.
    if (row.fault || outcome.figures.machine_stall_ms <= kMachineStallMs) break;
  }
  const Sent& sent = *of_try;
  if (!quiet) quiet = outcome.figures;
  outcome.missed = fmt::format("{}", fmt::join(missed_goals(row, outcome.figures, *quiet), ", "));
  if (sent.bytes > 0) {
    outcome.answers = static_cast<double>(sent.answered) / static_cast<double>(sent.bytes);
  }
  outcome.sent_per_second = static_cast<double>(sent.datagrams) / (length + 1);
  return outcome;
}

void print_head() {
  fmt::print("{:<40}{:>9}{:>10}{:>9}{:>7}{:>8}{:>8}{:>8}{:>8}{:>11}{:>9}{:>8}{:>6}  {}\n", "row",
             "sent/s", "ticks", "receive", "of CPU", "stalls", "up p50", "p99", "worst",
             "new client", "answers", "server", "MiB", "missed");
}

void print(Outcome& outcome) {
  Figures& f = outcome.figures;
  fmt::print(
      "{:<40}{:>9.0f}{:>5}/{:<4}{:>9.1f}{:>7.1f}{:>8.1f}{:>8.2f}{:>8.2f}{:>8.1f}{:>8.0f} "
      "ms{}{:>9.3f}"
      "{:>6.0f} %{:>+6.1f}  {}{}\n",
      outcome.row.name, outcome.sent_per_second, f.ticks, f.due, f.longest_receive_ms,
      f.longest_receive_cpu_ms, f.machine_stall_ms, at(f.up_ms, 0.5), at(f.up_ms, 0.99),
      at(f.up_ms, 1), at(f.admitted_ms, 1),
      f.not_admitted == 0 ? "" : fmt::format(" {} not", f.not_admitted), outcome.answers,
      100 * f.server_cpu, f.mib_after - f.mib_before, outcome.missed,
      outcome.row.fault ? fmt::format(" (back after {:.0f} ms)", f.recovery_ms) : "");
  std::fflush(stdout);
}

std::string json_of(Outcome& outcome) {
  Figures& f = outcome.figures;
  return fmt::format(
      "  {{\"row\": \"{}\", \"fault\": {}, \"sent_per_second\": {:.0f}, \"ticks\": {}, "
      "\"due\": {}, \"longest_receive_ms\": {:.2f}, \"longest_receive_cpu_ms\": {:.2f}, "
      "\"machine_stall_ms\": {:.2f}, "
      "\"up_p50_ms\": {:.3f}, \"up_p99_ms\": {:.3f}, \"up_worst_ms\": {:.2f}, "
      "\"new_client_worst_ms\": {:.1f}, \"not_admitted\": {}, \"answered\": {:.3f}, "
      "\"server_cpu\": {:.3f}, \"mib\": {:.2f}, \"alive\": {}, \"orders_sent\": {}, "
      "\"orders_heard\": {}, \"orders_out_of_turn\": {}, \"recovery_ms\": {:.0f}, "
      "\"missed\": \"{}\"}}",
      outcome.row.name, outcome.row.fault.has_value(), outcome.sent_per_second, f.ticks, f.due,
      f.longest_receive_ms, f.longest_receive_cpu_ms, f.machine_stall_ms, at(f.up_ms, 0.5),
      at(f.up_ms, 0.99), at(f.up_ms, 1), at(f.admitted_ms, 1), f.not_admitted, outcome.answers,
      f.server_cpu, f.mib_after - f.mib_before, f.alive, f.orders_sent, f.orders_heard,
      f.orders_out_of_turn, f.recovery_ms, outcome.missed);
}

}  // namespace

int main(int argc, char** argv) {
  permit_many_sockets();
  const double seconds = argc > 1 ? std::atof(argv[1]) : 10;  // NOLINT
  if (seconds < 1) {
    fmt::print(stderr, "usage: kwind_siege [SECONDS] [ROW...]\n");
    return 2;
  }
  std::filesystem::create_directories("build/bench");
  std::ofstream out("build/bench/siege.json");
  const char* separator = "[\n";
  bool all_met = true;
  std::optional<Figures> quiet;
  print_head();
  for (const Row& row : rows()) {
    bool wanted = argc <= 2 || row.name == "quiet";
    for (int i = 2; i < argc; ++i) wanted = wanted || row.name.find(argv[i]) != std::string::npos;
    if (!wanted) continue;
    Outcome outcome = run(row, seconds, quiet);
    print(outcome);
    out << std::exchange(separator, ",\n") << json_of(outcome) << std::flush;
    all_met = all_met && outcome.missed.empty();
  }
  out << "\n]\n";
  return all_met ? 0 : 1;
}
