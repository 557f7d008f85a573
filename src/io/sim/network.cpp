// Any number of addresses, and a simulated path for each ordered pair that has exchanged a
// datagram.
#include "kwind/io/sim/network.h"

#include <algorithm>

#include "kwind/core/assert.h"

namespace kwind::io::sim {

// Delivers for all transports first: the order of events is that of the virtual clock, whoever
// asks.
std::optional<ReceivedDatagram> SimTransport::receive(Time now) {
  network_.deliver(now);
  if (arrived_.empty()) return std::nullopt;
  current_ = std::move(arrived_.front());
  arrived_.pop_front();
  ++counts_.datagrams_received;
  counts_.bytes_received += current_.bytes.size();
  return ReceivedDatagram{current_.from, current_.bytes};
}

// The path decides on loss, delay and copies at the time of sending.
void SimTransport::send(Time now, const Endpoint& to, std::span<const std::byte> bytes) {
  ++counts_.datagrams_sent;
  counts_.bytes_sent += bytes.size();
  network_.path(local_, to).push(now, local_, to, bytes);
}

// Closed and opened again, an address has a new transport: datagrams in flight still reach it.
SimTransport& Network::open(const Endpoint& local) {
  const auto [place, fresh] = transports_.try_emplace(key(local));
  KWIND_ASSERT(fresh);
  place->second = std::make_unique<SimTransport>(*this, local);
  return *place->second;
}

void Network::set_conditions(const Endpoint& from, const Endpoint& to,
                             const Conditions& conditions) {
  path(from, to).set_conditions(conditions);
}

// Each path hands out its datagrams by due time. A datagram to an address without a transport is
// gone, as on a network.
void Network::deliver(Time now) {
  Datagram datagram;
  for (auto& [ends, path] : paths_) {
    while (path.pop(now, datagram)) {
      const auto transport = transports_.find(ends.second);
      if (transport != transports_.end())
        transport->second->arrived_.push_back(std::move(datagram));
    }
  }
}

Time Network::next() const {
  Time next = kNever;
  for (const auto& [ends, path] : paths_) next = std::min(next, path.next());
  return next;
}

// Paths are never removed, so the sum covers the whole session.
SimulatedPathCounts Network::counts() const {
  SimulatedPathCounts sum;
  for (const auto& [ends, path] : paths_) sum.add(path.counts());
  return sum;
}

// A path's seed follows from the network's seed and both addresses (FNV-1a): opening one path does
// not change the chances of another.
SimulatedPath& Network::path(const Endpoint& from, const Endpoint& to) {
  const auto ends = std::pair(key(from), key(to));
  const auto found = paths_.find(ends);
  if (found != paths_.end()) return found->second;
  std::uint64_t seed = seed_;
  for (const Endpoint* end : {&from, &to}) {
    for (const std::uint8_t byte : end->ip) seed = (seed ^ byte) * 1099511628211ULL;
    seed = (seed ^ end->port) * 1099511628211ULL;
  }
  return paths_.try_emplace(ends, conditions_, seed).first->second;
}

}  // namespace kwind::io::sim
