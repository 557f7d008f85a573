// The server's half of replication: for each client an interest query, a snapshot sender and a
// buffer of inputs. One tick is: inputs, game, end of the world's tick, one payload for each
// client.
#include "kwind/host/replication.h"

#include <algorithm>
#include <set>
#include <utility>

#include "host/table_meter.h"

namespace kwind::host {

ClientView::ClientView(Peer peer, replica::World& world, replica::Interest& interest,
                       const replica::ReplicatorOptions& options)
    : peer_(peer), query_(interest), replicator_(world, options) {
  replicator_.bind(&query_);
}

// An owned entity is always relevant to its client, whatever the distance; following also moves the
// centre of the query.
void ClientView::follow(schema::AnyRef entity) {
  if (followed_) query_.remove_owned(*followed_);
  followed_ = entity;
  query_.add_owned(entity);
  query_.set_origin(entity);
}

Replication::Replication(Server& server, const schema::EntitiesInfo& entities,
                         ReplicationOptions options)
    : server_(server),
      entities_(entities),
      options_(std::move(options)),
      world_(entities, {.ticks_per_second = static_cast<double>(options_.tick_rate)}),
      interest_(world_, options_.view) {
  // A client that connected before would have no view.
  KWIND_ASSERT(server.connections() == 0);
  server_.on_connect(lifetime_.bind([this](Peer peer) { connect(peer); }));
  server_.on_disconnect(lifetime_.bind([this](Peer peer, Errc, std::string_view) {
    if (meter_ != nullptr) meter_->leaves(peer);
    views_.erase(peer);
  }));
  server_.rooms().on_enter(lifetime_.bind(
      [this](Peer peer, const route::RoomKey& room) { show_room(peer, room, true); }));
  server_.rooms().on_leave(lifetime_.bind(
      [this](Peer peer, const route::RoomKey& room) { show_room(peer, room, false); }));
  server_.on_payload([this](Peer peer, std::span<const std::byte> payload, std::size_t bits) {
    ClientView* const client = view(peer);
    return client == nullptr ? Errc::payload_not_taken
                             : client->inputs_.receive(payload, bits, &client->replicator_);
  });
  // A reference in a message reaches a client only if the client has the entity.
  server_.set_reference_filter([this](Peer peer, const schema::AnyRef& entity) {
    const auto client = views_.find(peer);
    return client != views_.end() && client->second->knows(entity);
  });
  server_.attach(*this);
}

// Handlers are gone with their object: the server outlives this object.
Replication::~Replication() {
  server_.detach(*this);
  server_.on_payload(nullptr);
  server_.set_reference_filter(nullptr);
}

// A view is made when the connection is announced, before any handler of the game asks for it.
void Replication::connect(Peer peer) {
  auto& client = views_[peer];
  client.reset(new ClientView(peer, world_, interest_,
                              {.speculative_baselines = options_.speculative_baselines,
                               .codes = tables_of(peer),
                               .version = server_.version(peer)}));
  for (const route::RoomKey& room : server_.rooms().rooms_of(peer)) show_room(peer, room, true);
  on_client_(*client);
}

// Rooms of the server are names, rooms of interest numbers. A room that no entity was put in has no
// number, and whoever enters it sees nothing more.
void Replication::show_room(Peer peer, const route::RoomKey& room, bool shows) {
  ClientView* const client = view(peer);
  const auto number = room_numbers_.find(room);
  if (client == nullptr || number == room_numbers_.end()) return;
  shows ? client->query_.enter_room(number->second) : client->query_.leave_room(number->second);
}

std::uint32_t Replication::number_of(const route::RoomKey& room) {
  const auto [place, is_new] = room_numbers_.try_emplace(room, last_room_number_ + 1);
  if (!is_new) return place->second;
  ++last_room_number_;
  for (const Peer peer : server_.rooms().members(room)) show_room(peer, room, true);
  return place->second;
}

// A server of a million matches does not keep their names: those without an entity go whenever the
// names have doubled.
void Replication::forget_empty_rooms() {
  if (room_numbers_.size() < forget_rooms_at_) return;
  std::erase_if(placed_, [&](const auto& each) { return !world_.is_alive(each.second.first); });
  std::set<std::uint32_t> in_use;
  for (const auto& [id, place] : placed_) in_use.insert(place.second);
  std::erase_if(room_numbers_, [&](const auto& each) {
    if (in_use.count(each.second) > 0) return false;
    for (const Peer peer : server_.rooms().members(each.first)) show_room(peer, each.first, false);
    return true;
  });
  forget_rooms_at_ = std::max<std::size_t>(256, 2 * room_numbers_.size());
}

bool Replication::put_in_room(schema::AnyRef entity, const route::RoomKey& room) {
  if (!world_.is_alive(entity)) return false;
  forget_empty_rooms();
  const std::uint32_t number = number_of(room);
  placed_.insert_or_assign(entity.id, std::pair(entity, number));
  return interest_.put_in_room(entity, number);
}

bool Replication::take_out_of_room(schema::AnyRef entity) {
  if (!world_.is_alive(entity)) return false;
  placed_.erase(entity.id);
  return interest_.put_in_room(entity, 0);
}

// Tables that both ends hold: the handshake agreed on a digest. nullptr stands for built-in tables.
std::shared_ptr<const replica::CodeTables> Replication::tables_of(Peer peer) const {
  const std::uint64_t agreed = server_.code_tables(peer);
  if (agreed == 0) return nullptr;
  const auto found = std::find_if(options_.code_tables.begin(), options_.code_tables.end(),
                                  [&](const auto& tables) { return tables->digest() == agreed; });
  // ServerOptions::code_table_sets offers tables that ReplicationOptions::code_tables lacks.
  KWIND_ASSERT(found != options_.code_tables.end());
  return *found;
}

bool Replication::speaks_newest(Peer peer) const {
  return &entities_.in_version(server_.version(peer)) == &entities_;
}

void Replication::on_client(std::function<void(ClientView&)> handler) {
  on_client_.add(std::move(handler));
}
void Replication::on_tick(std::function<void(std::uint32_t)> handler) {
  on_tick_.add(std::move(handler));
}
void Replication::on_tick_ended(std::function<void(std::uint32_t)> handler) {
  on_tick_ended_.add(std::move(handler));
}

void Replication::measure_tables(bool on) {
  measures_tables_ = on;
  if (meter_ != nullptr) meter_->stop();
  if (!on || meter_ != nullptr) return;
  meter_ = std::make_unique<TableMeter>(entities_);
  meter_->set_turn(2 * options_.tick_rate);
}
TableFit Replication::table_fit() const {
  return meter_ != nullptr ? meter_->fit() : TableFit{};
}

// nullptr for a peer that has disconnected.
ClientView* Replication::view(Peer peer) {
  const auto found = views_.find(peer);
  return found == views_.end() ? nullptr : found->second.get();
}

// With `tick_between_receive_and_flush` the game's own code runs between receive() and flush():
// inputs are handed out here, and the tick is ended in before_flush().
void Replication::after_receive(Time now, const Guard& guard) {
  if (!clock_) clock_.emplace(options_.tick_rate, now);
  ticks_due_ += clock_->due(now);
  if (!options_.tick_between_receive_and_flush || tick_is_open_ || ticks_due_ == 0) return;
  tick_is_open_ = true;
  --ticks_due_;
  begin_tick(guard);
}

// Without it whole ticks run here, each with inputs, handlers and end.
void Replication::before_flush(Time now, const Guard& guard) {
  if (options_.tick_between_receive_and_flush) {
    if (std::exchange(tick_is_open_, false)) end_tick(guard);
    return;
  }
  if (!clock_) clock_.emplace(options_.tick_rate, now);
  // After a stall several ticks are due at once. TickClock limits how many.
  for (ticks_due_ += clock_->due(now); ticks_due_ > 0; --ticks_due_) {
    begin_tick(guard);
    end_tick(guard);
  }
}

// Inputs come before the game's handlers, so that a tick uses what arrived before it.
void Replication::begin_tick(const Guard& guard) {
  if (take_input_) {
    for (const auto& [peer, client] : views_) {
      // One input a tick, however many have arrived: a client that sends faster does not act
      // faster.
      const auto input = client->inputs_.next();
      if (!input) continue;
      const std::span<const std::byte> bytes(input->bytes);
      client->shown_ = input->shown;
      takes_input_ = true;
      // An input that a check or a limit refused counts as processed: the client predicts anew.
      (void)take_input_(peer, bytes.first(bits::bytes_for(input->bits)), input->bits);
      takes_input_ = false;
      client->last_processed_input_ = input->number;
      client->replicator_.last_processed_input(input->number);
    }
  }
  on_tick_.each([&](const auto& handler) { guard([&] { handler(world_.tick()); }); });
}

// Lag compensation: the tick that a client showed when it gave its newest input. Ten bits of
// quarter ticks travel; they are unfolded relative to the newest tick.
double Replication::tick_seen_by(Peer peer) const {
  constexpr std::uint32_t kParts = 4;
  constexpr std::uint32_t kMask = 1023;  // low bits that travel
  const double newest = world_.tick() - 1.0;
  const auto found = views_.find(peer);
  if (found == views_.end() || !found->second->shown_) return newest;
  const auto parts = static_cast<std::uint32_t>(newest) * kParts;
  // A client may draw a little ahead of what it has; no tick beyond the newest counts.
  const std::uint32_t back = (parts - *found->second->shown_) & kMask;
  if (back > kMask / 2) return newest;
  const double rewind = std::chrono::duration<double>(options_.max_rewind).count();
  return std::max(
      {newest - static_cast<double>(back) / kParts, newest - rewind * options_.tick_rate, 0.0});
}

// Each client's sender writes its snapshot when the server fills the client's next datagram.
void Replication::end_tick(const Guard& guard) {
  world_.end_tick();
  on_tick_ended_.each([&](const auto& handler) { guard([&] { handler(world_.tick() - 1); }); });
  if (measures_tables_) {
    meter_->tick(views_, [this](Peer peer) {
      return speaks_newest(peer) ? std::optional(tables_of(peer)) : std::nullopt;
    });
  }
  for (const auto& [peer, client] : views_) {
    server_.schedule_payload(peer, &client->replicator_, options_.datagrams_per_tick);
  }
}

// Time{} means at once: a tick is due.
Time Replication::next_wakeup() const {
  return clock_ && ticks_due_ == 0 && !tick_is_open_ ? clock_->next() : Time{};
}

}  // namespace kwind::host
