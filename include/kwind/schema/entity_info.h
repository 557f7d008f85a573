// Constant tables that describe the entities of a protocol to replica: their fields taken apart
// into columns of whole numbers. Generated code holds one EntityInfo for each kind; everything in
// it is static and may be kept by reference for ever.
#pragma once
#include <concepts>
#include <cstdint>
#include <span>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/schema/codec.h"
#include "kwind/schema/grid.h"
#include "kwind/schema/info.h"

namespace kwind::schema {

/// What the numbers of a column mean to arithmetic.
enum class ColumnForm : std::uint8_t {
  number,    ///< 0 to `last`; neighbours are near each other
  circular,  ///< the same, and 0 follows `last`
  opaque,    ///< bits without an order
  varying,   ///< bits of varying number: texts, lists, what may be absent; or more than 32 of them
};

constexpr std::string_view name_of(ColumnForm form) {
  switch (form) {
    case ColumnForm::number: return "number";
    case ColumnForm::circular: return "circular";
    case ColumnForm::opaque: return "opaque";
    case ColumnForm::varying: return "varying";
  }
  return "";
}

/// What several columns of one field are together.
enum class ColumnGroup : std::uint8_t {
  none,
  rotation,    ///< four: which component is the largest, and the other three in whole steps
  direction3,  ///< two: a point on the unfolded octahedron
};

constexpr std::string_view name_of(ColumnGroup group) {
  switch (group) {
    case ColumnGroup::none: return "none";
    case ColumnGroup::rotation: return "rotation";
    case ColumnGroup::direction3: return "direction3";
  }
  return "";
}

/// A column: a whole number of an entity that is coded as one value.
struct ColumnInfo {
  std::uint16_t field = 0;  ///< place in EntityInfo::fields
  ColumnForm form = ColumnForm::number;
  std::uint8_t bits = 0;    ///< of a value, at most 32; 0 for varying ones
  std::uint32_t last = 0;   ///< the largest value; varying: most bits
  bool at_spawn = false;    ///< travels once, when the entity appears
  bool owner_only = false;  ///< goes to the owner of the entity alone
  bool smooth = false;      ///< the receiver interpolates between updates
  /// A value is zero + index * step: of `int`, `real`, `angle` (degrees) and `direction2`
  /// (radians); step 0 for all others.
  double zero = 0;
  double step = 0;
  std::int16_t grid = -1;  ///< varying: place in EntityInfo::grids; -1: it is not a grid
  /// Varying: the most items of a list of items of one size, or bytes of a text; 0: neither.
  std::uint32_t max_items = 0;
  std::uint32_t item_bits = 0;  ///< of each of them
  ColumnGroup group = ColumnGroup::none;
  std::uint8_t group_place = 0;            ///< place in the group, from 0
  Freshness freshness = Freshness::usual;  ///< usual: that of the entity

  friend constexpr bool operator==(const ColumnInfo&, const ColumnInfo&) = default;
};

/// What a position moves along.
enum class FollowForm : std::uint8_t {
  angle,      ///< a speed along an angle or direction2, in the plane of the first two axes
  direction,  ///< a speed along a direction3
  velocity,   ///< a vector with one component for each axis
};

constexpr std::string_view name_of(FollowForm form) {
  switch (form) {
    case FollowForm::angle: return "angle";
    case FollowForm::direction: return "direction";
    case FollowForm::velocity: return "velocity";
  }
  return "";
}

/// `follow SPEED along DIRECTION` or `follow VELOCITY`: columns of one entity, and what their
/// steps are.
struct FollowInfo {
  std::uint16_t first = 0;        ///< column of the first axis; the others follow
  std::uint16_t axes = 2;         ///< 2 or 3
  std::uint16_t speed = 0;        ///< column; of a velocity the first one, `axes` in all
  std::uint16_t along = 0;        ///< column; of a direction3 the first of two
  std::uint32_t angle_steps = 0;  ///< how many steps a whole turn of `along` has
  double speed_zero = 0;          ///< speed = speed_zero + index * speed_step, a second
  double speed_step = 0;
  double place_step = 0;  ///< of the axes
  /// Error that needs no correction, in units of the axes; 0: correct every one.
  double within = 0;
  FollowForm form = FollowForm::angle;

  /// Whether the position moves by this column: its speed, direction or velocity.
  [[nodiscard]] constexpr bool led_by(std::size_t column) const {
    return gives_speed(column) || gives_direction(column);
  }
  [[nodiscard]] constexpr bool gives_speed(std::size_t column) const {
    const std::size_t columns = form == FollowForm::velocity ? axes : 1;
    return column >= speed && column < speed + columns;
  }
  [[nodiscard]] constexpr bool gives_direction(std::size_t column) const {
    const std::size_t columns = form == FollowForm::angle       ? 1
                                : form == FollowForm::direction ? 2
                                                                : 0;
    return column >= along && column < along + columns;
  }

  friend constexpr bool operator==(const FollowInfo&, const FollowInfo&) = default;
};

/// The most carriers in a chain of attached entities; a cycle of references ends there.
inline constexpr std::uint32_t kMaxCarriers = 8;

/// `relative to CARRIER`: a position that counts from the position of another entity, the carrier.
struct AttachmentInfo {
  std::uint16_t first = 0;    ///< column of the first axis; the others follow
  std::uint16_t axes = 2;     ///< 2 or 3
  std::uint16_t carrier = 0;  ///< column of the `ref`: 0 for none, see reference_of()
};

/// The columns of one entity type.
struct EntityInfo {
  std::string_view name;
  std::uint16_t type = 0;  ///< place in EntitiesInfo::types
  std::span<const FieldInfo> fields{};
  std::span<const ColumnInfo> columns{};  ///< in the order in which the fields are encoded
  std::span<const FollowInfo> follows{};
  std::span<const GridShape> grids{};
  Life life{};
  std::uint16_t at_most_per_second = 0;  ///< its changes are sent so often at most; 0: in each tick
  Freshness freshness = Freshness::usual;
  std::span<const AttachmentInfo> attachments{};
};

/// All entity types of a protocol, in one version or in several versions that have the same.
struct EntitiesInfo {
  std::uint32_t up_to;  ///< ids are 1 to this
  /// All that the description declares, in its order and so in the same place in each version. A
  /// type that the version lacks has no columns: see has().
  std::span<const EntityInfo* const> types;
  /// The newest version with these entities; kNewest: that of the description.
  std::uint16_t version = kNewest;
  /// The oldest such version.
  std::uint16_t since = 1;
  /// Those of older versions that have others, newest first. Only where `version` is kNewest.
  std::span<const EntitiesInfo* const> older{};

  /// Those that a peer of this version has. O(versions).
  [[nodiscard]] constexpr const EntitiesInfo& in_version(std::uint16_t wanted) const {
    for (const EntitiesInfo* const each : older) {
      if (each->since <= wanted && wanted <= each->version) return *each;
    }
    return *this;
  }
  /// Whether this version has the type. Requires: type < types.size().
  [[nodiscard]] constexpr bool has(std::size_t type) const {
    return types[type]->life.alive(version);
  }
};

/// A generated entity.
template <class T>
concept ReplicaEntity = requires(const T& value, T& target, Encoder& out, Decoder& in) {
  { T::entity_info() } -> std::same_as<const EntityInfo&>;
  encode_columns(out, value, [] {});
  decode(in, target);
  { blend(value, value, 0.5) } -> std::same_as<T>;
};

}  // namespace kwind::schema
