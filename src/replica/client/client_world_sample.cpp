// Interpolation between received states, and extrapolation by a few ticks, for drawing.
//
// Drawing happens between ticks: a value is blended from the states before and after the drawn
// tick. Where the newest state is older than the drawn tick the value is extrapolated with the
// entity's predictor for kMaxAhead ticks, then led back to the newest state.
#include <algorithm>
#include <utility>

#include "replica/client/client_world_state.h"
#include "replica/coding/position_columns.h"
#include "replica/coding/row_bits.h"

namespace kwind::replica {
std::span<const EntityEvent> ClientWorld::take_events() {
  State& s = *state_;
  s.handed_out.clear();
  s.handed_out.swap(s.entity_events);
  return s.handed_out;
}
std::optional<std::uint16_t> ClientWorld::last_processed_input() const {
  if (state_->input == 0) return std::nullopt;
  return static_cast<std::uint16_t>(state_->tick.raw() + state_->input - 1);
}
void ClientWorld::count_into(SymbolCounts* symbol_counts) {
  state_->symbol_counts = symbol_counts;
}
const ClientWorldCounts& ClientWorld::counts() const {
  return state_->counts;
}
std::size_t ClientWorld::waiting() const {
  return state_->waiting_now;
}
std::uint32_t ClientWorld::tick() const {
  return state_->tick.raw();
}
double ClientWorld::ticks_per_second() const {
  return state_->terms.rate / 16.0;
}
std::size_t ClientWorld::size() const {
  return state_->there;
}

std::uint32_t ClientWorld::state_tick(schema::AnyRef entity) const {
  const State::Entity* const held = state_->find(entity);
  return held != nullptr ? held->tick.raw() : 0;
}

void ClientWorld::spoil(schema::AnyRef entity, std::size_t column, std::uint32_t flip) {
  const EntityId id(entity.id);
  if (state_->entities.find(id) == nullptr) return;
  State::Entity& held = state_->entities[id];
  held.received.flip(column, flip, state_->widths);
  held.now.numbers[column] ^= flip;
}

std::vector<schema::AnyRef> ClientWorld::entities() const {
  std::vector<schema::AnyRef> all;
  state_->entities.for_each([&](EntityId id, const State::Entity& entity) {
    if (entity.there) all.emplace_back(id.raw(), entity.generation);
  });
  return all;
}

void ClientWorld::restore(schema::AnyRef wanted, const schema::EntityInfo& info,
                          const std::function<void(schema::Decoder&)>& decode) const {
  const State& s = *state_;
  const State::Entity* const held = s.find(wanted);
  if (held == nullptr || held->type != info.type) return;
  const State::Entity& entity = *held;
  s.restore(entity, {entity.tick, entity.now}, entity.owner, entity.tick, decode);
}

// The columns of `known`, moved on to `tick` if that is later, in the bits of a message; with those
// that only the owner has if the client was the owner when they were sent.
void ClientWorld::State::restore(const Entity& entity, const Known& known, bool owner, Tick to,
                                 const std::function<void(schema::Decoder&)>& decode) const {
  const std::size_t bits = write_row(value_bits, models[entity.type], known, owner, to);
  schema::Decoder in(bits::Reader(value_bits, bits), info.version, tick.raw(),
                     owner ? schema::View::owner : schema::View::others);
  decode(in);
}

// Finds the two states to blend, and how far `tick` lies between them: 0 is the first one, 1 the
// second. Between states it interpolates; beyond the newest it extrapolates, for kMaxAhead ticks,
// and then goes back to where the entity was last known.
ClientWorld::State::Around ClientWorld::State::around(const Entity& entity, double at) const {
  const EntityModel& model = models[entity.type];
  // The states of this entity before and after.
  const ReceivedState* before = nullptr;
  const ReceivedState* after = nullptr;
  for (const ReceivedState& record : entity.received) {
    // A server may call another kind by the same generation.
    const bool of_it = record.update != Update::despawn && record.generation == entity.generation &&
                       record.type == entity.type;
    if (!of_it) {
      before = after = nullptr;
    } else if (record.tick.raw() <= at) {
      if (before == nullptr || record.tick >= before->tick) before = &record;
    } else if (after == nullptr || record.tick < after->tick) {
      after = &record;
    }
  }
  if (after != nullptr) {
    // A blend is at most kLongestBlend ticks long, so that an entity that stood for a minute does
    // not creep for a minute when it moves again. It came into view later, or its last update is
    // old because it stood still.
    const double begins = std::max(before != nullptr ? before->tick : Tick{},
                                   number_before(after->tick, kLongestBlend))
                              .raw();
    if (before == nullptr) before = after;
    const Known left{before->tick, row_of(entity.received, *before)};
    const Known right{after->tick, row_of(entity.received, *after)};
    // From nobody's to its owner's there is nothing in between.
    if (before == after || before->owner != after->owner) {
      return {{left, before->owner, left.tick}, std::nullopt, 0};
    }
    // A leap (a teleport) is not blended: the old values stay until the tick of the new ones. Where
    // values may be a little off they are moved on meanwhile, as before the blend begins.
    const bool leaps = model.leaps(left, right);
    if (model.tolerant() && (leaps || at < begins)) return moved_on(left, before->owner, at);
    if (leaps) return {{left, before->owner, left.tick}, std::nullopt, 0};
    const Tick begin(static_cast<std::uint32_t>(begins));
    return {{left, before->owner, model.tolerant() ? begin : left.tick},
            Shown{right, after->owner, right.tick},
            std::clamp((at - begins) / (after->tick.raw() - begins), 0.0, 1.0)};
  }
  const Known newest{entity.tick, entity.now};
  double reach = std::max<double>(at, newest.tick.raw());
  if (!model.tolerant()) {
    // No update means that it stands still: a moving entity has one in each tick.
    const double ahead = reach - newest.tick.raw();
    // Where no update comes the entity is led back as fast as it was led ahead.
    const double back = std::max(2.0 * kMaxAhead - ahead, 0.0);
    reach = newest.tick.raw() + (ahead <= kMaxAhead ? ahead : back);
    if (entity.tick + kMaxAhead < tick) reach = newest.tick.raw();
  }
  return moved_on(newest, entity.owner, reach);
}

// Predictions are made for whole ticks. The two around `to` are blended.
ClientWorld::State::Around ClientWorld::State::moved_on(const Known& known, bool owner, double to) {
  const Tick whole(static_cast<std::uint32_t>(to));
  return {{known, owner, whole}, Shown{known, owner, whole + 1}, to - whole.raw()};
}

double ClientWorld::restore_around(schema::AnyRef wanted, const schema::EntityInfo& info,
                                   double tick, const Decode& from, const Decode& to) const {
  const State& s = *state_;
  const State::Entity* const held = s.find(wanted);
  if (held == nullptr || held->type != info.type) return 0;
  const State::Around around = s.around(*held, tick);
  s.restore(*held, around.from.known, around.from.owner, around.from.at, from);
  if (around.to) s.restore(*held, around.to->known, around.to->owner, around.to->at, to);
  return around.part;
}

// The coordinates of a field, between the two states. A field that is not predicted does not move
// between them, as blend() has it.
std::array<double, 3> ClientWorld::State::position_between(const EntityModel& model,
                                                           const Around& around, std::size_t first,
                                                           std::size_t axes) const {
  std::array<double, 3> position{};
  for (std::size_t axis = 0; axis < axes; ++axis) {
    const std::size_t c = first + axis;
    const schema::ColumnInfo& column = model.info().columns[c];
    const auto value_of = [&](const Shown& shown) {
      return column.zero + column.step * model.moved_on(c, shown.known, shown.at);
    };
    position.at(axis) = value_of(around.from);
    if (!around.to || !(column.smooth || follows(model.info(), c))) continue;
    position.at(axis) += (value_of(*around.to) - position.at(axis)) * around.part;
  }
  return position;
}

std::optional<std::array<double, 3>> ClientWorld::position(schema::AnyRef entity, double tick,
                                                           std::string_view field) const {
  const State& s = *state_;
  std::array<double, 3> position{};
  // A cycle of carriers has no position.
  for (std::uint32_t depth = 0; depth <= schema::kMaxCarriers; ++depth) {
    const State::Entity* const held = s.find(entity);
    if (held == nullptr) return std::nullopt;
    const EntityModel& model = s.models[held->type];
    const auto [first, axes] = position_columns(model.info(), field);
    if (axes == 0) return std::nullopt;
    const State::Around around = s.around(*held, tick);
    const std::array<double, 3> own = s.position_between(model, around, first, axes);
    for (std::size_t axis = 0; axis < position.size(); ++axis) position.at(axis) += own.at(axis);
    entity =
        schema::reference_of(carrier_number(model.info(), first, around.from.known.row.numbers));
    if (!entity) return position;
  }
  return std::nullopt;
}

void ClientWorld::read(schema::AnyRef entity, const Decode& decode) const {
  if (const auto type = type_of(entity)) restore(entity, *state_->info.types[*type], decode);
}

double ClientWorld::read_around(schema::AnyRef entity, double tick, const Decode& from,
                                const Decode& to) const {
  const auto type = type_of(entity);
  return type ? restore_around(entity, *state_->info.types[*type], tick, from, to) : 0;
}

std::optional<std::uint16_t> ClientWorld::type_of(schema::AnyRef entity) const {
  const State::Entity* const held = state_->find(entity);
  return held != nullptr ? std::optional(held->type) : std::nullopt;
}

bool ClientWorld::owns(schema::AnyRef entity) const {
  const State::Entity* const held = state_->find(entity);
  return held != nullptr && held->owner;
}

// For tests: two ends that hold the same have the same digest, whatever the order of arrival.
Digest128 ClientWorld::digest() const {
  std::vector<std::byte> all;
  const auto add = [&](std::uint32_t value) {
    for (unsigned i = 0; i < 4; ++i) all.push_back(static_cast<std::byte>(value >> (8 * i)));
  };
  state_->entities.for_each([&](EntityId id, const State::Entity& entity) {
    if (!entity.there) return;
    add(id.raw());
    add(entity.generation);
    for (const std::uint32_t number : entity.now.numbers) add(number);
    for (const SharedBits& held : entity.now.varying) {
      add(held != nullptr ? static_cast<std::uint32_t>(held->bits) : 0);
      if (held != nullptr) all.insert(all.end(), held->bytes.begin(), held->bytes.end());
    }
  });
  return blake2b_128(all);
}

}  // namespace kwind::replica
