// Delta coding: the values of an entity in full, or as residuals against their prediction from
// baselines. docs/state-format.md has the bits. Pure.
#pragma once
#include <cstdint>
#include <span>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/entity_model.h"

namespace kwind::replica {

/// Whose values are coded.
struct Part {
  bool owner = false;  ///< with the `owner only` columns
};

/// All columns of an entity.
void write_whole(bits::Writer& out, const EntityModel& model, const Row& row, Part part);
/// False if the bits hold no such entity. Columns that do not travel become 0, or empty.
[[nodiscard]] bool read_whole(bits::Reader& in, const EntityModel& model, OwnRow& row, Part part);

/// A snapshot edits varying values of at most this size in all: the cells of a grid, the bytes of
/// any other value before the edit. What more has changed comes whole. An edit of a few bits takes
/// the time of the whole value: without a bound a datagram could cost its receiver 80 ms and more.
inline constexpr std::size_t kMaxEditedSize = std::size_t{1} << 17;

/// What a change is coded against.
struct Basis {
  const EntityModel& model;
  const CodeTables::Inside::Type& codes;
  std::span<const Predictor> predictors;  ///< those of `codes`, or others to count with
  std::span<const Known> known;           ///< newest first, at least one
  Tick tick;
  Part part;
  /// Written: varying values go whole, as the snapshot edits enough already.
  bool no_edits = false;
  /// Read: what the snapshot may still edit, see kMaxEditedSize; nullptr: anything.
  std::size_t* edits_left = nullptr;
  [[nodiscard]] std::size_t age() const { return age_of(tick - known.front().tick); }
};

/// The size of the varying values that differ in `row`, as kMaxEditedSize counts it.
[[nodiscard]] std::size_t edited_size(const Basis& basis, const Row& row);
/// What of the columns of EntityModel::changing() is not as predicted, see MaskColumn.
[[nodiscard]] std::uint32_t mask_of(const Basis& basis, const Row& row);
void write_change(bits::Writer& out, const Basis& basis, const Row& row, std::uint32_t mask);
/// Reads the residuals of the fields that `mask` names.
[[nodiscard]] bool read_change(bits::Reader& in, const Basis& basis, std::uint32_t mask,
                               OwnRow& row);
/// Counts the symbols that a change takes with the predictors of `counts`, and how each predictor
/// would do.
void count_change(const Basis& basis, const Row& row, bool is_continuing,
                  SymbolCounts::Type& counts);

}  // namespace kwind::replica
