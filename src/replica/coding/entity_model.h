// What both ends derive from an entity type: coding order of columns, masks, and the predictors.
// All arithmetic is in whole numbers, so that every machine predicts the same. Pure.
#pragma once
#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "kwind/schema/entity_info.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/column_row.h"
#include "replica/coding/unit_columns.h"

namespace kwind::replica {

/// A state that both ends know the client to have.
struct Known {
  Tick tick;
  Row row{};
};

using KnownStates = std::array<Known, kKnownStates>;

/// A column that changes at all, as it is coded.
struct ChangingColumn {
  std::uint16_t column = 0;
  std::uint8_t place = 0;  ///< of its lowest bit in a mask
  std::uint8_t width = 0;  ///< of its bits there, see MaskColumn; 0: it is of the rest
  std::uint8_t bits = 0;   ///< of a value
  bool owner_only = false;
  bool varies = false;
  /// Whether something else than its newest value may be predicted.
  enum class Moves : std::uint8_t { no, by_itself, first_of_place, first_of_group, with_others };
  Moves moves = Moves::no;
  bool by_error = false;  ///< otherwise by its value

  [[nodiscard]] std::uint32_t said(std::uint32_t mask) const {
    return mask >> place & ((1U << width) - 1);
  }
};

class EntityModel {
 public:
  EntityModel(const schema::EntityInfo& info, double ticks_per_second);

  [[nodiscard]] const schema::EntityInfo& info() const { return *info_; }
  [[nodiscard]] std::size_t columns() const { return info_->columns.size(); }
  [[nodiscard]] std::size_t varying() const { return varying_; }
  /// Place of a varying column among those.
  [[nodiscard]] std::size_t varying_place(std::size_t column) const { return places_[column]; }
  /// Columns in the order in which they are coded: what others follow comes before them.
  [[nodiscard]] std::span<const std::uint16_t> order() const { return order_; }
  /// What one symbol says of changing columns, see mask_columns(): how many there are of it.
  [[nodiscard]] std::size_t masks() const { return masks_of(mask_); }
  /// Whether there are others, of which it says nothing.
  [[nodiscard]] bool has_unchanging() const { return has_rest_; }
  /// The one and the other, in order().
  [[nodiscard]] std::span<const ChangingColumn> changing() const { return changing_; }

  /// Its changes are sent every so many ticks; 1: in each.
  [[nodiscard]] std::uint32_t period() const { return period_; }
  /// Whether any of its fields has a tolerance (`within`): then values may stand for a while, moved
  /// on by whoever shows them, and are sent with the tick that they are of.
  [[nodiscard]] bool tolerant() const { return tolerant_; }
  /// Whether changes that are in flight are sent again before their fate is known: of tolerant
  /// entities none is, of others those of columns that are not `lazy`.
  [[nodiscard]] bool repeats() const { return repeats_; }
  /// Whether that depends on which columns changed, see pressing().
  [[nodiscard]] bool repeats_some() const { return repeats_some_; }
  /// Whether a column is `urgent`: its changes are sent again whatever the budget.
  [[nodiscard]] bool has_urgent() const { return has_urgent_; }
  /// What changes between two rows: a column that is repeated, and one that is urgent.
  struct Pressing {
    bool repeated = false;
    bool urgent = false;
  };
  /// O(columns).
  [[nodiscard]] Pressing pressing(const Row& from, const Row& to) const;
  /// Whether it has `owner only` columns.
  [[nodiscard]] bool owner_has_more() const { return owner_has_more_; }
  /// Whether who has `then` needs no correction: all is the same, or moved on by its own speed and
  /// direction it is where `now` is, within its tolerance.
  [[nodiscard]] bool stands(const Known& then, const Row& now, Tick tick) const;
  /// Column of the place of `then`, moved on to `tick` by its own speed and direction alone.
  [[nodiscard]] std::uint32_t moved_on(std::size_t column, const Known& then, Tick tick) const;

  /// What `column` will hold at `tick`, from at least one state known, newest first, and from the
  /// columns before it in order(), which `now` has. O(1).
  [[nodiscard]] std::uint32_t predict(std::size_t column, Predictor predictor,
                                      std::span<const Known> known,
                                      std::span<const std::uint32_t> now, Tick tick) const;
  /// Puts the same in place of what `now` holds there, and with the first axis of a place also of
  /// the others.
  void predict_at(const ChangingColumn& at, std::span<const Predictor> predictors,
                  std::span<const Known> known, std::span<std::uint32_t> now, Tick tick) const;
  /// The predictors that a column can have.
  [[nodiscard]] const PredictorChoice& choice(std::size_t column) const { return choices_[column]; }
  /// Whether anything that moves goes further between these than motion does: see
  /// ClientWorld::sample. Where values may be a little off, `from` is moved on to the tick of `to`
  /// before.
  [[nodiscard]] bool leaps(const Known& from, const Known& to) const;
  /// The way from a predicted value to the true one: the short one where values are circular.
  [[nodiscard]] std::int64_t error_of(std::size_t column, std::uint32_t predicted,
                                      std::uint32_t value) const;
  /// The value at an error; nothing if there is none.
  [[nodiscard]] bool at_error(std::size_t column, std::uint32_t predicted, std::int64_t error,
                              std::uint32_t& value) const;

 private:
  struct Follow {
    const schema::FollowInfo* info = nullptr;
    // Way along a direction in one tick, in steps of place times 2^kScaleBits: zero + speed * step.
    std::int64_t zero = 0;
    std::int64_t step = 0;
    // By axis and step of the turn, times 2^kTurnBits; empty without an angle.
    std::array<std::vector<std::int32_t>, 2> shares;
  };

  // By axis, in one tick, in steps of place times 2^kScaleBits.
  using Ways = std::array<std::int64_t, 3>;
  void add_follow(const schema::FollowInfo& follow, double ticks_per_second);
  void add_changing(std::uint16_t c);
  void find_freshness();
  [[nodiscard]] schema::Freshness freshness(std::size_t column) const;
  [[nodiscard]] Ways ways_of(const Follow& follow, std::span<const std::uint32_t> numbers) const;
  // Of so many axes from `axis` on.
  void predict_position(const Follow& follow, Predictor predictor, std::size_t axis,
                        std::size_t axes, std::span<const Known> known,
                        std::span<const std::uint32_t> now, Tick tick,
                        std::uint32_t* predicted) const;
  [[nodiscard]] UnitStates unit_states(std::size_t first, Predictor predictor,
                                       std::span<const Known> known, Tick tick) const;
  [[nodiscard]] std::uint32_t predict_number(std::size_t column, Predictor predictor,
                                             std::span<const Known> known, Tick tick) const;
  [[nodiscard]] std::uint32_t moved(std::size_t column, std::uint32_t from, std::int64_t by) const;

  const schema::EntityInfo* info_;
  bool tolerant_ = false;
  bool owner_has_more_ = false;
  bool repeats_ = false;
  bool repeats_some_ = false;
  bool has_urgent_ = false;
  std::uint32_t period_ = 1;
  std::size_t varying_ = 0;
  std::vector<std::size_t> places_;
  std::vector<std::uint16_t> order_;
  std::vector<MaskColumn> mask_;
  bool has_rest_ = false;
  std::vector<ChangingColumn> changing_;
  std::vector<PredictorChoice> choices_;  // by column
  std::vector<Follow> follows_;
  std::vector<std::int16_t> follow_of_;  // by column; -1: none
};

}  // namespace kwind::replica
