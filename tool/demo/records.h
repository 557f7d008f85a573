// What server and bots write down during a run, for the verdict and the report. Plain values.
#pragma once
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "kwind/core/time.h"
#include "kwind/host/options.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/code_tables.h"
#include "kwind/replica/explanation.h"

namespace kwind::demo {

struct Settings {
  unsigned seconds = 20;
  unsigned bots = 12;       ///< 1 to 40; the last joins after half the time
  unsigned places = 0;      ///< 0: the number of bots
  unsigned rtt_ms = 80;     ///< round trip
  unsigned jitter_ms = 10;  ///< of the round trip
  double loss_percent = 2;  ///< each way
  std::uint64_t seed = 1;
  std::uint16_t port = 0;
  bool plaintext = false;              ///< datagrams are not encrypted
  bool speculative_baselines = false;  ///< snapshots build on others in flight
  bool json = false;
  std::string report;
  std::string record;  ///< capture at the server's end
  std::string keys;    ///< the keys of its datagrams
  std::string codes;   ///< file of trained codes
  std::string why;     ///< explain this entity's updates: an id or a type; empty: none
  std::uint32_t why_id = 0;
  std::string why_type{};
  std::string web = "off";  ///< port or address of the page; "off": no page
  std::vector<std::string> origins{};
  std::string certificate{};
  std::string private_key{};
  std::string secret_key_file{};
  std::shared_ptr<const replica::CodeTables>
      code_tables{};  ///< what it holds; nullptr: built-in codes
};

/// What an entity was from a tick on.
struct Truth {
  std::uint32_t tick = 0;
  std::uint64_t print = 0;  ///< of all its values
  double north = 0;
  double east = 0;
};

/// Sums over all clients up to a moment.
struct StateMoment {
  double seconds = 0;
  std::uint64_t client_ticks = 0;
  std::uint64_t state_bits = 0;
  std::vector<double> bits_by_type;  ///< symbols; the rest is snapshot overhead
  std::uint64_t json_bytes = 0;      ///< of all in view
  std::uint64_t in_view = 0;
  std::uint64_t changed = 0;  ///< of those in view
};

/// Bits by kind and field.
struct FieldShare {
  std::string kind;
  std::string field;
  double bits = 0;
};

/// What became of the updates of the entity of Settings::why, for one client.
struct WhyRecord {
  std::map<std::string, std::uint64_t> ticks;   ///< by form of what was sent, or reason
  std::map<std::string, std::uint64_t> fields;  ///< deltas that carried them
  std::uint64_t updates = 0;
  std::uint64_t bits = 0;          ///< of the updates
  std::uint32_t longest_wait = 0;  ///< ticks
  replica::UpdateExplanation newest{};
  std::uint32_t newest_tick = 0;
};

struct ServerRecord {
  std::map<std::pair<std::uint32_t, std::uint32_t>, std::vector<Truth>> truth;  ///< id, generation
  std::vector<StateMoment> moments;           ///< about two a second
  std::vector<std::uint64_t> bytes_of_ticks;  ///< state of one client in one tick, each
  std::vector<FieldShare> shares;
  std::map<std::string, std::int32_t> hails;        ///< last count heard of each pilot
  std::map<std::string, std::size_t> in_view;       ///< at the end, by pilot
  replica::ReplicatorCounts counts_of_replicators;  ///< sums
  std::map<std::string, WhyRecord> why;             ///< by pilot
  std::uint32_t why_id = 0;                         ///< the entity; 0: none came into view
  std::uint64_t codes = 0;  ///< set agreed with the last client; 0: built-in
  std::uint64_t ticks_skipped = 0;
  host::Traffic traffic;
  host::Counts counts;
};

/// A value that a bot received of an entity.
struct Told {
  std::uint32_t id = 0;
  std::uint32_t generation = 0;
  std::uint32_t tick = 0;
  std::uint64_t print = 0;
};
/// Where it drew one.
struct Drawn {
  std::uint32_t id = 0;
  std::uint32_t generation = 0;
  double tick = 0;
  double north = 0;
  double east = 0;
};

struct BotRecord {
  unsigned number = 0;  ///< from 1
  std::string name;
  Time started{};
  std::optional<Time> connected;
  std::optional<Time> complete;  ///< everything around its tug had appeared
  bool late = false;
  std::vector<Told> values;
  std::vector<Drawn> drawn;
  std::vector<Told> held;                         ///< at the end
  std::pair<std::uint32_t, std::uint32_t> tug{};  ///< its own: id, generation
  double delay_ticks = 0;                         ///< of what it draws
  std::uint64_t snapshots_refused = 0;
  std::uint64_t desyncs = 0;
  std::uint64_t input_bits = 0;
  std::uint64_t inputs = 0;
  std::map<std::string, std::int32_t> first_notice;  ///< by pilot: count
  std::map<std::string, std::int32_t> last_notice;
  std::uint64_t notices = 0;
  std::uint64_t notices_out_of_order = 0;
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
  StateMoment state;
  host::Traffic server;
  host::Traffic bots;
  std::vector<double> rtt_ms;  ///< of each connected bot
};

}  // namespace kwind::demo
