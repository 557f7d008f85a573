// The oldest version, sizes in each version and initial values of a protocol.
#include "kwind/schema/protocol.h"

#include <fmt/format.h>

#include <algorithm>

namespace kwind::schema {
namespace {

std::int64_t nearest_to_zero(const bits::IntRange& range) {
  return range.lo > 0 ? range.lo : range.hi < 0 ? range.hi : 0;
}

// A value of real components.
Value reals(std::initializer_list<double> components) {
  Value made;
  for (const double component : components) {
    made.items.emplace_back();
    made.items.back().real = component;
  }
  return made;
}

}  // namespace

// "since 2 until 4", after `before`; empty for all versions.
bool can_be_extrapolated(const Type& type) {
  switch (type.kind) {
    case TypeKind::angle:
    case TypeKind::direction2:
    case TypeKind::direction3:
    case TypeKind::rotation: return true;
    case TypeKind::vec: return type.element.front().kind == TypeKind::real;
    default: return false;
  }
}

std::string follow_text(const Follow& follow) {
  return follow.along.empty() ? follow.speed : follow.speed + " along " + follow.along;
}

const Follow* follow_in(const EntityWords& words, std::span<const Field> fields,
                        std::uint16_t version) {
  if (!words.follow) return nullptr;
  const auto has = [&](const std::string& name) {
    return name.empty() || std::any_of(fields.begin(), fields.end(), [&](const Field& each) {
             return each.name == name && each.travels(version);
           });
  };
  return has(words.follow->speed) && has(words.follow->along) ? &*words.follow : nullptr;
}

std::string life_text(const Life& life, std::string_view before) {
  if (life.whole()) return {};
  std::string out(before);
  if (life.since > 1) out += fmt::format("since {}", life.since);
  if (life.since > 1 && life.until > 0) out += ' ';
  if (life.until > 0) out += fmt::format("until {}", life.until);
  return out;
}

std::string bits_text(const Size& size) {
  return size.min_bits == size.max_bits ? fmt::format("{}", size.max_bits)
                                        : fmt::format("{} to {}", size.min_bits, size.max_bits);
}

// The newest sixteen versions are spoken.
std::uint16_t oldest_version(const Protocol& protocol) {
  return protocol.version < kMaxVersions
             ? std::uint16_t{1}
             : static_cast<std::uint16_t>(protocol.version - kMaxVersions + 1);
}

Value initial_value(const Protocol& protocol, const Field& field) {
  return field.written_default ? *field.written_default : initial_value(protocol, field.type);
}

// Each field's stated default, or its type's own.
Value initial_value(const Protocol& protocol, const std::vector<Field>& fields) {
  Value made;
  made.items.reserve(fields.size());
  for (const Field& field : fields) made.items.push_back(initial_value(protocol, field));
  return made;
}

// Zero where the range has it, else its low end; the first value of an enum; empty lists.
Value initial_value(const Protocol& protocol, const Type& type) {
  Value made;
  switch (type.kind) {
    case TypeKind::boolean:
    case TypeKind::count:
    case TypeKind::f32:
    case TypeKind::f64:
    case TypeKind::angle:
    case TypeKind::text:
    case TypeKind::bytes:
    case TypeKind::flags:
    case TypeKind::list:
    case TypeKind::maybe:
    case TypeKind::ref:
    case TypeKind::peer:
    case TypeKind::tick:
    case TypeKind::enumeration: return made;
    case TypeKind::integer: made.whole = nearest_to_zero(type.integer); return made;
    case TypeKind::real: made.real = type.real.value_of(type.real.index_of(0).index); return made;
    case TypeKind::direction2: return reals({1, 0});
    case TypeKind::direction3: return reals({0, 0, 1});
    case TypeKind::rotation: return reals({1, 0, 0, 0});
    case TypeKind::vec:
      made.items.assign(type.limit, initial_value(protocol, type.element.front()));
      return made;
    case TypeKind::grid:
      made.items.assign(std::size_t{type.limit} * type.height,
                        initial_value(protocol, type.element.front()));
      return made;
    case TypeKind::record: return initial_value(protocol, protocol.records[type.index].fields);
    case TypeKind::one_of: {
      const Option& first = protocol.one_ofs[type.index].options.front();
      if (!first.type.empty()) made.items.push_back(initial_value(protocol, first.type.front()));
      return made;
    }
  }
  return made;
}

}  // namespace kwind::schema
