// What Interest and its queries hold.
#pragma once
#include <array>
#include <cmath>
#include <cstdint>
#include <functional>
#include <optional>
#include <vector>

#include "kwind/replica/interest.h"
#include "replica/server/world_state.h"

namespace kwind::replica {

using Place = std::array<double, 3>;

/// The cell of a thing that is in none.
inline constexpr std::uint32_t kNowhere = 0xffffffff;

struct Interest::State {
  struct Type {
    std::vector<std::uint16_t> axes;  // columns of the place; empty: it has none
    double enter = 0;
    double leave = 0;
    float priority = 1;
    // Squared: what distances are compared with.
    double enter_2 = 0;
    double leave_2 = 0;
    bool always = false;  // in view of everybody
    // Of the newest version that has the type.
    const WorldState* world = nullptr;
    // Column of the reference to the carrier.
    std::optional<std::uint16_t> carrier{};

    [[nodiscard]] bool in_cells() const { return !axes.empty() && !always; }
  };
  struct Thing {
    std::uint32_t cell = kNowhere;
    std::uint32_t at = 0;  // in its cell, or in `everywhere`
    std::uint32_t room = 0;
    Tick spawned;
    EntityId carrier;  // none: it is not attached
    std::uint16_t type = 0;
    std::uint8_t generation = 0;
    bool there = false;
  };
  // What is asked of all that is near lies together.
  struct Near {
    Place place{};
    EntityId id;
    std::uint32_t room = 0;
    std::uint16_t type = 0;
    bool flat = false;  // it has no height
  };

  struct Hit {
    const Near* thing = nullptr;
    double far_2 = 0;
  };

  State(World& of, InterestOptions options_in);

  [[nodiscard]] const WorldState& all() const { return *world; }
  // Where the values of an entity are.
  [[nodiscard]] const WorldState& world_of(EntityId id) const {
    return *types[all().briefs[id].type].world;
  }
  [[nodiscard]] std::uint32_t cell_along(double value) const {
    // Two's complement: the mask wraps negative cells as well.
    return static_cast<std::uint32_t>(static_cast<std::int64_t>(std::floor(value / cell_size))) &
           (cells_along - 1);
  }
  [[nodiscard]] std::uint32_t cell_of(const Place& place) const {
    return cell_along(place[0]) * cells_along + cell_along(place[1]);
  }
  void consume(EntityId id) { consume(id, 0); }
  void consume(EntityId id, std::uint32_t depth);
  [[nodiscard]] EntityId carrier_of(EntityId id, const Type& type) const;
  void attach(EntityId id, EntityId carrier);
  void detach_all(EntityId id);
  // For all ids that the world uses.
  void make_room() {
    things.resize(all().entities.size());
    picked.resize(things.size());
    if (has_carriers) attached.resize(things.size());
    marks.resize(things.size() / 64 + 1);
    was_seen.resize(marks.size());
  }
  [[nodiscard]] Near& near_of(const Thing& thing) {
    return (thing.cell == kNowhere ? everywhere : cells[thing.cell])[thing.at];
  }
  void remove(Thing& thing);
  void put(Thing& thing, const Near& now, const Type& type);
  void catch_up();
  const WorldState* newest_with(std::uint16_t type);
  [[nodiscard]] Place place_of(EntityId id, const Type& type) const;
  [[nodiscard]] std::optional<Place> world_position(EntityId id, const Type& type,
                                                    std::uint32_t depth) const;

  const WorldState* world;
  // Of older versions, those with types that the newest lacks.
  std::vector<const WorldState*> older;
  ClientsShared* shared;
  InterestOptions options;
  std::vector<Type> types;
  double farthest = 0;
  double cell_size = 1;
  std::uint32_t cells_along = 1;
  std::vector<std::vector<Near>> cells;
  std::vector<Near> everywhere;
  ById<Thing> things;
  // The entities attached to each one; empty unless a type has attachments.
  ById<std::vector<EntityId>> attached;
  bool has_carriers = false;
  Tick refreshed;
  std::uint32_t queries = 0;
  std::uint64_t removals = 0;  // of things that ended
  // Where a query puts together what it sees: by id.
  std::vector<std::uint64_t> marks;
  ById<RelevantEntity> picked;
  std::vector<std::uint64_t> was_seen;  // before this look
  std::vector<Hit> hits;
};

// The view of one client. A look costs in proportion to the cells near the origin.
struct InterestQuery::State {
  explicit State(Interest::State& of)
      : interest(&of), turn(of.queries++), revision(++of.shared->views) {}

  struct Reach;

  void update_now();
  void keep_alive();
  [[nodiscard]] bool shows(const Interest::State::Near& near) const;
  void add_near(Tick looked_before);
  void add_carriers();
  [[nodiscard]] bool is_picked(EntityId id) const {
    return (interest->marks[id.raw() / 64] >> id % 64 & 1) != 0;
  }
  void take_near(const std::vector<Interest::State::Near>& cell);
  // Of the same entity picked twice the later stands.
  void pick(const RelevantEntity& one) {
    interest->marks[one.id / 64] |= std::uint64_t{1} << one.id % 64;
    interest->picked[EntityId(one.id)] = one;
  }

  Interest::State* interest;
  std::uint32_t turn;
  std::optional<Place> eye;
  schema::AnyRef follows{};  // id 0: nobody
  std::vector<schema::AnyRef> owned;
  std::vector<std::uint32_t> rooms;
  std::function<bool(schema::AnyRef)> filter;
  bool changed = true;
  Tick looked;
  std::uint64_t removals = 0;
  std::uint64_t revision;
  std::uint32_t looks = 0;  // that found the same
  std::vector<RelevantEntity> seen;
  std::vector<RelevantEntity> before;
};

}  // namespace kwind::replica
