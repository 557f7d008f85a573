// A network in virtual time: transports by address, a lane between any two of them.
// Pure and deterministic: one seed replays a whole session. One thread.
#pragma once
#include <deque>
#include <map>
#include <memory>
#include <utility>

#include "kwind/core/compiler.h"
#include "kwind/core/transport.h"
#include "kwind/io/sim/simulated_path.h"

namespace kwind::io::sim {

class Network;

/// A port on the simulated network. Owned by the network.
class KWIND_API SimTransport final : public Transport {
 public:
  SimTransport(Network& network, Endpoint local) : network_(network), local_(local) {}
  [[nodiscard]] Endpoint local() const override { return local_; }
  std::optional<ReceivedDatagram> receive(Time now) override;
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override;
  void flush(Time) override {}
  [[nodiscard]] const TransportCounts& counts() const override { return counts_; }

 private:
  friend class Network;
  Network& network_;
  Endpoint local_;
  std::deque<Datagram> arrived_;
  Datagram current_;
  TransportCounts counts_;
};

/// A simulated network: owns its transports, and moves datagrams between them in virtual time.
class KWIND_API Network {
 public:
  /// Every lane starts with `conditions`; its chance comes from `seed` and its two ends.
  Network(Conditions conditions, std::uint64_t seed) : conditions_(conditions), seed_(seed) {}

  /// Opens a transport. Requires: no port has this address.
  SimTransport& open(const Endpoint& local);
  /// Closes a transport: datagrams to it are gone.
  void close(const Endpoint& local) { transports_.erase(key(local)); }
  /// Changes one direction of one path, from now on.
  void set_conditions(const Endpoint& from, const Endpoint& to, const Conditions& conditions);

  /// Brings what is due by `now` to its transports. SimTransport::receive does so too.
  void deliver(Time now);
  /// When the next datagram arrives somewhere; kNever if none is in flight.
  [[nodiscard]] Time next() const;
  /// What the lanes of this direction did.
  [[nodiscard]] SimulatedPathCounts counts() const;

 private:
  friend class SimTransport;
  using Key = std::pair<std::array<std::uint8_t, 16>, std::uint16_t>;
  static Key key(const Endpoint& endpoint) { return {endpoint.ip, endpoint.port}; }
  SimulatedPath& path(const Endpoint& from, const Endpoint& to);

  Conditions conditions_;
  std::uint64_t seed_;
  std::map<Key, std::unique_ptr<SimTransport>> transports_;
  std::map<std::pair<Key, Key>, SimulatedPath> paths_;
};

}  // namespace kwind::io::sim
