// Resolves type names. Records are resolved depth first, so that each stands in the protocol after
// all that it contains; a record that is met again while it is still open contains itself. Limits
// on the depth and on the number of values hold before anything is expanded, so that a small file
// cannot make a large protocol.
//
// Name resolution in two passes. declare() collects all names first, so that a declaration may use
// one that stands further below; the second pass gives each name its type. Entities are numbered
// in the first pass: a reference names an entity that may hold such a reference itself, which is
// no cycle, since a reference has a fixed size.
#include "language/types.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/bits/nearest.h"
#include "language/field_words.h"
#include "language/lives.h"
#include "language/reserved_names.h"
#include "language/resolver_limits.h"
#include "language/snake_case.h"

namespace kwind::language {

using schema::Type;
using schema::TypeKind;

void Types::declare() {
  collect_names();
  // Enums and flags need no other type: they come first.
  for (const OptionsSyntax& syntax : file_.enums) {
    enum_index_[syntax.name.text] = add_options(out_.enums, syntax, {});
  }
  for (const OptionsSyntax& syntax : file_.flags) {
    flags_index_[syntax.name.text] = add_options(out_.flags, syntax, {});
  }
  for (const RecordSyntax& syntax : file_.records) record_of(syntax);
  for (const QuantitySyntax& syntax : file_.quantities) quantity_of(syntax);
}

std::uint32_t Types::add_enum(const OptionsSyntax& syntax, std::string name) {
  return add_options(out_.enums, syntax, {}, std::move(name));
}

// ---- names ----

// All global names share one namespace, as in the generated code. A request also declares its
// reply, refusal and helper types. Names are reported in source order, so that the second use of a
// name gets the error and not the first.
void Types::collect_names() {
  std::vector<std::pair<std::string, Token>> all;
  const auto add = [&](const Token& name, std::string_view suffix = "") {
    // In groups, then sorted by place.
    all.emplace_back(fmt::format("{}{}", name.text, suffix), name);
  };
  for (const auto& syntax : file_.quantities) add(syntax.name);
  for (const auto& syntax : file_.enums) add(syntax.name);
  for (const auto& syntax : file_.flags) add(syntax.name);
  for (const auto& syntax : file_.records) add(syntax.name);
  for (const auto& syntax : file_.entities_declared) add(syntax.name);
  for (const auto& syntax : file_.messages) {
    add(syntax.name);
    if (!syntax.request) continue;
    for (const char* suffix : {"Reply", "Refused", "Refusal", "Answer", "Asking"})
      add(syntax.name, suffix);
  }
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) {
    return std::tuple(a.second.file, a.second.line, a.second.column) <
           std::tuple(b.second.file, b.second.line, b.second.column);
  });
  // The generator writes one header for each name, in snake case: two names that differ only in
  // capitals would overwrite each other's file.
  std::map<std::string, std::string> headers;
  // In the order of the text. Three checks: taken, a macro, a header of the same name.
  for (const auto& [name, place] : all) {
    const auto [found, fresh] = names_.try_emplace(name, place);
    if (!fresh) {
      report(place, fmt::format("`{}` is already declared in line {}; choose another name", name,
                                found->second.line));
    } else if (is_macro(name)) {
      report(place, fmt::format("`{}` is a macro of C++ headers; choose another name", name));
    } else if (const auto [other, first] = headers.try_emplace(snake_case(name), name); !first) {
      report(place, fmt::format("`{}` and `{}` would share the header {}.h; choose another name",
                                name, other->second, other->first));
    }
  }
  for (const auto& syntax : file_.quantities) quantities_.try_emplace(syntax.name.text, &syntax);
  for (const auto& syntax : file_.records) records_.try_emplace(syntax.name.text, &syntax);
  // Numbers in the order of declaration.
  for (std::size_t i = 0; i < file_.entities_declared.size(); ++i) {
    const Token& name = file_.entities_declared[i].name;
    entity_index_.try_emplace(name.text, static_cast<std::uint32_t>(i));
    out_.entities.push_back({std::string(name.text), {}, {}, {}});
  }
}

// ---- enums, flags, one of ----

// Enums, sets of flags and `one of` differ in three ways: their limit, whether a name brings a
// type, and whether a removed name needs one that stands in for it. An inline declaration is named
// after its field and lives inside the generated struct around it.
std::uint32_t Types::add_options(std::vector<schema::Options>& all, const OptionsSyntax& syntax,
                                 const Home& home, std::string name) {
  const bool flags = &all == &out_.flags;
  const bool cases = &all == &out_.one_ofs;
  const std::string_view what = flags ? "set of flags" : cases ? "`one of`" : "enum";
  const std::size_t max = flags ? limits::kMaxFlags : limits::kMaxValues;
  schema::Options made;
  made.name = !name.empty()         ? std::move(name)
              : home.inside.empty() ? std::string(syntax.name.text)
                                    : pascal_case(syntax.name.text);
  made.inside = home.inside;
  made.doc = syntax.doc;
  if (!home.inside.empty() && (names_.contains(made.name) || made.name == home.inside ||
                               !inline_names_.insert(home.inside + " " + made.name).second)) {
    report(syntax.name, fmt::format("what `{}` declares would be named `{}`, which is declared "
                                    "already; use that type or another name",
                                    syntax.name.text, made.name));
  }
  // Names of one set are unique as they are written. The cases of a `one of` become structs, so
  // they must differ in Pascal case as well.
  std::set<std::string_view> seen;
  std::set<std::string> structs;
  // In the order of the description, which numbers the options.
  for (const OptionSyntax& option : syntax.options) {
    if (!seen.insert(option.name.text).second) {
      report(option.name, fmt::format("`{}` is listed twice", option.name.text));
    } else if (cases && !structs.insert(pascal_case(option.name.text)).second) {
      report(option.name, fmt::format("`{}` and another case would both be named `{}`",
                                      option.name.text, pascal_case(option.name.text)));
    }
    schema::Option value;
    value.name = option.name.text;
    value.life = life_of(option.life, out_.version, reporter_);
    value.doc = option.doc;
    // Types within a case belong to the struct that surrounds the `one of`.
    if (!option.type.empty()) {
      Home inner{home.inside, option.name};
      if (auto type = this->type(option.type.front(), inner)) value.type.push_back(*type);
    }
    made.options.push_back(std::move(value));
  }
  if (syntax.options.empty()) report(syntax.name, fmt::format("a {} needs a name in it", what));
  if (syntax.options.size() > max) {
    report(syntax.name, fmt::format("a {} has at most {} names, this one has {}", what, max,
                                    syntax.options.size()));
  }
  if (flags) {
    check_flags(syntax.options, reporter_);
  } else {
    resolve_stand_ins(syntax.name, syntax.options, made.options, out_.version, reporter_);
  }
  // Only sets that changed carry lives: without them the codec numbers the options by their place.
  if (std::any_of(made.options.begin(), made.options.end(),
                  [](const auto& option) { return !option.life.whole(); })) {
    for (const auto& option : made.options) made.lives.push_back({option.life, option.stand_in});
  }
  all.push_back(std::move(made));
  return static_cast<std::uint32_t>(all.size() - 1);
}

// ---- records and quantities ----

// The place of a record in out_.records, after all that it contains; empty if it contains itself.
// Depth-first search. `open_` is the path from the first record to this one: a record that is on
// the path already contains itself.
std::optional<std::uint32_t> Types::record_of(const RecordSyntax& syntax) {
  const std::string_view name = syntax.name.text;
  if (const auto done = record_index_.find(name); done != record_index_.end()) return done->second;
  if (broken_records_.contains(name)) return std::nullopt;  // said once
  if (std::find(open_.begin(), open_.end(), name) != open_.end()) {
    report(syntax.name, fmt::format("the record `{}` contains itself: {} -> {}", name,
                                    fmt::join(open_, " -> "), name));
    return std::nullopt;
  }
  if (open_.size() >= limits::kDeepestRecords) {
    report(syntax.name,
           fmt::format("records are nested more than {} deep", limits::kDeepestRecords));
    return std::nullopt;
  }
  // Between push and pop lies the whole subtree.
  open_.push_back(name);
  // A record of two records of two records doubles with each level: the leaves are counted, with
  // saturation, before anything walks over them.
  std::uint64_t leaves = 0;
  std::vector<schema::Field> made = fields(syntax.fields, name, leaves, false);
  open_.pop_back();
  if (leaves > limits::kMaxLeaves) {
    report(syntax.name, fmt::format("`{}` has more than {} fields with all records spelled out",
                                    name, limits::kMaxLeaves));
    broken_records_.insert(name);
    return std::nullopt;
  }
  record_index_[name] = add_record(std::string(name), std::move(made), leaves, syntax.doc);
  return record_index_[name];
}
std::uint32_t Types::add_record(std::string name, std::vector<schema::Field> fields,
                                std::uint64_t leaves, std::string doc) {
  out_.records.push_back({std::move(name), std::move(fields), std::move(doc)});
  record_leaves_.push_back(leaves);
  return static_cast<std::uint32_t>(out_.records.size() - 1);
}

// A quantity is a name for a type with its range and unit. Resolved once; an error is reported once
// and the result stays empty.
std::optional<Type> Types::quantity_of(const QuantitySyntax& syntax) {
  const std::string_view name = syntax.name.text;
  if (const auto done = quantity_type_.find(name); done != quantity_type_.end()) {
    return done->second;
  }
  // A quantity under way is met again only through itself.
  if (!quantities_under_way_.insert(name).second) {
    report(syntax.name, fmt::format("the quantity `{}` contains itself", name));
    return std::nullopt;
  }
  switch (syntax.type.word) {
    case TypeWord::integer:
    case TypeWord::count:
    case TypeWord::real:
    case TypeWord::f32:
    case TypeWord::f64:
    case TypeWord::angle:
    case TypeWord::direction2:
    case TypeWord::direction3:
    case TypeWord::rotation:
    case TypeWord::vec2:
    case TypeWord::vec3: break;
    default:
      quantities_under_way_.erase(name);
      quantity_type_[name] = std::nullopt;
      report(syntax.type.place,
             "a quantity is a number, an angle, a direction, a rotation or a vector");
      return std::nullopt;
  }
  const auto made = type(syntax.type, {});
  quantities_under_way_.erase(name);
  return quantity_type_[name] = made;
}

// ---- fields ----

// Resolves the fields of a record, a message or, with `of_entity`, an entity, and adds their leaves
// to `leaves`. A field whose type is unknown is left out, so that one error does not cause others.
std::vector<schema::Field> Types::fields(const std::vector<FieldSyntax>& syntax,
                                         std::string_view inside, std::uint64_t& leaves,
                                         bool of_entity) {
  std::vector<schema::Field> made;
  std::set<std::string> seen;
  // Each field is resolved, or reported and left out.
  for (const FieldSyntax& field : syntax) {
    schema::Field out;
    out.name = field.name.text;
    out.doc = field.doc;
    if (!seen.insert(out.name).second) {
      report(field.name, fmt::format("the field `{}` is declared twice", out.name));
    }
    out.life = life_of(field.life, out_.version, reporter_);
    if (!field.type) {
      out.untyped = true;
      out.words.local = field.side;
    } else {
      const auto resolved = type(*field.type, {std::string(inside), field.name});
      if (!resolved) continue;
      // Saturating addition: the sum never wraps.
      leaves = std::min(limits::kMaxLeaves + 1, leaves + leaves_of(*resolved));
      out.type = *resolved;
      out.unit = unit_of(*field.type);
      if (field.initial) {
        out.written_default = default_of(out_, *field.initial, out.type, reporter_);
      }
    }
    if (of_entity) {
      entity_words(field, out, reporter_);
    } else {
      refuse_entity_words(field, reporter_);
    }
    made.push_back(std::move(out));
  }
  // `follow` names other fields, which may stand after it: checked when all of them are known.
  if (of_entity) check_follow(out_, syntax, made, reporter_);
  // A second pass, since a clash needs both names.
  for (const FieldSyntax& field : syntax) {  // generated beside the field `x`: x_range
    if (seen.contains(std::string(field.name.text) + "_range")) {
      report(field.name, fmt::format("`{0}` and `{0}_range` cannot stand side by side: generated "
                                     "code keeps the range of `{0}` under that name",
                                     field.name.text));
    }
  }
  return made;
}

// Of the quantity at the bottom of lists and the like.
std::string Types::unit_of(const TypeSyntax& syntax) const {
  // Follows names of quantities and elements of lists, down to a number.
  if (syntax.word == TypeWord::named) {
    const auto found = quantities_.find(syntax.place.text);
    return found == quantities_.end() ? std::string() : unit_of(found->second->type);
  }
  if (!syntax.unit.empty()) return syntax.unit;
  return syntax.element.empty() ? std::string() : unit_of(syntax.element.front());
}

// The number of values below a type, saturated above the limit. A list counts as one item: its
// length is bounded by bits, not by leaves.
std::uint64_t Types::leaves_of(const Type& type) const {
  std::uint64_t leaves = 1;
  if (type.kind == TypeKind::record) leaves += record_leaves_[type.index];
  if (type.kind == TypeKind::one_of) {
    // The sum over all cases, not the largest: generated code has all of them.
    for (const schema::Option& option : out_.one_ofs[type.index].options) {
      if (!option.type.empty()) leaves += leaves_of(option.type.front());
    }
  }
  if (!type.element.empty()) leaves += leaves_of(type.element.front());
  return std::min(limits::kMaxLeaves + 1, leaves);
}

// ---- types ----

// One case for each word of the language. Errors are reported where the words stand; an empty
// result means that an error was reported.
std::optional<Type> Types::type(const TypeSyntax& syntax, const Home& home) {
  Type made;
  const auto simple = [&](TypeKind kind) {
    made.kind = kind;
    return made;
  };
  switch (syntax.word) {
    case TypeWord::named: return named(syntax.place);
    case TypeWord::boolean: return simple(TypeKind::boolean);
    case TypeWord::f32: return simple(TypeKind::f32);
    case TypeWord::f64: return simple(TypeKind::f64);
    case TypeWord::tick: return simple(TypeKind::tick);
    case TypeWord::integer: return integer_type(syntax, reporter_);
    case TypeWord::real: return real_type(syntax, reporter_);
    case TypeWord::angle:
    case TypeWord::direction2: return angle_type(syntax, reporter_);
    case TypeWord::direction3:
    case TypeWord::rotation: return unit_vector_type(syntax, reporter_);
    case TypeWord::count:
      made.kind = TypeKind::count;
      return limited(syntax.limit, "a count", limits::kMaxCount, made);
    case TypeWord::text:
      made.kind = TypeKind::text;
      return limited(syntax.limit, "a text", limits::kMaxItems, made);
    case TypeWord::bytes:
      made.kind = TypeKind::bytes;
      return limited(syntax.limit, "bytes", limits::kMaxItems, made);
    case TypeWord::enumeration:
      made.kind = TypeKind::enumeration;
      made.index = add_options(out_.enums, {home.field, syntax.options, {}}, home);
      return made;
    case TypeWord::flags:
      made.kind = TypeKind::flags;
      made.index = add_options(out_.flags, {home.field, syntax.options, {}}, home);
      return made;
    case TypeWord::one_of:
      made.kind = TypeKind::one_of;
      made.index = add_options(out_.one_ofs, {home.field, syntax.options, {}}, home);
      if (out_.one_ofs[made.index].options.empty()) return std::nullopt;
      return made;
    case TypeWord::vec2:
    case TypeWord::vec3: return vector(syntax, home);
    case TypeWord::grid: return grid(syntax, home);
    case TypeWord::maybe:
    case TypeWord::list: return list_or_maybe(syntax, home);
    case TypeWord::ref: return reference(syntax.place);
    // The width of a peer's number follows from the largest number of peers.
    case TypeWord::peer:
      if (out_.peers_up_to == 0) {
        report(syntax.place,
               "`peer` needs to know how many there can be; say so behind the "
               "version, as in `protocol harbour 1, peers up to 256`");
        return std::nullopt;
      }
      made.kind = TypeKind::peer;
      made.limit = out_.peers_up_to;
      return made;
  }
  return std::nullopt;
}

// Items without bits would let a message of a few bytes claim the largest length that the limit
// permits. A decoder rejects a length that the bits left cannot back, by the smallest item of any
// version.
std::optional<Type> Types::list_or_maybe(const TypeSyntax& syntax, const Home& home) {
  Type made;
  made.kind = syntax.word == TypeWord::list ? TypeKind::list : TypeKind::maybe;
  const auto element = type(syntax.element.front(), home);
  if (!element) return std::nullopt;
  made.element.push_back(*element);
  if (made.kind == TypeKind::maybe) return made;
  if (schema::size_of(out_, *element).max_bits == 0) {
    report(syntax.element.front().place,
           "the items of this list take no bits; a `count` says how many there are");
    return std::nullopt;
  }
  made.item_bits = ~0U;
  for (std::uint16_t v = schema::oldest_version(out_); v <= out_.version; ++v) {
    made.item_bits = std::min(made.item_bits, schema::size_of(out_, *element, v).min_bits);
  }
  return limited(syntax.limit, "a list", limits::kMaxItems, made);
}

// Lengths have the range 0 to `limit`. One less than a power of two wastes nothing; a limit that is
// one too large costs a bit in each message, and gets a hint.
std::optional<Type> Types::limited(const Number& limit, std::string_view what, std::int64_t max,
                                   Type made) {
  if (limit.num < 1 || limit.num > max) {
    report(limit.place, fmt::format("the limit of {} must be 1 to {}", what, max));
    return std::nullopt;
  }
  made.limit = static_cast<std::uint32_t>(limit.num);
  if (made.kind != TypeKind::count && one_too_many(made.limit + std::uint64_t{1})) {
    const unsigned bits = bits::bits_for(made.limit + std::uint64_t{1});
    reporter_.hint(limit.place, fmt::format("a length of 0 to {} takes {} bits, 0 to {} would "
                                            "take {}",
                                            made.limit, bits, made.limit - 1, bits - 1));
  }
  return made;
}

// Vectors have two or three components of one type of number.
std::optional<Type> Types::vector(const TypeSyntax& syntax, const Home& home) {
  // A vector of vectors, of texts or of references has no arithmetic.
  const auto element = type(syntax.element.front(), home);
  if (!element) return std::nullopt;
  if (element->kind != TypeKind::real && element->kind != TypeKind::integer &&
      element->kind != TypeKind::f32 && element->kind != TypeKind::f64) {
    report(syntax.element.front().place, "the components of a vector are real, int, f32 or f64");
    return std::nullopt;
  }
  Type made;
  made.kind = TypeKind::vec;
  made.limit = syntax.word == TypeWord::vec2 ? 2 : 3;
  made.element.push_back(*element);
  return made;
}

// Grids are sent as runs of equal cells and as edits of cells, by the index of each cell's value:
// only types with an index of at most 31 bits can be cells.
std::optional<Type> Types::grid(const TypeSyntax& syntax, const Home& home) {
  const auto element = type(syntax.element.front(), home);
  if (!element) return std::nullopt;
  const bool numbers =
      (element->kind == TypeKind::integer && element->integer.last_index() < limits::kMaxCells) ||
      (element->kind == TypeKind::real && element->real.count <= limits::kMaxCells) ||
      (element->kind == TypeKind::angle && element->angle.count <= limits::kMaxCells);
  if (!numbers && element->kind != TypeKind::boolean && element->kind != TypeKind::enumeration) {
    report(syntax.element.front().place,
           "the cells of a grid are bool, an enum, or an int, real or angle of at most 2^31 "
           "values");
    return std::nullopt;
  }
  Type made;
  made.kind = TypeKind::grid;
  // Width, then height; both have the same limits.
  for (const Number* side : {&syntax.limit, &syntax.height}) {
    if (side->num < 1 || side->num > limits::kMaxSide) {
      report(side->place, fmt::format("a grid has 1 to {} columns and rows", limits::kMaxSide));
      return std::nullopt;
    }
  }
  if (syntax.limit.num * syntax.height.num > limits::kMaxGrid) {
    report(syntax.limit.place, fmt::format("a grid has at most {} cells, this one {}",
                                           limits::kMaxGrid, syntax.limit.num * syntax.height.num));
    return std::nullopt;
  }
  made.limit = static_cast<std::uint32_t>(syntax.limit.num);
  made.height = static_cast<std::uint32_t>(syntax.height.num);
  made.element.push_back(*element);
  return made;
}

// A reference is an entity's id and generation. The width of the id follows from `entities up to`.
std::optional<Type> Types::reference(const Token& name) {
  const auto found = entity_index_.find(name.text);
  if (found == entity_index_.end()) {
    std::vector<std::string> known;
    known.reserve(out_.entities.size());
    for (const schema::Entity& entity : out_.entities) known.push_back(entity.name);
    const std::string near = bits::nearest(name.text, known);
    report(name, near.empty()
                     ? fmt::format("there is no entity `{}`; a `ref` names one", name.text)
                     : fmt::format("there is no entity `{}`; did you mean `{}`?", name.text, near));
    return std::nullopt;
  }
  if (out_.entities_up_to == 0) {
    report(name,
           "`ref` needs to know how many entities there can be; say so behind the version, "
           "as in `protocol harbour 1, entities up to 4000`");
    return std::nullopt;
  }
  Type made;
  made.kind = TypeKind::ref;
  made.index = found->second;
  made.limit = out_.entities_up_to;
  return made;
}

// Looks a name up among quantities, enums, flags and records, in that order; names are unique, so
// the order does not matter. Entities and messages are names too, but no types: each gets an error
// of its own. Anything else gets the nearest name that is known.
std::optional<Type> Types::named(const Token& name) {
  if (const auto quantity = quantities_.find(name.text); quantity != quantities_.end()) {
    return quantity_of(*quantity->second);
  }
  Type made;
  if (const auto found = enum_index_.find(name.text); found != enum_index_.end()) {
    made.kind = TypeKind::enumeration;
    made.index = found->second;
    return made;
  }
  if (const auto found = flags_index_.find(name.text); found != flags_index_.end()) {
    made.kind = TypeKind::flags;
    made.index = found->second;
    return made;
  }
  if (const auto found = records_.find(name.text); found != records_.end()) {
    const auto index = record_of(*found->second);
    if (!index) return std::nullopt;
    made.kind = TypeKind::record;
    made.index = *index;
    return made;
  }
  if (entity_index_.contains(name.text)) {
    report(name, fmt::format("`{0}` is an entity; a field names one with `ref {0}`", name.text));
    return std::nullopt;
  }
  if (names_.contains(std::string(name.text))) {
    report(name, fmt::format("`{}` is a message; a field holds a record, an enum or a quantity",
                             name.text));
    return std::nullopt;
  }
  std::vector<std::string> known = type_words();
  for (const auto& [known_name, token] : names_) known.emplace_back(known_name);
  const std::string near = bits::nearest(name.text, known);
  report(name, near.empty()
                   ? fmt::format("there is no type `{}`; declare it as a quantity, enum or record",
                                 name.text)
                   : fmt::format("there is no type `{}`; did you mean `{}`?", name.text, near));
  return std::nullopt;
}

}  // namespace kwind::language
