// The types of a description in C++: names, initial values, constants for ranges, and the headers
// that a member of the type needs.
//
// One function for each question that a generator asks of a type: name(), value(), initial(),
// range(), headers(). Each is a switch over all kinds, so that a new kind does not compile until
// all of them have an answer.
#include "language/cpp_types.h"

#include <fmt/format.h>

#include <limits>

#include "language/cpp_names.h"
#include "language/snake_case.h"

namespace kwind::language {

using schema::Options;
using schema::Type;
using schema::TypeKind;

// Integers take the smaller of two C++ types that holds their range: arithmetic with 32-bit members
// needs no casts.
bool fits_32(const Type& type) {
  return type.integer.lo >= std::numeric_limits<std::int32_t>::min() &&
         type.integer.hi <= std::numeric_limits<std::int32_t>::max();
}

// An inline enum lives inside the struct of its field's owner.
std::string CppTypes::qualified(const Options& options) {
  return options.inside.empty() ? options.name : options.inside + "::" + options.name;
}

std::string CppTypes::qualified_one_of(const Options& options) {
  return options.inside + "::" + cpp_one_of(options.name);
}

// The C++ type of a field, as the member is declared.
std::string CppTypes::name(const Type& type, const std::string& scope) const {
  // `scope` is the namespace in front of declared names; empty inside the protocol's own.
  const auto element = [&] { return name(type.element.front(), scope); };
  switch (type.kind) {
    case TypeKind::boolean: return "bool";
    case TypeKind::integer: return fits_32(type) ? "std::int32_t" : "std::int64_t";
    case TypeKind::count:
    case TypeKind::peer:
    case TypeKind::tick: return "std::uint32_t";
    case TypeKind::f32: return "float";
    case TypeKind::real:
    case TypeKind::f64:
    case TypeKind::angle: return "double";
    case TypeKind::direction2: return "::Eigen::Vector2d";
    case TypeKind::direction3: return "::Eigen::Vector3d";
    case TypeKind::rotation: return "::Eigen::Quaterniond";
    case TypeKind::vec: {
      // Eigen names vectors of int, float and double; one of 64-bit integers has no short name.
      const Type& part = type.element.front();
      if (part.kind == TypeKind::integer && !fits_32(part)) {
        return fmt::format("::Eigen::Matrix<std::int64_t, {}, 1>", type.limit);
      }
      // Eigen's suffixes: i, f and d.
      const char letter = part.kind == TypeKind::integer ? 'i'
                          : part.kind == TypeKind::f32   ? 'f'
                                                         : 'd';
      return fmt::format("::Eigen::Vector{}{}", type.limit, letter);
    }
    case TypeKind::text: return "std::string";
    case TypeKind::bytes: return "std::vector<std::byte>";
    case TypeKind::enumeration: return scope + qualified(protocol_.enums[type.index]);
    case TypeKind::flags: return scope + qualified(protocol_.flags[type.index]);
    case TypeKind::record: return scope + protocol_.records[type.index].name;
    case TypeKind::list: return fmt::format("std::vector<{}>", element());
    case TypeKind::grid:
      return fmt::format("kwind::schema::Grid<{}, {}, {}>", element(), type.limit, type.height);
    case TypeKind::maybe: return fmt::format("std::optional<{}>", element());
    case TypeKind::one_of:
      return scope + qualified_one_of(protocol_.one_ofs[type.index]) + "::OneOf";
    case TypeKind::ref:
      return fmt::format("kwind::schema::Ref<{}{}>", scope, protocol_.entities[type.index].name);
  }
  return "";
}

// A literal for a value: the default that a member is initialised with.
std::string CppTypes::value(const Type& type, const schema::Value& value,
                            const std::string& scope) const {
  // Kinds without a literal have an empty one.
  switch (type.kind) {
    case TypeKind::boolean: return value.whole != 0 ? "true" : "false";
    case TypeKind::integer: return cpp_whole(value.whole);
    case TypeKind::count:
    case TypeKind::peer:
    case TypeKind::tick: return fmt::format("{}", value.whole);
    case TypeKind::f32: {
      // fmt writes the shortest text that reads back as the same number.
      const std::string text = fmt::format("{}", static_cast<float>(value.real));
      // A whole number needs no suffix: `1F` is no literal.
      return text.find_first_of(".e") == std::string::npos ? text : text + "F";
    }
    case TypeKind::real:
    case TypeKind::f64:
    case TypeKind::angle: return fmt::format("{}", value.real);
    case TypeKind::direction2: return "::Eigen::Vector2d::UnitX()";
    case TypeKind::direction3: return "::Eigen::Vector3d::UnitZ()";
    case TypeKind::rotation: return "::Eigen::Quaterniond::Identity()";
    case TypeKind::enumeration: {
      const Options& options = protocol_.enums[type.index];
      return fmt::format("{}::{}", scope.empty() ? options.name : scope + qualified(options),
                         cpp_name(options.options[static_cast<std::size_t>(value.whole)].name));
    }
    default: return "";
  }
}

// The initialiser of a member, with its leading ` = `; empty where the type's own is right.
std::string CppTypes::initial(const Type& type, const schema::Value& of,
                              const std::string& scope) const {
  switch (type.kind) {
    case TypeKind::vec: {
      // All components of a default are equal: the language states none for vectors.
      const std::string part = value(type.element.front(), of.items.front(), scope);
      return part == "0" ? fmt::format(" = {}::Zero()", name(type))
                         : fmt::format(" = {}::Constant({})", name(type), part);
    }
    case TypeKind::grid: {
      const std::string cell = value(type.element.front(), of.items.front(), scope);
      // A grid is made of zeros by itself.
      return cell == "0" || cell == "false" ? "" : fmt::format("{{{}}}", cell);
    }
    case TypeKind::text:
      if (of.text.empty()) return "";
      // A zero would end a plain literal.
      return of.text.find('\0') == std::string::npos
                 ? " = " + cpp_string(of.text)
                 : fmt::format("{{{}, {}}}", cpp_string(of.text), of.text.size());
    default: break;
  }
  const std::string text = value(type, of, scope);
  return text.empty() ? "" : " = " + text;
}

// The type at the bottom of lists, vectors and optional values: ranges are those of the leaf.
// One range serves all items of a list, and all components of a vector.
const Type& CppTypes::leaf(const Type& type) {
  return type.element.empty() ? type : leaf(type.element.front());
}

// The constant that encode and decode share: range, step and bits of a number.
std::string CppTypes::range(const Type& of, const std::string& prefix) {
  const Type& type = leaf(of);
  switch (type.kind) {
    case TypeKind::integer:
      return fmt::format("kwind::bits::IntRange {}_range{{{}, {}}}", prefix,
                         cpp_whole(type.integer.lo), cpp_whole(type.integer.hi));
    case TypeKind::real:
      return fmt::format("kwind::bits::RealRange {}_range{{{}, {}, {}, {}}}", prefix, type.real.lo,
                         type.real.step, type.real.scale, type.real.count);
    case TypeKind::angle:
    case TypeKind::direction2:
      return fmt::format("kwind::bits::AngleRange {}_range{{{}, {}, {}}}", prefix, type.angle.step,
                         type.angle.scale, type.angle.count);
    case TypeKind::direction3:
      return fmt::format("kwind::bits::DirectionGrid {}_range{{{}}}", prefix, type.direction.half);
    case TypeKind::rotation:
      return fmt::format("kwind::bits::RotationGrid {}_range{{{}}}", prefix, type.rotation.half);
    default: return "";
  }
}

// Types that belong to a request are declared in the request's header.
std::string CppTypes::home(const std::string& name) const {
  for (const auto& message : protocol_.messages) {
    if (message.role != schema::MessageRole::request) continue;
    for (const char* suffix : {"Reply", "Refused", "Refusal", "Answer", "Asking"}) {
      if (name == message.name + suffix) return message.name;
    }
  }
  return name;
}

// Headers that a type needs, of the standard library and of this protocol.
void CppTypes::headers(const Type& type, std::set<std::string>& system,
                       std::set<std::string>& ours) const {
  const auto declared = [&](const std::string& name) {
    ours.insert(fmt::format("\"{}/{}.h\"", protocol_.name, snake_case(home(name))));
  };
  const auto options = [&](const Options& made) {
    if (made.inside.empty()) declared(made.name);
    // What the cases carry is part of the variant.
    for (const schema::Option& option : made.options) {
      for (const Type& inner : option.type) headers(inner, system, ours);
    }
  };
  switch (type.kind) {
    case TypeKind::text: system.insert("<string>"); break;
    case TypeKind::bytes:
      system.insert("<cstddef>");
      system.insert("<vector>");
      break;
    case TypeKind::list: system.insert("<vector>"); break;
    case TypeKind::maybe: system.insert("<optional>"); break;
    case TypeKind::grid: ours.insert("\"kwind/schema/grid.h\""); break;
    case TypeKind::vec:
    case TypeKind::direction2:
    case TypeKind::direction3: system.insert("<Eigen/Core>"); break;
    case TypeKind::rotation: system.insert("<Eigen/Geometry>"); break;
    case TypeKind::record: declared(protocol_.records[type.index].name); break;
    case TypeKind::enumeration: options(protocol_.enums[type.index]); break;
    case TypeKind::flags: options(protocol_.flags[type.index]); break;
    case TypeKind::one_of:
      system.insert("<variant>");
      options(protocol_.one_ofs[type.index]);
      break;
    case TypeKind::boolean:
    case TypeKind::integer:
    case TypeKind::count:
    case TypeKind::real:
    case TypeKind::f32:
    case TypeKind::f64:
    case TypeKind::angle:
    case TypeKind::ref:
    case TypeKind::peer:
    case TypeKind::tick: break;
  }
  // Elements need their headers, too.
  for (const Type& inner : type.element) headers(inner, system, ours);
}

}  // namespace kwind::language
