// How large a message would be as naive JSON text, for comparison.
#pragma once
#include <nlohmann/json.hpp>
#include <string>
#include <type_traits>
#include <vector>

namespace kwind::kit {

template <class T>
nlohmann::json to_json_value(const T& value) {
  if constexpr (std::is_enum_v<T>) {
    return std::string(name_of(value));
  } else if constexpr (std::is_arithmetic_v<T> || std::is_same_v<T, std::string>) {
    return value;
  } else if constexpr (requires { value.begin(); }) {
    nlohmann::json list = nlohmann::json::array();
    for (const auto& item : value) list.push_back(to_json_value(item));
    return list;
  } else {
    nlohmann::json object = nlohmann::json::object();
    visit_fields(value,
                 [&](const char* name, const auto& field) { object[name] = to_json_value(field); });
    return object;
  }
}

template <class T>
std::string_view name_of_type() {
  if constexpr (requires { T::info(); }) {
    return T::info().name;
  } else {
    return T::entity_info().name;
  }
}

/// Bytes of {"type":"Helm","rudder":0.5,...}.
template <class T>
std::size_t json_bytes(const T& message) {
  nlohmann::json object = to_json_value(message);
  object["type"] = std::string(name_of_type<T>());
  return object.dump().size();
}

}  // namespace kwind::kit
