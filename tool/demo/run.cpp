// Starts the server and the bots on threads, prints a line each second, and gathers their records.
#include "run.h"

#include <fmt/format.h>

#include <algorithm>
#include <memory>

#include "bot.h"
#include "capture/files.h"
#include "harbour_server.h"
#include "kwind/io/capturing_transport.h"
#include "kwind/io/clock.h"

namespace kwind::demo {
namespace {

using namespace std::chrono_literals;

// Sums over server and bots.
void add(host::Traffic& sum, const host::Traffic& traffic) {
  sum.datagrams_sent += traffic.datagrams_sent;
  sum.datagrams_received += traffic.datagrams_received;
  sum.bytes_sent += traffic.bytes_sent;
  sum.bytes_received += traffic.bytes_received;
  sum.packets_lost += traffic.packets_lost;
  sum.messages_repeated += traffic.messages_repeated;
  sum.overhead_bits_sent += traffic.overhead_bits_sent;
  sum.bits_sent_by_type.resize(
      std::max(sum.bits_sent_by_type.size(), traffic.bits_sent_by_type.size()));
  for (std::size_t i = 0; i < traffic.bits_sent_by_type.size(); ++i) {
    sum.bits_sent_by_type[i] += traffic.bits_sent_by_type[i];
  }
}

// How long the last states and messages may be in flight: four round trips at their slowest, tried
// again as often as the path loses them.
double settle_seconds(const Settings& settings) {
  const double slowest_ms = settings.rtt_ms + 2.0 * settings.jitter_ms;
  return 1.0 + slowest_ms / 250 / (1 - settings.loss_percent / 100);
}

class Watch {
 public:
  Watch(const HarbourServer& server, const std::vector<std::unique_ptr<Bot>>& bots)
      : server_(server), bots_(bots), start_(io::now()) {}

  [[nodiscard]] double seconds() const {
    return std::chrono::duration<double>(io::now() - start_).count();
  }
  // Figures of the present second.
  Moment look(bool& failed) const {
    Moment moment;
    moment.seconds = seconds();
    server_.snapshot(moment);
    for (const auto& bot : bots_) {
      host::Traffic traffic;
      std::optional<double> rtt;
      bool bot_failed = false;
      bot->snapshot(traffic, rtt, bot_failed);
      add(moment.bots, traffic);
      if (rtt) moment.rtt_ms.push_back(*rtt);
      failed = failed || bot_failed;
    }
    return moment;
  }
  // The run's own clock, from its start.
  void sleep_until(double second) const {
    const Time until =
        start_ + std::chrono::duration_cast<Duration>(std::chrono::duration<double>(second));
    const Duration left = until - io::now();
    if (left > Duration{0}) std::this_thread::sleep_for(left);
  }

 private:
  const HarbourServer& server_;
  const std::vector<std::unique_ptr<Bot>>& bots_;
  Time start_;
};

// The capture and the key log of a run, where they were asked for.
class Records {
 public:
  explicit Records(const Settings& settings) {
    if (!settings.record.empty()) capture_.emplace(settings.record, "kwind demo, at the server");
    if (!settings.keys.empty()) keys_.emplace(settings.keys);
  }
  // The first failure of either file, as a sentence.
  std::string problem() {
    std::string found = capture_ ? capture_->problem() : std::string();
    return found.empty() && keys_ ? keys_->problem() : found;
  }
  // The transport, whose datagrams are captured if that was asked for.
  std::unique_ptr<io::PollableTransport> captured(std::unique_ptr<io::PollableTransport> inner) {
    if (!capture_) return inner;
    return std::make_unique<io::CapturingTransport>(
        std::move(inner),
        [this](Time now, const Endpoint& from, const Endpoint& to,
               std::span<const std::byte> datagram) { capture_->add(now, from, to, datagram); });
  }
  std::function<void(const link::KeyNote&)> key_log() {
    if (!keys_) return nullptr;
    return [this](const link::KeyNote& note) { keys_->add(note); };
  }

 private:
  std::optional<tool::CaptureFile> capture_;
  std::optional<tool::KeyLogFile> keys_;
};

// How long a bot may take until it sees all of its view. A second; on slow paths the two round trips
// of the handshake and those of entering take longer, and where much is lost in either direction
// each of them is tried more than once.
Duration time_to_complete(const Settings& settings) {
  const double path_seconds = 0.4 + 0.006 * (settings.rtt_ms + settings.jitter_ms);
  const double arrives = 1 - settings.loss_percent / 100;
  return Duration(
      static_cast<Duration::rep>(std::max(1.0, path_seconds) / (arrives * arrives) * 1e9));
}

}  // namespace

// Starts the server, then the bots one after another, then late ones; stops all and compares.
Outcome run(const Settings& settings,
            const std::function<void(const Moment&, const Moment&)>& progress,
            const std::function<bool()>& interrupted) {
  Outcome outcome;
  const Endpoint address = Endpoint::loopback(settings.port);
  auto transport = io::UdpTransport::open(address);
  if (!transport) {
    outcome.error = fmt::format("cannot listen on {}: {}; choose another with --port, or 0 for any",
                                address.text(), error_info(transport.error()).text);
    return outcome;
  }
  Records records(settings);
  outcome.error = records.problem();
  if (!outcome.error.empty()) return outcome;
  HarbourServer server(records.captured(std::move(*transport)), settings, records.key_log());
  server.start();

  const std::size_t early = settings.bots > 1 ? settings.bots - 1 : 1;
  std::vector<std::unique_ptr<Bot>> bots;
  const auto launch = [&](unsigned number, bool late) {
    bots.push_back(
        std::make_unique<Bot>(number, settings, server.address(), server.public_key(), late));
    const Errc error = bots.back()->start();
    if (error != Errc::none) {
      outcome.error =
          fmt::format("bot {} has no socket: {}; try fewer --bots", number, error_info(error).text);
    }
  };
  for (unsigned i = 1; i <= early && outcome.error.empty(); ++i) launch(i, false);

  Watch watch(server, bots);
  bool failed = false;
  outcome.moments.push_back(watch.look(failed));
  Moment shown = outcome.moments.back();
  const double end = settings.seconds;
  for (double next = 0.5; next <= end && !failed && !interrupted(); next += 0.5) {
    if (!outcome.error.empty()) break;
    watch.sleep_until(next);
    if (bots.size() < settings.bots && watch.seconds() >= end / 2) {
      launch(settings.bots, true);
    }
    outcome.moments.push_back(watch.look(failed));
    if (next == static_cast<double>(static_cast<unsigned>(next))) {
      progress(shown, outcome.moments.back());
      shown = outcome.moments.back();
    }
  }
  // All stands still and the hails cease; then every bot gets the time to hear the last of both.
  server.freeze();
  for (const auto& bot : bots) bot->hush();
  watch.sleep_until(watch.seconds() + settle_seconds(settings));
  server.stop();
  for (const auto& bot : bots) bot->join();
  if (outcome.error.empty()) outcome.error = records.problem();
  if (!outcome.error.empty()) return outcome;
  outcome.server = server.record();
  for (const auto& bot : bots) outcome.bots.push_back(bot->record());
  outcome.verdict = judge(outcome.server, outcome.bots, time_to_complete(settings));
  return outcome;
}

}  // namespace kwind::demo
