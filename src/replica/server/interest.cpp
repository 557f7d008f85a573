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
#include "replica/server/interest_state.h"

#include <algorithm>
#include <bit>
#include <utility>

namespace kwind::replica {
namespace {

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

// Finds the columns of each type's position, and sizes the grid: the cell follows from the largest
// distance of any type, the number of cells from the range of positions.
Interest::State::State(World& of, InterestOptions options_in)
    : world(&WorldAccess::state(of)),
      shared(&WorldAccess::state(of).clients),
      options(std::move(options_in)) {
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
  for (const schema::EntityInfo* newest : all().info.types) {
    Type type{{}, options.enter, options.leave, 1};
    type.world = newest_with(newest->type);
    const schema::EntityInfo* const info = type.world->info.types[newest->type];
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
    for (const schema::AttachmentInfo& each : info->attachments) {
      if (!type.axes.empty() && type.axes.front() == each.first) type.carrier = each.carrier;
    }
    has_carriers = has_carriers || type.carrier;
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
  make_room();
}

// The state that has values of a type: the newest version that has it, of those that are spoken.
const WorldState* Interest::State::newest_with(std::uint16_t type) {
  if (all().info.has(type)) return &all();
  for (const auto& each : all().older) {
    if (!each->info.has(type)) continue;
    if (older.empty() || older.back() != each.get()) older.push_back(each.get());
    return each.get();
  }
  return &all();
}

Interest::Interest(World& world, InterestOptions options)
    : state_(std::make_unique<State>(world, std::move(options))) {}
Interest::Interest(Interest&&) noexcept = default;
Interest& Interest::operator=(Interest&&) noexcept = default;
Interest::~Interest() = default;

// By what was put last, which a tolerance may not have made worth telling.
Place Interest::State::place_of(EntityId id, const Type& type) const {
  const WorldState::Entity& entity = world_of(id).entities[id];
  Place place{};
  // Value = zero + step * index, in the unit of the description.
  for (std::size_t i = 0; i < type.axes.size(); ++i) {
    const schema::ColumnInfo& column = entity.model->info().columns[type.axes[i]];
    place[i] = column.zero + column.step * entity.now.numbers[type.axes[i]];
  }
  return place;
}

// The carrier of an entity, while the carrier lives.
EntityId Interest::State::carrier_of(EntityId id, const Type& type) const {
  if (!type.carrier) return {};
  const schema::AnyRef ref =
      schema::reference_of(type.world->entities[id].now.numbers[*type.carrier]);
  const EntityId carrier(ref.id);
  const bool lives = carrier && carrier != id && things.has(carrier) &&
                     world_of(carrier).is_alive(ref) &&
                     !types[all().briefs[carrier].type].axes.empty();
  return lives ? carrier : EntityId{};
}

// World position: with those of all carriers. Nothing if a carrier is gone, or in a cycle.
std::optional<Place> Interest::State::world_position(EntityId id, const Type& type,
                                                     std::uint32_t depth) const {
  Place place = place_of(id, type);
  if (!type.carrier || type.world->entities[id].now.numbers[*type.carrier] == 0) return place;
  const EntityId carrier = carrier_of(id, type);
  if (!carrier || depth == schema::kMaxCarriers) return std::nullopt;
  const auto base = world_position(carrier, types[all().briefs[carrier].type], depth + 1);
  if (!base) return std::nullopt;
  for (std::size_t axis = 0; axis < place.size(); ++axis) place.at(axis) += base->at(axis);
  return place;
}

// Notes the carrier of an entity, so that a carrier that moves takes its attached entities along.
void Interest::State::attach(EntityId id, EntityId carrier) {
  Thing& thing = things[id];
  if (thing.carrier == carrier) return;
  if (thing.carrier) std::erase(attached[thing.carrier], id);
  thing.carrier = carrier;
  if (carrier) attached[carrier].push_back(id);
}

// An entity is gone: it has no carrier, and no entity is attached to it.
void Interest::State::detach_all(EntityId id) {
  attach(id, {});
  while (!attached[id].empty()) attach(attached[id].back(), {});
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
// Attached entities are brought up to date, too. One whose carrier is gone keeps its position.
void Interest::State::consume(EntityId id, std::uint32_t depth) {
  Thing& thing = things[id];
  const WorldState::Brief& brief = world_of(id).briefs[id];
  if (!brief.alive || !brief.changed_at) {
    removals += thing.there ? 1 : 0;
    if (has_carriers) detach_all(id);
    return remove(thing);
  }
  if (thing.there && thing.generation != brief.generation) remove(thing);
  if (!thing.there) {
    if (thing.generation != brief.generation) thing.room = 0;
    thing.generation = brief.generation;
    thing.spawned = all().tick - 1;
    thing.type = brief.type;
  }
  const Type& type = types[thing.type];
  Place place = place_of(id, type);
  if (has_carriers) {
    if (type.carrier) {
      attach(id, carrier_of(id, type));
      const auto on_carrier = world_position(id, type, 0);
      place = on_carrier ? *on_carrier : thing.there ? near_of(thing).place : place;
    }
    // An entity that changes its carrier meanwhile leaves this list.
    for (std::size_t i = 0; depth < schema::kMaxCarriers && i < attached[id].size();) {
      const EntityId other = attached[id][i];
      consume(other, depth + 1);
      if (i < attached[id].size() && attached[id][i] == other) ++i;
    }
  }
  put(thing, {place, id, thing.room, thing.type, type.axes.size() < 3}, type);
}

// Puts a thing where it is now.
void Interest::State::put(Thing& thing, const Near& now, const Type& type) {
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
    const auto consume_changed = [&](const WorldState& of) {
      for (const EntityId id : of.last_put) consume(id);
      for (const EntityId id : of.last_ended) consume(id);
    };
    consume_changed(all());
    for (const WorldState* const each : older) consume_changed(*each);
  } else {
    for (EntityId id(1); things.has(id); ++id) consume(id);
  }
  refreshed = all().tick - 1;
}

// The room may be set before the entity is in the grid: entities appear there at the end of their
// first tick.
bool Interest::put_in_room(schema::AnyRef entity, std::uint32_t room) {
  const EntityId id(entity.id);
  if (!id || !state_->all().entities.has(id) || !state_->world_of(id).is_alive(entity))
    return false;
  state_->make_room();
  State::Thing& thing = state_->things[id];
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

}  // namespace kwind::replica
