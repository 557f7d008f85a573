// What both ends derive from the description of a kind: the order in which columns are coded, and
// the arithmetic by which values are foretold, all of it in whole numbers so that every machine
// gets the same. Pure.
#pragma once
#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "code_set.h"
#include "kwind/schema/entity_info.h"
#include "rows.h"

namespace kwind::replica {

/// A state that both ends know the client to have.
struct Known {
  std::uint32_t tick = 0;
  Row row{};
};

using KnownStates = std::array<Known, kKnownStates>;

class KindShape {
 public:
  KindShape(const schema::EntityInfo& info, double ticks_per_second);

  [[nodiscard]] const schema::EntityInfo& info() const { return *info_; }
  [[nodiscard]] std::size_t columns() const { return info_->columns.size(); }
  [[nodiscard]] std::size_t varying() const { return varying_; }
  /// Place of a varying column among those.
  [[nodiscard]] std::size_t varying_place(std::size_t column) const { return places_[column]; }
  /// Columns in the order in which they are coded: what others follow comes before them.
  [[nodiscard]] std::span<const std::uint16_t> order() const { return order_; }
  /// Those of which one symbol tells whether they are as foretold, and the others that change at
  /// all.
  [[nodiscard]] std::span<const MaskColumn> mask() const { return mask_; }
  [[nodiscard]] std::size_t masks() const { return masks_of(mask_); }
  [[nodiscard]] std::span<const std::uint16_t> rest() const { return rest_; }
  /// What `mask` says of a column; nothing if it says nothing.
  [[nodiscard]] std::optional<std::uint32_t> said_of(std::size_t column, std::uint32_t mask) const {
    const std::int16_t at = mask_places_[column];
    if (at < 0) return std::nullopt;
    const MaskColumn& found = mask_[static_cast<std::size_t>(at)];
    return mask >> found.place & ((1U << found.bits) - 1);
  }

  /// Its changes are told every so many ticks; 1: in each.
  [[nodiscard]] std::uint32_t period() const { return period_; }
  /// Whether any of its fields has a tolerance (`within`): then values may stand for a while, moved
  /// on by whoever shows them, and are told with the tick that they are of.
  [[nodiscard]] bool tolerant() const { return tolerant_; }
  /// Whether it has `owner only` columns.
  [[nodiscard]] bool owner_has_more() const { return owner_has_more_; }
  /// Whether who has `then` needs no correction: all is the same, or moved on by its own speed and
  /// direction it is where `now` is, within its tolerance.
  [[nodiscard]] bool stands(const Known& then, const Row& now, std::uint32_t tick) const;
  /// Column of the place of `then`, moved on to `tick` by its own speed and direction alone.
  [[nodiscard]] std::uint32_t moved_on(std::size_t column, const Known& then,
                                       std::uint32_t tick) const;

  /// What `column` will hold at `tick`, from at least one state known, newest first, and from the
  /// columns before it in order(), which `now` has. O(1).
  [[nodiscard]] std::uint32_t foretell(std::size_t column, std::span<const Known> known,
                                       std::span<const std::uint32_t> now,
                                       std::uint32_t tick) const;
  /// Whether anything that moves goes further between these than motion does: see Mirror::sample.
  [[nodiscard]] bool leaps(const Row& from, const Row& to) const;
  /// The way from a foretold value to the true one: the short one where values are circular.
  [[nodiscard]] std::int64_t error_of(std::size_t column, std::uint32_t foretold,
                                      std::uint32_t value) const;
  /// The value at an error; nothing if there is none.
  [[nodiscard]] bool at_error(std::size_t column, std::uint32_t foretold, std::int64_t error,
                              std::uint32_t& value) const;

 private:
  struct Follow {
    const schema::FollowInfo* info;
    // Way along a direction in one tick, in steps of place times 2^kScaleBits: zero + speed * step.
    std::int64_t zero;
    std::int64_t step;
    std::vector<std::int32_t> cosines;  // by step of the turn, times 2^kTurnBits
  };

  [[nodiscard]] std::int64_t way(const Follow& follow, std::size_t axis,
                                 std::span<const std::uint32_t> numbers) const;
  [[nodiscard]] std::uint32_t moved(std::size_t column, std::uint32_t from, std::int64_t by) const;

  const schema::EntityInfo* info_;
  bool tolerant_ = false;
  bool owner_has_more_ = false;
  std::uint32_t period_ = 1;
  std::size_t varying_ = 0;
  std::vector<std::size_t> places_;
  std::vector<std::uint16_t> order_;
  std::vector<MaskColumn> mask_;
  std::vector<std::uint16_t> rest_;
  std::vector<std::int16_t> mask_places_;  // by column
  std::vector<Follow> follows_;
  std::vector<std::int16_t> follow_of_;  // by column; -1: none
};

}  // namespace kwind::replica
