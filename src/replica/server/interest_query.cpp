// What a client sees: the entities near its origin, those without a position, its own, and the
// carriers of all these. interest.cpp has the grid.
#include <algorithm>
#include <bit>
#include <cmath>
#include <utility>

#include "kwind/core/prefetch.h"
#include "replica/server/interest_state.h"

namespace kwind::replica {

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

// Adds the carriers of attached entities to the view: without its carrier an attached entity has no
// world position. A client that may not see the carrier, by rooms or filter, does not see the
// attached entity either, unless it owns it.
void InterestQuery::State::add_carriers() {
  Interest::State& in = *interest;
  for (std::size_t word = 0; word < in.marks.size(); ++word) {
    for (std::uint64_t left = in.marks[word]; left != 0; left &= left - 1) {
      const EntityId id(static_cast<std::uint32_t>(word * 64) +
                        static_cast<std::uint32_t>(std::countr_zero(left)));
      EntityId carrier = in.things[id].carrier;
      for (std::uint32_t depth = 0; carrier && depth < schema::kMaxCarriers; ++depth) {
        const Interest::State::Thing& thing = in.things[carrier];
        if (!is_picked(carrier)) {
          if (!thing.there || !shows(interest->near_of(thing))) break;
          pick({carrier.raw(), false, in.picked[id].priority});
        }
        carrier = thing.carrier;
      }
      if (carrier && !is_picked(carrier) && !in.picked[id].owner) {
        in.marks[word] &= ~(std::uint64_t{1} << id % 64);
      }
    }
  }
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
  if (in.has_carriers) add_carriers();
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
