// Replicates a world to all clients of a server: owns the world, the interest grid and, for each
// client, the interest query, the snapshot sender and the input buffer. The class is the joint of
// host and replica: payload hooks, delivery reports, resync requests, desync reports, the choice
// of code tables and the reference filter need no code of the game.
#pragma once
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/lifetime.h"
#include "kwind/host/loop_stage.h"
#include "kwind/host/server.h"
#include "kwind/host/tick_clock.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/inputs.h"
#include "kwind/replica/interest.h"
#include "kwind/replica/world.h"
#include "kwind/route/observers.h"

namespace kwind::host {

/// How a world is replicated.
struct ReplicationOptions {
  unsigned tick_rate = 20;  ///< ticks per second, 1 to 240; clients are sent it
  /// View distances, in the unit of the position field; entity types that are always in view.
  replica::InterestOptions view{};
  /// Datagrams that one client gets in one tick at most. Updates that do not fit wait, by priority.
  std::size_t datagrams_per_tick = 2;
  /// Deltas use baselines that are in flight: fewer bytes, and a full update after a loss.
  bool speculative_baselines = false;
  /// For programs that read events after receive() instead of handlers within it: a due tick begins
  /// at the end of receive(), with its inputs and on_tick(), and ends in the next flush(), with
  /// what was put in between. Otherwise both happen in flush().
  bool tick_between_receive_and_flush = false;
  /// How far back tick_seen_by() goes: a client that claims to see the world later than that is
  /// judged by this.
  Duration max_rewind = std::chrono::milliseconds(300);
  /// Tables that `kwind train` made. List their digests in ServerOptions::code_table_sets too; each
  /// client gets the tables that its handshake agreed on, the built-in ones otherwise. Clients of an
  /// older version that has other entities get the built-in ones.
  std::vector<std::shared_ptr<const replica::CodeTables>> code_tables{};
};

/// How well the code tables in use fit what is sent, see Replication::measure_tables().
struct TableFit {
  std::uint64_t snapshots = 0;  ///< that were counted; with less than a thousand the rest is rough
  double bytes = 0;             ///< of a snapshot, mean, with the tables in use
  double trained_bytes = 0;     ///< the same with tables that `kwind train` would make of such
                                ///< traffic, without another choice of predictors
  /// Share of the bytes that training would save; below 0 if it would cost some.
  [[nodiscard]] double saving() const { return bytes > 0 ? 1 - trained_bytes / bytes : 0; }
};

/// What one client is sent: the face of its interest query. Owned by Replication until the client
/// disconnects.
class KWIND_API ClientView {
 public:
  /// Whose view it is.
  [[nodiscard]] Peer peer() const { return peer_; }
  /// Views from the position of an entity. The entity is also owned: it is in view wherever it is,
  /// and `owner only` fields reach this client.
  void follow(schema::AnyRef entity);
  /// Views from a fixed position. A client without follow() or set_origin() sees nothing but the
  /// entity types that are always in view.
  void set_origin(double x, double y, double z = 0) { query_.set_origin(x, y, z); }
  /// An owned entity is in view wherever it is, with its `owner only` fields.
  void add_owned(schema::AnyRef entity) { query_.add_owned(entity); }
  /// Ends that.
  void remove_owned(schema::AnyRef entity) { query_.remove_owned(entity); }
  /// Hides each entity for which `shows` returns false.
  void set_filter(std::function<bool(schema::AnyRef)> shows) {
    query_.set_filter(std::move(shows));
  }

  /// Whether the client has acknowledged the entity.
  [[nodiscard]] bool knows(schema::AnyRef entity) const { return replicator_.knows(entity); }
  /// Whether the client has acknowledged all that is in its view.
  [[nodiscard]] bool complete() const { return replicator_.view_complete(); }
  /// What the client's next snapshot will have of an entity, and why, in a room of `bytes`: to be
  /// asked in Replication::on_tick_ended(). See replica::ClientReplicator::explain().
  [[nodiscard]] replica::UpdateExplanation explain(schema::AnyRef entity,
                                                   std::size_t bytes = 1100) const {
    return replicator_.explain(entity, bytes);
  }
  /// What was sent so far.
  [[nodiscard]] const replica::ReplicatorCounts& counts() const { return replicator_.counts(); }
  /// Number of the newest input that on_input() was given; 0: none.
  [[nodiscard]] std::uint32_t last_processed_input() const { return last_processed_input_; }

  /// The low level, for programs with a relevance function of their own.
  [[nodiscard]] replica::InterestQuery& query() { return query_; }
  /// The low level of snapshots.
  [[nodiscard]] replica::ClientReplicator& replicator() { return replicator_; }

 private:
  friend class Replication;
  ClientView(Peer peer, replica::World& world, replica::Interest& interest,
             const replica::ReplicatorOptions& options);

  Peer peer_;
  replica::InterestQuery query_;
  replica::ClientReplicator replicator_;
  replica::InputReceiver inputs_;
  std::optional<schema::AnyRef> followed_{};
  std::uint32_t last_processed_input_ = 0;
  std::optional<std::uint16_t> shown_{};  // at the input that was processed last
};

template <schema::ReplicaEntity T>
class Entity;
class TableMeter;

/// Construct it before the first client connects, and destroy it before the server, which may go on
/// without it: its handlers do nothing then. Not to be destroyed in a handler. It takes the
/// server's on_payload() and set_reference_filter() for itself. Thread: that of the server.
class KWIND_API Replication final : public LoopStage {
 public:
  /// Borrows the server. Requires: a protocol with entities; on_payload() is not set yet.
  Replication(Server& server, const schema::EntitiesInfo& entities,
              ReplicationOptions options = {});
  ~Replication() override;

  /// Called for each client that connects, before its first snapshot. Handlers add.
  void on_client(std::function<void(ClientView&)> handler);
  /// Called once per tick, after the inputs of the tick and before its snapshots. Handlers add.
  void on_tick(std::function<void(std::uint32_t tick)> handler);
  /// Called once per tick, when the tick has ended and its snapshots are about to be filled: the
  /// place to ask ClientView::explain(). Handlers add.
  void on_tick_ended(std::function<void(std::uint32_t tick)> handler);
  /// Called for at most one input per client and tick, in the order in which the client made them.
  /// Inputs beyond InputReceiver::kMaxWaiting are dropped and counted; checks, owners and the rate
  /// limit of the message apply. A T that comes as a message, not as an input, is dropped and
  /// counted as not_allowed: it would be a second one in its tick. Requires: InputSender or
  /// ReplicatedWorld at the client.
  template <schema::Message T>
  void on_input(std::function<void(ClientView&, const T&)> handler) {
    KWIND_ASSERT(take_input_ == nullptr);
    server_.check<T>(lifetime_.bind_or(route::CheckResult::drop, [this](Peer, const T&) {
      return takes_input_ ? route::CheckResult::accept : route::CheckResult::drop;
    }));
    server_.on<T>(lifetime_.bind([this, handler = std::move(handler)](Peer peer, const T& input) {
      if (ClientView* const client = view(peer)) handler(*client, input);
    }));
    take_input_ = [this](Peer peer, std::span<const std::byte> bytes, std::size_t bits) {
      return server_.take_input<T>(peer, bytes, bits);
    };
  }

  /// The same for a message type that is known at run time only; its handler is that of
  /// Server::on_any(), which drops the type unless takes_input(). Requires: neither was called
  /// before.
  void take_inputs_of(const schema::MessageInfo& type) {
    KWIND_ASSERT(take_input_ == nullptr);
    take_input_ = [this, &type](Peer peer, std::span<const std::byte> bytes, std::size_t bits) {
      return server_.take_input(peer, type, bytes, bits);
    };
  }

  /// The tick that a client showed when it gave the input that is being handled, or the newest one
  /// that was: for world().at(). With its fraction, to a quarter. Never older than
  /// ReplicationOptions::max_rewind; the newest tick that ended if the client showed none, or there
  /// is no such client.
  [[nodiscard]] double tick_seen_by(Peer peer) const;
  /// Whether the message that is being handled is an input.
  [[nodiscard]] bool takes_input() const { return takes_input_; }

  /// Nothing if the world has as many entities as the description permits.
  template <schema::ReplicaEntity T>
  [[nodiscard]] std::optional<Entity<T>> spawn(const T& value);

  /// Only clients that are in this room of Server::rooms() see the entity from now on, where they
  /// would see it otherwise. An entity is in one room at most. False if it has despawned.
  /// O(clients in the room); now and then O(entities that were put in rooms).
  bool put_in_room(schema::AnyRef entity, const route::RoomKey& room);
  /// All clients see it again. False if it has despawned.
  bool take_out_of_room(schema::AnyRef entity);

  /// From now on one client at a time counts, for two seconds each, what its snapshots say, until
  /// `on` is false; what was counted stays. That client encodes its snapshots alone meanwhile, in
  /// the same bits. Clients whose tables are not those of the first one are left out, and those of
  /// older versions with other entities. It sets ClientReplicator::count_into() of clients in turn.
  void measure_tables(bool on = true);
  /// By what was counted so far. O(symbols of all alphabets): milliseconds.
  [[nodiscard]] TableFit table_fit() const;

  /// nullptr: no such client.
  [[nodiscard]] ClientView* view(Peer peer);
  /// The low level: entities of types that are known at run time only, counts, memory.
  [[nodiscard]] replica::World& world() { return world_; }
  /// The low level of interest. Its numbered rooms are in use by put_in_room().
  [[nodiscard]] replica::Interest& interest() { return interest_; }
  /// The tick that is being made; the first is 1.
  [[nodiscard]] std::uint32_t tick() const { return world_.tick(); }
  /// Ticks that did not run because the program stood still, see TickClock.
  [[nodiscard]] std::uint64_t ticks_skipped() const { return clock_ ? clock_->skipped() : 0; }
  /// Ticks per second.
  [[nodiscard]] unsigned tick_rate() const { return options_.tick_rate; }

  void after_receive(Time now, const Guard& guard) override;
  void before_flush(Time now, const Guard& guard) override;
  [[nodiscard]] Time next_wakeup() const override;

 private:
  void connect(Peer peer);
  void show_room(Peer peer, const route::RoomKey& room, bool shows);
  std::uint32_t number_of(const route::RoomKey& room);
  void forget_empty_rooms();
  void begin_tick(const Guard& guard);
  void end_tick(const Guard& guard);
  [[nodiscard]] std::shared_ptr<const replica::CodeTables> tables_of(Peer peer) const;
  // Whether the client has the entities of the newest version.
  [[nodiscard]] bool speaks_newest(Peer peer) const;

  Server& server_;
  const schema::EntitiesInfo& entities_;
  ReplicationOptions options_;
  replica::World world_;
  replica::Interest interest_;
  std::map<Peer, std::unique_ptr<ClientView>> views_;
  // Rooms that entities were put in: their numbers in `interest_`, and which entity is where.
  std::map<route::RoomKey, std::uint32_t> room_numbers_;
  std::map<std::uint32_t, std::pair<schema::AnyRef, std::uint32_t>> placed_;  // by id
  std::uint32_t last_room_number_ = 0;
  std::size_t forget_rooms_at_ = 256;  // how many there are when those without entities go
  route::Observers<ClientView&> on_client_;
  route::Observers<std::uint32_t> on_tick_;
  route::Observers<std::uint32_t> on_tick_ended_;
  std::function<Errc(Peer, std::span<const std::byte>, std::size_t)> take_input_;
  std::unique_ptr<TableMeter> meter_;
  bool measures_tables_ = false;
  std::optional<TickClock> clock_{};
  bool takes_input_ = false;
  unsigned ticks_due_ = 0;
  bool tick_is_open_ = false;
  Lifetime lifetime_{};
};

/// An entity that the game owns: its reference and its newest value. A copy is the same entity.
template <schema::ReplicaEntity T>
class Entity {
 public:
  /// What messages and other entities call it.
  [[nodiscard]] schema::Ref<T> ref() const { return ref_; }
  /// The same, whatever its type.
  operator schema::AnyRef() const { return ref_; }  // NOLINT: an entity is its reference
  /// The value of the last set().
  [[nodiscard]] const T& get() const { return *value_; }
  /// Sets the value that the next snapshot takes. False after despawn().
  bool set(const T& value) {
    *value_ = value;
    return replication_->world().put(ref_, value);
  }
  /// False if the entity has despawned already.
  bool despawn() { return replication_->world().despawn(ref_); }

 private:
  friend class Replication;
  Entity(Replication& replication, schema::Ref<T> ref, const T& value)
      : replication_(&replication), ref_(ref), value_(std::make_shared<T>(value)) {}

  Replication* replication_;
  schema::Ref<T> ref_;
  std::shared_ptr<T> value_;
};

template <schema::ReplicaEntity T>
std::optional<Entity<T>> Replication::spawn(const T& value) {
  const auto ref = world_.spawn(value);
  if (!ref) return std::nullopt;
  return Entity<T>(*this, *ref, value);
}

}  // namespace kwind::host
