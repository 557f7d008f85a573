// A harbour that remembers: who comes back starts where they left. Tugs are written behind, when a
// pilot leaves and every few seconds while they move; never for each move.
// Usage: harbour_server PORT FILE [SECONDS between writes]
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <csignal>
#include <cstdlib>
#include <map>

#include "harbour.h"
#include "kwind/core/printable.h"
#include "kwind/host/server.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/route/write_behind.h"
#include "pilot_store.h"

using namespace std::chrono_literals;
using harbour_example::Berth;
using harbour_example::PilotStore;
using kwind::host::Peer;

namespace {

volatile std::sig_atomic_t g_stopped = 0;

// A client, from its first message on.
struct Pilot {
  std::string name{};
  harbour::Cargo cargo{};
  bool sails = false;  // its berth is known
  Berth tug{};
  harbour::Helm helm{};
};

// Berths come from the store some ticks after a pilot enters; until then the pilot has no tug.
class Harbour {
 public:
  Harbour(kwind::host::Server& server, PilotStore& store, kwind::Duration between)
      : server_(server), store_(store), behind_(between) {
    server_.on<harbour::Enter>([this](Peer peer, const harbour::Enter& enter) {
      if (!pilots_[peer].name.empty()) return;  // a pilot has one name
      const bool is_taken = std::any_of(pilots_.begin(), pilots_.end(), [&](const auto& other) {
        return other.second.name == enter.name;
      });
      if (is_taken || enter.name.empty()) return server_.close(peer, "the name is taken");
      pilots_[peer].name = enter.name;
      pilots_[peer].cargo = enter.cargo;
      // What is about to be written is newer than the file.
      if (const Berth* newest = behind_.pending(enter.name)) return sail(peer, *newest);
      store_.request(enter.name);
    });
    server_.on<harbour::Helm>(
        [this](Peer peer, const harbour::Helm& helm) { pilots_[peer].helm = helm; });
    server_.on_disconnect([this](Peer peer, kwind::Errc, std::string_view) {
      const auto pilot = pilots_.find(peer);
      if (pilot == pilots_.end()) return;
      if (pilot->second.sails) behind_.leave(pilot->second.name);
      pilots_.erase(pilot);
    });
  }

  // Answers of the store first, then every tug moves, then all pilots hear where all tugs are.
  void tick(kwind::Time now) {
    while (auto answer = store_.answer()) {
      for (auto& [peer, pilot] : pilots_) {
        if (pilot.name == answer->pilot && !pilot.sails) {
          sail(peer, answer->berth.value_or(Berth{}));
        }
      }
    }
    harbour::Fleet fleet;
    fleet.tick = ++tick_ % static_cast<std::int32_t>(harbour::Fleet::tick_range.last_index() + 1);
    for (auto& [peer, pilot] : pilots_) {
      if (!pilot.sails) continue;
      const Berth before = pilot.tug;
      move(pilot);
      if (pilot.tug.x != before.x || pilot.tug.y != before.y)
        behind_.put(pilot.name, pilot.tug, now);
      fleet.tugs.push_back({static_cast<std::int32_t>(server_.slot(peer)), pilot.tug.x, pilot.tug.y,
                            pilot.tug.bearing, pilot.helm.throttle * 0.2});
    }
    server_.send_to_all(fleet);
    write(behind_.take(now));
  }
  void write_all(kwind::Time now) { write(behind_.take(now, true)); }

 private:
  // The berth is known: the tug appears.
  void sail(Peer peer, const Berth& berth) {
    Pilot& pilot = pilots_[peer];
    pilot.tug = berth;
    pilot.sails = true;
    server_.send_to_all(
        harbour::Arrival{static_cast<std::int32_t>(server_.slot(peer)), pilot.name, pilot.cargo});
    // A name that a stranger chose must not command this terminal.
    fmt::print("{} sails from {:.1f}, {:.1f}\n", kwind::printable(pilot.name), berth.x, berth.y);
    std::fflush(stdout);
  }
  // The rudder turns the tug by up to 30 degrees a second; it stays within the kilometre that
  // messages can express.
  static void move(Pilot& pilot) {
    constexpr double kTick = 0.05;
    constexpr double kRadians = 3.14159265358979 / 180;
    Berth& tug = pilot.tug;
    tug.bearing = std::fmod(tug.bearing + pilot.helm.rudder * 30 * kTick + 360, 360);
    const double metres = pilot.helm.throttle * 0.2 * 0.5144 * kTick;  // 20 knots at full throttle
    tug.x = std::clamp(tug.x + metres * std::sin(tug.bearing * kRadians), -1000.0, 1000.0);
    tug.y = std::clamp(tug.y + metres * std::cos(tug.bearing * kRadians), -1000.0, 1000.0);
  }
  // What is due since the last writing, one row for each pilot.
  void write(const std::vector<kwind::route::WriteBehind<std::string, Berth>::Due>& due) {
    std::vector<PilotStore::Row> rows;
    rows.reserve(due.size());
    for (const auto& each : due) rows.push_back({each.key, each.state});
    store_.write(std::move(rows));
  }

  kwind::host::Server& server_;
  PilotStore& store_;
  kwind::route::WriteBehind<std::string, Berth> behind_;
  std::map<Peer, Pilot> pilots_;
  std::int32_t tick_ = 0;
};

}  // namespace

int main(int argc, char** argv) {
  if (argc < 3) {
    fmt::print(stderr, "usage: harbour_server PORT FILE [SECONDS between writes]\n");
    return 2;
  }
  const double seconds = argc > 3 ? std::atof(argv[3]) : 2;  // NOLINT
  auto transport = kwind::io::UdpTransport::open(
      kwind::Endpoint::loopback(static_cast<std::uint16_t>(std::atoi(argv[1]))));  // NOLINT
  if (!transport) {
    fmt::print(stderr, "port {}: {}\n", argv[1], error_info(transport.error()).text);
    return 1;
  }
  try {
    PilotStore store(argv[2]);
    kwind::host::ServerOptions options;
    options.plaintext = kwind::host::Plaintext::loopback_only;
    kwind::host::Server server(**transport, harbour::kProtocol, options);
    Harbour harbour(server, store,
                    kwind::Duration(static_cast<kwind::Duration::rep>(seconds * 1e9)));
    std::signal(SIGTERM, [](int) { g_stopped = 1; });
    std::signal(SIGINT, [](int) { g_stopped = 1; });
    fmt::print("listening on {}; harbour_pilot {} NAME\n", (*transport)->local().text(),
               (*transport)->local().text());
    std::fflush(stdout);
    kwind::host::TickClock ticks(20, kwind::io::now());
    while (g_stopped == 0) {
      const kwind::Time now = kwind::io::now();
      server.receive(now);
      for (unsigned due = ticks.due(now); due > 0; --due) harbour.tick(now);
      server.flush(now);
      (*transport)->wait(std::min(server.next_wakeup(), ticks.next()));
    }
    harbour.write_all(kwind::io::now());
  } catch (const std::exception& error) {
    fmt::print(stderr, "{}\n", error.what());
    return 1;
  }
  return 0;
}
