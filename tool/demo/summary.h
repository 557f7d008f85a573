// The figures of a run, worked out once for the terminal, the JSON and the report.
#pragma once
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "run.h"

namespace kwind::demo {

struct TypeRow {
  std::string name;
  std::string direction;
  std::string delivery;
  std::uint64_t bytes = 0;
  double share = 0;  ///< of all bytes, 0 to 1
};

struct Summary {
  std::vector<TypeRow> kinds;  ///< of messages; state, inputs and the link's own, largest first
  std::uint64_t bytes = 0;     ///< UDP payload, both directions
  std::uint64_t datagrams = 0;
  // Of state, per client and tick:
  double state_mean = 0;  ///< bytes
  double state_p95 = 0;
  double datagram = 0;  ///< bytes of a server's, messages left out, with IP and UDP
  double json = 0;      ///< bytes of JSON text of all in view
  double in_view = 0;   ///< entities
  double changed = 0;   ///< of these
  double sent = 0;      ///< told of
  double deferred = 0;
  std::vector<FieldShare> shares;  ///< bits per client and tick, by type; overhead last
  double input_bytes = 0;          ///< of one input
  double rtt_ms = 0;
  std::uint64_t lost = 0;
  std::uint64_t repeated = 0;
  std::vector<std::pair<std::string, std::uint64_t>> drops;  ///< by cause, both ends
};

Summary summarize(const Outcome& outcome);
nlohmann::ordered_json to_json(const Settings& settings, const Outcome& outcome);
/// Bytes of state per client and tick between two moments.
double state_bytes(const Moment& before, const Moment& now);
double mean(const std::vector<double>& values);

}  // namespace kwind::demo
