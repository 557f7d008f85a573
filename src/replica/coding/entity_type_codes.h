// The numbers that entity types have on the wire: places among those that a version has, in the
// order of the description. A type that only other versions have takes none, so that an older
// description, which does not declare it, counts the same. Plain values.
#pragma once
#include <cstddef>
#include <cstdint>
#include <optional>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/schema/entity_info.h"

namespace kwind::replica {

class EntityTypeCodes {
 public:
  explicit EntityTypeCodes(const schema::EntitiesInfo& entities) : codes_(entities.types.size()) {
    for (std::size_t type = 0; type < codes_.size(); ++type) {
      if (!entities.has(type)) continue;
      codes_[type] = static_cast<std::uint16_t>(types_.size());
      types_.push_back(static_cast<std::uint16_t>(type));
    }
  }

  /// Of each code.
  [[nodiscard]] unsigned bits() const { return bits::bits_for(types_.size()); }
  /// Requires: the version has the type.
  [[nodiscard]] std::uint16_t code_of(std::uint16_t type) const { return codes_[type]; }
  /// Nothing for a code that no type has.
  [[nodiscard]] std::optional<std::uint16_t> type_of(std::uint64_t code) const {
    return code < types_.size() ? std::optional(types_[code]) : std::nullopt;
  }

 private:
  std::vector<std::uint16_t> codes_;  // by type
  std::vector<std::uint16_t> types_;  // by code
};

}  // namespace kwind::replica
