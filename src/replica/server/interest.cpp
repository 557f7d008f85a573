// A grid of cells over positions, and queries with hysteresis: an entity enters the view at one
// distance and leaves it at a larger one.
//
// A uniform grid hashes positions to cells (the cell of a position far away may be one that is
// near: distances separate them). A query looks at the cells within the largest distance, and
// compares squared distances. Moved entities change cells in catch_up(), once a tick for all
// queries.
//
// Complexity: a query costs O(cells in reach + entities in them), an entity that moved O(1), a
// tick O(entities put). Hysteresis needs the view before: `was_seen` is a bitmap of it, shared by
// all queries and cleared by each.
#include "kwind/replica/interest.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <utility>

#include "kwind/core/prefetch.h"
#include "replica/server/world_state.h"

namespace kwind::replica {
namespace {

using Place = std::array<double, 3>;

constexpr std::uint32_t kNowhere = 0xffffffff;
// Cells across what can be seen from one place: more of them hold less that is too far away, fewer
// are quicker to go through.
constexpr double kCellsAcross = 4;
// Cells along an axis, at most; entities further apart share cells, and are separated by distance.
constexpr std::uint32_t kMaxCells = 256;
// In the unit of places. Who is to see everything may name an infinite distance; cells are finite.
constexpr double kFarthest = 1e15;
// Of the outermost place: cells are not smaller, so that their numbers fit 64 bits.
constexpr double kSmallestCell = 1e-12;

}  // namespace

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

    [[nodiscard]] bool in_cells() const { return !axes.empty() && !always; }
  };
  struct Thing {
    std::uint32_t cell = kNowhere;
    std::uint32_t at = 0;  // in its cell, or in `everywhere`
    std::uint32_t room = 0;
    Tick spawned;
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
  [[nodiscard]] std::uint32_t cell_along(double value) const {
    // Two's complement: the mask wraps negative cells as well.
    return static_cast<std::uint32_t>(static_cast<std::int64_t>(std::floor(value / cell_size))) &
           (cells_along - 1);
  }
  [[nodiscard]] std::uint32_t cell_of(const Place& place) const {
    return cell_along(place[0]) * cells_along + cell_along(place[1]);
  }
  void consume(EntityId id);
  // For all ids that the world uses.
  void make_room() {
    things.resize(all().entities.size());
    picked.resize(things.size());
    marks.resize(things.size() / 64 + 1);
    was_seen.resize(marks.size());
  }
  [[nodiscard]] Near& near_of(const Thing& thing) {
    return (thing.cell == kNowhere ? everywhere : cells[thing.cell])[thing.at];
  }
  void remove(Thing& thing);
  void catch_up();
  [[nodiscard]] Place place_of(EntityId id, const Type& type) const;

  const WorldState* world;
  ClientsShared* shared;
  InterestOptions options;
  std::vector<Type> types;
  double farthest = 0;
  double cell_size = 1;
  std::uint32_t cells_along = 1;
  std::vector<std::vector<Near>> cells;
  std::vector<Near> everywhere;
  ById<Thing> things;
  Tick refreshed;
  std::uint32_t queries = 0;
  std::uint64_t removals = 0;  // of things that ended
  // Where a query puts together what it sees: by id.
  std::vector<std::uint64_t> marks;
  ById<RelevantEntity> picked;
  std::vector<std::uint64_t> was_seen;  // before this look
  std::vector<Hit> hits;
};

// Finds the columns of each type's position, and sizes the grid: the cell follows from the largest
// distance of any type, the number of cells from the range of positions.
Interest::State::State(World& of, InterestOptions options_in)
    : world(&WorldAccess::state(of)),
      shared(&WorldAccess::state(of).clients),
      options(std::move(options_in)) {
  make_room();
  KWIND_ASSERT(options.enter > 0 && options.enter <= options.leave && options.update_every > 0);
  // Each named type must exist: a misspelt name would otherwise have no effect.
  for (const TypeInterest& own : options.types) {
    const auto is_named = [&](const schema::EntityInfo* info) { return info->name == own.type; };
    KWIND_ASSERT(std::any_of(all().info.types.begin(), all().info.types.end(), is_named));
    KWIND_ASSERT(own.enter.value_or(1) > 0 && own.priority > 0 && std::isfinite(own.priority));
    KWIND_ASSERT(own.leave.value_or(1) > 0);
  }
  double range = 0;
  double outermost = 0;
  for (const schema::EntityInfo* info : all().info.types) {
    Type type{{}, options.enter, options.leave, 1};
    for (const TypeInterest& own : options.types) {
      if (own.type != info->name) continue;
      type.enter = own.enter.value_or(type.enter);
      type.leave = std::max(own.leave.value_or(type.leave), type.enter);
      type.priority = static_cast<float>(own.priority);
      type.always = own.always;
    }
    // Columns of the position, in the order of the axes.
    for (std::size_t c = 0; c < info->columns.size(); ++c) {
      const schema::ColumnInfo& column = info->columns[c];
      // The columns of the field that holds the position. A position of one axis, or of more than
      // three, is none: such entities have no place in the grid.
      const bool number = column.form == schema::ColumnForm::number && column.step > 0;
      if (!number || info->fields[column.field].name != options.place) continue;
      type.axes.push_back(static_cast<std::uint16_t>(c));
      const double length = column.step * column.last;
      range = std::max(range, length);
      outermost = std::max({outermost, std::abs(column.zero), std::abs(column.zero + length)});
    }
    if (type.axes.size() < 2 || type.axes.size() > 3) type.axes.clear();
    type.enter_2 = type.enter * type.enter;
    type.leave_2 = type.leave * type.leave;
    if (type.in_cells()) farthest = std::max(farthest, std::min(type.leave, kFarthest));
    types.push_back(std::move(type));
  }
  cell_size = std::max({farthest * 2 / kCellsAcross, outermost * kSmallestCell, 1e-9});
  // One cell more than the range needs, since the range may begin within a cell.
  const double wanted = std::min<double>(std::ceil(range / cell_size) + 1, kMaxCells);
  cells_along = std::bit_ceil(std::max(static_cast<std::uint32_t>(wanted), 1U));
  cells.resize(std::size_t{cells_along} * cells_along);
}

Interest::Interest(World& world, InterestOptions options)
    : state_(std::make_unique<State>(world, std::move(options))) {}
Interest::Interest(Interest&&) noexcept = default;
Interest& Interest::operator=(Interest&&) noexcept = default;
Interest::~Interest() = default;

// By what was put last, which a tolerance may not have made worth telling.
Place Interest::State::place_of(EntityId id, const Type& type) const {
  const WorldState::Entity& entity = all().entities[id];
  Place place{};
  // Value = zero + step * index, in the unit of the description.
  for (std::size_t i = 0; i < type.axes.size(); ++i) {
    const schema::ColumnInfo& column = entity.model->info().columns[type.axes[i]];
    place[i] = column.zero + column.step * entity.now.numbers[type.axes[i]];
  }
  return place;
}

// Cells are unordered: the last entity of the cell takes the place of the one that leaves. O(1).
void Interest::State::remove(Thing& thing) {
  if (!thing.there) return;
  std::vector<Near>& here = thing.cell == kNowhere ? everywhere : cells[thing.cell];
  here[thing.at] = here.back();
  things[here[thing.at].id].at = thing.at;
  here.pop_back();
  thing.there = false;
}

// Brings one entity up to date: it left the world, it is another one under the same id, or it
// moved. Entities without a position, and those in view of everybody, are kept in one list.
void Interest::State::consume(EntityId id) {
  Thing& thing = things[id];
  const WorldState::Brief& brief = all().briefs[id];
  if (!brief.alive || !brief.changed_at) {
    removals += thing.there ? 1 : 0;
    return remove(thing);
  }
  if (thing.there && thing.generation != brief.generation) remove(thing);
  if (!thing.there) {
    if (thing.generation != brief.generation) thing.room = 0;
    thing.generation = brief.generation;
    thing.spawned = all().tick - 1;
    thing.type = all().entities[id].model->info().type;
  }
  const Type& type = types[thing.type];
  const Near now{place_of(id, type), id, thing.room, thing.type, type.axes.size() < 3};
  const std::uint32_t cell = type.in_cells() ? cell_of(now.place) : kNowhere;
  std::vector<Near>& here = type.in_cells() ? cells[cell] : everywhere;
  if (thing.there && thing.cell == cell) {
    here[thing.at] = now;
    return;
  }
  remove(thing);
  thing.cell = cell;
  thing.at = static_cast<std::uint32_t>(here.size());
  thing.there = true;
  here.push_back(now);
}

// Whoever looks first in a tick pays for it; nobody can forget it.
void Interest::State::catch_up() {
  if (refreshed + 1 == all().tick) return;
  make_room();
  // One tick behind: the world lists the entities that changed in that tick. Further behind, all of
  // them are gone through.
  if (refreshed + 2 == all().tick) {
    // Entities that were put may have moved; those that ended are taken out.
    for (const EntityId id : all().last_put) consume(id);
    for (const EntityId id : all().last_ended) consume(id);
  } else {
    for (EntityId id(1); things.has(id); ++id) consume(id);
  }
  refreshed = all().tick - 1;
}

// The room may be set before the entity is in the grid: entities appear there at the end of their
// first tick.
bool Interest::put_in_room(schema::AnyRef entity, std::uint32_t room) {
  if (!state_->world->is_alive(entity)) return false;
  state_->make_room();
  State::Thing& thing = state_->things[EntityId(entity.id)];
  if (thing.generation != entity.generation) state_->remove(thing);
  thing.generation = entity.generation;
  thing.room = room;
  if (thing.there) state_->near_of(thing).room = room;
  return true;
}

std::size_t Interest::memory() const {
  const State& s = *state_;
  std::size_t bytes = s.things.memory() + s.cells.capacity() * sizeof(std::vector<State::Near>) +
                      s.everywhere.capacity() * sizeof(State::Near) +
                      (s.marks.capacity() + s.was_seen.capacity()) * sizeof(std::uint64_t) +
                      // Cells keep their storage.
                      s.hits.capacity() * sizeof(State::Hit) + s.picked.memory();
  for (const auto& cell : s.cells) bytes += cell.capacity() * sizeof(State::Near);
  return bytes;
}

// The view of one client. A look costs in proportion to the cells near the origin.
struct InterestQuery::State {
  explicit State(Interest::State& of)
      : interest(&of), turn(of.queries++), revision(++of.shared->views) {}

  struct Reach;

  void update_now();
  void keep_alive();
  [[nodiscard]] bool shows(const Interest::State::Near& near) const;
  void add_near(Tick looked_before);
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

InterestQuery::InterestQuery(Interest& interest)
    : state_(std::make_unique<State>(*interest.state_)) {}
InterestQuery::~InterestQuery() = default;

void InterestQuery::set_origin(double x, double y, double z) {
  if (!state_->eye) state_->changed = true;
  state_->eye = Place{x, y, z};
  if (std::isnan(x + y + z)) state_->eye.reset();
  state_->follows = {};
}
void InterestQuery::set_origin(schema::AnyRef entity) {
  state_->follows = entity;
  state_->changed = true;
}
void InterestQuery::add_owned(schema::AnyRef entity) {
  remove_owned(entity);
  state_->owned.push_back(entity);
}
void InterestQuery::remove_owned(schema::AnyRef entity) {
  std::erase_if(state_->owned, [&](const schema::AnyRef& each) {
    return each.id == entity.id && each.generation == entity.generation;
  });
  state_->changed = true;
}
void InterestQuery::enter_room(std::uint32_t room) {
  leave_room(room);
  state_->rooms.push_back(room);
}
void InterestQuery::leave_room(std::uint32_t room) {
  std::erase(state_->rooms, room);
  state_->changed = true;
}
void InterestQuery::set_filter(std::function<bool(schema::AnyRef)> filter) {
  state_->filter = std::move(filter);
  state_->changed = true;
}

// Room 0 is the room that everybody is in. The game's filter is asked last: it is the most
// expensive.
bool InterestQuery::State::shows(const Interest::State::Near& near) const {
  if (near.room != 0 && std::find(rooms.begin(), rooms.end(), near.room) == rooms.end()) {
    return false;
  }
  // The filter is the game's code, and may be slow.
  return !filter || filter(schema::AnyRef{near.id.raw(), interest->things[near.id].generation});
}

// Cells that what can be seen from a place may lie in, along an axis.
struct InterestQuery::State::Reach {
  Reach(const Interest::State& in, double eye)
      : first(cell_at(in, eye - in.farthest)),
        count(cell_at(in, eye + in.farthest) - first + 1),
        whole(count >= in.cells_along),
        from_first(eye - static_cast<double>(first) * in.cell_size),
        cell_size(in.cell_size) {
    if (whole) count = in.cells_along;
  }
  // So far away that nothing is near.
  static std::int64_t cell_at(const Interest::State& in, double value) {
    constexpr double kNowhereNear = 1e12;
    return static_cast<std::int64_t>(
        std::clamp(std::floor(value / in.cell_size), -kNowhereNear, kNowhereNear));
  }
  // Of the eye from the nearest that the i-th of these cells holds, squared. What lies in it
  // because cells are shared is even further away.
  [[nodiscard]] double distance_2(std::int64_t i) const {
    const double begin = static_cast<double>(i) * cell_size - from_first;
    const double far = whole ? 0 : std::max({begin, -(begin + cell_size), 0.0});
    return far * far;
  }

  std::int64_t first;
  std::int64_t count;
  bool whole;  // all cells that there are
  double from_first;
  double cell_size;
};

void InterestQuery::State::take_near(const std::vector<Interest::State::Near>& cell) {
  Interest::State& in = *interest;
  if (in.hits.size() < cell.size()) in.hits.resize(cell.size());
  const auto [eye_x, eye_y, eye_z] = *eye;
  // All of those that are near first: half of them are not, and no processor foresees which.
  std::size_t hits = 0;
  // Branch-free: each entity is written, and the count moves by 0 or 1.
  for (const Interest::State::Near& thing : cell) {
    const double way_x = thing.place[0] - eye_x;
    const double way_y = thing.place[1] - eye_y;
    const double way_z = thing.flat ? 0 : thing.place[2] - eye_z;
    const double far_2 = way_x * way_x + way_y * way_y + way_z * way_z;
    in.hits[hits] = {&thing, far_2};
    hits += far_2 <= in.types[thing.type].leave_2 ? 1 : 0;
  }
  // Only those within the larger distance are looked at again.
  for (std::size_t i = 0; i < hits; ++i) {
    const auto& [thing, far_2] = in.hits[i];
    const Interest::State::Type& type = in.types[thing->type];
    // Hysteresis: between the two distances only entities that were in view stay there.
    if (far_2 > type.enter_2 && (in.was_seen[thing->id.raw() / 64] >> thing->id % 64 & 1) == 0)
      continue;
    if ((thing->room != 0 || filter) && !shows(*thing)) continue;
    // Four times as much close by as at the border.
    constexpr double kNearer = 3;
    const double near = 1 - far_2 / type.leave_2;
    pick({thing->id.raw(), false, type.priority * static_cast<float>(1 + kNearer * near)});
  }
}

void InterestQuery::State::add_near(Tick looked_before) {
  Interest::State& in = *interest;
  // An entity that took over an id was not in view, whatever the bitmap says.
  for (const RelevantEntity& each : before) {
    if (in.things[EntityId(each.id)].spawned > looked_before) continue;  // its predecessor was seen
    in.was_seen[each.id / 64] |= std::uint64_t{1} << each.id % 64;
  }
  const Reach along_x(in, (*eye)[0]);
  const Reach along_y(in, (*eye)[1]);
  const std::uint32_t wrap = in.cells_along - 1;
  const auto place_of = [&](const Reach& reach, std::int64_t i) {
    return static_cast<std::uint32_t>(reach.first + i) & wrap;
  };
  // Cells of a square, without those in its corners that are out of reach.
  for (std::int64_t x = 0; x < along_x.count; ++x) {
    for (std::int64_t y = 0; y < along_y.count; ++y) {
      if (along_x.distance_2(x) + along_y.distance_2(y) > in.farthest * in.farthest) continue;
      const std::uint32_t cell = place_of(along_x, x) * in.cells_along + place_of(along_y, y);
      take_near(in.cells[cell]);
    }
  }
  // The bits are shared by all queries: each query clears the words that it set.
  for (const RelevantEntity& each : before) in.was_seen[each.id / 64] = 0;
}

// Picks, in this order: entities near the origin, entities without a position, owned entities. A
// later pick of the same id replaces the earlier one, so ownership wins. The marks then yield the
// view in the order of ids, which the encoder of snapshots needs.
void InterestQuery::State::update_now() {
  const Interest::State& in = *interest;
  std::swap(seen, before);
  seen.clear();
  changed = false;
  const Tick looked_before = std::exchange(looked, in.refreshed);
  removals = in.removals;
  if (const EntityId followed(follows.id); followed && in.things.has(followed)) {
    const Interest::State::Thing& thing = in.things[followed];
    const bool placed = thing.there && !in.types[thing.type].axes.empty();
    if (placed && thing.generation == follows.generation) eye = interest->near_of(thing).place;
  }
  if (eye) add_near(looked_before);
  for (const Interest::State::Near& each : in.everywhere) {
    if (shows(each)) pick({each.id.raw(), false, in.types[each.type].priority});
  }
  // Owned entities come last: their pick replaces one with the flag `owner` unset.
  for (const schema::AnyRef& mine : owned) {
    const EntityId id(mine.id);
    if (!in.things.has(id)) continue;
    const Interest::State::Thing& thing = in.things[id];
    constexpr float kOwn = 8;
    if (thing.there && thing.generation == mine.generation) pick({mine.id, true, kOwn});
  }
  // Words of the bitmap in order yield ids in order; x & (x - 1) clears the lowest bit.
  for (std::size_t word = 0; word < in.marks.size(); ++word) {
    for (std::uint64_t left = std::exchange(interest->marks[word], 0); left != 0;
         left &= left - 1) {
      const auto bit = static_cast<std::size_t>(std::countr_zero(left));
      seen.push_back(in.picked[EntityId(static_cast<std::uint32_t>(word * 64 + bit))]);
    }
  }
  // Who asks has to go through all of them: not for weights alone, or not each time.
  // Equal views keep their revision, so that clients can share a history.
  const bool same = std::equal(seen.begin(), seen.end(), before.begin(), before.end(),
                               [](const RelevantEntity& a, const RelevantEntity& b) {
                                 return a.id == b.id && a.owner == b.owner;
                               });
  constexpr std::uint32_t kWeightsEvery = 4;  // looks
  if (!same || ++looks % kWeightsEvery == 0) revision = ++interest->shared->views;
}

void InterestQuery::State::keep_alive() {
  if (std::exchange(removals, interest->removals) == interest->removals) return;
  revision = ++interest->shared->views;
  // Order is kept.
  std::erase_if(
      seen, [&](const RelevantEntity& each) { return !interest->things[EntityId(each.id)].there; });
}

std::span<const RelevantEntity> InterestQuery::update() {
  State& s = *state_;
  s.interest->catch_up();
  const Tick tick = s.interest->refreshed;
  const std::uint32_t every = s.interest->options.update_every;
  if (!s.changed && s.looked == tick) return s.seen;  // whoever looks, too
  if (s.changed || tick - s.looked >= every || (tick + s.turn) % every == 0) {
    s.update_now();
  } else {
    s.keep_alive();
  }
  return s.seen;
}

void InterestQuery::prefetch() const {
  kwind::prefetch(state_.get(), sizeof(State));
}

std::span<const RelevantEntity> InterestQuery::update_now() {
  state_->interest->catch_up();
  state_->update_now();
  return state_->seen;
}

std::uint64_t InterestQuery::revision() const {
  return state_->revision;
}

std::size_t InterestQuery::memory() const {
  const State& s = *state_;
  return sizeof(State) + (s.seen.capacity() + s.before.capacity()) * sizeof(RelevantEntity) +
         s.owned.capacity() * sizeof(schema::AnyRef) + s.rooms.capacity() * 4;
}

}  // namespace kwind::replica
