// The server's world of entities: game code puts values; the world splits them into columns of
// whole numbers and keeps their history. ClientReplicators encode parts of it. One world and its
// replicators, one thread. No clock: end_tick() advances time.
#pragma once
#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/replica/code_tables.h"
#include "kwind/schema/entity_info.h"
#include "kwind/schema/references.h"

namespace kwind::replica {

/// Options of a world.
struct WorldOptions {
  double ticks_per_second = 20;
  /// So long an id rests in any case before another entity gets it, while there are others; without
  /// others until each client that knew of the first has received its despawn. A client that has
  /// not received it by then gets what it needs as if the id had never been used.
  std::uint32_t reuse_after_ticks = 100;
  /// Those of the client worlds must be the same. nullptr: the built-in ones. For clients of the
  /// newest version and those with the same entities; others have the built-in ones.
  std::shared_ptr<const CodeTables> codes{};
};

/// A value that was put and did not fit its field.
struct OutOfRange {
  schema::AnyRef entity{};
  std::uint16_t type = 0;  ///< place in EntitiesInfo::types
  std::string_view type_name{};
  std::string_view field{};
  std::uint32_t tick = 0;
};

/// How often the bits of an entity's change were there already, written for another client; those
/// of whole snapshots that are there already included.
struct SharedBitsCounts {
  std::uint64_t shared = 0;
  std::uint64_t written = 0;
};

struct WorldState;
class World;

/// The world as it was at an earlier tick, from the history that deltas need: for hits and pick-ups
/// that are judged by what a client saw. Borrows the world until its next tick ends. O(1) to make.
class KWIND_API PastWorld {
 public:
  /// As the newest version has it: what only older ones have is as in a new struct, or not there.
  /// Between two ticks what is numeric lies in between, as ClientWorld::sample() draws it: before a
  /// leap, or a change of carrier, the older value stays. Nothing if the entity was not there, or
  /// more than World::kHistoryRows of its changes are younger than the tick. O(columns).
  template <schema::ReplicaEntity T>
  [[nodiscard]] std::optional<T> get(schema::Ref<T> entity) const {
    std::optional<T> first = get_at(entity, tick_);
    if (part_ == 0 || leaps(entity)) return first;
    const std::optional<T> next = get_at(entity, tick_ + 1);
    return first && next ? std::optional<T>(blend(*first, *next, part_)) : first;
  }
  /// The world position of an entity, as ClientWorld::position() has it: the coordinates of `field`,
  /// and if that is `relative to` a carrier those of its carriers. Nothing if `field` is no position,
  /// if the entity or a carrier was not there, or in a cycle. O(columns * carriers).
  [[nodiscard]] std::optional<std::array<double, 3>> position(schema::AnyRef entity,
                                                              std::string_view field = "at") const;
  /// The tick that it is of, with its fraction.
  [[nodiscard]] double tick() const { return tick_ + part_; }

 private:
  friend class World;
  PastWorld(const World& world, std::uint32_t tick, double part)
      : world_(&world), tick_(tick), part_(part) {}
  template <schema::ReplicaEntity T>
  [[nodiscard]] std::optional<T> get_at(schema::Ref<T> entity, std::uint32_t tick) const {
    std::optional<T> value;
    decode_at(entity, T::entity_info(), tick, [&](schema::Decoder& in) {
      T read;
      decode(in, read);
      if (in.error() == Errc::none) value = std::move(read);
    });
    return value;
  }
  void decode_at(schema::AnyRef entity, const schema::EntityInfo& info, std::uint32_t tick,
                 const std::function<void(schema::Decoder&)>& decode) const;
  // Whether nothing lies between the tick and the one after.
  [[nodiscard]] bool leaps(schema::AnyRef entity) const;

  const World* world_;
  std::uint32_t tick_;
  double part_;
};

/// The server's world.
class KWIND_API World {
 public:
  /// `entities`, from a generated header, must outlive the world. Each older version whose entities
  /// differ costs as much again for each put and entity, whether it has clients or not.
  explicit World(const schema::EntitiesInfo& entities, WorldOptions options = {});
  World(World&&) noexcept;
  World& operator=(World&&) noexcept;
  ~World();

  /// A new entity with the least id that has rested, or was never used. Values outside their range
  /// are moved into it, and counted. Nothing if no id is free, see
  /// WorldOptions::reuse_after_ticks. O(columns + log(ids)).
  template <schema::ReplicaEntity T>
  std::optional<schema::Ref<T>> spawn(const T& value) {
    const auto made = begin_spawn(T::entity_info());
    if (!made) return std::nullopt;
    take(*made, [&](schema::Encoder& out, const std::function<void()>& mark) {
      encode_columns(out, value, mark);
    });
    return schema::Ref<T>{made->id, made->generation};
  }
  /// Its values from this tick on; what is `at spawn` stays as it was. False if it is gone.
  /// O(columns).
  template <schema::ReplicaEntity T>
  bool put(schema::Ref<T> entity, const T& value) {
    if (!is_alive(entity) || info_of(entity) != &T::entity_info()) return false;
    take(entity, [&](schema::Encoder& out, const std::function<void()>& mark) {
      encode_columns(out, value, mark);
    });
    return true;
  }
  /// As spawn() and put() for a description that is known at run time only: `encode` writes the
  /// columns, see schema::encode_columns(). `type` is of the EntitiesInfo of this world.
  using Encode = std::function<void(schema::Encoder&, const std::function<void()>& mark)>;
  std::optional<schema::AnyRef> spawn_encoded(const schema::EntityInfo& type, const Encode& encode);
  bool put_encoded(schema::AnyRef entity, const Encode& encode);
  /// The type of an entity that is alive; nullptr for others.
  [[nodiscard]] const schema::EntityInfo* type_of(schema::AnyRef entity) const {
    return is_alive(entity) ? info_of(entity) : nullptr;
  }
  /// False if it was gone already.
  bool despawn(schema::AnyRef entity);

  /// What was put since the last call are the values of tick(); the next tick begins. Entities that
  /// are sent `at most N/s` take their turn, each at ticks of its own. O(entities put).
  void end_tick();
  /// The tick that is being made; the first is 1.
  [[nodiscard]] std::uint32_t tick() const;

  /// Changes that are remembered of each entity: a client whose baseline is older gets all of it.
  static constexpr std::size_t kHistoryRows = 32;
  /// The world at an earlier tick; a later one than the last that ended counts as that one, and one
  /// before the first as the first.
  [[nodiscard]] PastWorld at(double tick) const;

  [[nodiscard]] bool is_alive(schema::AnyRef entity) const;
  [[nodiscard]] std::size_t size() const;  ///< entities alive
  /// Values put that were outside their range, and the last of them.
  [[nodiscard]] std::uint64_t out_of_range() const;
  [[nodiscard]] std::optional<OutOfRange> last_out_of_range() const;
  [[nodiscard]] const SharedBitsCounts& shared_bits() const;
  /// Bytes held for all entities with their history.
  [[nodiscard]] std::size_t memory() const;

 private:
  friend class PastWorld;
  friend struct WorldAccess;  // for replicators and interest
  std::optional<schema::AnyRef> begin_spawn(const schema::EntityInfo& info);
  void take(schema::AnyRef entity, const Encode& encode);
  // Requires: the id is in use, or was.
  [[nodiscard]] const schema::EntityInfo* info_of(schema::AnyRef entity) const;

  std::unique_ptr<WorldState> state_;
};

}  // namespace kwind::replica
