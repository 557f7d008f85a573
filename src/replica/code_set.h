// The inside of a CodeSet.
#pragma once
#include <algorithm>
#include <array>
#include <vector>

#include "kwind/replica/codes.h"
#include "prefix_code.h"

namespace kwind::replica {

/// Columns whose changes are told by one symbol; what more there are have a bit each behind it.
inline constexpr std::size_t kMaskColumns = 8;

struct CodeSet::Inside {
  struct Kind {
    std::vector<PrefixCode> movers;               // by age
    std::vector<PrefixCode> others;               // by age
    std::vector<std::vector<PrefixCode>> errors;  // by column, age
  };
  std::vector<Kind> kinds;
};

/// Place among the ages of a state known so many ticks ago.
inline std::size_t age_of(std::uint32_t ticks) {
  return std::clamp<std::uint32_t>(ticks, 1, Tally::kAges) - 1;
}

/// The columns that the symbol of a change tells of, in the order in which they are coded: those
/// that change at all, the first kMaskColumns of them.
std::vector<std::uint16_t> mask_columns(const schema::EntityInfo& info,
                                        const std::vector<std::uint16_t>& order);
/// The order in which columns are coded: those of a field with `follow` behind all others.
std::vector<std::uint16_t> coding_order(const schema::EntityInfo& info);

}  // namespace kwind::replica
