// Flattens the fields of an entity into columns: whole numbers of fixed width, which snapshots
// store, compare and predict. Values of varying size become one column of bytes each. A field that
// follows others is given the places and scales of what it follows.
//
// Column-wise storage, as in databases: all values of one kind are coded by one model. Forms of a
// column:
//   number    has an order: residuals against a prediction
//   circular  wraps at its end: residuals modulo the range
//   opaque    has no order: sent whole when it changes
//   varying   has no fixed width: bytes, with a delta of its own (lists, texts, grids)
#include "kwind/schema/columns.h"

#include <algorithm>
#include <numbers>
#include <optional>

#include "kwind/schema/references.h"
#include "schema/shapes.h"

namespace kwind::schema {
namespace {

constexpr unsigned kMaxColumnBits = 32;

// How a value grows with its index: at 0, and by each; nothing for what has no steps.
// Numbers with steps are linear in their index: value = zero + index * step.
std::optional<std::pair<double, double>> scale_of(const Type& type) {
  if (type.kind == TypeKind::real) {
    const double zero = type.real.value_of(0);
    return std::pair(zero, type.real.value_of(1) - zero);
  }
  if (type.kind == TypeKind::integer) {
    return std::pair(static_cast<double>(type.integer.value_of(0)), 1.0);
  }
  return std::nullopt;
}

class Taker {
 public:
  Taker(const Protocol& protocol, std::uint16_t version) : protocol_(protocol), version_(version) {}

  // The columns of a value of fixed size; nothing if its bits vary or do not fit a column.
  std::optional<std::vector<ColumnInfo>> take(const Type& type) const {
    switch (type.kind) {
      case TypeKind::boolean: return one(ColumnForm::opaque, 1, 1);
      case TypeKind::integer:
      case TypeKind::real: {
        const std::uint64_t last =
            type.kind == TypeKind::real ? type.real.last_index() : type.integer.last_index();
        const auto [zero, step] = *scale_of(type);
        return ranged(ColumnForm::number, last, zero, step);
      }
      case TypeKind::angle:
      case TypeKind::direction2: {
        const double whole = type.kind == TypeKind::angle ? 360 : 2 * std::numbers::pi;
        return ranged(ColumnForm::circular, type.angle.last_index(), 0,
                      whole / static_cast<double>(type.angle.count));
      }
      case TypeKind::tick: return one(ColumnForm::circular, 16, 0xffff);
      case TypeKind::f32: return one(ColumnForm::opaque, 32, 0xffffffffU);
      case TypeKind::direction3:
        return group(ColumnGroup::direction3, 2, type.direction.side() - 1);
      case TypeKind::rotation: {
        // A rotation is sent as its three smallest components; the first column says which one is
        // left out.
        auto all = group(ColumnGroup::rotation, 4, type.rotation.side() - 1);
        ColumnInfo& largest = all->front();
        largest.form = ColumnForm::opaque;
        largest.bits = 2;
        largest.last = 3;
        return all;
      }
      case TypeKind::peer: return ranged(ColumnForm::opaque, std::uint64_t{type.limit} - 1);
      case TypeKind::ref:
        return ranged(ColumnForm::opaque, std::uint64_t{type.limit} * kGenerations);
      case TypeKind::enumeration:
        return ranged(ColumnForm::opaque, protocol_.enums[type.index].alive(version_) - 1);
      case TypeKind::flags: return bits(protocol_.flags[type.index].alive(version_));
      case TypeKind::vec: {
        std::vector<ColumnInfo> all;
        // One column for each axis.
        for (std::uint32_t i = 0; i < type.limit; ++i) {
          const auto axis = take(type.element.front());
          if (!axis) return std::nullopt;
          all.insert(all.end(), axis->begin(), axis->end());
        }
        return all;
      }
      case TypeKind::record: {
        std::vector<ColumnInfo> all;
        // The columns of the fields, in order.
        for (const Field& field : protocol_.records[type.index].fields) {
          if (!field.travels(version_)) continue;
          const auto part = take(field.type);
          if (!part) return std::nullopt;
          all.insert(all.end(), part->begin(), part->end());
        }
        // Every field has a column, also one whose record has nothing in it in this version.
        return all.empty() ? bits(0) : all;
      }
      case TypeKind::f64:
      case TypeKind::count:
      case TypeKind::text:
      case TypeKind::bytes:
      case TypeKind::list:
      case TypeKind::grid:
      case TypeKind::maybe:
      case TypeKind::one_of: return std::nullopt;
    }
    return std::nullopt;
  }

 private:
  // One column, if its bits fit.
  static std::optional<std::vector<ColumnInfo>> one(ColumnForm form, unsigned bits,
                                                    std::uint64_t last, double zero = 0,
                                                    double step = 0) {
    if (bits > kMaxColumnBits) return std::nullopt;
    return std::vector<ColumnInfo>{{0, form, static_cast<std::uint8_t>(bits),
                                    static_cast<std::uint32_t>(last), false, false, false, zero,
                                    step, -1, 0, 0, ColumnGroup::none, 0}};
  }
  // Numbers from 0 to `last`.
  static std::optional<std::vector<ColumnInfo>> ranged(ColumnForm form, std::uint64_t last,
                                                       double zero = 0, double step = 0) {
    // Of all 64 bits there is no number of values.
    if (last == ~std::uint64_t{0}) return std::nullopt;
    return one(form, bits::bits_for(last + 1), last, zero, step);
  }
  // So many numbers from 0 to `last`.
  static std::optional<std::vector<ColumnInfo>> group(ColumnGroup group, std::uint8_t count,
                                                      std::uint64_t last) {
    std::vector<ColumnInfo> all;
    // Components of one group are predicted together.
    for (std::uint8_t place = 0; place < count; ++place) {
      ColumnInfo column = ranged(ColumnForm::number, last)->front();
      column.group = group;
      column.group_place = place;
      all.push_back(column);
    }
    return all;
  }
  static std::optional<std::vector<ColumnInfo>> bits(std::uint64_t count) {
    return one(ColumnForm::opaque, static_cast<unsigned>(count),
               count >= 32 ? 0xffffffffU : (std::uint32_t{1} << count) - 1);
  }

  const Protocol& protocol_;
  std::uint16_t version_;
};

// How many items of how many bits a list of items of one size has at most, or a text bytes.
std::optional<std::pair<std::uint32_t, std::uint32_t>> items_of(const Protocol& protocol,
                                                                const Type& type,
                                                                std::uint16_t version) {
  if (type.kind == TypeKind::text || type.kind == TypeKind::bytes) return std::pair(type.limit, 8U);
  if (type.kind != TypeKind::list) return std::nullopt;
  // Items of one size can be addressed by index, and a list can then be sent as edits.
  const Size size = size_of(protocol, type.element.front(), version);
  if (size.min_bits != size.max_bits || size.min_bits == 0) return std::nullopt;
  return std::pair(type.limit, size.min_bits);
}

// The type of the first axis of what follows.
const Type& axis_of(const Protocol& protocol, const Type& type) {
  return type.kind == TypeKind::record ? protocol.records[type.index].fields.front().type
                                       : type.element.front();
}

// The one column of a field whose bits vary: a text, a list, a grid, a choice.
ColumnInfo varying_column(const Protocol& protocol, const Type& type, std::uint16_t version,
                          Columns& made) {
  ColumnInfo column{};
  column.form = ColumnForm::varying;
  column.last = size_of(protocol, type, version).max_bits;
  if (const auto items = items_of(protocol, type, version)) {
    column.max_items = items->first;
    column.item_bits = items->second;
  }
  if (type.kind == TypeKind::grid) {
    column.grid = static_cast<std::int16_t>(made.grids.size());
    made.grids.push_back(grid_shape(protocol, type, version));
  }
  return column;
}

// How field `index` follows a speed along a direction, or a velocity; nothing if the version lacks
// one of these, or their numbers have no steps that both ends could count in.
// `first_of`: the first column of each field, and one more.
std::optional<FollowInfo> follow_of(const Protocol& protocol, const Entity& entity,
                                    std::uint16_t version, const std::vector<std::size_t>& first_of,
                                    std::size_t index) {
  const Field& field = entity.fields[index];
  const std::size_t axes = first_of[index + 1] - first_of[index];
  const Follow* words = follow_in(field.words, entity.fields, version);
  if (words == nullptr || axes < 2) return std::nullopt;
  const auto field_named = [&](const std::string& name) {
    const auto found = std::find_if(entity.fields.begin(), entity.fields.end(),
                                    [&](const Field& each) { return each.name == name; });
    return static_cast<std::size_t>(found - entity.fields.begin());
  };
  // The resolver has checked that both fields exist and have fitting types.
  const std::size_t speed = field_named(words->speed);
  const bool is_velocity = words->along.empty();
  const std::size_t along = is_velocity ? speed : field_named(words->along);
  const Type& axis = axis_of(protocol, field.type);
  const Type& speed_type = entity.fields[speed].type;
  const auto speed_scale = scale_of(is_velocity ? speed_type.element.front() : speed_type);
  if (!speed_scale || axis.kind != TypeKind::real) return std::nullopt;
  FollowInfo follow{};
  follow.first = static_cast<std::uint16_t>(first_of[index]);
  follow.speed = static_cast<std::uint16_t>(first_of[speed]);
  const Type& along_type = entity.fields[along].type;
  if (is_velocity) {
    follow.form = FollowForm::velocity;
    follow.axes = static_cast<std::uint16_t>(speed_type.limit);
  } else if (along_type.kind == TypeKind::direction3) {
    follow.form = FollowForm::direction;
    follow.axes = 3;
    follow.along = static_cast<std::uint16_t>(first_of[along]);
  } else {
    // Motion is in the plane of the first two axes; a height does not follow.
    follow.along = static_cast<std::uint16_t>(first_of[along]);
    follow.angle_steps = static_cast<std::uint32_t>(along_type.angle.count);
  }
  follow.speed_zero = speed_scale->first;
  follow.speed_step = speed_scale->second;
  follow.place_step = scale_of(axis)->second;
  follow.within = words->within.value();
  return follow;
}

}  // namespace

// The attachment of field `index`; nothing if the client lacks the field or its carrier.
std::optional<AttachmentInfo> attachment_of(const Protocol& protocol, const Entity& entity,
                                            const std::vector<std::size_t>& first_of,
                                            std::size_t index) {
  const Field& field = entity.fields[index];
  if (field.words.relative_to.empty() || first_of[index + 1] == first_of[index]) {
    return std::nullopt;
  }
  for (std::size_t i = 0; i < entity.fields.size(); ++i) {
    const bool is_carrier = entity.fields[i].name == field.words.relative_to;
    if (!is_carrier || first_of[i + 1] - first_of[i] != 1) continue;
    std::size_t axes = field.type.limit;
    if (field.type.kind == TypeKind::record) {
      const auto& fields = protocol.records[field.type.index].fields;
      axes = fields.size() > 2 && fields[2].name == "z" ? 3 : 2;
    }
    return AttachmentInfo{static_cast<std::uint16_t>(first_of[index]),
                          static_cast<std::uint16_t>(axes),
                          static_cast<std::uint16_t>(first_of[i])};
  }
  return std::nullopt;
}

// Fields become columns in their order; then fields that follow others are found.
Columns columns_of(const Protocol& protocol, const Entity& entity, std::uint16_t version) {
  Columns made;
  if (!entity.life.alive(version)) return made;
  const Taker taker(protocol, version);
  std::vector<std::size_t> first_of;  // column, by field
  std::uint16_t place = 0;
  // Appends the columns of each field; fields of varying width get one column.
  for (const Field& field : entity.fields) {
    first_of.push_back(made.columns.size());
    if (field.words.local != Local::no) continue;
    // Its number among the fields that are not local, whatever the version.
    const std::uint16_t here = place++;
    if (!field.travels(version)) continue;
    auto columns = taker.take(field.type);
    if (!columns) columns = std::vector{varying_column(protocol, field.type, version, made)};
    for (ColumnInfo& column : *columns) {
      column.field = here;
      column.at_spawn = field.words.at_spawn;
      column.owner_only = field.words.owner_only;
      column.smooth = field.words.smooth;
      column.freshness = field.words.freshness;
      made.columns.push_back(column);
    }
  }
  first_of.push_back(made.columns.size());
  // `follow` needs the places of other fields, so it comes last.
  for (std::size_t i = 0; i < entity.fields.size(); ++i) {
    if (const auto follow = follow_of(protocol, entity, version, first_of, i)) {
      made.follows.push_back(*follow);
    }
    if (const auto attachment = attachment_of(protocol, entity, first_of, i)) {
      made.attachments.push_back(*attachment);
    }
  }
  return made;
}

std::unique_ptr<EntityTables::Version> EntityTables::version_of(const Protocol& protocol,
                                                                std::uint16_t version) const {
  auto made = std::make_unique<Version>();
  for (const Entity& entity : protocol.entities) {
    auto type = std::make_unique<Type>();
    type->columns = columns_of(protocol, entity, version);
    const std::size_t index = made->types.size();
    type->info = {entity.name,           static_cast<std::uint16_t>(index),
                  fields_[index],        type->columns.columns,
                  type->columns.follows, type->columns.grids,
                  entity.life,           entity.at_most_per_second,
                  entity.freshness,      type->columns.attachments};
    made->infos.push_back(&type->info);
    made->types.push_back(std::move(type));
  }
  made->info = {protocol.entities_up_to, made->infos, version};
  return made;
}

// Tables of all entity types, as generated headers have them.
EntityTables::EntityTables(const Protocol& protocol) {
  for (const Entity& entity : protocol.entities) {
    auto& fields = fields_.emplace_back();
    // Rows of FieldInfo, as generated code has them.
    for (const Field& field : entity.fields) {
      if (field.words.local != Local::no) continue;
      const Size size = size_of(protocol, field.type);
      fields.push_back({field.name, "", field.unit, static_cast<std::uint32_t>(size.min_bits),
                        static_cast<std::uint32_t>(size.max_bits), field.life});
    }
  }
  newest_ = version_of(protocol, kNewest);
  const auto ranges = entity_versions(protocol);
  newest_->info.since = ranges.front().since;
  for (std::size_t i = 1; i < ranges.size(); ++i) {
    older_.push_back(version_of(protocol, ranges[i].newest));
    older_.back()->info.since = ranges[i].since;
    older_infos_.push_back(&older_.back()->info);
  }
  newest_->info.older = older_infos_;
}

}  // namespace kwind::schema
