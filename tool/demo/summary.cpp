// The figures of a run for the terminal, JSON and the report, so that all three say the same.
#include "summary.h"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "harbour_motion.h"
#include "why.h"

namespace kwind::demo {

double mean(const std::vector<double>& values) {
  if (values.empty()) return 0;
  return std::accumulate(values.begin(), values.end(), 0.0) / static_cast<double>(values.size());
}

double state_bytes(const Moment& before, const Moment& now) {
  const auto ticks = static_cast<double>(now.state.client_ticks - before.state.client_ticks);
  if (ticks <= 0) return 0;
  return static_cast<double>(now.state.state_bits - before.state.state_bits) / 8 / ticks;
}

namespace {

// State by client and tick, from the server's records.
void add_state(Summary& made, const ServerRecord& server) {
  if (server.moments.empty()) return;
  const StateMoment& all = server.moments.back();
  const auto ticks = static_cast<double>(std::max<std::uint64_t>(1, all.client_ticks));
  made.json = static_cast<double>(all.json_bytes) / ticks;
  made.in_view = static_cast<double>(all.in_view) / ticks;
  made.changed = static_cast<double>(all.changed) / ticks;
  std::vector<std::uint64_t> bytes = server.bytes_of_ticks;
  if (!bytes.empty()) {
    made.state_mean = static_cast<double>(std::accumulate(bytes.begin(), bytes.end(), 0ULL)) /
                      static_cast<double>(bytes.size());
    std::sort(bytes.begin(), bytes.end());
    made.state_p95 = static_cast<double>(bytes[bytes.size() * 95 / 100]);
  }
  const replica::ReplicatorCounts& counts = server.counts_of_replicators;
  made.sent =
      static_cast<double>(counts.whole + counts.changed + counts.predicted + counts.gone) / ticks;
  made.deferred = static_cast<double>(counts.deferred) / ticks;
  double coded = 0;
  for (const FieldShare& share : server.shares) {
    made.shares.push_back({share.kind, share.field, share.bits / ticks});
    coded += share.bits;
  }
  made.shares.push_back(
      {"snapshots", "overhead", (static_cast<double>(all.state_bits) - coded) / ticks});
}

// Bytes of an average datagram that belong to no message, with the headers of IPv4 and UDP.
double mean_overhead(const host::Traffic& traffic) {
  constexpr double kIpUdp = 28;
  double bytes = static_cast<double>(traffic.bytes_sent);
  for (const std::uint64_t type_bits : traffic.bits_sent_by_type) {
    bytes -= static_cast<double>(type_bits) / 8;
  }
  return kIpUdp + bytes / static_cast<double>(traffic.datagrams_sent);
}

// One row for each message type that was sent, for state and inputs, and for everything else,
// which `overhead` counts together with state and inputs; the largest first.
std::vector<TypeRow> rows_of(const Outcome& outcome, const std::vector<std::uint64_t>& bits,
                             std::uint64_t overhead, std::uint64_t input_bits, double all) {
  std::vector<TypeRow> rows;
  const auto row = [&](std::string name, std::string direction, std::string delivery,
                       std::uint64_t bytes) {
    rows.push_back({std::move(name), std::move(direction), std::move(delivery), bytes,
                    static_cast<double>(bytes) / all});
  };
  for (const auto& message : harbour_world::kProtocol.messages) {
    if (bits[message.type] == 0) continue;
    row(std::string(message.name), std::string(name_of(message.direction)),
        std::string(name_of(harbour_world::kProtocol.channels[message.channel].delivery)),
        bits[message.type] / 8);
  }
  std::uint64_t state = 0;
  if (!outcome.server.moments.empty()) state = outcome.server.moments.back().state_bits;
  row("state", "from server", "newest, until it arrives", state / 8);
  row("inputs", "from client", "three times each", input_bits / 8);
  const std::uint64_t payloads = state + input_bits;
  const std::uint64_t rest = overhead > payloads ? overhead - payloads : 0;
  row("overhead", "both", "headers, acks, AEAD tags, handshakes", rest / 8);
  std::stable_sort(rows.begin(), rows.end(),
                   [](const TypeRow& a, const TypeRow& b) { return a.bytes > b.bytes; });
  return rows;
}

// One bot's result.
nlohmann::ordered_json to_json(const BotVerdict& bot) {
  return {{"number", bot.number},
          {"name", bot.name},
          {"agrees", bot.agrees},
          {"why_not", bot.why_not},
          {"complete_ms", bot.complete_ms},
          {"values_compared", bot.values},
          {"notices", bot.notices},
          {"play_out_delay_ticks", bot.delay_ticks},
          {"mean_error_m", bot.mean_error},
          {"p99_error_m", bot.p99_error},
          {"worst_error_m", bot.worst_error}};
}

}  // namespace

// Adds up what server and bots have recorded.
Summary summarize(const Outcome& outcome) {
  Summary made;
  std::vector<std::uint64_t> bits(harbour_world::kProtocol.messages.size());
  std::uint64_t overhead = 0;
  CauseCounts drops;
  const auto take = [&](const host::Traffic& traffic, const host::Counts& counts) {
    for (std::size_t i = 0; i < traffic.bits_sent_by_type.size(); ++i) {
      bits[i] += traffic.bits_sent_by_type[i];
    }
    overhead += traffic.overhead_bits_sent;
    made.bytes += traffic.bytes_sent;
    made.datagrams += traffic.datagrams_sent;
    made.lost += traffic.packets_lost;
    made.repeated += traffic.messages_repeated;
    drops.add(counts.drops);
  };
  take(outcome.server.traffic, outcome.server.counts);
  for (const BotRecord& bot : outcome.bots) take(bot.traffic, bot.counts);
  add_state(made, outcome.server);
  if (outcome.server.traffic.datagrams_sent > 0) {
    made.datagram = mean_overhead(outcome.server.traffic);
  }
  std::uint64_t input_bits = 0;
  for (const BotRecord& bot : outcome.bots) input_bits += bot.input_bits;
  const auto all = static_cast<double>(std::max<std::uint64_t>(1, made.bytes));
  made.kinds = rows_of(outcome, bits, overhead, input_bits, all);
  std::uint64_t inputs = 0;
  for (const BotRecord& bot : outcome.bots) inputs += bot.inputs;
  if (inputs > 0)
    made.input_bytes = static_cast<double>(input_bits) / 8 / static_cast<double>(inputs);
  std::vector<double> rtt;
  for (const Moment& moment : outcome.moments) {
    if (moment.seconds > 1) rtt.insert(rtt.end(), moment.rtt_ms.begin(), moment.rtt_ms.end());
  }
  made.rtt_ms = mean(rtt);
  for (const ErrorInfo& info : kErrorList) {
    if (drops.of(info.code) > 0) made.drops.emplace_back(info.text, drops.of(info.code));
  }
  return made;
}

// Everything that the table shows, and more, for programs.
nlohmann::ordered_json to_json(const Settings& settings, const Outcome& outcome) {
  using nlohmann::ordered_json;
  const Summary summary = summarize(outcome);
  ordered_json out;
  out["mode"] = settings.plaintext ? "plaintext" : "encrypted";
  out["settings"] = {{"seconds", settings.seconds},
                     {"bots", settings.bots},
                     {"rtt_ms", settings.rtt_ms},
                     {"jitter_ms", settings.jitter_ms},
                     {"loss_percent", settings.loss_percent},
                     {"seed", settings.seed},
                     {"speculative_baselines", settings.speculative_baselines},
                     {"code_tables", settings.codes}};
  out["agreeing_bots"] = outcome.verdict.agreeing;
  out["all_agree"] = outcome.verdict.all_agree();
  out["values_compared"] = outcome.verdict.values;
  out["bytes_sent"] = summary.bytes;
  out["datagrams_sent"] = summary.datagrams;
  out["per_client_tick"] = {{"state_bytes_mean", summary.state_mean},
                            {"state_bytes_p95", summary.state_p95},
                            {"json_text_bytes", summary.json},
                            {"in_view", summary.in_view},
                            {"changed", summary.changed},
                            {"sent", summary.sent},
                            {"deferred", summary.deferred}};
  out["datagram_bytes_with_ip_udp"] = summary.datagram;
  out["json_text_ratio"] = summary.state_mean > 0 ? summary.json / summary.state_mean : 0;
  out["input_bytes"] = summary.input_bytes;
  out["trained_code_tables"] = outcome.server.codes != 0;
  out["longest_wait_ticks"] = outcome.server.counts_of_replicators.longest_wait;
  out["snapshots_discarded"] = outcome.server.counts_of_replicators.discarded;
  out["rtt_ms"] = summary.rtt_ms;
  out["packets_lost"] = summary.lost;
  out["messages_repeated"] = summary.repeated;
  out["mean_position_error_m"] = outcome.verdict.mean_error;
  out["worst_position_error_m"] = outcome.verdict.worst_error;
  out["bits_by_field"] = ordered_json::array();
  for (const FieldShare& share : summary.shares) {
    out["bits_by_field"].push_back(
        {{"type", share.kind}, {"field", share.field}, {"bits_per_client_tick", share.bits}});
  }
  out["bytes_by_type"] = ordered_json::object();
  for (const TypeRow& row : summary.kinds) out["bytes_by_type"][row.name] = row.bytes;
  out["drops"] = ordered_json::object();
  for (const auto& [cause, count] : summary.drops) out["drops"][cause] = count;
  out["bots"] = ordered_json::array();
  for (const BotVerdict& bot : outcome.verdict.bots) {
    out["bots"].push_back(to_json(bot));
  }
  if (!settings.why.empty()) out["why"] = why_json(settings, outcome.server);
  return out;
}

}  // namespace kwind::demo
