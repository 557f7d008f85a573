// Defaults and words of entity fields. A default is held to the type as a value on the wire would
// be: what it would be moved to is refused, with the nearest value that fits.
//
// Semantic checks of the words behind a field's type: `=`, `at spawn`, `owner only`, `smooth`,
// `urgent`, `lazy`, `follow`, `relative to`, `server local` and `client local`. Each word that does
// not fit is reported at its own place, with what to write instead.
#include "language/field_words.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "kwind/bits/nearest.h"
#include "kwind/core/printable.h"
#include "language/ranges.h"

namespace kwind::language {
namespace {

using schema::Type;
using schema::TypeKind;

// Looks a name up among options; an unknown name is reported with the nearest one.
bool take_name(const std::vector<schema::Option>& options, const Token& place, std::int64_t& to,
               Reporter& reporter) {
  std::vector<std::string> known;
  for (std::size_t i = 0; i < options.size(); ++i) {
    if (options[i].name == place.text) {
      to = static_cast<std::int64_t>(i);
      return true;
    }
    known.push_back(options[i].name);
  }
  const std::string near = bits::nearest(place.text, known);
  reporter.error(
      place, near.empty()
                 ? fmt::format("`{}` is none of its values: {}", place.text, fmt::join(known, ", "))
                 : fmt::format("`{}` is none of its values; did you mean `{}`?", place.text, near));
  return false;
}

// Each step's sine and cosine are kept in a table.
constexpr std::uint64_t kMaxFollowedSteps = 65536;

// Whether a value moves without jumps, so that there is something between two of them.
// Interpolation needs values in between: a count, a name or a text has none.
bool continuous(const schema::Protocol& protocol, const Type& type) {
  switch (type.kind) {
    case TypeKind::real:
    case TypeKind::f32:
    case TypeKind::f64:
    case TypeKind::angle:
    case TypeKind::direction2:
    case TypeKind::direction3:
    case TypeKind::rotation: return true;
    case TypeKind::vec: return continuous(protocol, type.element.front());
    case TypeKind::record: {
      const auto& fields = protocol.records[type.index].fields;
      return !fields.empty() && std::all_of(fields.begin(), fields.end(), [&](const auto& field) {
        return continuous(protocol, field.type);
      });
    }
    default: return false;
  }
}

// So many real coordinates: a vector, or a record that begins with x, y and, of three, z.
bool is_place(const schema::Protocol& protocol, const Type& type, std::size_t axes) {
  if (type.kind == TypeKind::vec) return type.limit == axes && continuous(protocol, type);
  if (type.kind != TypeKind::record) return false;
  const auto& fields = protocol.records[type.index].fields;
  if (fields.size() < axes) return false;
  const Type& x = fields[0].type;
  constexpr std::array<std::string_view, 3> kAxes{"x", "y", "z"};
  for (std::size_t axis = 0; axis < axes; ++axis) {
    const Type& other = fields[axis].type;
    if (fields[axis].name != kAxes.at(axis) || other.kind != x.kind) return false;
    // Both ends count the way along each axis in the same steps.
    const bool same_step = x.kind == TypeKind::real &&
                           x.real.step * other.real.scale == other.real.step * x.real.scale;
    if (x.kind != TypeKind::f32 && x.kind != TypeKind::f64 && !same_step) return false;
  }
  return true;
}

// The type itself where it has no axes.
const Type& first_axis(const schema::Protocol& protocol, const Type& type) {
  if (type.kind == TypeKind::vec) return type.element.front();
  const bool has_fields =
      type.kind == TypeKind::record && !protocol.records[type.index].fields.empty();
  return has_fields ? protocol.records[type.index].fields.front().type : type;
}

bool is_scalar(const Type& type) {
  return type.kind == TypeKind::real || type.kind == TypeKind::integer ||
         type.kind == TypeKind::f32 || type.kind == TypeKind::f64;
}

// A vector whose components are speeds.
bool is_velocity(const Type& type, std::size_t axes) {
  return type.kind == TypeKind::vec && type.limit == axes && is_scalar(type.element.front());
}

}  // namespace

namespace {

// Numerator and denominator may each have more digits than a double: rounded once, not twice.
double nearest_double(const Number& number) {
  // Divides the tens out. A denominator that is a power of ten is a decimal fraction, which
  // from_chars rounds correctly.
  int digits = 0;
  std::int64_t den = number.den;
  for (; den % 10 == 0; den /= 10) ++digits;
  if (den != 1) return static_cast<double>(static_cast<long double>(number.num) / number.den);
  const std::string text = fmt::format("{}e-{}", number.num, digits);
  double made = 0;
  std::from_chars(text.data(), text.data() + text.size(), made);
  return made;
}

}  // namespace

// The stated default of a field, checked against the field's type and range.
std::optional<schema::Value> default_of(const schema::Protocol& protocol,
                                        const DefaultSyntax& syntax, const Type& type,
                                        Reporter& reporter) {
  schema::Value to;
  // A default is a word, a string or a number; the lexer has told them apart.
  const Token& place = syntax.place;
  const bool is_number = syntax.number.written();
  const auto refuse = [&](std::string message) {
    reporter.error(place, std::move(message));
    return std::nullopt;
  };
  const double value = reduced(syntax.number).value();
  // Numbers are exact fractions, so that 0.1 is a tenth and not the nearest double.
  const bool whole = is_number && syntax.number.num % syntax.number.den == 0;
  const std::int64_t number = whole ? syntax.number.num / syntax.number.den : 0;
  switch (type.kind) {
    case TypeKind::boolean:
      if (place.text != "true" && place.text != "false") {
        return refuse("the default of a bool is true or false");
      }
      to.whole = place.text == "true" ? 1 : 0;
      return to;
    case TypeKind::integer:
    case TypeKind::count: {
      const bits::IntRange range =
          type.kind == TypeKind::count ? bits::IntRange{0, type.limit} : type.integer;
      if (!whole || !range.index_of(number).in_range) {
        return refuse(
            fmt::format("the default must be a whole number, {} to {}", range.lo, range.hi));
      }
      to.whole = number;
      return to;
    }
    case TypeKind::real: {
      // The encoder would move the value to the nearest step: the description must state what
      // travels.
      const auto index = type.real.index_of(value);
      // Invariant: value_of(index_of(v)) == v for each default.
      const double nearest_value = type.real.value_of(index.index);
      if (!is_number || !index.in_range || nearest_value != value) {
        return refuse(fmt::format("the default must be a value of the range; {} is the nearest",
                                  is_number ? nearest_value : type.real.value_of(0)));
      }
      to.real = value;
      return to;
    }
    case TypeKind::angle: {
      const double nearest_value = type.angle.value_of(type.angle.index_of(value).index);
      if (!is_number || nearest_value != value) {
        return refuse(
            fmt::format("the default must be one of the steps, 0 to below 360; {} is the "
                        "nearest",
                        nearest_value));
      }
      to.real = value;
      return to;
    }
    case TypeKind::f32:
    case TypeKind::f64:
      if (!is_number) return refuse("the default must be a number");
      to.real = nearest_double(syntax.number);
      // A 32-bit float is exact only if it was rounded to 32 bits.
      if (type.kind == TypeKind::f32) to.real = static_cast<double>(static_cast<float>(to.real));
      return to;
    case TypeKind::enumeration:
      if (!take_name(protocol.enums[type.index].options, place, to.whole, reporter)) {
        return std::nullopt;
      }
      return to;
    case TypeKind::text: {
      if (place.kind != TokenKind::string) return refuse("the default of a text stands in quotes");
      // The token has its quotes.
      const std::string_view text = place.text.substr(1, place.text.size() - 2);
      if (valid_utf8_prefix(text, type.limit) != text.size() ||
          text.find('\\') != std::string_view::npos) {
        return refuse(
            fmt::format("the default must be at most {} bytes of UTF-8 without \\", type.limit));
      }
      to.text = text;
      return to;
    }
    case TypeKind::direction2:
    case TypeKind::direction3:
    case TypeKind::rotation:
    case TypeKind::vec:
    case TypeKind::bytes:
    case TypeKind::flags:
    case TypeKind::record:
    case TypeKind::list:
    case TypeKind::grid:
    case TypeKind::maybe:
    case TypeKind::one_of:
    case TypeKind::ref:
    case TypeKind::peer:
    case TypeKind::tick: break;
  }
  return refuse("only bool, numbers, enums and texts have a default of their own");
}

// Words of an entity's field, and which of them exclude each other.
void entity_words(const FieldSyntax& syntax, schema::Field& field, Reporter& reporter) {
  schema::EntityWords& words = field.words;
  words.at_spawn = syntax.at_spawn.has_value();
  words.owner_only = syntax.owner_only.has_value();
  words.smooth = syntax.smooth.has_value();
  words.local = syntax.side;
  if (syntax.freshness) {
    words.freshness =
        syntax.freshness->text == "lazy" ? schema::Freshness::lazy : schema::Freshness::urgent;
  }
  // Local fields exclude all words that concern the wire.
  if (syntax.local && (words.at_spawn || words.owner_only || words.smooth || syntax.freshness ||
                       syntax.follow || syntax.relative)) {
    reporter.error(*syntax.local, "a local field never travels, so it has no other word");
  } else if (syntax.local && !field.life.whole()) {
    reporter.error(*syntax.local, "a local field never travels, so versions do not matter to it");
  }
  // A field that never changes needs no prediction.
  if (words.at_spawn && (words.smooth || syntax.follow)) {
    reporter.error(*syntax.at_spawn, "what travels at spawn only does not move afterwards");
  }
  if (words.at_spawn && syntax.freshness) {
    reporter.error(*syntax.freshness,
                   fmt::format("what travels at spawn only never changes, so that it is not `{}`",
                               syntax.freshness->text));
  }
  if (syntax.relative) words.relative_to = syntax.carrier.text;
  if (syntax.relative && syntax.follow) {
    reporter.error(
        *syntax.relative,
        "a position either follows a speed or counts from a carrier; leave out one of both words");
  }
  if (!syntax.follow) return;
  words.follow =
      schema::Follow{std::string(syntax.speed.text), std::string(syntax.along.text),
                     syntax.within.written() ? reduced(syntax.within) : schema::Fraction{0, 1}};
  if (syntax.within.written() && syntax.within.num <= 0) {
    reporter.error(syntax.within.place, "the error that needs no correction must be above 0");
  }
}

// In messages and records these words have no meaning.
void refuse_entity_words(const FieldSyntax& syntax, Reporter& reporter) {
  // Each word is reported where it stands.
  for (const auto& word : {syntax.at_spawn, syntax.owner_only, syntax.smooth, syntax.local,
                           syntax.freshness, syntax.follow, syntax.relative}) {
    if (word) reporter.error(*word, "only fields of an entity have this word");
  }
}

// `follow SPEED along BEARING` needs two other fields of the same entity, of the right types, that
// travel wherever the field does; `follow VELOCITY` needs one.
void check_follow(const schema::Protocol& protocol, const std::vector<FieldSyntax>& syntax,
                  std::vector<schema::Field>& fields, Reporter& reporter) {
  const auto find = [&](std::string_view name) {
    return std::find_if(fields.begin(), fields.end(),
                        [&](const auto& f) { return f.name == name; });
  };
  // Both ends extrapolate, so the client must have the other fields as well.
  // Looks up the field that `follow` names, and reports it if it is missing, is not sent to
  // clients, or has a type that `right` rejects.
  const auto other = [&](const Token& place, const auto& right, std::string_view what) {
    const auto found = find(place.text);
    if (found == fields.end()) {
      std::vector<std::string> known;
      known.reserve(fields.size());
      for (const auto& field : fields) known.push_back(field.name);
      const std::string near = bits::nearest(place.text, known);
      reporter.error(place, near.empty() ? fmt::format("the entity has no field `{}`", place.text)
                                         : fmt::format("the entity has no field `{}`; did you mean "
                                                       "`{}`?",
                                                       place.text, near));
    } else if (found->untyped || found->words.local != schema::Local::no || !right(found->type)) {
      reporter.error(place, fmt::format("`{}` is not {}", place.text, what));
    } else if (found->words.follow) {
      reporter.error(place, fmt::format("`{}` follows something itself; what a position follows is "
                                        "known before it",
                                        place.text));
    }
  };
  // Each field with `smooth` or `follow`.
  for (const FieldSyntax& field : syntax) {
    const auto made = find(field.name.text);
    if (made == fields.end()) continue;
    if (field.smooth && !continuous(protocol, made->type)) {
      reporter.error(*field.smooth,
                     "only numbers with parts, angles, directions, rotations, and "
                     "vectors and records of these, have something in between");
    }
    if (!field.follow) continue;
    const auto along = find(field.along.text);
    // A height follows only what has a direction in space.
    const bool in_space = field.along.text.empty()
                              ? is_place(protocol, made->type, 3)
                              : along != fields.end() && along->type.kind == TypeKind::direction3;
    const std::size_t axes = in_space ? 3 : 2;
    if (!is_place(protocol, made->type, axes)) {
      reporter.error(*field.follow,
                     in_space ? "what follows a direction3 is a vec3 or a record that begins with "
                                "x, y and z, all f32, all f64, or all real with the same step"
                              : "what follows is a vec2 or a record that begins with x and y, "
                                "both f32, both f64, or both real with the same step; a vec3 "
                                "follows a direction3 or a velocity");
    }
    if (field.along.text.empty()) {
      other(
          field.speed, [&](const Type& type) { return is_velocity(type, axes); },
          fmt::format("a velocity, a vec{} of numbers; a speed needs `along` and the field that "
                      "holds the direction",
                      axes));
      continue;
    }
    other(field.speed, is_scalar, "a number that can be a speed");
    other(
        field.along,
        [](const Type& type) {
          return type.kind == TypeKind::angle || type.kind == TypeKind::direction2 ||
                 type.kind == TypeKind::direction3;
        },
        "an angle, a direction2 or a direction3");
    // Server and client extrapolate along the direction with the same table of sines, one entry a
    // step.
    if (along != fields.end() &&
        (along->type.kind == TypeKind::angle || along->type.kind == TypeKind::direction2) &&
        along->type.angle.count > kMaxFollowedSteps) {
      reporter.error(field.along,
                     fmt::format("`{}` has {} steps; what is followed along has at most {}",
                                 field.along.text, along->type.angle.count, kMaxFollowedSteps));
    }
  }
}

// The field of a carrier's type that a position counts from has its name and its axes.
void check_attachments(const schema::Protocol& protocol, const std::vector<FieldSyntax>& syntax,
                       const schema::Entity& entity, Reporter& reporter) {
  const auto find = [](const std::vector<schema::Field>& fields, std::string_view name) {
    return std::find_if(fields.begin(), fields.end(),
                        [&](const auto& field) { return field.name == name; });
  };
  // Interest finds places of real numbers alone.
  const auto axes_of = [&](const Type& type) -> std::size_t {
    if (first_axis(protocol, type).kind != TypeKind::real) return 0;
    for (const std::size_t axes : {std::size_t{3}, std::size_t{2}}) {
      if (is_place(protocol, type, axes)) return axes;
    }
    return 0;
  };
  for (const FieldSyntax& field : syntax) {
    const auto made = find(entity.fields, field.name.text);
    if (!field.relative || made == entity.fields.end()) continue;
    const std::size_t axes = axes_of(made->type);
    if (axes == 0) {
      reporter.error(*field.relative,
                     "a position relative to another entity is a vec2 or vec3 of real, or a record "
                     "that begins with x and y");
      continue;
    }
    const auto carrier = find(entity.fields, field.carrier.text);
    if (carrier == entity.fields.end() || carrier->type.kind != TypeKind::ref ||
        carrier->words.local != schema::Local::no || carrier->words.owner_only) {
      reporter.error(field.carrier,
                     fmt::format("`{0}` is not a `ref` that every client gets; write `{0} : ref "
                                 "NAME` with the entity type of the carrier",
                                 field.carrier.text));
      continue;
    }
    const schema::Entity& type = protocol.entities[carrier->type.index];
    const auto base = find(type.fields, made->name);
    if (base != type.fields.end() && axes_of(base->type) == axes &&
        base->words.local == schema::Local::no) {
      continue;
    }
    reporter.error(field.carrier,
                   fmt::format("`{}` has no field `{}` of {} coordinates to count from", type.name,
                               made->name, axes));
  }
}

}  // namespace kwind::language
