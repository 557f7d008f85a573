// Prefix-code tables for residuals, and the symbol counts that they are made from. Both ends must
// use the same tables. Plain values; tables may be shared by any number of worlds, replicators and
// client worlds.
#pragma once
#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <tl/expected.hpp>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/schema/entity_info.h"

namespace kwind::replica {

/// How the snapshots were made that a symbol counts counts, see
/// ReplicatorOptions::speculative_baselines: what differs from what a client acknowledged is more
/// than what differs from what it was sent.
enum class SnapshotModes : std::uint8_t {
  exact = 1,
  speculative_baselines = 2,
  both = 3,  ///< one set for both: their changes have different ages, and so codes of their own
};

/// What a column is predicted from.
enum class Predictor : std::uint8_t {
  hold,           ///< its newest value
  linear,         ///< on at the mean rate since the oldest baseline
  steady,         ///< ... if that was nearly the same between the newest three; else held
  linear_recent,  ///< on at the rate between the two newest baselines
  quadratic,      ///< on at that rate, which changes as it did between the three newest
  follow_start,   ///< speed and direction; a tick's way is by those at its start
  follow,         ///< ... by the mean of those at its start and its end
  follow_end,     ///< ... by those at its end
};
inline constexpr std::size_t kPredictors = 8;
KWIND_API std::string_view name_of(Predictor predictor);

class CodeTables;

/// How often each symbol occurred, or is expected to.
class KWIND_API SymbolCounts {
 public:
  /// So many ages of the known state have counts of their own: 1, 2, 3, and more ticks.
  static constexpr std::size_t kAges = 4;
  /// Residuals 1, -1, 2, ... of a column that have symbols of their own.
  static constexpr std::size_t kErrors = 24;
  /// Longer residuals have a symbol for their class. The first class has 2^kFirstClassBits
  /// residuals, each later class twice the number of the class before. The number of the residual
  /// in its class follows the symbol.
  static constexpr std::size_t kClasses = 12;
  static constexpr unsigned kFirstClassBits = 4;
  /// The symbol behind which the value follows.
  static constexpr std::size_t kWhole = kErrors + kClasses;
  /// How many symbols the usual heads of a snapshot have, see docs/state-format.md.
  static constexpr std::size_t kHeads = 144;

  /// The counts of one entity type.
  struct Type {
    using Counts = std::vector<std::uint32_t>;
    std::array<Counts, kAges> continuing;           ///< by what differs; then: nothing here, gone
    std::array<Counts, kAges> unexpected;           ///< by what differs; then: gone
    std::vector<std::array<Counts, kAges>> errors;  ///< by column
    std::vector<Predictor> predictors{};            ///< by column: what the others are counted with
    /// By column and predictor: about how many sixteenths of a bit the residuals of all counted
    /// changes take with it; 0 for a predictor that the column cannot have.
    std::vector<std::array<std::uint64_t, kPredictors>> trials{};
    bool in_version = true;  ///< false: the version of the entities lacks the type
  };

  /// All zero. `entities`: of one version; tables of another do not fit them.
  explicit SymbolCounts(const schema::EntitiesInfo& entities);
  /// What a world of which nothing is known is taken to be like.
  static SymbolCounts expected(const schema::EntitiesInfo& entities);
  /// Weights for codes that fit `counted` traffic: where little was seen, expected() has its say.
  /// Columns get the predictors whose residuals were shortest. Where these are not the ones that
  /// were counted with, count once more with tables of these weights, and choose nothing.
  enum class Choose : std::uint8_t { predictors, nothing };
  static SymbolCounts fitted(const schema::EntitiesInfo& entities, const SymbolCounts& counted,
                             Choose choose = Choose::predictors);

  /// From now on changes are counted as these tables would predict them. Requires: nothing was
  /// counted yet.
  void predict_with(const CodeTables& codes);
  /// What was counted is of such snapshots, too.
  void count_snapshots_of(SnapshotModes types) { snapshots_ |= static_cast<std::uint8_t>(types); }
  /// Nothing as long as no snapshot was counted.
  [[nodiscard]] std::optional<SnapshotModes> snapshot_modes() const {
    return snapshots_ == 0 ? std::nullopt : std::optional(static_cast<SnapshotModes>(snapshots_));
  }
  /// Counts what `other`, of the same entities, counted, too.
  void add(const SymbolCounts& other);

  [[nodiscard]] std::vector<Type>& types() { return types_; }
  [[nodiscard]] const std::vector<Type>& types() const { return types_; }
  [[nodiscard]] Type::Counts& heads() { return heads_; }
  [[nodiscard]] const Type::Counts& heads() const { return heads_; }

 private:
  std::vector<Type> types_;
  Type::Counts heads_ = Type::Counts(kHeads);
  std::uint8_t snapshots_ = 0;
};

/// Prefix codes, made from symbol counts or read from a file.
class KWIND_API CodeTables {
 public:
  explicit CodeTables(const SymbolCounts& symbol_counts);
  CodeTables(CodeTables&&) noexcept;
  ~CodeTables();
  CodeTables(const CodeTables&) = delete;
  CodeTables& operator=(const CodeTables&) = delete;

  /// Of all its codes: two ends with the same number hold the same set. For
  /// host::Options::code_table_sets.
  [[nodiscard]] std::uint64_t digest() const { return digest_; }
  /// What snapshots it was trained on: a ClientReplicator that makes others does not take it, they
  /// would be half as large again. Nothing for a set that was not trained, or on a mixture.
  [[nodiscard]] std::optional<SnapshotModes> trained_on() const;

  struct Inside;
  explicit CodeTables(Inside inside);
  [[nodiscard]] const Inside& inside() const { return *inside_; }

 private:
  std::unique_ptr<Inside> inside_;
  std::uint64_t digest_;
};

/// What the symbols of one alphabet take.
struct AlphabetCost {
  enum class Of : std::uint8_t { continuing, unexpected, errors, heads };
  std::uint16_t type = 0;  ///< place in EntitiesInfo::types
  Of of = Of::continuing;
  std::uint16_t column = 0;  ///< of errors
  std::uint64_t symbols = 0;
  double bits = 0;   ///< in the codes given
  double floor = 0;  ///< their entropy of order 0 (Shannon 1948): no code with one word a symbol
                     ///< takes less
};

/// What traffic that was counted takes in `codes`, by alphabet; ages of one alphabet together.
/// Alphabets of which nothing was seen are left out.
KWIND_API std::vector<AlphabetCost> costs_of(const SymbolCounts& counted, const CodeTables& codes);

/// What a set is made for: a code of n bits suits what happens once in 2^n times.
struct ExpectedBits {
  double continuing =
      0;               ///< each entity that the snapshot before spoke of: what differs, or nothing
  double changes = 0;  ///< share of these that change, 0 to 1
  double errors = 0;   ///< the errors of one that changes
  double starts = 0;   ///< another one that begins to: what differs, but not which one it is
};
/// Of a kind whose newest known state is `age` ticks old. Fields of varying size count as half
/// full. O(symbols).
KWIND_API ExpectedBits expected_bits(const CodeTables& codes, const schema::EntityInfo& info,
                                     std::uint32_t age);

/// A set as text, for a file: docs/code-tables.md. `protocol` is for readers only.
KWIND_API std::string text_of(const CodeTables& codes, const schema::EntitiesInfo& entities,
                              std::string_view protocol);
/// What is wrong with a text, and where.
struct CodeTextProblem {
  std::size_t line = 0;  ///< from 1 on; 0: the text as a whole
  std::string text;
};
KWIND_API tl::expected<std::shared_ptr<const CodeTables>, CodeTextProblem> read_codes(
    std::string_view text, const schema::EntitiesInfo& entities);

/// The set of SymbolCounts::expected().
KWIND_API std::shared_ptr<const CodeTables> built_in_codes(const schema::EntitiesInfo& entities);

}  // namespace kwind::replica
