// The state of a World, which replicators read and do not change, and what the replicators of a
// world share while they make snapshots. Where older versions of the description have other
// entities, a World has a state for each of these, which holds the same entities in the columns of
// that version. One thread.
#pragma once
#include <array>
#include <memory>
#include <optional>
#include <vector>

#include "kwind/replica/world.h"
#include "replica/coding/column_row.h"
#include "replica/coding/entity_model.h"
#include "replica/coding/entity_type_codes.h"
#include "replica/server/encode_scratch.h"
#include "replica/server/entity_ids.h"

namespace kwind::replica {

class SharedHistories;

/// What the clients of a world share, one after the other: memory for the snapshot at hand, and
/// bits that were encoded for one of them and serve the others. No value of the world is in it.
struct ClientsShared {
  /// Places for bits that clients can share, by entity: so many sorts of clients at a time.
  static constexpr std::size_t kBitsSlots = 4;

  [[nodiscard]] SharedEntityBits& bits_of(EntityId id, Tick newest, Tick second) {
    return entity_bits[id][(newest.raw() + second.raw()) % kBitsSlots];
  }

  ById<std::array<SharedEntityBits, kBitsSlots>> entity_bits;
  SharedBitsCounts counts;
  std::uint64_t views = 0;  // that any query has had: each has a number of its own
  EncodeScratch scratch;
  std::shared_ptr<SharedHistories> histories;
};

struct WorldState {
  /// What replicators ask of every entity in view in every tick, close together.
  struct Brief {
    Tick changed_at;           ///< of the newest row; none yet: none
    Tick oldest;               ///< of the oldest row that is remembered
    std::uint32_t values = 0;  ///< digest of the newest row, as those have it that do not own it
    std::uint16_t type = 0;
    std::uint8_t generation = 0;
    bool alive = false;
  };

  struct Entity {
    const EntityModel* model = nullptr;  // nullptr: the version lacks the type
    bool put = false;                    // since the last tick
    OwnRow now;
    std::optional<Rows> history;
    // Of the newest row that differs from the one before in such a column. Kept for types only
    // whose columns differ in freshness, and for those with urgent ones.
    Tick repeated_at;
    Tick urgent_at;
  };

  class FieldReader;

  /// `ids_in`: those of the newest version, for an older one.
  WorldState(const schema::EntitiesInfo& entities, WorldOptions options,
             std::shared_ptr<EntityIds> ids_in);

  /// A new entity under an id that is free.
  void spawn(EntityId id, std::uint8_t generation, std::uint16_t type);
  void take(EntityId id, const World::Encode& encode);
  void despawn(EntityId id);
  void end_tick();
  [[nodiscard]] std::size_t memory() const;

  [[nodiscard]] bool is_alive(schema::AnyRef entity) const {
    const EntityId id(entity.id);
    return id && entities.has(id) && briefs[id].alive && briefs[id].generation == entity.generation;
  }

  const schema::EntitiesInfo& info;
  WorldOptions options;
  EntityTypeCodes type_codes;
  std::vector<EntityModel> models;  // by type
  ById<Entity> entities;
  ById<Brief> briefs;
  std::shared_ptr<EntityIds> ids;
  std::vector<EntityId> put_ids;
  std::vector<EntityId> waiting_ids;  // put, and not due in this tick
  std::vector<EntityId> ended_ids;
  // Of the last tick that was ended:
  std::vector<EntityId> last_put;
  std::vector<EntityId> last_ended;
  std::vector<std::byte> value_bits;
  std::vector<std::byte> field;
  Tick tick{1};
  std::size_t alive = 0;  // of all types; of the newest version only
  std::uint64_t out_of_range = 0;
  std::optional<OutOfRange> last_out_of_range;
  ClientsShared clients;
  // Those of older versions, as info.older. Of the newest version only.
  std::vector<std::unique_ptr<WorldState>> older;

 private:
  // Whether the version has the type of the entity with this id.
  [[nodiscard]] bool has_type(EntityId id) const { return entities[id].model != nullptr; }
};

/// The library's own way into a World.
struct WorldAccess {
  [[nodiscard]] static WorldState& state(World& world) { return *world.state_; }
  [[nodiscard]] static const WorldState& state(const World& world) { return *world.state_; }
  /// What a client of this version is sent of the world.
  [[nodiscard]] static WorldState& state_for(World& world, std::uint16_t version) {
    const schema::EntitiesInfo& wanted = world.state_->info.in_version(version);
    for (const auto& each : world.state_->older) {
      if (&each->info == &wanted) return *each;
    }
    return *world.state_;
  }
};

}  // namespace kwind::replica
