#include "summary.h"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "tug_motion.h"

namespace kwind::demo {

double mean(const std::vector<double>& values) {
  if (values.empty()) return 0;
  return std::accumulate(values.begin(), values.end(), 0.0) / static_cast<double>(values.size());
}

double bytes_per_client_tick(const Moment& before, const Moment& now) {
  const double ticks = (now.seconds - before.seconds) * kTicksPerSecond;
  const double clients = static_cast<double>(before.clients + now.clients) / 2;
  if (ticks <= 0 || clients <= 0) return 0;
  return static_cast<double>(now.server.bytes_sent - before.server.bytes_sent) / ticks / clients;
}

Summary summarize(const Outcome& outcome) {
  Summary made;
  std::vector<std::uint64_t> bits(harbour::kProtocol.messages.size());
  std::uint64_t overhead = 0;
  CauseCounts drops;
  const auto take = [&](const host::Traffic& traffic, const host::Counts& counts) {
    for (std::size_t i = 0; i < traffic.bits_sent_by_kind.size(); ++i) {
      bits[i] += traffic.bits_sent_by_kind[i];
    }
    overhead += traffic.overhead_bits_sent;
    made.bytes += traffic.bytes_sent;
    made.datagrams += traffic.datagrams_sent;
    made.lost += traffic.packets_lost;
    made.repeated += traffic.messages_repeated;
    drops.add(counts.drops);
  };
  take(outcome.server.traffic, outcome.server.counts);
  made.json_bytes = outcome.server.json_bytes;
  for (const BotRecord& bot : outcome.bots) {
    take(bot.traffic, bot.counts);
    made.json_bytes += bot.json_bytes;
  }
  made.bytes_down = outcome.server.traffic.bytes_sent;
  const auto all = static_cast<double>(std::max<std::uint64_t>(1, made.bytes));
  made.json_ratio = static_cast<double>(made.json_bytes) / all;
  for (const auto& message : harbour::kProtocol.messages) {
    const std::uint64_t bytes = bits[message.kind] / 8;
    made.kinds.push_back(
        {std::string(message.name), std::string(name_of(message.direction)),
         std::string(name_of(harbour::kProtocol.channels[message.channel].delivery)), bytes,
         static_cast<double>(bytes) / all});
  }
  made.kinds.push_back({"overhead", "both ways", "headers, acks, checks, handshakes", overhead / 8,
                        static_cast<double>(overhead / 8) / all});
  std::stable_sort(made.kinds.begin(), made.kinds.end(),
                   [](const KindRow& a, const KindRow& b) { return a.bytes > b.bytes; });
  std::vector<double> rtt;
  for (const Moment& moment : outcome.moments) {
    if (moment.seconds > 1) rtt.insert(rtt.end(), moment.rtt_ms.begin(), moment.rtt_ms.end());
  }
  made.rtt_ms = mean(rtt);
  // From the first full second to the last moment, so that handshakes do not count as ticks.
  const auto first = std::find_if(outcome.moments.begin(), outcome.moments.end(),
                                  [](const Moment& m) { return m.seconds >= 1; });
  if (first != outcome.moments.end()) {
    double bytes = 0;
    double client_ticks = 0;
    for (auto at = first + 1; at < outcome.moments.end(); ++at) {
      const Moment& before = *(at - 1);
      bytes += static_cast<double>(at->server.bytes_sent - before.server.bytes_sent);
      client_ticks += (at->seconds - before.seconds) * kTicksPerSecond *
                      static_cast<double>(before.clients + at->clients) / 2;
    }
    made.bytes_per_client_tick = client_ticks > 0 ? bytes / client_ticks : 0;
  }
  for (const ErrorInfo& info : kErrorList) {
    if (drops.of(info.code) > 0) made.drops.emplace_back(info.text, drops.of(info.code));
  }
  return made;
}

nlohmann::ordered_json to_json(const Settings& settings, const Outcome& outcome) {
  using nlohmann::ordered_json;
  const Summary summary = summarize(outcome);
  const auto split = [](const ErrorSplit& error) {
    return ordered_json{{"total", error.total},
                        {"path_delay", error.path},
                        {"send_interval", error.interval},
                        {"loss", error.loss}};
  };
  ordered_json out;
  out["mode"] = settings.clear ? "clear" : "sealed";
  out["settings"] = {{"seconds", settings.seconds},           {"bots", settings.bots},
                     {"delay_ms", settings.delay_ms},         {"jitter_ms", settings.jitter_ms},
                     {"loss_percent", settings.loss_percent}, {"seed", settings.seed}};
  out["agreeing_bots"] = outcome.verdict.agreeing;
  out["all_agree"] = outcome.verdict.all_agree();
  out["bytes_sent"] = summary.bytes;
  out["datagrams_sent"] = summary.datagrams;
  out["bytes_per_client_tick"] = summary.bytes_per_client_tick;
  out["json_text_bytes"] = summary.json_bytes;
  out["json_text_ratio"] = summary.json_ratio;
  out["rtt_ms"] = summary.rtt_ms;
  out["packets_lost"] = summary.lost;
  out["messages_repeated"] = summary.repeated;
  out["mean_position_error_m"] = outcome.verdict.mean_error;
  out["worst_position_error_m"] = split(outcome.verdict.worst);
  out["bytes_by_kind"] = ordered_json::object();
  for (const KindRow& row : summary.kinds) out["bytes_by_kind"][row.name] = row.bytes;
  out["drops"] = ordered_json::object();
  for (const auto& [cause, count] : summary.drops) out["drops"][cause] = count;
  out["bots"] = ordered_json::array();
  for (const BotVerdict& bot : outcome.verdict.bots) {
    out["bots"].push_back({{"number", bot.number},
                           {"agrees", bot.agrees},
                           {"why_not", bot.why_not},
                           {"complete_ms", bot.complete_ms},
                           {"fleets", bot.fleets},
                           {"notices", bot.notices},
                           {"mean_error_m", bot.mean_error},
                           {"worst_error_m", split(bot.worst)}});
  }
  return out;
}

}  // namespace kwind::demo
