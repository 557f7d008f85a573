// Values to C structs and back, by tables of offsets that `kwind gen --c` writes. The tables are
// the caller's: each is held against the description before a byte is copied, and nothing outside
// the struct is touched.
#include <cstring>
#include <limits>

#include "c/value.h"

namespace kwind::c {
namespace {

using schema::Type;
using schema::TypeKind;
using schema::Value;

// A part of the caller's struct.
struct Area {
  std::byte* memory = nullptr;
  std::size_t size = 0;

  // Nothing if it does not lie within.
  [[nodiscard]] Area part(std::size_t offset, std::size_t bytes) const {
    if (offset > size || bytes > size - offset) return {};
    return {memory + offset, bytes};
  }
};

// The member and why it does not fit: mostly the layout is of an older description.
kwind_result misfit(const kwind_member& member, std::string_view why) {
  return fail(KWIND_E_LAYOUT, fmt::format("member `{}`: {}; was the layout generated from this "
                                          "description?",
                                          member.name == nullptr ? "" : member.name, why));
}
kwind_result out_of_limit(const kwind_member& member, std::uint64_t is, std::uint64_t max) {
  return fail(KWIND_E_ARGUMENT,
              fmt::format("member `{}` has {}, at most {} are permitted", member.name, is, max));
}

// Which member a type must have; KWIND_MEMBER_INT and _UINT both fit whole numbers.
std::uint16_t member_kind(const Type& type) {
  switch (type.kind) {
    case TypeKind::boolean: return KWIND_MEMBER_BOOL;
    case TypeKind::integer: return type.integer.lo < 0 ? KWIND_MEMBER_INT : KWIND_MEMBER_UINT;
    case TypeKind::count:
    case TypeKind::tick:
    case TypeKind::peer:
    case TypeKind::flags: return KWIND_MEMBER_UINT;
    case TypeKind::real:
    case TypeKind::angle:
    case TypeKind::f64: return KWIND_MEMBER_REAL;
    case TypeKind::f32: return KWIND_MEMBER_FLOAT;
    case TypeKind::enumeration: return KWIND_MEMBER_ENUM;
    case TypeKind::ref: return KWIND_MEMBER_REF;
    case TypeKind::direction2:
    case TypeKind::direction3:
    case TypeKind::rotation: return KWIND_MEMBER_VECTOR;
    case TypeKind::text: return KWIND_MEMBER_TEXT;
    case TypeKind::bytes: return KWIND_MEMBER_BYTES;
    case TypeKind::vec:
    case TypeKind::grid: return KWIND_MEMBER_ARRAY;
    case TypeKind::list: return KWIND_MEMBER_LIST;
    case TypeKind::maybe: return KWIND_MEMBER_MAYBE;
    case TypeKind::one_of: return KWIND_MEMBER_ONE_OF;
    case TypeKind::record: return KWIND_MEMBER_RECORD;
  }
  return 0;
}

// One direction of copying. Both directions walk the same way: value and struct side by side.
template <bool kToStruct>
class Copier {
 public:
  using TheValue = std::conditional_t<kToStruct, const Value, Value>;
  explicit Copier(const schema::Protocol& protocol) : protocol_(protocol) {}

  // Fields and members in step: both are in the description's order.
  kwind_result fields(const std::vector<schema::Field>& all, TheValue& value,
                      const kwind_member* members, std::size_t count, const Area& area) {
    // Local fields have no member, so members are counted apart from fields.
    std::size_t next = 0;
    for (std::size_t i = 0; i < all.size(); ++i) {
      if (all[i].words.local != schema::Local::no) continue;
      if (next == count) return fail(KWIND_E_LAYOUT, "the layout has too few members");
      const kwind_member& member = members[next++];
      // A layout of another description is found by its names.
      if (member.name == nullptr || all[i].name != member.name) {
        return misfit(member, fmt::format("the description has `{}` here", all[i].name));
      }
      const auto result = one(all[i].type, value.items[i], member, rest_of(area, member.offset));
      if (result != KWIND_OK) return result;
    }
    if (next != count) return fail(KWIND_E_LAYOUT, "the layout has too many members");
    return KWIND_OK;
  }

 private:
  // An offset beyond the struct gives an empty area, in which no number fits: a wrong layout cannot
  // read or write outside.
  static Area rest_of(const Area& area, std::size_t offset) {
    return offset > area.size ? Area{} : area.part(offset, area.size - offset);
  }

  // Moves a number in either direction; false if the number lies outside the struct.
  template <class T>
  static bool move(const Area& area, T& number) {
    const Area place = area.part(0, sizeof(T));
    if (place.memory == nullptr) return false;
    if constexpr (kToStruct) {
      std::memcpy(place.memory, &number, sizeof(T));
    } else {
      std::memcpy(&number, place.memory, sizeof(T));
    }
    return true;
  }
  // A number that is kept as another type in the value.
  template <class T, class Kept>
  static kwind_result number(const Area& area, Kept& kept, const kwind_member& member) {
    auto number = static_cast<T>(kept);
    if (!move(area, number)) return misfit(member, "it lies outside the struct");
    // NOLINTNEXTLINE(bugprone-signed-char-misuse): a number of one byte keeps its sign.
    if constexpr (!kToStruct) kept = static_cast<Kept>(number);
    return KWIND_OK;
  }
  // Integers of one to eight bytes, signed or not.
  template <class Kept>
  static kwind_result whole(const Area& area, Kept& kept, const kwind_member& member) {
    const bool is_signed = member.kind == KWIND_MEMBER_INT;
    switch (member.width) {
      case 1:
        return is_signed ? number<std::int8_t>(area, kept, member)
                         : number<std::uint8_t>(area, kept, member);
      case 2:
        return is_signed ? number<std::int16_t>(area, kept, member)
                         : number<std::uint16_t>(area, kept, member);
      case 4:
        return is_signed ? number<std::int32_t>(area, kept, member)
                         : number<std::uint32_t>(area, kept, member);
      // Values hold 64-bit integers as signed ones, so one type serves for both.
      case 8: return number<std::int64_t>(area, kept, member);
      default: return misfit(member, "the width is 1, 2, 4 or 8");
    }
  }

  // One member by its kind. A kind that the description does not have here is a misfit.
  kwind_result one(const Type& type, TheValue& value, const kwind_member& member,
                   const Area& area) {
    if (member.kind != member_kind(type)) {
      return misfit(member, "the description has another type here");
    }
    switch (member.kind) {
      case KWIND_MEMBER_BOOL: return number<std::uint8_t>(area, value.whole, member);
      case KWIND_MEMBER_INT:
      case KWIND_MEMBER_UINT: return whole(area, value.whole, member);
      case KWIND_MEMBER_REAL: return number<double>(area, value.real, member);
      case KWIND_MEMBER_FLOAT: return number<float>(area, value.real, member);
      case KWIND_MEMBER_ENUM: return choice(protocol_.enums[type.index], value, member, area);
      case KWIND_MEMBER_REF: return ref(value, member, area);
      case KWIND_MEMBER_VECTOR: return vector(value, member, area);
      case KWIND_MEMBER_TEXT:
      case KWIND_MEMBER_BYTES: return text(type, value, member, area);
      case KWIND_MEMBER_ARRAY:
        if (member.limit != value.items.size()) return misfit(member, "another number of items");
        return items(type, value, member, area);
      case KWIND_MEMBER_LIST:
      case KWIND_MEMBER_MAYBE: return counted(type, value, member, area);
      case KWIND_MEMBER_ONE_OF: return one_of(protocol_.one_ofs[type.index], value, member, area);
      default: break;
    }
    return fields(protocol_.records[type.index].fields, value, member.inner, member.inner_count,
                  area);
  }

  // Enums are 32-bit integers; a number without a name is refused.
  kwind_result choice(const schema::Options& options, TheValue& value, const kwind_member& member,
                      const Area& area) {
    auto place = static_cast<std::int32_t>(value.whole);
    if (!move(area, place)) return misfit(member, "it lies outside the struct");
    if (place < 0 || static_cast<std::size_t>(place) >= options.options.size()) {
      return out_of_limit(member, static_cast<std::uint32_t>(place), options.options.size() - 1);
    }
    if constexpr (!kToStruct) value.whole = place;
    return KWIND_OK;
  }

  // References are structs of id and generation.
  static kwind_result ref(TheValue& value, const kwind_member& member, const Area& area) {
    kwind_ref entity{static_cast<std::uint32_t>(value.whole),
                     static_cast<std::uint8_t>(value.whole >> 32)};
    if (!move(area, entity)) return misfit(member, "it lies outside the struct");
    if constexpr (!kToStruct) {
      value.whole = static_cast<std::int64_t>(
          entity.id | (static_cast<std::uint64_t>(entity.generation) << 32U));
    }
    return KWIND_OK;
  }

  // A fixed number of doubles.
  static kwind_result vector(TheValue& value, const kwind_member& member, const Area& area) {
    if (member.limit != value.items.size()) return misfit(member, "another number of components");
    for (std::size_t i = 0; i < value.items.size(); ++i) {
      const auto result =
          number<double>(rest_of(area, i * sizeof(double)), value.items[i].real, member);
      if (result != KWIND_OK) return result;
    }
    return KWIND_OK;
  }

  // A size, then the bytes; texts are closed by a zero.
  static kwind_result text(const Type& type, TheValue& value, const kwind_member& member,
                           const Area& area) {
    const bool ends_with_0 = member.kind == KWIND_MEMBER_TEXT;
    if (member.limit != type.limit) return misfit(member, "another maximum");
    auto size = static_cast<std::uint32_t>(value.text.size());
    const Area bytes = area.part(member.inner_offset, member.limit + (ends_with_0 ? 1U : 0U));
    if (bytes.memory == nullptr) return misfit(member, "it lies outside the struct");
    // Checked before anything is written: a size that was too large would point beyond the bytes.
    if (kToStruct && size > member.limit) return out_of_limit(member, size, member.limit);
    if (!move(area, size)) return misfit(member, "it lies outside the struct");
    if (size > member.limit) return out_of_limit(member, size, member.limit);
    if constexpr (kToStruct) {
      if (size > 0) std::memcpy(bytes.memory, value.text.data(), size);
      if (ends_with_0) bytes.memory[size] = std::byte{0};
    } else {
      value.text.assign(reinterpret_cast<const char*>(bytes.memory), size);
    }
    return KWIND_OK;
  }

  // A count and the items, each by the inner layout.
  kwind_result items(const Type& type, TheValue& value, const kwind_member& member,
                     const Area& area) {
    if (member.inner == nullptr || member.inner_count != 1) {
      return misfit(member, "an item's layout is missing");
    }
    for (std::size_t i = 0; i < value.items.size(); ++i) {
      const Area item = rest_of(area, member.inner_offset + i * member.stride);
      const auto result = one(type.element.front(), value.items[i], *member.inner, item);
      if (result != KWIND_OK) return result;
    }
    return KWIND_OK;
  }

  // A count, then items. The count has 32 bits for a list, 8 for a `maybe`.
  kwind_result counted(const Type& type, TheValue& value, const kwind_member& member,
                       const Area& area) {
    const bool is_list = type.kind == TypeKind::list;
    const std::size_t max = is_list ? type.limit : 1;
    if (is_list && member.limit != type.limit) return misfit(member, "another maximum");
    auto count = static_cast<std::uint32_t>(value.items.size());
    auto present = static_cast<std::uint8_t>(count);
    if (kToStruct && count > max) return out_of_limit(member, count, max);
    if (is_list ? !move(area, count) : !move(area, present)) {
      return misfit(member, "it lies outside the struct");
    }
    // A count that comes from a struct is trusted no more than one from the network.
    if (!is_list) count = present;
    if (count > max) return out_of_limit(member, count, max);
    if constexpr (!kToStruct) {
      value.items.resize(count);
      for (Value& item : value.items) {
        item = schema::initial_value(protocol_, type.element.front());
      }
    }
    return items(type, value, member, area);
  }

  // A number for the case, then its member of the union.
  kwind_result one_of(const schema::Options& cases, TheValue& value, const kwind_member& member,
                      const Area& area) {
    if (member.inner == nullptr || member.inner_count != cases.options.size()) {
      return misfit(member, "another number of cases");
    }
    if (const auto result = choice(cases, value, member, area); result != KWIND_OK) return result;
    const auto place = static_cast<std::size_t>(value.whole);
    // Only the chosen case is copied; the other members of the union hold no value.
    const schema::Option& option = cases.options[place];
    const kwind_member& inside = member.inner[place];
    if (option.type.empty()) {
      if constexpr (!kToStruct) value.items.clear();
      return inside.kind == KWIND_MEMBER_NOTHING ? kwind_result{KWIND_OK}
                                                 : misfit(inside, "the case carries nothing");
    }
    if constexpr (!kToStruct) {
      value.items.assign(1, schema::initial_value(protocol_, option.type.front()));
    }
    return one(option.type.front(), value.items.front(), inside,
               rest_of(area, member.inner_offset));
  }

  const schema::Protocol& protocol_;
};

// The layout names its type and was generated from this description.
kwind_result check_layout(const TypeName& type, const kwind_layout* layout, const void* memory) {
  if (layout == nullptr || memory == nullptr) {
    return fail(KWIND_E_ARGUMENT, layout == nullptr ? "the layout is NULL" : "the struct is NULL");
  }
  if (layout->version != KWIND_LAYOUT_VERSION) {
    return fail(KWIND_E_LAYOUT,
                fmt::format("the layout has version {}, this library reads {}; generate it anew",
                            layout->version, int{KWIND_LAYOUT_VERSION}));
  }
  if (layout->type == nullptr || *type.name != layout->type) {
    return fail(KWIND_E_LAYOUT,
                fmt::format("the layout is of {}, the value of {}",
                            layout->type == nullptr ? "nothing" : layout->type, *type.name));
  }
  if (layout->members == nullptr && layout->member_count > 0) {
    return fail(KWIND_E_LAYOUT, "the layout has no members");
  }
  return KWIND_OK;
}

}  // namespace

// Writes every member, so that the caller's memory needs no initial value.
kwind_result to_struct(const schema::Protocol& protocol, const TypeName& type,
                       const schema::Value& value, const kwind_layout* layout, void* out) {
  if (const auto result = check_layout(type, layout, out); result != KWIND_OK) return result;
  return Copier<true>(protocol).fields(*type.fields, value, layout->members, layout->member_count,
                                       {static_cast<std::byte*>(out), layout->struct_size});
}

// Reads every member; values out of range are refused by the encoder later.
kwind_result from_struct(const schema::Protocol& protocol, const TypeName& type,
                         const kwind_layout* layout, const void* in, schema::Value& value) {
  if (const auto result = check_layout(type, layout, in); result != KWIND_OK) return result;
  // Only read from: one class serves both directions.
  auto* const memory = static_cast<std::byte*>(const_cast<void*>(in));  // NOLINT
  return Copier<false>(protocol).fields(*type.fields, value, layout->members, layout->member_count,
                                        {memory, layout->struct_size});
}

}  // namespace kwind::c
