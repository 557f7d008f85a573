// The figures of a run, worked out once for the terminal, the JSON and the report.
#pragma once
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "run.h"

namespace kwind::demo {

struct KindRow {
  std::string name;
  std::string direction;
  std::string delivery;
  std::uint64_t bytes = 0;
  double share = 0;  ///< of all bytes, 0 to 1
};

struct Summary {
  std::vector<KindRow> kinds;  ///< largest first, "overhead" included
  std::uint64_t bytes = 0;     ///< UDP payload, both directions
  std::uint64_t bytes_down = 0;
  std::uint64_t datagrams = 0;
  std::uint64_t json_bytes = 0;
  double json_ratio = 0;
  double bytes_per_client_tick = 0;
  double rtt_ms = 0;
  std::uint64_t lost = 0;
  std::uint64_t repeated = 0;
  std::vector<std::pair<std::string, std::uint64_t>> drops;  ///< by cause, both ends
};

Summary summarize(const Outcome& outcome);
nlohmann::ordered_json to_json(const Settings& settings, const Outcome& outcome);
/// Bytes per client and tick from server to clients between two moments.
double bytes_per_client_tick(const Moment& before, const Moment& now);
double mean(const std::vector<double>& values);

}  // namespace kwind::demo
