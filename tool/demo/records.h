// What server and bots write down during a run, for the verdict and the report. Plain values.
#pragma once
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "harbour.h"
#include "kwind/host/options.h"

namespace kwind::demo {

struct Settings {
  unsigned seconds = 20;
  unsigned bots = 12;       ///< 1 to 64; the last joins after half the time
  unsigned places = 0;      ///< 0: as many as bots
  unsigned delay_ms = 80;   ///< round trip
  unsigned jitter_ms = 10;  ///< of the round trip
  double loss_percent = 2;  ///< each way
  std::uint64_t seed = 1;
  std::uint16_t port = 0;
  bool clear = false;  ///< datagrams are not sealed
  bool json = false;
  std::string report;
  std::string record;  ///< capture at the server's end
  std::string keys;    ///< the keys of its datagrams
};

/// One tick as the server sent it.
struct ServerTick {
  Time sent_at{};
  std::vector<harbour::Tug> tugs;
};

struct ServerRecord {
  std::vector<ServerTick> ticks;               ///< by number
  std::map<std::int32_t, std::string> names;   ///< by tug
  std::map<std::int32_t, std::int32_t> hails;  ///< last count heard of each tug
  std::uint64_t json_bytes = 0;                ///< of all messages sent, once for each receiver
  std::uint64_t ticks_skipped = 0;
  std::int32_t frozen_tick = 0;  ///< the first with tugs at their last places
  host::Traffic traffic;
  host::Counts counts;
};

/// What a bot held at one moment.
struct Sample {
  Time at{};
  std::int32_t tick = 0;  ///< the newest it had received
};
struct Received {
  Time at{};
  std::vector<harbour::Tug> tugs;
};

struct BotRecord {
  unsigned number = 0;  ///< from 1
  Time started{};
  std::optional<Time> connected;
  std::optional<Time> complete;  ///< held every tug's position and name
  bool late = false;
  std::map<std::int32_t, Received> fleets;  ///< by tick
  std::vector<Sample> samples;
  std::map<std::int32_t, std::int32_t> first_notice;  ///< by tug: count
  std::map<std::int32_t, std::int32_t> last_notice;
  std::map<std::int32_t, std::string> names;
  std::uint64_t notices = 0;
  std::uint64_t notices_out_of_order = 0;
  std::uint64_t fleets_out_of_order = 0;
  std::uint64_t json_bytes = 0;
  std::int32_t hails = 0;
  std::string ended;  ///< why the connection ended, if not as planned
  Errc end_code = Errc::none;
  host::Traffic traffic;
  host::Counts counts;
};

/// The state of the run at one moment, for the status line and the charts.
struct Moment {
  double seconds = 0;
  std::size_t clients = 0;
  host::Traffic server;
  host::Traffic bots;
  std::vector<double> rtt_ms;  ///< of each connected bot
};

}  // namespace kwind::demo
