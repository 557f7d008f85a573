// A proxy for datagrams: each client gets a socket of its own towards the server, so that the
// server sees different addresses, and a simulated path for each direction.
#include "lag/proxy.h"

#include <algorithm>

#include "kwind/io/clock.h"

namespace kwind::lag {
Proxy::Proxy(std::unique_ptr<io::UdpTransport> transport, const Endpoint& server,
             const BothWays& conditions, std::uint64_t seed)
    : transport_(std::move(transport)), server_(server), conditions_(conditions), seed_(seed) {}

// From now on, for everybody.
void Proxy::set_conditions(const BothWays& conditions) {
  conditions_ = conditions;
  for (const auto& client : clients_) {
    client->up.set_conditions(conditions.up);
    client->down.set_conditions(conditions.down);
  }
}

// A socket of its own towards the server for each client, so that the server tells them apart.
Proxy::Client* Proxy::client_of(const Endpoint& from, Time now) {
  if (const auto known = by_address_.find(from); known != by_address_.end()) {
    known->second->last_heard = now;
    return known->second;
  }
  if (clients_.size() >= kMaxClients) return nullptr;
  auto upstream = io::UdpTransport::open(io::local_for(server_));
  if (!upstream) return nullptr;
  const std::uint64_t seed = seed_ * 1000003 + 2 * made_++;
  clients_.push_back(std::make_unique<Client>(
      Client{from, std::move(*upstream), io::sim::SimulatedPath(conditions_.up, seed),
             io::sim::SimulatedPath(conditions_.down, seed + 1), now}));
  by_address_[from] = clients_.back().get();
  return clients_.back().get();
}

// Takes what has arrived, and passes on what is due.
void Proxy::run_once(Time until) {
  Time now = io::now();
  // Bounds one turn, so that a flood delays neither other datagrams nor the end of the program.
  constexpr int kInATurn = 4096;
  for (int i = 0; i < kInATurn; ++i) {
    const auto received = transport_->receive(now);
    if (!received) break;
    if (received->bytes.empty()) continue;  // too long, or from nowhere
    Client* client = client_of(received->from, now);
    if (client == nullptr) {
      ++past_.refused;
      continue;
    }
    ++past_.up.datagrams;
    past_.up.bytes += received->bytes.size();
    if (watcher_) watcher_(now, received->from, transport_->local(), received->bytes);
    client->up.push(now, received->from, server_, received->bytes);
  }
  Time next = until;
  io::sim::Datagram datagram;
  for (const auto& client : clients_) {
    for (int i = 0; i < kInATurn; ++i) {
      const auto received = client->upstream->receive(now);
      if (!received) break;
      if (received->from != server_ || received->bytes.empty()) continue;
      ++past_.down.datagrams;
      past_.down.bytes += received->bytes.size();
      client->down.push(now, server_, client->at, received->bytes);
    }
    while (client->up.pop(now, datagram)) client->upstream->send(now, server_, datagram.bytes);
    client->upstream->flush(now);
    while (client->down.pop(now, datagram)) {
      if (watcher_) watcher_(now, transport_->local(), client->at, datagram.bytes);
      transport_->send(now, client->at, datagram.bytes);
    }
    next = std::min({next, client->up.next(), client->down.next()});
  }
  transport_->flush(now);
  if (now >= next_sweep_) drop_idle(now);
  std::vector<io::PollableTransport*> transports{transport_.get()};
  for (const auto& client : clients_) transports.push_back(client->upstream.get());
  io::wait_for_any(transports, next);
}

// Clients that have been silent leave; their counts stay.
void Proxy::drop_idle(Time now) {
  next_sweep_ = now + std::chrono::seconds(1);
  std::erase_if(clients_, [&](const std::unique_ptr<Client>& client) {
    if (now - client->last_heard < kForgetAfter) return false;
    past_.too_long += client->upstream->counts().too_long;
    past_.up.paths.add(client->up.counts());
    past_.down.paths.add(client->down.counts());
    by_address_.erase(client->at);
    return true;
  });
}

// Sums over present and past clients.
ProxyCounts Proxy::counts() const {
  ProxyCounts counts = past_;
  counts.clients = clients_.size();
  counts.too_long += transport_->counts().too_long;
  for (const auto& client : clients_) {
    counts.too_long += client->upstream->counts().too_long;
    counts.up.paths.add(client->up.counts());
    counts.down.paths.add(client->down.counts());
  }
  return counts;
}

}  // namespace kwind::lag
