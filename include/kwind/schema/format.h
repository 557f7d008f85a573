// Lets fmt print every generated struct and enum: Helm{rudder: 0.25, throttle: 50}. For logs and
// tests; generated headers do not include it. Pure; safe anywhere.
#pragma once
#include <fmt/format.h>

#include <string>
#include <string_view>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/schema/references.h"

namespace kwind::schema {

namespace format_detail {
struct AnyVisitor {
  template <class T>
  void operator()(std::string_view, const T&) const {}
};
}  // namespace format_detail

/// A generated struct: one that visit_fields knows.
template <class T>
concept Described = requires(const T& value) {
  visit_fields(value, format_detail::AnyVisitor{});
};
/// A generated enum.
template <class T>
concept Named = requires(T value) {
  { name_of(value) } -> std::convertible_to<std::string_view>;
};

namespace format_detail {

KWIND_API void put_text(std::string& out, std::string_view text);

template <class T>
void put(std::string& out, const T& value) {
  if constexpr (Named<T>) {
    out += name_of(value);
  } else if constexpr (std::is_same_v<T, std::byte>) {
    out += fmt::format("{:02x}", static_cast<unsigned>(value));
  } else if constexpr (std::is_arithmetic_v<T>) {
    out += fmt::format("{}", value);
  } else if constexpr (std::is_convertible_v<const T&, std::string_view>) {
    put_text(out, value);
  } else if constexpr (Described<T>) {
    out += '{';
    bool first = true;
    visit_fields(value, [&](std::string_view name, const auto& field) {
      if (!first) out += ", ";
      first = false;
      out += name;
      out += ": ";
      put(out, field);
    });
    out += '}';
  } else if constexpr (requires { value.generation; }) {  // ref
    out += value ? fmt::format("{}/{}", value.id, value.generation) : "none";
  } else if constexpr (requires { value.has_value(); }) {  // maybe
    if (value) {
      put(out, *value);
    } else {
      out += "none";
    }
  } else if constexpr (requires {
                         value.index();
                         value.valueless_by_exception();
                       }) {  // one of
    visit(
        [&](const auto& held) {
          out += held.kName;
          if constexpr (requires { held.value; }) {
            out += ' ';
            put(out, held.value);
          }
        },
        value);
  } else if constexpr (requires { value.coeffs(); }) {  // rotation
    out += fmt::format("({}, {}, {}, {})", value.w(), value.x(), value.y(), value.z());
  } else if constexpr (requires { value.cells(); }) {
    out += fmt::format("{} x {} cells", T::kWidth, T::kHeight);
  } else {  // lists and vectors
    out += '[';
    bool first = true;
    for (const auto& item : value) {
      if (!first) out += ", ";
      first = false;
      put(out, static_cast<const std::decay_t<decltype(item)>&>(item));
    }
    out += ']';
  }
}

KWIND_API void put_json_text(std::string& out, std::string_view text);
KWIND_API void put_json_number(std::string& out, double value);

// The same values as JSON, in the form that docs/schema-language.md gives them.
template <class T>
void put_json(std::string& out, const T& value) {
  if constexpr (Named<T>) {
    put_json_text(out, name_of(value));
  } else if constexpr (std::is_same_v<T, bool>) {
    out += value ? "true" : "false";
  } else if constexpr (std::is_floating_point_v<T>) {
    put_json_number(out, static_cast<double>(value));
  } else if constexpr (std::is_arithmetic_v<T>) {
    out += fmt::format("{}", value);
  } else if constexpr (std::is_convertible_v<const T&, std::string_view>) {
    put_json_text(out, value);
  } else if constexpr (Described<T>) {
    out += '{';
    bool first = true;
    visit_fields(value, [&](std::string_view name, const auto& field) {
      if (!first) out += ',';
      first = false;
      put_json_text(out, name);
      out += ':';
      put_json(out, field);
    });
    out += '}';
  } else if constexpr (requires { value.generation; }) {  // ref
    out +=
        value ? fmt::format(R"({{"id":{},"generation":{}}})", value.id, value.generation) : "null";
  } else if constexpr (requires { value.has_value(); }) {  // maybe
    if (value) {
      put_json(out, *value);
    } else {
      out += "null";
    }
  } else if constexpr (requires {
                         value.index();
                         value.valueless_by_exception();
                       }) {  // one of
    visit(
        [&](const auto& held) {
          if constexpr (requires { held.value; }) {
            out += '{';
            put_json_text(out, held.kName);
            out += ':';
            put_json(out, held.value);
            out += '}';
          } else {
            put_json_text(out, held.kName);
          }
        },
        value);
  } else if constexpr (requires { value.coeffs(); }) {  // rotation
    out += '[';
    for (const double part : {value.w(), value.x(), value.y(), value.z()}) {
      if (out.back() != '[') out += ',';
      put_json_number(out, part);
    }
    out += ']';
  } else if constexpr (requires { value.cells(); }) {
    out += fmt::format("\"{} x {} cells\"", T::kWidth, T::kHeight);
  } else if constexpr (std::is_same_v<T, std::vector<std::byte>>) {
    out += '"';
    for (const std::byte byte : value) out += fmt::format("{:02x}", static_cast<unsigned>(byte));
    out += '"';
  } else {  // lists and vectors
    out += '[';
    bool first = true;
    for (const auto& item : value) {
      if (!first) out += ',';
      first = false;
      put_json(out, static_cast<const std::decay_t<decltype(item)>&>(item));
    }
    out += ']';
  }
}

}  // namespace format_detail

}  // namespace kwind::schema

template <class T>
requires kwind::schema::Described<T> || kwind::schema::Named<T>
struct fmt::formatter<T> : fmt::formatter<std::string_view> {
  template <class Context>
  auto format(const T& value, Context& context) const {
    std::string text;
    if constexpr (requires { T::info(); }) text += T::info().name;
    kwind::schema::format_detail::put(text, value);
    return fmt::formatter<std::string_view>::format(text, context);
  }
};
