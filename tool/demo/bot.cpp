#include "bot.h"

#include <fmt/format.h>

#include <algorithm>

#include "json_size.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_port.h"

namespace kwind::demo {
namespace {

using namespace std::chrono_literals;

constexpr const char* kNames[] = {"Marsh Hen",  "Old Brine",   "Sandpiper",  "Lantern",
                                  "Grey Heron", "Little Dune", "Salt Witch", "Tern",
                                  "Mudlark",    "Foghorn",     "Reed Wren",  "Kittiwake"};

io::sim::Conditions one_way(const Settings& settings) {
  io::sim::Conditions conditions;
  conditions.delay = std::chrono::microseconds(settings.delay_ms * 500);
  conditions.jitter = std::chrono::microseconds(settings.jitter_ms * 500);
  conditions.loss = settings.loss_percent / 100;
  return conditions;
}

}  // namespace

Bot::Bot(unsigned number, const Settings& settings, const Endpoint& server,
         const std::optional<link::PublicKey>& server_key, bool late, std::size_t expected_tugs)
    : settings_(settings),
      server_(server),
      server_key_(server_key),
      expected_tugs_(expected_tugs),
      pilot_(settings.seed * 1000 + number) {
  record_.number = number;
  record_.late = late;
}

Bot::~Bot() {
  join();
}

Errc Bot::start() {
  auto port = io::UdpPort::open(Endpoint::loopback(0));
  if (!port) return port.error();
  const io::sim::Conditions conditions = one_way(settings_);
  port_ = std::make_unique<io::ImpairedPort>(std::move(*port), conditions, conditions,
                                             settings_.seed * 100 + record_.number);
  thread_ = std::thread([this] { run(); });
  return Errc::none;
}

void Bot::join() {
  stopping_ = true;
  if (thread_.joinable()) thread_.join();
}

void Bot::snapshot(host::Traffic& traffic, std::optional<double>& rtt_ms, bool& failed) const {
  const std::lock_guard lock(mutex_);
  traffic = traffic_;
  rtt_ms = rtt_ms_;
  failed = failed_;
}

void Bot::add_handlers(host::Client& client) {
  client.on_connect([this, &client] {
    record_.connected = io::now();
    const unsigned n = record_.number - 1;
    harbour::Enter enter;
    enter.name = kNames[n % std::size(kNames)];
    if (n >= std::size(kNames)) enter.name += fmt::format(" {}", n / std::size(kNames) + 1);
    enter.cargo = static_cast<harbour::Cargo>(n % 4);
    if (client.send(enter) == Errc::none) record_.json_bytes += json_bytes(enter);
  });
  client.on_disconnect([this](Errc code, std::string_view reason) {
    record_.end_code = code;
    if (code != Errc::closed_by_peer) record_.ended = host::explain_end(code, reason);
  });
  client.on<harbour::Fleet>([this](const harbour::Fleet& fleet) {
    const Time now = io::now();
    if (!record_.fleets.empty() && fleet.tick <= record_.fleets.rbegin()->first) {
      ++record_.fleets_out_of_order;
    }
    record_.fleets[fleet.tick] = {now, fleet.tugs};
    if (!record_.complete && fleet.tugs.size() >= expected_tugs_ &&
        record_.names.size() >= expected_tugs_) {
      record_.complete = now;
    }
  });
  client.on<harbour::Arrival>(
      [this](const harbour::Arrival& arrival) { record_.names[arrival.tug] = arrival.name; });
  client.on<harbour::Departure>(
      [this](const harbour::Departure& departure) { record_.names.erase(departure.tug); });
  client.on<harbour::Notice>([this](const harbour::Notice& notice) {
    ++record_.notices;
    const auto [last, fresh] = record_.last_notice.try_emplace(notice.tug, notice.count);
    if (fresh) {
      record_.first_notice[notice.tug] = notice.count;
    } else if (notice.count != last->second + 1) {
      ++record_.notices_out_of_order;
    }
    last->second = notice.count;
  });
}

void Bot::tick(host::Client& client, Time now, std::uint64_t number) {
  if (!record_.fleets.empty()) record_.samples.push_back({now, record_.fleets.rbegin()->first});
  const harbour::Helm helm = pilot_.steer();
  if (client.send(helm) == Errc::none) record_.json_bytes += json_bytes(helm);
  // No hail before this bot knows of all others: then all of them are there to hear its first.
  if (hushed_ || !record_.complete || (number + record_.number * 3) % 15 != 0) return;
  harbour::Hail hail;
  hail.count = record_.hails + 1;
  hail.words = fmt::format("{} calling the office, message {}",
                           kNames[(record_.number - 1) % std::size(kNames)], hail.count);
  hail.tone = hail.count % 7 == 0 ? harbour::Hail::Tone::urgent : harbour::Hail::Tone::plain;
  if (client.send(hail) == Errc::none) {
    record_.hails = hail.count;
    record_.json_bytes += json_bytes(hail);
  }
}

void Bot::run() {
  record_.started = io::now();
  host::ClientOptions options;
  options.server_key = server_key_;
  if (!server_key_) options.clear_mode = host::ClearMode::loopback_only;
  host::Client client(*port_, server_, harbour::kProtocol, record_.started, options);
  add_handlers(client);
  host::TickClock ticks(kTicksPerSecond, record_.started);
  Time give_up = kNever;
  while (!client.ended()) {
    const Time now = io::now();
    if (stopping_ && give_up == kNever) give_up = now + 2s;
    if (now >= give_up) break;
    client.receive(now);
    unsigned due = ticks.due(now);
    const bool send = due > 0 || !client.connected();
    for (; due > 0 && client.connected(); --due) tick(client, now, ticks.ticks());
    if (send) client.send(io::now());
    {
      const std::lock_guard lock(mutex_);
      traffic_ = client.traffic();
      if (client.connected()) {
        rtt_ms_ = std::chrono::duration<double, std::milli>(client.stats().smoothed_rtt).count();
      } else {
        rtt_ms_.reset();
      }
      failed_ = client.ended() && record_.end_code != Errc::closed_by_peer;
    }
    port_->wait(std::min(ticks.next(), io::now() + 20ms));
  }
  record_.traffic = client.traffic();
  record_.counts = client.counts();
}

}  // namespace kwind::demo
