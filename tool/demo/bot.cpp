// A bot: steers its tug, and writes down what it receives and what it would draw.
#include "bot.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/host/tick_clock.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

namespace kwind::demo {
namespace {

using namespace std::chrono_literals;

constexpr const char* kNames[] = {"Marsh Hen",  "Old Brine",   "Sandpiper",  "Lantern",
                                  "Grey Heron", "Little Dune", "Salt Witch", "Tern",
                                  "Mudlark",    "Foghorn",     "Reed Wren",  "Kittiwake"};

// Half of the round trip each way, on both of the bot's lanes.
io::sim::Conditions one_way(const Settings& settings) {
  io::sim::Conditions conditions;
  conditions.delay = std::chrono::microseconds(settings.rtt_ms * 500);
  conditions.jitter = std::chrono::microseconds(settings.jitter_ms * 500);
  conditions.loss = settings.loss_percent / 100;
  return conditions;
}

}  // namespace

Bot::Bot(unsigned number, const Settings& settings, const Endpoint& server,
         const std::optional<link::PublicKey>& server_key, bool late)
    : settings_(settings),
      server_(server),
      server_key_(server_key),
      pilot_(settings.seed * 1000 + number) {
  record_.number = number;
  record_.late = late;
  const unsigned n = number - 1;
  record_.name = kNames[n % std::size(kNames)];
  if (n >= std::size(kNames)) record_.name += fmt::format(" {}", n / std::size(kNames) + 1);
}

Bot::~Bot() {
  join();
}

// Opens the socket and starts the bot's thread.
Errc Bot::start() {
  auto transport = io::UdpTransport::open(Endpoint::loopback(0));
  if (!transport) return transport.error();
  const io::sim::Conditions conditions = one_way(settings_);
  transport_ = std::make_unique<io::ImpairedTransport>(
      std::move(*transport), conditions, conditions, settings_.seed * 100 + record_.number);
  thread_ = std::thread([this] { run(); });
  return Errc::none;
}

void Bot::join() {
  stopping_ = true;
  if (thread_.joinable()) thread_.join();
}

// Figures for the line of the second; the bot's thread writes them under the same lock.
void Bot::snapshot(host::Traffic& traffic, std::optional<double>& rtt_ms, bool& failed) const {
  const std::lock_guard lock(mutex_);
  traffic = traffic_;
  rtt_ms = rtt_ms_;
  failed = failed_;
}

// The bot's values of an entity as a digest, to be compared with the server's.
Told Bot::values(schema::AnyRef ref) const {
  Told made{ref.id, ref.generation, client_world_->state_tick(ref), 0};
  const auto take = [&](auto kind) {
    const auto value = client_world_->get(schema::Ref<decltype(kind)>{ref.id, ref.generation});
    if (value) made.print = print_of(*value);
  };
  take(harbour_world::Post{});
  take(harbour_world::Crate{});
  take(harbour_world::Gull{});
  take(harbour_world::Barge{});
  take(harbour_world::Tug{});
  return made;
}

// A snapshot that waits for its base is no failure.
Errc Bot::take(std::span<const std::byte> payload, std::size_t bits) {
  const Errc error = client_world_->receive(payload, bits);
  const bool waits = error == Errc::base_missing;
  if (error != Errc::none && error != Errc::replayed && !waits) ++record_.snapshots_refused;
  for (const replica::EntityEvent& each : client_world_->take_events()) {
    if (each.type == replica::EntityEvent::Type::despawned) continue;
    // It may have despawned again within the same snapshot.
    const Told made = values(each.entity);
    if (made.tick > 0) record_.values.push_back(made);
    if (client_world_->owns(each.entity)) record_.tug = {each.entity.id, each.entity.generation};
  }
  if (client_world_->tick() > 0) play_out_.on_snapshot(io::now(), client_world_->tick());
  // Its tug, and all around it, or as good as: the harbour is full everywhere.
  constexpr std::size_t kPlenty = 20;
  if (!record_.complete && record_.tug.first > 0 && client_world_->size() >= kPlenty) {
    record_.complete = io::now();
  }
  return error;
}

// Notes the times of the connection, the notices that arrive, and gaps between these.
void Bot::add_handlers(host::Client& client) {
  client.on_connect([this, &client] {
    record_.connected = io::now();
    (void)client.send(harbour_world::Enter{record_.name});
    const bool trained =
        settings_.code_tables != nullptr && client.code_tables() == settings_.code_tables->digest();
    client_world_ = std::make_unique<replica::ClientWorld>(
        harbour_world::kEntities, kTicksPerSecond, trained ? settings_.code_tables : nullptr);
    inputs_ = std::make_unique<replica::InputSender>(*client_world_);
  });
  client.on_disconnect([this](Errc code, std::string_view reason) {
    record_.end_code = code;
    if (code != Errc::closed_by_peer) record_.ended = host::explain_end(code, reason);
  });
  client.on_payload([this](std::span<const std::byte> payload, std::size_t bits) {
    return client_world_ != nullptr ? take(payload, bits) : Errc::unexpected;
  });
  client.on<harbour_world::Notice>([this](const harbour_world::Notice& notice) {
    ++record_.notices;
    const auto [last, fresh] = record_.last_notice.try_emplace(notice.from, notice.count);
    if (fresh) {
      record_.first_notice[notice.from] = notice.count;
    } else if (notice.count != last->second + 1) {
      ++record_.notices_out_of_order;
    }
    last->second = notice.count;
  });
}

// Where it sees what moves, at the tick that is drawn now.
void Bot::draw(Time now) {
  const auto tick = play_out_.tick_at(now);
  if (!tick || *tick < 1) return;
  for (const schema::AnyRef& ref : client_world_->entities()) {
    const auto add = [&](auto kind) {
      const auto value =
          client_world_->sample(schema::Ref<decltype(kind)>{ref.id, ref.generation}, *tick);
      if (value)
        record_.drawn.push_back({ref.id, ref.generation, *tick, value->at[0], value->at[1]});
    };
    add(harbour_world::Gull{});
    add(harbour_world::Barge{});
    add(harbour_world::Tug{});
  }
  record_.delay_ticks = play_out_.delay_ticks();
}

// One tick of a player: draws, steers, hails now and then.
void Bot::tick(host::Client& client, Time now, std::uint64_t number) {
  draw(now);
  inputs_->put(pilot_.steer());
  client.schedule_payload(inputs_.get(), 1);
  // No hail before this bot sees the harbour: then all others are there to hear its first.
  if (hushed_ || !record_.complete || now - *record_.complete < 500ms ||
      (number + record_.number * 5) % 60 != 0) {
    return;
  }
  harbour_world::Hail hail;
  hail.count = record_.hails + 1;
  hail.words = fmt::format("{} calling the office, message {}",
                           kNames[(record_.number - 1) % std::size(kNames)], hail.count);
  if (client.send(hail) == Errc::none) record_.hails = hail.count;
}

// The bot's thread: receive, play, send, sleep.
void Bot::run() {
  record_.started = io::now();
  host::ClientOptions options;
  options.server_key = server_key_;
  if (settings_.code_tables != nullptr) options.code_table_sets = {settings_.code_tables->digest()};
  if (!server_key_) options.plaintext = host::Plaintext::loopback_only;
  host::Client client(*transport_, server_, harbour_world::kProtocol, record_.started, options);
  add_handlers(client);
  host::TickClock ticks(kTicksPerSecond, record_.started);
  Time discard = kNever;
  while (!client.ended()) {
    const Time now = io::now();
    if (stopping_ && discard == kNever) discard = now + 2s;
    if (now >= discard) break;
    client.receive(now);
    unsigned due = ticks.due(now);
    const bool send = due > 0 || !client.connected();
    for (; due > 0 && client.connected() && client_world_ != nullptr; --due) {
      tick(client, now, ticks.ticks());
    }
    if (send) client.flush(io::now());
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
    transport_->wait(std::min(ticks.next(), io::now() + 20ms));
  }
  record_.traffic = client.traffic();
  record_.counts = client.counts();
  if (client_world_ == nullptr) return;
  for (const schema::AnyRef& ref : client_world_->entities()) record_.held.push_back(values(ref));
  record_.input_bits = inputs_->bits();
  record_.inputs = inputs_->newest();
  record_.desyncs = client_world_->counts().desyncs;
}

}  // namespace kwind::demo
