#include "harbour_server.h"

#include <algorithm>
#include <nlohmann/json.hpp>

#include "kwind/io/clock.h"
#include "kwind/json/text.h"

namespace kwind::demo {
namespace {

using namespace std::chrono_literals;

// A value as naive JSON has it.
template <class T>
nlohmann::json json_value(const T& value) {
  if constexpr (std::is_enum_v<T>) {
    return std::string(name_of(value));
  } else if constexpr (requires { value.rows(); }) {
    return nlohmann::json::array({value[0], value[1]});
  } else {
    return value;
  }
}

}  // namespace

HarbourServer::HarbourServer(std::unique_ptr<io::PollableTransport> transport,
                             const Settings& settings,
                             std::function<void(const link::KeyNote&)> key_log)
    : settings_(settings),
      transport_(std::move(transport)),
      key_log_(std::move(key_log)),
      address_(transport_->local()),
      world_(harbour_world::kEntities, {.ticks_per_second = kTicksPerSecond}),
      motion_(world_, settings.seed),
      interest_(world_,
                {.enter = harbour_motion::kInterest, .leave = harbour_motion::kInterest + 16}),
      symbol_counts_(harbour_world::kEntities) {
  if (!settings.clear) key_ = link::KeyPair::from_secret(io::random_secret());
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

void HarbourServer::snapshot(Moment& moment) const {
  const std::lock_guard lock(mutex_);
  moment.clients = clients_;
  moment.server = traffic_;
  moment.state = shown_;
}

void HarbourServer::add_handlers(host::Server& server) {
  server.on_disconnect([this](host::Peer peer, Errc, std::string_view) {
    const auto found = aboard_.find(peer);
    if (found == aboard_.end()) return;
    motion_.give_back(found->second.tug);
    aboard_.erase(found);
  });
  server.on<harbour_world::Enter>([this, &server](host::Peer peer,
                                                  const harbour_world::Enter& enter) {
    if (aboard_.contains(peer)) return;
    const auto tug = motion_.take_tug(enter.name);
    if (!tug) return;
    // The codes that both ends hold; the built-in ones otherwise.
    const bool trained = settings_.code_tables != nullptr &&
                         server.code_tables(peer) == settings_.code_tables->digest();
    record_.codes = server.code_tables(peer);
    Aboard aboard{enter.name, *tug, {}, std::make_unique<replica::InterestQuery>(interest_), {}, 0};
    aboard.replicator = std::make_unique<replica::ClientReplicator>(
        world_, replica::ReplicatorOptions{.speculative_baselines = settings_.speculative_baselines,
                                           .codes = trained ? settings_.code_tables : nullptr});
    aboard.replicator->count_into(&symbol_counts_);
    aboard.query->add_owned(*tug);
    aboard.query->set_origin(*tug);
    aboard_.emplace(peer, std::move(aboard));
  });
  server.on_payload([this](host::Peer peer, std::span<const std::byte> payload, std::size_t bits) {
    return hear(peer, payload, bits);
  });
  server.on<harbour_world::Helm>([this](host::Peer peer, const harbour_world::Helm& helm) {
    const auto found = aboard_.find(peer);
    if (found != aboard_.end()) motion_.steer(found->second.tug, helm);
  });
  server.on<harbour_world::Hail>([this, &server](host::Peer peer, const harbour_world::Hail& hail) {
    const auto found = aboard_.find(peer);
    if (found == aboard_.end()) return;
    record_.hails[found->second.name] = hail.count;
    server.send_to_all(harbour_world::Notice{found->second.name, hail.count, hail.words});
  });
}

Errc HarbourServer::hear(host::Peer peer, std::span<const std::byte> payload, std::size_t bits) {
  const auto found = aboard_.find(peer);
  if (found == aboard_.end()) return Errc::none;  // it has not entered yet
  Aboard& aboard = found->second;
  return aboard.inputs.receive(payload, bits, aboard.replicator.get());
}

// What everything is as of the tick that ends now, where that is new.
void HarbourServer::write_truth() {
  const std::uint32_t tick = world_.tick();
  for (const auto& [id, actor] : motion_.all()) {
    auto& history = record_.truth[{id, actor.ref.generation}];
    const Truth now = std::visit(
        [&](const auto& value) {
          return Truth{tick, print_of(value), value.at[0], value.at[1]};
        },
        actor.value);
    if (history.empty() || history.back().print != now.print) history.push_back(now);
    written_[id] = actor.ref;
  }
}

std::size_t HarbourServer::json_bytes(std::uint32_t id) {
  const auto [found, fresh] = json_of_tick_.try_emplace(id);
  if (!fresh) return found->second;
  const auto actor = motion_.all().find(id);
  if (actor == motion_.all().end()) return 0;
  found->second = std::visit(
      [&](const auto& value) {
        nlohmann::ordered_json object{{"id", id}, {"kind", value.entity_info().name}};
        visit_fields(value, [&](std::string_view name, const auto& field) {
          object[std::string(name)] = json_value(field);
        });
        return json::text_of(object).size() + 1;
      },
      actor->second.value);
  return found->second;
}

void HarbourServer::count(Aboard& aboard) {
  const std::uint32_t tick = world_.tick() - 1;
  ++sum_.client_ticks;
  for (const replica::RelevantEntity& seen : aboard.query->update()) {
    ++sum_.in_view;
    sum_.json_bytes += json_bytes(seen.id);
    const auto ref = written_.find(seen.id);
    if (ref == written_.end()) continue;
    const auto& history = record_.truth[{seen.id, ref->second.generation}];
    sum_.changed += !history.empty() && history.back().tick == tick ? 1 : 0;
  }
}

void HarbourServer::note_moment(Time now) {
  sum_.seconds = std::chrono::duration<double>(now - started_).count();
  sum_.bits_by_type.assign(harbour_world::kEntities.types.size(), 0);
  const auto built_in = replica::built_in_codes(harbour_world::kEntities);
  const replica::CodeTables& codes =
      record_.codes != 0 && settings_.code_tables != nullptr ? *settings_.code_tables : *built_in;
  record_.shares.clear();
  for (const auto& cost : replica::costs_of(symbol_counts_, codes)) {
    sum_.bits_by_type[cost.type] += cost.bits;
    const schema::EntityInfo& kind = *harbour_world::kEntities.types[cost.type];
    const std::string field = cost.of == replica::AlphabetCost::Of::errors
                                  ? std::string(kind.fields[kind.columns[cost.column].field].name)
                                  : "what differs";
    const auto same = std::find_if(
        record_.shares.begin(), record_.shares.end(),
        [&](const FieldShare& share) { return share.kind == kind.name && share.field == field; });
    if (same != record_.shares.end()) {
      same->bits += cost.bits;
    } else {
      record_.shares.push_back({std::string(kind.name), field, cost.bits});
    }
  }
  record_.moments.push_back(sum_);
}

void HarbourServer::tick(host::Server& server, Time now) {
  for (auto& [peer, aboard] : aboard_) {
    if (const auto input = aboard.inputs.next()) {
      // What is not taken is counted among the server's drops.
      (void)server.take_input<harbour_world::Helm>(peer, input->bytes, input->bits);
      aboard.replicator->last_processed_input(input->number);
    }
    // What the viewer wrote since the last tick.
    const std::uint64_t bits = aboard.replicator->counts().bits;
    record_.bytes_of_ticks.push_back((bits - aboard.bits_before + 7) / 8);
    sum_.state_bits += bits - aboard.bits_before;
    aboard.bits_before = bits;
  }
  motion_.step(frozen_);
  write_truth();
  world_.end_tick();
  json_of_tick_.clear();
  for (auto& [peer, aboard] : aboard_) {
    aboard.replicator->see(*aboard.query);
    server.schedule_payload(peer, aboard.replicator.get(), 2);
    count(aboard);
  }
  if (world_.tick() % (kTicksPerSecond / 2) == 0) note_moment(now);
}

void HarbourServer::finish(host::Server& server) {
  for (auto& [peer, aboard] : aboard_) {
    record_.in_view[aboard.name] = aboard.query->update().size();
    record_.counts_of_replicators.add(aboard.replicator->counts());
  }
  server.close_all("the harbour closes for the night");
}

void HarbourServer::run() {
  host::ServerOptions options;
  options.capacity = settings_.places > 0 ? settings_.places : settings_.bots;
  options.key = key_;
  options.key_log = key_log_;
  if (!key_) options.plaintext = host::Plaintext::loopback_only;
  if (settings_.code_tables != nullptr) options.code_table_sets = {settings_.code_tables->digest()};
  host::Server server(*transport_, harbour_world::kProtocol, options);
  add_handlers(server);
  started_ = io::now();
  host::TickClock ticks(kTicksPerSecond, started_);
  bool closing = false;
  Time close_by = kNever;
  while (!closing || (server.connections() > 0 && io::now() < close_by)) {
    const Time now = io::now();
    server.receive(now);
    unsigned due = ticks.due(now);
    // Once a tick, so that acks, hails and state share its datagrams.
    const bool send = due > 0 || closing;
    for (; due > 0 && !closing; --due) tick(server, now);
    if (stopping_ && !closing) {
      closing = true;
      close_by = now + 2s;
      finish(server);
    }
    if (send) server.flush(io::now());
    {
      const std::lock_guard lock(mutex_);
      clients_ = server.peers().size();
      traffic_ = server.traffic();
      shown_ = sum_;
    }
    transport_->wait(closing ? io::now() + 5ms : ticks.next());
  }
  record_.traffic = server.traffic();
  record_.counts = server.counts();
  record_.ticks_skipped = ticks.skipped();
}

}  // namespace kwind::demo
