#include "kwind/io/sim/network.h"

#include <algorithm>

#include "kwind/bits/assert.h"

namespace kwind::io::sim {

std::optional<Received> SimPort::receive(Time now) {
  network_.deliver(now);
  if (arrived_.empty()) return std::nullopt;
  current_ = std::move(arrived_.front());
  arrived_.pop_front();
  ++counts_.datagrams_received;
  counts_.bytes_received += current_.bytes.size();
  return Received{current_.from, current_.bytes};
}

void SimPort::send(Time now, const Endpoint& to, std::span<const std::byte> bytes) {
  ++counts_.datagrams_sent;
  counts_.bytes_sent += bytes.size();
  network_.lane(local_, to).push(now, local_, to, bytes);
}

SimPort& Network::open(const Endpoint& local) {
  const auto [place, fresh] = ports_.try_emplace(key(local));
  KWIND_ASSERT(fresh);
  place->second = std::make_unique<SimPort>(*this, local);
  return *place->second;
}

void Network::set_conditions(const Endpoint& from, const Endpoint& to,
                             const Conditions& conditions) {
  lane(from, to).set_conditions(conditions);
}

void Network::deliver(Time now) {
  Datagram datagram;
  for (auto& [ends, lane] : lanes_) {
    while (lane.pop(now, datagram)) {
      const auto port = ports_.find(ends.second);
      if (port != ports_.end()) port->second->arrived_.push_back(std::move(datagram));
    }
  }
}

Time Network::next() const {
  Time next = kNever;
  for (const auto& [ends, lane] : lanes_) next = std::min(next, lane.next());
  return next;
}

LaneCounts Network::counts() const {
  LaneCounts sum;
  for (const auto& [ends, lane] : lanes_) sum.add(lane.counts());
  return sum;
}

Lane& Network::lane(const Endpoint& from, const Endpoint& to) {
  const auto ends = std::pair(key(from), key(to));
  const auto found = lanes_.find(ends);
  if (found != lanes_.end()) return found->second;
  std::uint64_t seed = seed_;
  for (const Endpoint* end : {&from, &to}) {
    for (const std::uint8_t byte : end->ip) seed = (seed ^ byte) * 1099511628211ULL;
    seed = (seed ^ end->port) * 1099511628211ULL;
  }
  return lanes_.try_emplace(ends, conditions_, seed).first->second;
}

}  // namespace kwind::io::sim
