// A bounded queue of connects with a token bucket; networks with fewer recent exchanges come first.
//
// A key exchange is the dearest thing that a stranger can ask for, so exchanges are rationed. A
// connect has a price: the exchanges that its network (IPv4 /32, IPv6 /64) had lately, and those
// that it has waiting. Past exchanges are forgotten exponentially; failed ones count fourfold. The
// cheapest connect goes first. A full queue drops the dearest.
//
// Invariant 1: Network::waiting is the number of entries of the queue that have this network.
// Invariant 2: a network that has connects waiting is not evicted from the table.
#include "link/handshake/exchange_queue.h"

#include <algorithm>
#include <cmath>

#include "kwind/core/digest.h"

namespace kwind::link {
namespace {

double spent_seconds(Duration time) {
  return std::chrono::duration<double>(time).count();
}

}  // namespace

// The hash is keyed: a stranger cannot choose addresses that fall into one bucket.
std::size_t ExchangeQueue::Hash::operator()(const Endpoint& network) const noexcept {
  return static_cast<std::size_t>(keyed_check(key, std::as_bytes(std::span(network.ip)), 0));
}

ExchangeQueue::ExchangeQueue(const ExchangeLimits& limits, const Secret32& key)
    : limits_(limits), networks_(0, Hash{}), tokens_(limits.burst) {
  KWIND_ASSERT(limits.queued >= 1 && limits.burst >= 1 && limits.per_second > 0 &&
               limits.per_network >= 1);
  Hash hash{};
  std::copy_n(key.bytes().begin(), hash.key.size(), hash.key.begin());
  networks_ = std::unordered_map<Endpoint, Network, Hash>(0, hash);
}

// Exchanges of a network are forgotten exponentially.
double ExchangeQueue::spent(const Network& network, Time now) {
  return network.spent *
         std::exp(-spent_seconds(std::max(now - network.at, Duration{0})) / kForgivenSeconds);
}

// The entry of a network, brought up to `now`. The table is bounded.
ExchangeQueue::Network& ExchangeQueue::network(Time now, const Endpoint& address) {
  const auto found = networks_.find(address);
  if (found != networks_.end()) {
    Network& network = found->second;
    network = {spent(network, now), now, network.waiting};
    return network;
  }
  if (networks_.size() >= kMaxNetworks) {
    // Any one that waits for nothing: there are more than can wait.
    const auto idle = std::find_if(networks_.begin(), networks_.end(),
                                   [](const auto& entry) { return entry.second.waiting == 0; });
    if (idle != networks_.end()) networks_.erase(idle);
  }
  return networks_[address] = Network{0, now, 0};
}

// The order of the queue has no meaning: the last entry fills the hole.
void ExchangeQueue::take_out(std::size_t place) {
  const auto found = networks_.find(waiting_[place].network);
  if (found != networks_.end() && found->second.waiting > 0) --found->second.waiting;
  if (place + 1 < waiting_.size()) waiting_[place] = std::move(waiting_.back());
  waiting_.pop_back();
}

// A connect costs as many exchanges as its network had lately and has waiting. A full queue drops
// the dearest connect, if the new one is cheaper. A copy of a waiting connect is ignored.
Errc ExchangeQueue::push(Time now, Connect connect) {
  const bool copy = std::any_of(waiting_.begin(), waiting_.end(), [&](const Waiting& each) {
    return each.connect.from == connect.from && each.connect.datagram == connect.datagram;
  });
  if (copy) return Errc::none;
  const Endpoint address = connect.from.network();
  Network& asking = network(now, address);
  const double cost = asking.spent + asking.waiting;
  if (cost + 1 > limits_.per_network) return Errc::server_busy;
  if (waiting_.size() >= limits_.queued) {
    const auto dearest =
        std::max_element(waiting_.begin(), waiting_.end(),
                         [](const Waiting& a, const Waiting& b) { return a.cost < b.cost; });
    if (dearest->cost <= cost) return Errc::server_busy;
    take_out(static_cast<std::size_t>(dearest - waiting_.begin()));
  }
  ++asking.waiting;
  waiting_.push_back({std::move(connect), address, cost});
  return Errc::none;
}

// A token bucket: per_second tokens a second, at most burst.
void ExchangeQueue::refill(Time now) {
  tokens_ =
      std::min(limits_.burst, tokens_ + spent_seconds(std::max(now - refilled_, Duration{0})) *
                                            limits_.per_second);
  refilled_ = std::max(refilled_, now);
}

// The connect of the network that asked for least, if a token is left.
std::optional<ExchangeQueue::Connect> ExchangeQueue::pop(Time now) {
  refill(now);
  if (waiting_.empty() || tokens_ < 1) return std::nullopt;
  tokens_ -= 1;
  const auto cheapest =
      std::min_element(waiting_.begin(), waiting_.end(),
                       [](const Waiting& a, const Waiting& b) { return a.cost < b.cost; });
  Connect connect = std::move(cheapest->connect);
  network(now, cheapest->network).spent += 1;
  take_out(static_cast<std::size_t>(cheapest - waiting_.begin()));
  return connect;
}

// When pop() will return a connect.
Time ExchangeQueue::next() const {
  if (waiting_.empty()) return kNever;
  if (tokens_ >= 1) return Time::min();
  return refilled_ + std::chrono::duration_cast<Duration>(
                         std::chrono::duration<double>((1 - tokens_) / limits_.per_second));
}

// An exchange that failed counts fourfold, one that became a connection counts nothing.
void ExchangeQueue::blame(Time now, const Endpoint& from) {
  network(now, from.network()).spent += 3;
}
void ExchangeQueue::forgive(Time now, const Endpoint& from) {
  Network& known = network(now, from.network());
  known.spent = std::max(0.0, known.spent - 1);
}

// Networks that have been quiet leave the table.
void ExchangeQueue::sweep(Time now) {
  std::erase_if(networks_, [&](const auto& entry) {
    return entry.second.waiting == 0 && spent(entry.second, now) < 0.1;
  });
}

// Of waiting connects and of the table of networks; an estimate.
std::size_t ExchangeQueue::memory() const {
  return waiting_.capacity() * (sizeof(Waiting) + kBaseDatagramBytes) +
         networks_.size() * (sizeof(Endpoint) + sizeof(Network) + 2 * sizeof(void*)) +
         networks_.bucket_count() * sizeof(void*);
}

}  // namespace kwind::link
