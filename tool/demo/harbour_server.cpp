// The server of the demo on a thread of its own: moves the world and replicates it 20 times a
// second.
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
      symbol_counts_(harbour_world::kEntities) {
  if (!settings.plaintext) key_ = link::KeyPair::from_secret(io::random_secret());
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

// Figures for the line of the second.
void HarbourServer::snapshot(Moment& moment) const {
  const std::lock_guard lock(mutex_);
  moment.clients = clients_;
  moment.server = traffic_;
  moment.state = shown_;
}

// A client that connects gets a tug, and loses the tug when the connection ends.
void HarbourServer::add_handlers(host::Server& server, host::Replication& state) {
  server.on_disconnect([this](host::Peer peer, Errc, std::string_view) {
    const auto found = aboard_.find(peer);
    if (found == aboard_.end()) return;
    motion_->give_back(found->second.tug);
    aboard_.erase(found);
  });
  state.on_client([this, &server](host::ClientView& view) {
    record_.codes = server.code_tables(view.peer());
    // All bots agree on the same tables.
    const bool first = !symbol_counts_.snapshot_modes();
    if (first && record_.codes != 0) symbol_counts_.predict_with(*settings_.code_tables);
    view.replicator().count_into(&symbol_counts_);
  });
  // A pilot sees nothing before entering: the view has no origin until then.
  server.on<harbour_world::Enter>(
      [this, &state](host::Peer peer, const harbour_world::Enter& enter) {
        if (aboard_.contains(peer)) return;
        const auto tug = motion_->take_tug(enter.name);
        if (!tug) return;
        aboard_.emplace(peer, Aboard{enter.name, *tug, 0});
        state.view(peer)->follow(*tug);
      });
  state.on_input<harbour_world::Helm>(
      [this](host::ClientView& view, const harbour_world::Helm& helm) {
        const auto found = aboard_.find(view.peer());
        if (found != aboard_.end()) motion_->steer(found->second.tug, helm);
      });
  state.on_tick([this, &state](std::uint32_t) { tick(state); });
  server.on<harbour_world::Hail>([this, &server](host::Peer peer, const harbour_world::Hail& hail) {
    const auto found = aboard_.find(peer);
    if (found == aboard_.end()) return;
    record_.hails[found->second.name] = hail.count;
    server.send_to_all(harbour_world::Notice{found->second.name, hail.count, hail.words});
  });
}

// What everything is as of the tick that ends now, where that is new.
void HarbourServer::write_truth(std::uint32_t tick) {
  for (const auto& [id, actor] : motion_->all()) {
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

// The entity's values as JSON text: the yardstick for the bytes of state.
std::size_t HarbourServer::json_bytes(std::uint32_t id) {
  const auto [found, fresh] = json_of_tick_.try_emplace(id);
  if (!fresh) return found->second;
  const auto actor = motion_->all().find(id);
  if (actor == motion_->all().end()) return 0;
  found->second = std::visit(
      [&](const auto& value) {
        nlohmann::ordered_json object{{"id", id}, {"type", value.entity_info().name}};
        visit_fields(value, [&](std::string_view name, const auto& field) {
          object[std::string(name)] = json_value(field);
        });
        return json::text_of(object).size() + 1;
      },
      actor->second.value);
  return found->second;
}

// What was in view of a client in the tick before, and how much of it had changed.
void HarbourServer::count(host::ClientView& view, std::uint32_t tick) {
  ++sum_.client_ticks;
  for (const replica::RelevantEntity& seen : view.query().update()) {
    ++sum_.in_view;
    sum_.json_bytes += json_bytes(seen.id);
    const auto ref = written_.find(seen.id);
    if (ref == written_.end()) continue;
    const auto& history = record_.truth[{seen.id, ref->second.generation}];
    sum_.changed += !history.empty() && history.back().tick == tick ? 1 : 0;
  }
}

// Sums over all clients, once a second.
void HarbourServer::note_moment(Time now) {
  sum_.seconds = std::chrono::duration<double>(now - started_).count();
  sum_.bits_by_type.assign(harbour_world::kEntities.types.size(), 0);
  const auto built_in = replica::built_in_codes(harbour_world::kEntities);
  const replica::CodeTables& codes =
      record_.codes != 0 && settings_.code_tables != nullptr ? *settings_.code_tables : *built_in;
  record_.shares.clear();
  for (const auto& cost : replica::costs_of(symbol_counts_, codes)) {
    if (cost.of == replica::AlphabetCost::Of::heads) continue;  // of no entity
    sum_.bits_by_type[cost.type] += cost.bits;
    const schema::EntityInfo& kind = *harbour_world::kEntities.types[cost.type];
    const std::string field = cost.of == replica::AlphabetCost::Of::errors
                                  ? std::string(kind.fields[kind.columns[cost.column].field].name)
                                  : "change mask";
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

// One tick of the game: steering, motion, and a record of the truth.
void HarbourServer::tick(host::Replication& state) {
  const std::uint32_t now = state.tick();
  for (auto& [peer, aboard] : aboard_) {
    host::ClientView& view = *state.view(peer);
    // The bits of its snapshots since the last tick.
    const std::uint64_t bits = view.counts().bits;
    record_.bytes_of_ticks.push_back((bits - aboard.bits_before + 7) / 8);
    sum_.state_bits += bits - aboard.bits_before;
    aboard.bits_before = bits;
    if (now > 0) count(view, now - 1);
  }
  if (now % (kTicksPerSecond / 2) == 0) note_moment(io::now());
  motion_->step(frozen_);
  write_truth(now);
  json_of_tick_.clear();
}

// A type stands for the first entity of it that a client sees.
void HarbourServer::ask_why(host::Replication& state, std::uint32_t tick) {
  record_.why_id = std::max(record_.why_id, settings_.why_id);
  for (auto each = aboard_.begin(); each != aboard_.end() && record_.why_id == 0; ++each) {
    for (const replica::RelevantEntity& seen : state.view(each->first)->query().update()) {
      const auto actor = motion_->all().find(seen.id);
      if (record_.why_id != 0 || actor == motion_->all().end()) continue;
      const schema::EntityInfo* const type = state.world().type_of(actor->second.ref);
      if (type != nullptr && type->name == settings_.why_type) record_.why_id = seen.id;
    }
  }
  const auto actor = motion_->all().find(record_.why_id);
  if (actor == motion_->all().end()) return;
  for (const auto& [peer, aboard] : aboard_) {
    demo::ask_why(*state.view(peer), actor->second.ref, tick, record_.why[aboard.name]);
  }
}

// The last snapshots and figures of each client, before the server ends.
void HarbourServer::finish(host::Server& server, host::Replication& state) {
  for (auto& [peer, aboard] : aboard_) {
    host::ClientView& view = *state.view(peer);
    record_.in_view[aboard.name] = view.query().update().size();
    record_.counts_of_replicators.add(view.counts());
  }
  server.close_all("the harbour closes for the night");
}

// The server's thread, until the run is over.
void HarbourServer::run() {
  host::ServerOptions options;
  options.capacity = settings_.places > 0 ? settings_.places : settings_.bots;
  options.key = key_;
  options.key_log = key_log_;
  if (!key_) options.plaintext = host::Plaintext::loopback_only;
  if (settings_.code_tables != nullptr) options.code_table_sets = {settings_.code_tables->digest()};
  host::Server server(*transport_, harbour_world::kProtocol, options);
  host::ReplicationOptions replication;
  replication.tick_rate = kTicksPerSecond;
  replication.view.enter = harbour_motion::kInterest;
  replication.view.leave = harbour_motion::kInterest + 16;
  replication.speculative_baselines = settings_.speculative_baselines;
  if (settings_.code_tables != nullptr) replication.code_tables = {settings_.code_tables};
  host::Replication state(server, harbour_world::kEntities, replication);
  motion_.emplace(state.world(), settings_.seed);
  if (!settings_.why.empty()) {
    state.on_tick_ended([this, &state](std::uint32_t tick) { ask_why(state, tick); });
  }
  add_handlers(server, state);
  started_ = io::now();
  bool closing = false;
  Time close_by = kNever;
  while (!closing || (server.connections() > 0 && io::now() < close_by)) {
    const Time now = io::now();
    server.receive(now);
    if (stopping_ && !closing) {
      closing = true;
      close_by = now + 2s;
      finish(server, state);
    }
    // Once a tick, so that acks, hails and state share its datagrams.
    if (closing || now >= state.next_wakeup()) server.flush(io::now());
    {
      const std::lock_guard lock(mutex_);
      clients_ = server.peers().size();
      traffic_ = server.traffic();
      shown_ = sum_;
    }
    transport_->wait(closing ? io::now() + 5ms : state.next_wakeup());
  }
  record_.traffic = server.traffic();
  record_.counts = server.counts();
  record_.ticks_skipped = state.ticks_skipped();
}

}  // namespace kwind::demo
