// Values to columns, and the ring of rows that deltas and tolerances refer to.
//
// The game puts values at any time; end_tick() makes rows of them. A row is pushed only where a
// value differs from what clients would expect, so that an entity at rest costs nothing.
//
// Values are stored as columns (see schema/columns.cpp), the newest value beside a ring of
// kHistoryRows older rows. Rows are what deltas, late acknowledgements, PastWorld and desync
// reports refer to. A tick that changes nothing adds no row; the row at or before a tick is the
// value in that tick.
#include "kwind/replica/world.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <utility>

#include "replica/coding/position_columns.h"
#include "replica/coding/row_bits.h"
#include "replica/coding/snapshot_head.h"
#include "replica/coding/state_digest.h"
#include "replica/coding/unit_columns.h"
#include "replica/server/world_state.h"

namespace kwind::replica {
namespace {

constexpr std::size_t kScratchBytes = std::size_t{64} * 1024;

}  // namespace

WorldState::WorldState(const schema::EntitiesInfo& entities_in, WorldOptions options_in,
                       std::shared_ptr<EntityIds> ids_in)
    : info(entities_in),
      options(std::move(options_in)),
      type_codes(info),
      ids(std::move(ids_in)),
      value_bits(kScratchBytes) {
  KWIND_ASSERT(options.ticks_per_second > 0);
  if (options.codes == nullptr) options.codes = built_in_codes(info);
  // As clients receive it.
  const double rate = tick_rate_of(options.ticks_per_second) / 16.0;
  // One model for each entity type, shared by all its entities.
  for (const schema::EntityInfo* type : info.types) models.emplace_back(*type, rate);
}

World::World(const schema::EntitiesInfo& entities, WorldOptions options)
    : state_(std::make_unique<WorldState>(
          entities, std::move(options),
          std::make_shared<EntityIds>(entities.up_to, options.reuse_after_ticks))) {
  KWIND_ASSERT(entities.version == schema::kNewest);
  for (const schema::EntitiesInfo* const older : entities.older) {
    WorldOptions of_version = state_->options;
    of_version.codes = nullptr;  // the others may be of columns that it lacks
    state_->older.push_back(
        std::make_unique<WorldState>(*older, std::move(of_version), state_->ids));
  }
}
World::World(World&&) noexcept = default;
World& World::operator=(World&&) noexcept = default;
World::~World() = default;

// A spawn without a free id returns nothing: the protocol says how many entities there are at most.
std::optional<schema::AnyRef> World::spawn_encoded(const schema::EntityInfo& type,
                                                   const Encode& encode) {
  const auto made = begin_spawn(type);
  if (made) take(*made, encode);
  return made;
}

// False if the entity has gone: a handle that outlived its entity changes nothing.
bool World::put_encoded(schema::AnyRef entity, const Encode& encode) {
  if (!is_alive(entity)) return false;
  take(entity, encode);
  return true;
}

// The place of an id that was used before is used again, under the next generation.
std::optional<schema::AnyRef> World::begin_spawn(const schema::EntityInfo& info) {
  WorldState& s = *state_;
  KWIND_ASSERT(info.type < s.models.size() && s.info.types[info.type] == &info);
  const auto taken = s.ids->take(s.tick);
  if (!taken) return std::nullopt;
  const EntityId id = *taken;
  const std::uint8_t last = s.briefs.has(id) ? s.briefs[id].generation : 0;
  const auto generation = static_cast<std::uint8_t>((last + 1) % schema::kGenerations);
  ++s.alive;
  s.spawn(id, generation, info.type);
  for (const auto& older : s.older) older->spawn(id, generation, info.type);
  return schema::AnyRef{id.raw(), generation};
}

// An entity of a type that the version lacks has an id, and nothing else: nobody sees it.
void WorldState::spawn(EntityId id, std::uint8_t generation, std::uint16_t type) {
  // Ids are dense: a new id is one beyond the last.
  if (id == entities.end_id()) {
    entities.emplace_back();
    briefs.emplace_back();
    clients.entity_bits.emplace_back();
  }
  const bool is_known = info.has(type);
  briefs[id] = {{}, {}, 0, type, generation, is_known};
  Entity& entity = entities[id];
  entity.model = nullptr;
  entity.put = false;
  if (!is_known) {
    // Who has not received the despawn of the entity before is still to be told.
    briefs[id].changed_at = tick;
    return;
  }
  const EntityModel& model = models[type];
  entity.model = &model;
  entity.now.numbers.assign(model.columns(), 0);
  entity.now.varying.assign(model.varying(), nullptr);
  entity.history.emplace(model.columns(), model.varying(), World::kHistoryRows);
  clients.entity_bits[id] = {};
}

// Reads the columns of an entity's new value out of the bits that the encoder has written: one
// field at a time, as soon as it is written. The encoder writes fields in the order of columns.
class WorldState::FieldReader {
 public:
  FieldReader(WorldState& state, EntityId id)
      : state_(state),
        id_(id),
        entity_(state.entities[id]),
        model_(*entity_.model),
        columns_(model_.info().columns),
        is_first_(entity_.history->empty() && !entity_.put) {}

  // The encoder starts anew, into more memory.
  void restart() {
    field_ = 0;
    column_ = 0;
    begin_ = 0;
    wrong_ = 0;
  }
  // The encoder stands behind a field that is not local, of which it wrote nothing if the version
  // lacks it.
  void field_written(schema::Encoder& out) {
    // The memory was too small: take() will encode the value again.
    if (out.error() == Errc::message_too_large) return;
    const std::size_t end = out.bit_count();
    out.finish();
    bits::Reader in(state_.value_bits, end);
    in.skip(begin_);
    const std::uint16_t index = field_++;
    note_range(out, index);
    // A field is one column or several, for example the axes of a vector.
    for (; column_ < columns_.size() && columns_[column_].field == index; ++column_) {
      read_column(in, end - begin_);
    }
    begin_ = end;
  }
  [[nodiscard]] bool is_complete() const { return column_ == columns_.size(); }
  [[nodiscard]] std::uint64_t wrong() const { return wrong_; }

 private:
  // The encoder moved the value to the nearest one in range. The newest such case is kept for the
  // game to ask for.
  void note_range(const schema::Encoder& out, std::uint16_t index) {
    if (out.out_of_range_count() <= wrong_) return;
    wrong_ = out.out_of_range_count();
    state_.last_out_of_range = OutOfRange{{id_.raw(), state_.briefs[id_].generation},
                                          model_.info().type,
                                          model_.info().name,
                                          model_.info().fields[index].name,
                                          state_.tick.raw()};
  }
  // Fields that travel at spawn alone keep their first value.
  void read_column(bits::Reader& in, std::size_t field_bits) {
    const schema::ColumnInfo& column = columns_[column_];
    const bool is_kept = column.at_spawn && !is_first_;
    if (column.group != schema::ColumnGroup::none) {
      std::array<std::uint32_t, 4> numbers{};
      read_unit(in, &column, numbers.data());
      // A rotation or a direction is several columns that are decoded together.
      const std::size_t count = columns_of(column.group);
      if (!is_kept) std::copy_n(numbers.begin(), count, &entity_.now.numbers[column_]);
      column_ += count - 1;
      return;
    }
    if (column.form != schema::ColumnForm::varying) {
      const auto value = static_cast<std::uint32_t>(in.get(column.bits));
      if (!is_kept) entity_.now.numbers[column_] = value;
      // Equal pointers mean equal bits: clients compare pointers.
      return;
    }
    // An equal value keeps its bits: whoever has these needs no others.
    SharedBits& baseline = entity_.now.varying[model_.varying_place(column_)];
    state_.field.resize(bits::bytes_for(field_bits));
    in.get_bits(state_.field, field_bits);
    if (!is_kept &&
        (baseline == nullptr || baseline->bits != field_bits || baseline->bytes != state_.field)) {
      baseline = std::make_shared<const BitString>(BitString{state_.field, field_bits});
    }
  }

  WorldState& state_;
  EntityId id_;
  WorldState::Entity& entity_;
  const EntityModel& model_;
  std::span<const schema::ColumnInfo> columns_;
  bool is_first_;
  std::uint16_t field_ = 0;
  std::size_t column_ = 0;
  std::size_t begin_ = 0;  // of the field's bits
  std::uint64_t wrong_ = 0;
};

// Once for each version that has other entities.
void World::take(schema::AnyRef which, const Encode& encode) {
  const EntityId id(which.id);
  state_->take(id, encode);
  for (const auto& older : state_->older) older->take(id, encode);
}

// Encodes a value as a message would be and takes its bits apart.
void WorldState::take(EntityId id, const World::Encode& encode) {
  if (!has_type(id)) return;
  FieldReader reader(*this, id);
  schema::Encoder out(bits::Writer(value_bits), bits::Policy::clamp, info.version);
  const auto mark = [&] { reader.field_written(out); };
  encode(out, std::ref(mark));
  // A value that this memory does not hold is encoded again, into twice as much.
  // Doubles, so that a value of n bytes costs O(log n) attempts, once.
  while (out.error() == Errc::message_too_large) {
    value_bits.resize(value_bits.size() * 2);
    reader.restart();
    out = schema::Encoder(bits::Writer(value_bits), bits::Policy::clamp, info.version);
    encode(out, std::ref(mark));
  }
  KWIND_ASSERT(reader.is_complete());
  out_of_range += reader.wrong();
  if (!std::exchange(entities[id].put, true)) put_ids.push_back(id);
}

// The id rests for `reuse_after_ticks` before another entity gets it.
bool World::despawn(schema::AnyRef entity) {
  if (!is_alive(entity)) return false;
  WorldState& s = *state_;
  const EntityId id(entity.id);
  s.despawn(id);
  for (const auto& older : s.older) older->despawn(id);
  s.ids->end(id, s.tick);
  --s.alive;
  return true;
}

void WorldState::despawn(EntityId id) {
  if (!has_type(id)) return;
  briefs[id].alive = false;
  briefs[id].changed_at = tick;
  ended_ids.push_back(id);
}

namespace {

// Notes the freshness of what changed in this tick. An arrival is a change of all columns.
void note_pressing(WorldState::Entity& entity, Tick tick) {
  const EntityModel& model = *entity.model;
  if (!model.repeats_some() && !model.has_urgent()) return;
  EntityModel::Pressing pressing{true, model.has_urgent()};
  if (!entity.history->empty()) pressing = model.pressing(entity.history->newest(), entity.now);
  if (pressing.repeated) entity.repeated_at = tick;
  if (pressing.urgent) entity.urgent_at = tick;
}

}  // namespace

// Looks at the entities that were put or ended since the last tick, not at all of them.
void World::end_tick() {
  state_->end_tick();
  for (const auto& older : state_->older) older->end_tick();
}

void WorldState::end_tick() {
  // Rule: an entity gets a row in this tick if it is alive, its type is due, and the new values
  // differ from those that clients would extrapolate from the newest row.
  // Cost is proportional to the entities that were put, not to the world.
  for (const EntityId id : put_ids) {
    Entity& entity = entities[id];
    Rows& history = *entity.history;
    // Each at a tick of its own, so that a kind does not come all at once.
    if (briefs[id].alive && !history.empty() && (tick + id.raw()) % entity.model->period() != 0) {
      waiting_ids.push_back(id);
      continue;
    }
    entity.put = false;
    if (!briefs[id].alive) continue;
    // A client that extrapolates the newest row gets this value anyway.
    if (!history.empty() &&
        entity.model->stands({history.newest_tick(), history.newest()}, entity.now, tick)) {
      continue;
    }
    note_pressing(entity, tick);
    history.push(tick, entity.now);
    briefs[id].changed_at = tick;
    briefs[id].oldest = history.tick(0);
    briefs[id].values = digest_of(*entity.model, entity.now, false);
  }
  // Interest reads these two lists to learn which entities moved or went.
  std::swap(put_ids, last_put);
  put_ids.clear();
  std::swap(put_ids, waiting_ids);
  std::swap(ended_ids, last_ended);
  ended_ids.clear();
  ++tick;
}

// Between two ticks values are blended, as a client shows them.
PastWorld World::at(double tick) const {
  // The tick that is open has no rows yet; ticks older than the ring of rows give the oldest row.
  const double newest = std::max(state_->tick.raw() - 1.0, 1.0);
  const double wanted = std::isfinite(tick) ? std::clamp(tick, 1.0, newest) : newest;
  // Fraction 0 is the tick itself.
  const auto whole = static_cast<std::uint32_t>(wanted);
  return {*this, whole, wanted - whole};
}

namespace {

// The row of an entity that was the newest at a tick.
struct PastRow {
  const EntityModel* model;
  Known known;
};

// Values of an entity that has gone are remembered until another one has its id.
std::optional<PastRow> row_at(const WorldState& s, schema::AnyRef wanted, Tick tick) {
  const EntityId id(wanted.id);
  if (!id || !s.entities.has(id)) return std::nullopt;
  const WorldState::Brief& brief = s.briefs[id];
  const WorldState::Entity& entity = s.entities[id];
  if (brief.generation != wanted.generation || entity.model == nullptr) return std::nullopt;
  if (!brief.alive && tick >= brief.changed_at) return std::nullopt;
  // Before the entity's first row it did not exist.
  const auto row = entity.history->at_or_before(tick);
  if (!row) return std::nullopt;
  return PastRow{entity.model, {entity.history->tick(*row), entity.history->row(*row)}};
}

}  // namespace

void PastWorld::decode_at(schema::AnyRef wanted, const schema::EntityInfo& info, std::uint32_t tick,
                          const std::function<void(schema::Decoder&)>& decode) const {
  WorldState& s = *world_->state_;
  const auto found = row_at(s, wanted, Tick(tick));
  if (!found || &found->model->info() != &info) return;
  // Where values may be a little off, clients move them on until the next row.
  const Tick to = found->model->tolerant() ? Tick(tick) : found->known.tick;
  const std::size_t bits = write_row(s.value_bits, *found->model, found->known, true, to);
  schema::Decoder in(bits::Reader(s.value_bits, bits), schema::kNewest, tick);
  decode(in);
}

bool PastWorld::leaps(schema::AnyRef wanted) const {
  const WorldState& s = *world_->state_;
  const auto from = row_at(s, wanted, Tick(tick_));
  const auto to = row_at(s, wanted, Tick(tick_ + 1));
  return from && to && from->known.tick != to->known.tick &&
         from->model->leaps(from->known, to->known);
}

// As get() has the field, and as ClientWorld::position() adds carriers.
std::optional<std::array<double, 3>> PastWorld::position(schema::AnyRef entity,
                                                         std::string_view field) const {
  const WorldState& s = *world_->state_;
  std::array<double, 3> position{};
  // A cycle of carriers has no position.
  for (std::uint32_t depth = 0; depth <= schema::kMaxCarriers; ++depth) {
    const auto from = row_at(s, entity, Tick(tick_));
    if (!from) return std::nullopt;
    const EntityModel& model = *from->model;
    const auto [first, axes] = position_columns(model.info(), field);
    if (axes == 0) return std::nullopt;
    const bool is_between = part_ > 0 && !leaps(entity);
    const auto to = is_between ? row_at(s, entity, Tick(tick_ + 1)) : std::nullopt;
    for (std::size_t axis = 0; axis < axes; ++axis) {
      const std::size_t c = first + axis;
      const schema::ColumnInfo& column = model.info().columns[c];
      const auto value_at = [&](const Known& known, std::uint32_t tick) {
        return column.zero + column.step * (model.tolerant() ? model.moved_on(c, known, Tick(tick))
                                                             : known.row.numbers[c]);
      };
      const double here = value_at(from->known, tick_);
      position.at(axis) += here;
      if (!to || !(column.smooth || follows(model.info(), c))) continue;
      position.at(axis) += (value_at(to->known, tick_ + 1) - here) * part_;
    }
    entity = schema::reference_of(carrier_number(model.info(), first, from->known.row.numbers));
    if (!entity) return position;
  }
  return std::nullopt;
}

std::uint32_t World::tick() const {
  return state_->tick.raw();
}

bool World::is_alive(schema::AnyRef entity) const {
  // A type that the newest version lacks is there for older ones alone.
  return state_->is_alive(entity) ||
         std::any_of(state_->older.begin(), state_->older.end(),
                     [&](const auto& older) { return older->is_alive(entity); });
}

const schema::EntityInfo* World::info_of(schema::AnyRef entity) const {
  return state_->info.types[state_->briefs[EntityId(entity.id)].type];
}
std::size_t World::size() const {
  return state_->alive;
}
std::uint64_t World::out_of_range() const {
  return state_->out_of_range;
}
std::optional<OutOfRange> World::last_out_of_range() const {
  return state_->last_out_of_range;
}
const SharedBitsCounts& World::shared_bits() const {
  return state_->clients.counts;
}
// Bytes of the tables and of every entity's history, without shared strings.
std::size_t WorldState::memory() const {
  std::size_t bytes = entities.memory() + briefs.memory() + clients.entity_bits.memory();
  for (const Entity& entity : entities) {
    // Ids that were never used have no history.
    if (entity.history) bytes += entity.history->memory();
    bytes += entity.now.numbers.capacity() * sizeof(std::uint32_t) +
             entity.now.varying.capacity() * sizeof(SharedBits);
  }
  return bytes;
}
std::size_t World::memory() const {
  std::size_t bytes = state_->ids->memory() + state_->memory();
  for (const auto& older : state_->older) bytes += older->memory();
  return bytes;
}

}  // namespace kwind::replica
