// A UDP proxy that puts a bad path between any clients and a server: one socket towards the server
// for each client, and two lanes of the simulated network. One thread.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <unordered_map>
#include <vector>

#include "kwind/io/capturing_transport.h"
#include "kwind/io/sim/simulated_path.h"
#include "kwind/io/udp_transport.h"
#include "lag/conditions.h"

namespace kwind::lag {

struct DirectionCounts {
  std::uint64_t datagrams = 0;  ///< that came in
  std::uint64_t bytes = 0;
  io::sim::SimulatedPathCounts paths;  ///< what the lanes of all clients did
};
struct ProxyCounts {
  DirectionCounts up;
  DirectionCounts down;
  std::size_t clients = 0;
  std::uint64_t refused = 0;   ///< datagrams of clients beyond the most, or without a socket
  std::uint64_t too_long = 0;  ///< datagrams longer than 2048 bytes, either way
};

class Proxy {
 public:
  /// Clients that were silent for this long are forgotten.
  static constexpr Duration kForgetAfter = std::chrono::seconds(60);
  static constexpr std::size_t kMaxClients = 1000;

  /// Takes over an open port for clients. `server` is where their datagrams go.
  Proxy(std::unique_ptr<io::UdpTransport> transport, const Endpoint& server,
        const BothWays& conditions, std::uint64_t seed);

  void set_conditions(const BothWays& conditions);
  /// Shows `watcher` what passes on the clients' side: datagrams of clients as they come in, and
  /// those of the server as they leave.
  void watch(io::CapturingTransport::Watcher watcher) { watcher_ = std::move(watcher); }
  /// Carries what is due, and waits for more until `until` at most.
  void run_once(Time until);
  [[nodiscard]] Endpoint local() const { return transport_->local(); }
  [[nodiscard]] ProxyCounts counts() const;

 private:
  struct Client {
    Endpoint at;
    std::unique_ptr<io::UdpTransport> upstream;
    io::sim::SimulatedPath up;
    io::sim::SimulatedPath down;
    Time last_heard;
  };
  Client* client_of(const Endpoint& from, Time now);
  void drop_idle(Time now);

  std::unique_ptr<io::UdpTransport> transport_;
  Endpoint server_;
  BothWays conditions_;
  std::uint64_t seed_;
  io::CapturingTransport::Watcher watcher_;
  std::uint64_t made_ = 0;
  std::vector<std::unique_ptr<Client>> clients_;
  std::unordered_map<Endpoint, Client*> by_address_;
  Time next_sweep_{};
  ProxyCounts past_;  // of what came in, and of lanes that are gone
};

}  // namespace kwind::lag
