// Constant tables in generated C++, written as a person would: members by name, and none that has
// its default. Pure.
#pragma once
#include <fmt/format.h>

#include <string>
#include <string_view>
#include <vector>

#include "kwind/schema/protocol.h"

namespace kwind::language {

class Members {
 public:
  template <class T>
  Members& add(std::string_view name, const T& value) {
    const std::string text = fmt::format(".{} = {}", name, value);
    if (!text_.empty()) {
      text_ += ',';
      column_ += 1;
    }
    // Long rows go on in the next line, behind the brace.
    const bool breaks = column_ + 1 + text.size() > kColumns;
    if (!text_.empty()) text_ += breaks ? std::string("\n") + std::string(kIndent, ' ') : " ";
    column_ = (breaks ? kIndent : column_ + 1) + text.size();
    text_ += text;
    return *this;
  }
  /// Nothing if the value is the member's default.
  template <class T, class Default>
  Members& add_unless(const Default& usual, std::string_view name, const T& value) {
    return value == usual ? *this : add(name, value);
  }
  [[nodiscard]] std::string text() const { return "{" + text_ + "}"; }

 private:
  static constexpr std::size_t kColumns = 98;
  static constexpr std::size_t kIndent = 5;
  std::string text_;
  std::size_t column_ = kIndent;
};

/// As a table says it; a declaration that was always there says nothing.
inline constexpr std::string_view kAlways = "{1, 0}";
std::string life_of(const schema::Life& life);

/// The names of its EntityInfo in each of schema::entity_versions(); neighbours are equal where the
/// entity is.
std::vector<std::string> entity_info_names(const schema::Protocol& protocol,
                                           const schema::Entity& entity);
/// The tables of an entity, and the function that gives them. `type`: its place among the entities.
std::string entity_tables(const schema::Protocol& protocol, const schema::Entity& entity,
                          std::size_t type);

}  // namespace kwind::language
