// Paths through a value ("tugs[2].speed"), and the functions that read and write what they name.
//
// A path is names and indices as in C: "crates[2].label". It is followed anew at each call,
// without a table: types have few fields, and callers that need speed use the tables of generated
// structs (layout.cpp) in place of paths.
// Each function of the interface is the same three steps: find the value that the handle names,
// follow the path, check that the type of what was found fits the function.
#include "c/value.h"

#include <algorithm>
#include <charconv>
#include <utility>

namespace kwind::c {
namespace {

using schema::Type;
using schema::TypeKind;
using schema::Value;

// What a path names. `type` is nullptr for a component of a direction or rotation, a number.
struct Place {
  const Type* type = nullptr;
  Value* value = nullptr;
};

// Follows one path. Steps are names and indices; a `maybe` that is there is passed without a step.
class Walk {
 public:
  Walk(const schema::Protocol& protocol, std::string_view path)
      : protocol_(protocol), path_(path) {}

  // The first step is a field; each further one begins with a `.` or a `[`. With `into_maybe` the
  // path leads to the value within an optional field, not to the option itself.
  kwind_result follow(const TypeName& type, Value& value, bool into_maybe, Place& out) {
    if (const auto result = enter_field(*type.fields, value, *type.name, out); result != KWIND_OK) {
      return result;
    }
    // Each pass consumes one step of the path, `.NAME` or `[INDEX]`, and passes what is optional
    // before it. Invariant: `out` names what path_[0, at_) leads to.
    while (at_ < path_.size()) {
      if (const auto result = pass_maybe(out); result != KWIND_OK) return result;
      const auto result = path_[at_] == '[' ? enter_item(out) : enter_name(out);
      if (result != KWIND_OK) return result;
    }
    return into_maybe ? pass_maybe(out) : KWIND_OK;
  }

 private:
  // The error says where in the path, so that a caller in any language finds it.
  kwind_result wrong(std::string_view why) const {
    return fail(KWIND_E_NAME, fmt::format("path `{}`, at byte {}: {}", path_, at_ + 1, why));
  }
  // The name up to the next `.` or `[`, or the end of the path.
  std::string_view next_name() {
    const std::size_t start = at_;
    at_ = std::min(path_.find_first_of(".[", start), path_.size());
    return path_.substr(start, at_ - start);
  }

  // A linear search: types have some dozens of fields, and C code that must be fast uses structs.
  kwind_result enter_field(const std::vector<schema::Field>& fields, Value& value,
                           std::string_view owner, Place& out) {
    const std::size_t start = at_;
    const std::string_view name = next_name();
    for (std::size_t i = 0; i < fields.size(); ++i) {
      // Local fields do not travel: C has no use for them.
      if (fields[i].name != name || fields[i].words.local != schema::Local::no) continue;
      out = {&fields[i].type, &value.items[i]};
      return KWIND_OK;
    }
    at_ = start;
    return wrong(fmt::format("{} has no field `{}`", owner, name));
  }

  // `.NAME` is a field of a record, or the chosen case of a `one of`.
  kwind_result enter_name(Place& place) {
    // A path that ends here has been followed: a further step begins with `.` or `[` alone.
    if (path_[at_] != '.') return wrong("a `.` or `[` is wanted here");
    ++at_;
    if (place.type == nullptr) return wrong("a number has no fields");
    if (place.type->kind == TypeKind::record) {
      const schema::Record& record = protocol_.records[place.type->index];
      return enter_field(record.fields, *place.value, record.name, place);
    }
    if (place.type->kind != TypeKind::one_of) return wrong("only records and cases have names");
    const schema::Options& cases = protocol_.one_ofs[place.type->index];
    // Only the case that is chosen has a value to enter: kwind_value_set_name() chooses another.
    const schema::Option& chosen = cases.options[static_cast<std::size_t>(place.value->whole)];
    const std::size_t start = at_;
    const std::string_view name = next_name();
    if (name != chosen.name || chosen.type.empty()) {
      at_ = start;
      return wrong(fmt::format("the case is `{}`{}", chosen.name,
                               name == chosen.name ? ", which carries nothing" : ""));
    }
    place = {&chosen.type.front(), &place.value->items.front()};
    return KWIND_OK;
  }

  // `[INDEX]` is an item of a list, a cell of a grid, row by row, or a component of a vector.
  kwind_result enter_item(Place& place) {
    const std::size_t close = path_.find(']', at_);
    const std::string_view digits =
        // from_chars takes a sign and stops at the first other character: both ends are compared,
        // so that `[+1]`, `[1x]` and `[]` are errors.
        path_.substr(at_ + 1, close == std::string_view::npos ? 0 : close - at_ - 1);
    std::size_t index = 0;
    const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), index);
    if (error != std::errc{} || end != digits.data() + digits.size() || digits.empty()) {
      return wrong("an index is `[`, digits and `]`");
    }
    if (place.type == nullptr || !has_items(place.type->kind)) return wrong("this has no items");
    if (index >= place.value->items.size()) {
      return wrong(fmt::format("there are {} items, counted from 0", place.value->items.size()));
    }
    place.value = &place.value->items[index];
    // Components of a direction or a rotation have no type of their own.
    place.type = place.type->element.empty() ? nullptr : &place.type->element.front();
    at_ = close + 1;
    return KWIND_OK;
  }
  static bool has_items(TypeKind kind) {
    return kind == TypeKind::list || kind == TypeKind::grid || kind == TypeKind::vec ||
           kind == TypeKind::direction2 || kind == TypeKind::direction3 ||
           kind == TypeKind::rotation;
  }

  // Options are passed in silence, so that a path reads like the description.
  kwind_result pass_maybe(Place& place) const {
    // A `maybe` of a `maybe` has two levels: each present one is passed.
    while (place.type != nullptr && place.type->kind == TypeKind::maybe) {
      if (place.value->items.empty()) return wrong("it is absent; set its count to 1 first");
      place = {&place.type->element.front(), &place.value->items.front()};
    }
    return KWIND_OK;
  }

  const schema::Protocol& protocol_;
  std::string_view path_;
  std::size_t at_ = 0;
};

// The error names the type that the path does lead to.
kwind_result wrong_type(std::string_view path, const Place& place,
                        const schema::Protocol& protocol) {
  return fail(
      KWIND_E_TYPE,
      fmt::format("`{}` is {}", path,
                  place.type == nullptr ? "a number with a fraction"
                                        : "of type " + schema::type_text(protocol, *place.type)));
}

enum class Access : std::uint8_t { read, write };

// All functions that take a path pass through here: a dead handle, NULL, a value that may only be
// read and a wrong path have one answer each.
// Runs use(object, place) with what `path` names.
template <class Use>
kwind_result at(const kwind_value* handle, const char* path, Access access, bool into_maybe,
                const Use& use) {
  return call([&] {
    const Held<ValueObject> held(handle);
    if (!held) return held.result();
    if (path == nullptr) return fail(KWIND_E_ARGUMENT, "the path is NULL");
    if (access == Access::write && held->is_of_event) {
      return fail(KWIND_E_ARGUMENT, "the value of an event is to be read, not written");
    }
    Place place;
    const auto result =
        Walk(held->protocol->protocol, path).follow(held->type, held->value, into_maybe, place);
    return result == KWIND_OK ? use(*held, place) : result;
  });
}

// The three ways in which C sees a value: as int64_t, as double, as bytes.
bool is_whole(const Place& place) {
  // Kinds whose value lies in Value::whole.
  if (place.type == nullptr) return false;
  switch (place.type->kind) {
    case TypeKind::boolean:
    case TypeKind::integer:
    case TypeKind::count:
    case TypeKind::tick:
    case TypeKind::peer:
    case TypeKind::flags:
    case TypeKind::enumeration: return true;
    default: return false;
  }
}
// A place without a type is a component of a direction or rotation: a double.
bool is_real(const Place& place) {
  if (place.type == nullptr) return true;
  // Kinds whose value lies in Value::real.
  switch (place.type->kind) {
    case TypeKind::real:
    case TypeKind::angle:
    case TypeKind::f32:
    case TypeKind::f64: return true;
    default: return false;
  }
}
bool is_text(const Place& place) {
  return place.type != nullptr &&
         (place.type->kind == TypeKind::text || place.type->kind == TypeKind::bytes);
}

// The values or cases that have names; nullptr for other types.
const schema::Options* names_of(const schema::Protocol& protocol, const Place& place) {
  if (place.type == nullptr) return nullptr;
  if (place.type->kind == TypeKind::enumeration) return &protocol.enums[place.type->index];
  if (place.type->kind == TypeKind::one_of) return &protocol.one_ofs[place.type->index];
  return nullptr;
}

// Sets an integer, a bool, flags, or the number of an enum's value.
kwind_result set_whole(const ValueObject& object, const Place& place, std::int64_t number,
                       std::string_view path) {
  const schema::Protocol& protocol = object.protocol->protocol;
  if (!is_whole(place)) return wrong_type(path, place, protocol);
  // An enum has no value outside its list. Ranges of other numbers are held when the message is
  // sent.
  if (place.type->kind == TypeKind::enumeration) {
    const std::size_t count = protocol.enums[place.type->index].options.size();
    if (number < 0 || static_cast<std::uint64_t>(number) >= count) {
      return fail(KWIND_E_ARGUMENT, fmt::format("`{}` has values 0 to {}", path, count - 1));
    }
  }
  // In C any number but 0 is true.
  place.value->whole = place.type->kind == TypeKind::boolean ? std::int64_t{number != 0} : number;
  return KWIND_OK;
}

// Chooses an enum's value or the case of a `one of` by name. Linear in the number of names.
kwind_result set_name(const ValueObject& object, const Place& place, std::string_view name,
                      std::string_view path) {
  const schema::Protocol& protocol = object.protocol->protocol;
  const schema::Options* const names = names_of(protocol, place);
  if (names == nullptr) return wrong_type(path, place, protocol);
  // Invariant: items of a chosen case hold one value of the case's type, or none.
  for (std::size_t i = 0; i < names->options.size(); ++i) {
    const schema::Option& option = names->options[i];
    if (option.name != name) continue;
    if (place.type->kind == TypeKind::one_of) {
      // Another case begins with its type's initial value.
      place.value->items.clear();
      if (!option.type.empty()) {
        place.value->items.push_back(schema::initial_value(protocol, option.type.front()));
      }
    }
    place.value->whole = static_cast<std::int64_t>(i);
    return KWIND_OK;
  }
  return fail(KWIND_E_NAME, fmt::format("`{}` has no value or case `{}`", path, name));
}

// Sets the length of a list, or whether an optional value is present.
kwind_result set_count(const ValueObject& object, const Place& place, std::size_t count,
                       std::string_view path) {
  const schema::Protocol& protocol = object.protocol->protocol;
  const bool is_maybe = place.type != nullptr && place.type->kind == TypeKind::maybe;
  if (!is_maybe && (place.type == nullptr || place.type->kind != TypeKind::list)) {
    return wrong_type(path, place, protocol);
  }
  const std::size_t max = is_maybe ? 1 : place.type->limit;
  if (count > max) {
    return fail(KWIND_E_TOO_MANY, fmt::format("`{}` has at most {} items", path, max));
  }
  // New items are initial values, not zeros: zero may be outside a type's range.
  // Shrinking keeps the first `count` items.
  place.value->items.resize(count,
                            count > place.value->items.size()
                                ? schema::initial_value(protocol, place.type->element.front())
                                : Value{});
  return KWIND_OK;
}

}  // namespace
}  // namespace kwind::c

using kwind::c::Access;
using kwind::c::at;
using kwind::c::Held;
using kwind::c::is_real;
using kwind::c::is_text;
using kwind::c::is_whole;
using kwind::c::names_of;
using kwind::c::Place;
using kwind::c::ProtocolObject;
using kwind::c::ValueObject;
using kwind::c::wrong_type;

namespace {

kwind_result null_argument(const char* name) {
  return kwind::c::fail(KWIND_E_ARGUMENT, fmt::format("`{}` is NULL", name));
}

}  // namespace

kwind_result kwind_value_new(kwind_protocol* protocol, const char* type, kwind_value** out) {
  return kwind::c::call([&] {
    const Held<ProtocolObject> held(protocol);
    if (!held) return held.result();
    if (type == nullptr || out == nullptr) return null_argument(type == nullptr ? "type" : "out");
    // A message, a reply, an entity or a record: types share one namespace in a description.
    const auto named = kwind::c::find_type(held->protocol, type);
    if (!named) {
      return kwind::c::fail(KWIND_E_NAME,
                            fmt::format("protocol {} has no message, entity or record `{}`",
                                        held->protocol.name, type));
    }
    *out = kwind::c::handle_of<kwind_value>(
        kwind::c::add_object(std::make_shared<ValueObject>(held.shared(), *named)));
    return kwind_result{KWIND_OK};
  });
}

void kwind_value_free(kwind_value* value) {
  // The value of an event is the library's own.
  if (kwind::c::call_or(false, [&] {
        // Nothing happens for NULL and for a handle that is stale, as with free().
        const Held<ValueObject> held(value);
        return held && !held->is_of_event;
      })) {
    kwind::c::free_object<ValueObject>(value);
  }
}

kwind_result kwind_value_reset(kwind_value* value) {
  return kwind::c::call([&] {
    const Held<ValueObject> held(value);
    if (!held) return held.result();
    if (held->is_of_event) {
      return kwind::c::fail(KWIND_E_ARGUMENT, "the value of an event is to be read, not written");
    }
    held->reset();
    return kwind_result{KWIND_OK};
  });
}

const char* kwind_value_type(const kwind_value* value) {
  return kwind::c::call_or<const char*>("", [&] {
    const Held<ValueObject> held(value);
    return held ? held->type.name->c_str() : "";
  });
}

kwind_result kwind_value_set_int(kwind_value* value, const char* path, int64_t number) {
  return at(value, path, Access::write, true, [&](ValueObject& object, const Place& place) {
    return kwind::c::set_whole(object, place, number, path);
  });
}

kwind_result kwind_value_get_int(const kwind_value* value, const char* path, int64_t* out) {
  if (out == nullptr) return null_argument("out");
  return at(value, path, Access::read, true, [&](ValueObject& object, const Place& place) {
    if (!is_whole(place)) return wrong_type(path, place, object.protocol->protocol);
    // A flag set is a number whose bit i is flag i; an enum is the index of its value.
    *out = place.value->whole;
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_value_set_real(kwind_value* value, const char* path, double number) {
  return at(value, path, Access::write, true, [&](ValueObject& object, const Place& place) {
    if (!is_real(place)) return wrong_type(path, place, object.protocol->protocol);
    place.value->real = number;
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_value_get_real(const kwind_value* value, const char* path, double* out) {
  if (out == nullptr) return null_argument("out");
  return at(value, path, Access::read, true, [&](ValueObject& object, const Place& place) {
    if (!is_real(place)) return wrong_type(path, place, object.protocol->protocol);
    *out = place.value->real;
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_value_set_text(kwind_value* value, const char* path, const char* bytes,
                                  size_t size) {
  if (bytes == nullptr && size > 0) return null_argument("bytes");
  return at(value, path, Access::write, true, [&](ValueObject& object, const Place& place) {
    if (!is_text(place)) return wrong_type(path, place, object.protocol->protocol);
    // assign() with a null pointer is undefined even for size 0.
    place.value->text.assign(bytes == nullptr ? "" : bytes, size);
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_value_get_text(const kwind_value* value, const char* path, const char** bytes,
                                  size_t* size) {
  if (bytes == nullptr) return null_argument("bytes");
  return at(value, path, Access::read, true, [&](ValueObject& object, const Place& place) {
    if (!is_text(place)) return wrong_type(path, place, object.protocol->protocol);
    // Texts keep a closing zero, so C code can print them; bytes may hold zeros within.
    *bytes = place.value->text.c_str();
    if (size != nullptr) *size = place.value->text.size();
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_value_set_name(kwind_value* value, const char* path, const char* name) {
  if (name == nullptr) return null_argument("name");
  return at(value, path, Access::write, true, [&](ValueObject& object, const Place& place) {
    return kwind::c::set_name(object, place, name, path);
  });
}

kwind_result kwind_value_get_name(const kwind_value* value, const char* path, const char** out) {
  if (out == nullptr) return null_argument("out");
  return at(value, path, Access::read, true, [&](ValueObject& object, const Place& place) {
    const auto* const names = names_of(object.protocol->protocol, place);
    if (names == nullptr) return wrong_type(path, place, object.protocol->protocol);
    *out = names->options[static_cast<std::size_t>(place.value->whole)].name.c_str();
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_value_set_ref(kwind_value* value, const char* path, kwind_ref entity) {
  return at(value, path, Access::write, true, [&](ValueObject& object, const Place& place) {
    if (place.type == nullptr || place.type->kind != kwind::schema::TypeKind::ref) {
      return wrong_type(path, place, object.protocol->protocol);
    }
    // Invariant (packed reference): id in bits 0 to 31, generation in bits 32 to 39.
    place.value->whole = static_cast<std::int64_t>(
        entity.id | (static_cast<std::uint64_t>(entity.generation) << 32U));
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_value_get_ref(const kwind_value* value, const char* path, kwind_ref* out) {
  if (out == nullptr) return null_argument("out");
  return at(value, path, Access::read, true, [&](ValueObject& object, const Place& place) {
    if (place.type == nullptr || place.type->kind != kwind::schema::TypeKind::ref) {
      return wrong_type(path, place, object.protocol->protocol);
    }
    *out = {static_cast<std::uint32_t>(place.value->whole),
            static_cast<std::uint8_t>(place.value->whole >> 32)};
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_value_set_count(kwind_value* value, const char* path, size_t count) {
  return at(value, path, Access::write, false, [&](ValueObject& object, const Place& place) {
    return kwind::c::set_count(object, place, count, path);
  });
}

kwind_result kwind_value_get_count(const kwind_value* value, const char* path, size_t* out) {
  if (out == nullptr) return null_argument("out");
  return at(value, path, Access::read, false, [&](ValueObject& object, const Place& place) {
    // Lists, grids, vectors, and `maybe` as a list of at most one. A type without items is
    // refused.
    if (place.type == nullptr || (place.value->items.empty() && place.type->element.empty())) {
      return wrong_type(path, place, object.protocol->protocol);
    }
    *out = place.value->items.size();
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_value_to_struct(const kwind_value* value, const kwind_layout* layout,
                                   void* out) {
  return kwind::c::call([&] {
    const Held<ValueObject> held(value);
    if (!held) return held.result();
    return to_struct(held->protocol->protocol, held->type, held->value, layout, out);
  });
}

kwind_result kwind_value_from_struct(kwind_value* value, const kwind_layout* layout,
                                     const void* in) {
  return kwind::c::call([&] {
    const Held<ValueObject> held(value);
    if (!held) return held.result();
    if (held->is_of_event) {
      return kwind::c::fail(KWIND_E_ARGUMENT, "the value of an event is to be read, not written");
    }
    // All or nothing: an error in the middle leaves the value as it was.
    kwind::schema::Value made = held->value;
    const auto result = from_struct(held->protocol->protocol, held->type, layout, in, made);
    if (result == KWIND_OK) held->value = std::move(made);
    return result;
  });
}
