// Linear interpolation between two states of an entity that is known at run time only: the same
// rules as the blend() that generated code has for each entity and record.
#include <Eigen/Geometry>
#include <array>

#include "kwind/schema/blend.h"
#include "kwind/schema/runtime.h"

namespace kwind::schema {
namespace {

Value blended_fields(const Protocol& protocol, const std::vector<Field>& fields, const Value& from,
                     const Value& to, double part, bool all);

// Unit vectors of two or three components.
template <int kSize>
void blend_direction(Value& made, const Value& to, double part) {
  using Vector = Eigen::Matrix<double, kSize, 1>;
  Vector start;
  Vector end;
  for (int i = 0; i < kSize; ++i) {
    start[i] = made.items[static_cast<std::size_t>(i)].real;
    end[i] = to.items[static_cast<std::size_t>(i)].real;
  }
  const Vector between = blended_direction(start, end, part);
  for (int i = 0; i < kSize; ++i) made.items[static_cast<std::size_t>(i)].real = between[i];
}

// Spherical interpolation, by the shorter way around.
void blend_rotation(Value& made, const Value& to, double part) {
  const auto quaternion = [](const Value& value) {
    return Eigen::Quaterniond(value.items[0].real, value.items[1].real, value.items[2].real,
                              value.items[3].real);
  };
  const Eigen::Quaterniond between = blended(quaternion(made), quaternion(to), part);
  const std::array<double, 4> parts{between.w(), between.x(), between.y(), between.z()};
  for (std::size_t i = 0; i < parts.size(); ++i) made.items[i].real = parts[i];
}

// Numbers are blended linearly, angles by the shorter way; what has no middle keeps the earlier
// value.
void blend_value(const Protocol& protocol, const Type& type, Value& made, const Value& to,
                 double part) {
  switch (type.kind) {
    case TypeKind::integer: made.whole = blended(made.whole, to.whole, part); return;
    case TypeKind::real:
    case TypeKind::f64: made.real = blended(made.real, to.real, part); return;
    case TypeKind::f32:
      made.real = blended(static_cast<float>(made.real), static_cast<float>(to.real), part);
      return;
    case TypeKind::angle: made.real = blended_angle(made.real, to.real, part); return;
    case TypeKind::direction2: return blend_direction<2>(made, to, part);
    case TypeKind::direction3: return blend_direction<3>(made, to, part);
    case TypeKind::rotation: return blend_rotation(made, to, part);
    case TypeKind::vec:
      for (std::size_t i = 0; i < made.items.size(); ++i) {
        blend_value(protocol, type.element.front(), made.items[i], to.items[i], part);
      }
      return;
    case TypeKind::record:
      made = blended_fields(protocol, protocol.records[type.index].fields, made, to, part, true);
      return;
    default: return;
  }
}

// Unless `all`, fields with `smooth` are blended, and those that follow a speed.
Value blended_fields(const Protocol& protocol, const std::vector<Field>& fields, const Value& from,
                     const Value& to, double part, bool all) {
  Value made = from;
  for (std::size_t i = 0; i < fields.size(); ++i) {
    const EntityWords& words = fields[i].words;
    if (words.local != Local::no || (!all && !words.smooth && !words.follow)) continue;
    blend_value(protocol, fields[i].type, made.items[i], to.items[i], part);
  }
  return made;
}

}  // namespace

Value blended_entity(const Protocol& protocol, const Entity& entity, const Value& from,
                     const Value& to, double part) {
  return blended_fields(protocol, entity.fields, from, to, part, false);
}

}  // namespace kwind::schema
