// Connects that wait for their key exchange, the costly step of a handshake: a bounded queue with a
// rate limit, in which networks with fewer recent exchanges come first. Pure; one thread.
//
// Each network has spent so many exchanges, of which it is forgiven a share as time passes. An
// connect stands behind all connects of networks that have spent less; of one network each that
// waits counts as spent. So a thousand networks that ask all the time come behind one that asks
// once.
#pragma once
#include <array>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <unordered_map>
#include <vector>

#include "kwind/core/endpoint.h"
#include "kwind/core/secret.h"
#include "kwind/core/time.h"
#include "kwind/link/listener.h"
#include "link/random.h"

namespace kwind::link {

class ExchangeQueue {
 public:
  /// `key` makes hashes that nobody can find collisions of.
  ExchangeQueue(const ExchangeLimits& limits, const Secret32& key);

  struct Connect {
    Endpoint from;
    std::size_t transport_index = 0;
    TransportKind transport_kind = TransportKind::datagrams;
    std::vector<std::byte> datagram;
  };
  /// A copy of one that waits is not taken again. Errors: server_busy if its network has spent
  /// ExchangeLimits::per_network, or if the queue is full of connects of networks that have spent
  /// no more. O(queued).
  Errc push(Time now, Connect connect);
  /// The connect to exchange keys with now; nothing if none waits, or the rate is used up. It
  /// counts as spent. O(queued).
  std::optional<Connect> pop(Time now);
  /// When pop() will have one; kNever if none waits.
  [[nodiscard]] Time next() const;
  /// An exchange came to nothing: it counts as three more.
  void blame(Time now, const Endpoint& from);
  /// A client opened its connection: its exchange was not spent in vain.
  void forgive(Time now, const Endpoint& from);
  /// Forgets networks that have spent nothing any more. O(networks).
  void sweep(Time now);
  [[nodiscard]] std::size_t size() const { return waiting_.size(); }
  [[nodiscard]] std::size_t memory() const;

 private:
  /// In which what a network has spent falls to 1/e of it.
  static constexpr double kForgivenSeconds = 10;
  static constexpr std::size_t kMaxNetworks = 8192;
  struct Network {
    double spent = 0;
    Time at{};
    std::uint32_t waiting = 0;
  };
  struct Waiting {
    Connect connect;
    Endpoint network;
    double cost = 0;  // what its network had spent, those in front of it included
  };
  struct Hash {
    Key128 key;
    std::size_t operator()(const Endpoint& network) const noexcept;
  };
  static double spent(const Network& network, Time now);
  Network& network(Time now, const Endpoint& address);
  void take_out(std::size_t place);
  void refill(Time now);

  ExchangeLimits limits_;
  std::unordered_map<Endpoint, Network, Hash> networks_;
  std::vector<Waiting> waiting_;
  double tokens_;
  Time refilled_{};
};

}  // namespace kwind::link
