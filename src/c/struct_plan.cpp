// Making a plan walks over fields and members side by side, as layout.cpp does; running it is a loop
// over a flat list of steps.
//
// Invariants
// P1. Every step lies within the struct: the copy that to_struct() made with the same layout had
//     checked each member.
// P2. Steps read the bits of the fields in the order of the description: the order in which they
//     were encoded.
#include "c/struct_plan.h"

#include <algorithm>
#include <array>
#include <cstring>

#include "kwind/schema/runtime.h"

namespace kwind::c {
namespace {

using schema::Decoder;
using schema::Type;
using schema::TypeKind;

template <class T>
void store(std::byte* to, T value) {
  std::memcpy(to, &value, sizeof value);
}

// The low bytes of a number. A layout's width holds each value of the range.
void store_whole(std::byte* to, std::uint16_t width, std::int64_t value) {
  switch (width) {
    case 1: return store(to, static_cast<std::uint8_t>(value));
    case 2: return store(to, static_cast<std::uint16_t>(value));
    case 4: return store(to, static_cast<std::uint32_t>(value));
    default: return store(to, value);
  }
}

std::uint32_t bytes_of(const Type& type, const kwind_member& member) {
  switch (type.kind) {
    case TypeKind::boolean: return 1;
    case TypeKind::f32: return sizeof(float);
    case TypeKind::enumeration: return sizeof(std::int32_t);
    case TypeKind::ref: return sizeof(kwind_ref);
    case TypeKind::direction2: return 2 * sizeof(double);
    case TypeKind::direction3: return 3 * sizeof(double);
    case TypeKind::rotation: return 4 * sizeof(double);
    case TypeKind::real:
    case TypeKind::angle:
    case TypeKind::f64: return sizeof(double);
    default: return member.width;
  }
}

}  // namespace

// The initial image is made by the checked copy, so that both write the same bytes.
std::optional<StructPlan> StructPlan::make(const schema::Protocol& protocol, const TypeName& type,
                                           const kwind_layout& layout) {
  StructPlan plan;
  plan.protocol_ = &protocol;
  plan.layout_ = layout;
  plan.initial_.resize(layout.struct_size);
  const schema::Value initial = schema::initial_value(protocol, *type.fields);
  if (to_struct(protocol, type, initial, &layout, plan.initial_.data()) != KWIND_OK) {
    return std::nullopt;
  }
  if (!plan.add_fields(protocol, *type.fields, layout.members, layout.member_count, 0)) {
    return std::nullopt;
  }
  return plan;
}

// Local fields have no member.
bool StructPlan::add_fields(const schema::Protocol& protocol,
                            const std::vector<schema::Field>& fields, const kwind_member* members,
                            std::size_t count, std::uint32_t offset) {
  note(members, count);
  std::size_t next = 0;
  for (const schema::Field& field : fields) {
    if (field.words.local != schema::Local::no) continue;
    const kwind_member& member = members[next++];
    Step of_field;
    of_field.owner_only = field.words.owner_only;
    of_field.life = field.life;
    if (!add(protocol, field.type, member, offset + member.offset, of_field)) return false;
  }
  return true;
}

// A vector is a step for each component. A record within a field would need the conditions of both:
// such types are left to the checked copy, as those of varying size are.
bool StructPlan::add(const schema::Protocol& protocol, const Type& type, const kwind_member& member,
                     std::uint32_t offset, const Step& of_field) {
  switch (type.kind) {
    case TypeKind::boolean:
    case TypeKind::integer:
    case TypeKind::tick:
    case TypeKind::peer:
    case TypeKind::real:
    case TypeKind::angle:
    case TypeKind::f32:
    case TypeKind::f64:
    case TypeKind::enumeration:
    case TypeKind::ref:
    case TypeKind::direction2:
    case TypeKind::direction3:
    case TypeKind::rotation: {
      Step step = of_field;
      step.type = &type;
      step.offset = offset;
      step.width = member.width;
      step.bytes = bytes_of(type, member);
      steps_.push_back(step);
      return true;
    }
    case TypeKind::vec:
      note(member.inner, member.inner_count);
      for (std::uint32_t i = 0; i < type.limit; ++i) {
        if (!add(protocol, type.element.front(), *member.inner,
                 offset + member.inner_offset + i * member.stride, of_field)) {
          return false;
        }
      }
      return true;
    case TypeKind::record: {
      const bool always = of_field.life.whole() && !of_field.owner_only;
      return always && add_fields(protocol, protocol.records[type.index].fields, member.inner,
                                  member.inner_count, offset);
    }
    case TypeKind::count:
    case TypeKind::text:
    case TypeKind::bytes:
    case TypeKind::flags:
    case TypeKind::list:
    case TypeKind::grid:
    case TypeKind::maybe:
    case TypeKind::one_of: return false;
  }
  return false;
}

void StructPlan::note(const kwind_member* members, std::size_t count) {
  tables_.push_back({members, {members, members + count}});
}

// Rows are compared byte by byte: kwind_member has no padding.
bool StructPlan::is_of(const kwind_layout* layout) const {
  static_assert(sizeof(kwind_member) == 24 + 2 * sizeof(void*));
  if (layout == nullptr || layout->version != layout_.version ||
      layout->struct_size != layout_.struct_size || layout->type != layout_.type ||
      layout->members != layout_.members || layout->member_count != layout_.member_count) {
    return false;
  }
  for (const Table& table : tables_) {
    const auto bytes_of = [&](const kwind_member* rows) {
      return std::as_bytes(std::span(rows, table.rows.size()));
    };
    const auto now = bytes_of(table.at);
    const auto checked = bytes_of(table.rows.data());
    if (!std::equal(now.begin(), now.end(), checked.begin())) return false;
  }
  return true;
}

void StructPlan::run(Decoder& in, std::byte* out) const {
  for (const Step& step : steps_) {
    if (!step.life.alive(in.version()) || (step.owner_only && in.view() != schema::View::owner)) {
      std::memcpy(out + step.offset, initial_.data() + step.offset, step.bytes);
    } else {
      read(in, step, out + step.offset);
    }
  }
}

// As the interpreting decoder (schema/runtime.cpp) reads leaves, into memory instead of a value.
void StructPlan::read(Decoder& in, const Step& step, std::byte* to) const {
  const Type& type = *step.type;
  std::array<double, 4> reals{};
  switch (type.kind) {
    case TypeKind::boolean: return store(to, static_cast<std::uint8_t>(in.boolean() ? 1 : 0));
    case TypeKind::integer: {
      std::int64_t whole = 0;
      in.read(Decoder::integer(type.integer, whole));
      return store_whole(to, step.width, whole);
    }
    case TypeKind::tick: {
      std::uint32_t tick = 0;
      in.read(Decoder::tick(tick));
      return store_whole(to, step.width, tick);
    }
    case TypeKind::peer:
      return store_whole(to, step.width, static_cast<std::int64_t>(in.choice(type.limit)));
    case TypeKind::real: in.read(Decoder::real(type.real, reals[0])); return store(to, reals[0]);
    case TypeKind::angle: in.read(Decoder::angle(type.angle, reals[0])); return store(to, reals[0]);
    case TypeKind::f64: in.read(Decoder::f64(reals[0])); return store(to, reals[0]);
    case TypeKind::f32: {
      float value = 0;
      in.read(Decoder::f32(value));
      return store(to, value);
    }
    case TypeKind::enumeration: {
      const schema::Options& options = protocol_->enums[type.index];
      return store(
          to, static_cast<std::int32_t>(options.lives.empty() ? in.choice(options.options.size())
                                                              : in.choice(options.lives)));
    }
    case TypeKind::ref: {
      schema::Ref<void> ref;
      in.read(Decoder::ref(type.limit, ref));
      return store(to, kwind_ref{ref.id, ref.generation});
    }
    case TypeKind::direction2:
      in.read(Decoder::direction2(type.angle, reals[0], reals[1]));
      return (void)std::memcpy(to, reals.data(), step.bytes);
    case TypeKind::direction3:
      in.read(Decoder::direction3(type.direction, reals[0], reals[1], reals[2]));
      return (void)std::memcpy(to, reals.data(), step.bytes);
    case TypeKind::rotation:
      in.read(Decoder::rotation(type.rotation, reals[0], reals[1], reals[2], reals[3]));
      return (void)std::memcpy(to, reals.data(), step.bytes);
    default: return;  // add() makes no step of other types
  }
}

}  // namespace kwind::c
