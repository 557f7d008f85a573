// The content of CodeTables: one prefix code per entity type, age and alphabet.
#pragma once
#include <algorithm>
#include <array>
#include <vector>

#include "kwind/replica/code_tables.h"
#include "replica/coding/prefix_code.h"

namespace kwind::replica {

/// In the two bits that a mask has for a predicted field: the residual does not fit in them and
/// follows in full.
inline constexpr std::uint32_t kLongError = 3;

/// Bits of the number that says which columns are not as predicted; columns that it has no room
/// for follow with a bit each.
inline constexpr unsigned kMaskBits = 10;

/// What a column says in that number. One bit: whether it is as predicted. Two, for a place that
/// follows: 0 as predicted, 1 one step more, 2 one less, 3 otherwise.
struct MaskColumn {
  std::uint16_t column;
  std::uint8_t place;  ///< of its lowest bit
  std::uint8_t bits;
};

struct CodeTables::Inside {
  struct Type {
    std::vector<PrefixCode> continuing;           // by age
    std::vector<PrefixCode> unexpected;           // by age
    std::vector<std::vector<PrefixCode>> errors;  // by column, age
    std::vector<Predictor> predictors;            // by column
    // Of a mover that there is nothing to say of, by age.
    std::array<PrefixCode::Code, SymbolCounts::kAges> nothing{};
    bool in_version = true;  // false: nothing of it counts
  };
  std::vector<Type> types;
  PrefixCode heads;  ///< of snapshots
  std::optional<SnapshotModes> trained_on{};
};

/// Place among the ages of a state known so many ticks ago.
inline std::size_t age_of(std::uint32_t ticks) {
  return std::clamp<std::uint32_t>(ticks, 1, SymbolCounts::kAges) - 1;
}

/// How many bits follow the symbol of a class of long residuals.
inline unsigned class_bits(std::size_t symbol) {
  return SymbolCounts::kFirstClassBits + static_cast<unsigned>(symbol - SymbolCounts::kErrors);
}

/// The columns that the symbol of a change covers, in the order in which they are coded: those
/// that change at all, as many of the last ones as have room.
std::vector<MaskColumn> mask_columns(const schema::EntityInfo& info,
                                     const std::vector<std::uint16_t>& order);
/// How many numbers they make.
inline std::size_t masks_of(const std::vector<MaskColumn>& columns) {
  return std::size_t{1} << (columns.empty() ? 0 : columns.back().place + columns.back().bits);
}
/// Whether a column is an axis of a place that follows.
bool follows(const schema::EntityInfo& info, std::size_t column);
/// The predictors that a column can have, as bits 1 << predictor; the first one is that of the
/// words of its field.
struct PredictorChoice {
  Predictor by_words = Predictor::hold;
  std::uint32_t all = 1;
  [[nodiscard]] bool has(Predictor predictor) const {
    return (all >> static_cast<unsigned>(predictor) & 1U) != 0;
  }
};
PredictorChoice predictors_of(const schema::EntityInfo& info, std::size_t column);
/// Whether a position moves by the column: a speed, a direction or a velocity.
bool leads(const schema::EntityInfo& info, std::size_t column);
/// Whether the owner alone has what the position moves by.
bool hides_leader(const schema::EntityInfo& info, const schema::FollowInfo& follow);
/// The order in which columns are coded: those of a field with `follow` behind all others.
std::vector<std::uint16_t> coding_order(const schema::EntityInfo& info);

}  // namespace kwind::replica
