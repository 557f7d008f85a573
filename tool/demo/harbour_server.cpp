#include "harbour_server.h"

#include <algorithm>
#include <set>

#include "json_size.h"
#include "kwind/io/clock.h"

namespace kwind::demo {

using namespace std::chrono_literals;

HarbourServer::HarbourServer(std::unique_ptr<io::LivePort> port, std::size_t places, bool clear,
                             std::function<void(const link::KeyNote&)> key_log)
    : port_(std::move(port)),
      key_log_(std::move(key_log)),
      address_(port_->local()),
      places_(places) {
  if (!clear) key_ = link::KeyPair::from_secret(io::random_secret());
}

HarbourServer::~HarbourServer() {
  stop();
}

void HarbourServer::start() {
  thread_ = std::thread([this] { run(); });
}

void HarbourServer::stop() {
  stopping_ = true;
  if (thread_.joinable()) thread_.join();
}

void HarbourServer::snapshot(std::size_t& clients, host::Traffic& traffic) const {
  const std::lock_guard lock(mutex_);
  clients = clients_;
  traffic = traffic_;
}

std::int32_t HarbourServer::free_number() const {
  std::set<std::int32_t> taken;
  for (const auto& [peer, tug] : aboard_) taken.insert(tug.number);
  std::int32_t number = 1;
  while (taken.contains(number)) ++number;
  return number;
}

void HarbourServer::add_handlers(host::Server& server) {
  server.on_connect([this](host::Peer peer) {
    Aboard tug;
    tug.number = free_number();
    // Tugs start on a ring around the pier head, each with room to move.
    const double angle = tug.number * 0.7;
    tug.motion.x = 60 * std::sin(angle) * (1 + tug.number % 5);
    tug.motion.y = 60 * std::cos(angle) * (1 + tug.number % 5);
    aboard_[peer] = tug;
  });
  server.on_disconnect([this, &server](host::Peer peer, Errc, std::string_view) {
    const harbour::Departure departure{aboard_[peer].number};
    aboard_.erase(peer);
    record_.json_bytes += json_bytes(departure) * server.send_to_all(departure);
  });
  server.on<harbour::Helm>([this](host::Peer peer, const harbour::Helm& helm) {
    aboard_[peer].motion.rudder = helm.rudder;
    aboard_[peer].motion.throttle = helm.throttle / 100.0;
  });
  server.on<harbour::Enter>([this, &server](host::Peer peer, const harbour::Enter& enter) {
    Aboard& tug = aboard_[peer];
    if (tug.entered) return;
    tug.entered = true;
    tug.name = enter.name;
    tug.cargo = enter.cargo;
    record_.names[tug.number] = tug.name;
    for (const auto& [other_peer, other] : aboard_) {  // the newcomer hears who is here
      if (!other.entered || other_peer == peer) continue;
      const harbour::Arrival known{other.number, other.name, other.cargo};
      if (server.send(peer, known) == Errc::none) record_.json_bytes += json_bytes(known);
    }
    const harbour::Arrival arrival{tug.number, tug.name, tug.cargo};
    record_.json_bytes += json_bytes(arrival) * server.send_to_all(arrival);
  });
  server.on<harbour::Hail>([this, &server](host::Peer peer, const harbour::Hail& hail) {
    const std::int32_t number = aboard_[peer].number;
    record_.hails[number] = hail.count;
    const harbour::Notice notice{number, hail.count, hail.words,
                                 static_cast<harbour::Notice::Tone>(hail.tone)};
    record_.json_bytes += json_bytes(notice) * server.send_to_all(notice);
  });
}

void HarbourServer::tick(host::Server& server, Time now) {
  harbour::Fleet fleet;
  fleet.tick = static_cast<std::int32_t>(record_.ticks.size());
  const bool frozen = frozen_;
  if (!frozen) record_.frozen_tick = fleet.tick + 1;
  for (auto& [peer, tug] : aboard_) {
    if (!frozen) tug.motion.step();
    fleet.tugs.push_back(tug.motion.seen(tug.number));
  }
  const std::size_t receivers = server.send_to_all(fleet);
  if (receivers > 0) record_.json_bytes += json_bytes(fleet) * receivers;
  record_.ticks.push_back({now, std::move(fleet.tugs)});
}

void HarbourServer::run() {
  host::ServerOptions options;
  options.capacity = places_;
  options.key = key_;
  options.key_log = key_log_;
  if (!key_) options.clear_mode = host::ClearMode::loopback_only;
  host::Server server(*port_, harbour::kProtocol, options);
  add_handlers(server);
  host::TickClock ticks(kTicksPerSecond, io::now());
  bool closing = false;
  Time close_by = kNever;
  while (!closing || (server.connections() > 0 && io::now() < close_by)) {
    const Time now = io::now();
    server.receive(now);
    unsigned due = ticks.due(now);
    const bool send =
        due > 0 || closing;  // once a tick, so that acks and hails share its datagrams
    for (; due > 0; --due) tick(server, now);
    if (stopping_ && !closing) {
      closing = true;
      close_by = now + 2s;
      server.close_all("the harbour closes for the night");
    }
    if (send) server.send(io::now());
    {
      const std::lock_guard lock(mutex_);
      clients_ = server.peers().size();
      traffic_ = server.traffic();
    }
    port_->wait(closing ? io::now() + 5ms : ticks.next());
  }
  record_.traffic = server.traffic();
  record_.counts = server.counts();
  record_.ticks_skipped = ticks.skipped();
}

}  // namespace kwind::demo
