// Symbol counts to canonical Huffman codes, and the built-in counts.
//
// Each entity type has code tables of its own: for the mask of changed columns and for the
// residuals of each column, each by the age of the baseline. Tables are made from counts of
// symbols: of a recording, by `kwind train`, or of expectations from the description alone. Both
// ends must have the same tables; their digest is compared in the handshake.
//
// Vocabulary: a *mask* says which columns of an entity differ from their prediction; a *residual*
// is value minus prediction, in zigzag order (0, -1, 1, -2, ...); the *age* of a baseline is the
// number of ticks since it, 1 to kAges.
#include "replica/coding/code_tables.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "kwind/core/digest.h"
#include "replica/coding/unit_columns.h"

namespace kwind::replica {
namespace {

using schema::ColumnForm;
using schema::ColumnInfo;

// Of a thousand ticks in which an entity moves, in how many the column is not as predicted.
// Guesses in thousandths, which any recording replaces.
std::uint64_t changes_expected(const schema::EntityInfo& info, std::size_t column) {
  if (follows(info, column)) return 400;
  if (info.columns[column].smooth) return 600;
  return leads(info, column) ? 150 : 20;
}

using CountsByAge = std::array<SymbolCounts::Type::Counts, SymbolCounts::kAges>;

// One code for each age of the baseline. Expected counts are the same at every age, and then one
// construction serves for all.
std::vector<PrefixCode> codes_of(const CountsByAge& counts) {
  std::vector<PrefixCode> made;
  made.reserve(counts.size());
  // Ages in order; equal counts share one construction.
  for (std::size_t age = 0; age < counts.size(); ++age) {
    if (age > 0 && counts[age] == counts[age - 1]) {
      made.push_back(made.back());
    } else {
      made.emplace_back(counts[age]);
    }
  }
  return made;
}

// The codes of each column's residuals. Expected counts are the same for every column.
std::vector<std::vector<PrefixCode>> codes_of(const std::vector<CountsByAge>& columns) {
  std::vector<std::vector<PrefixCode>> made;
  made.reserve(columns.size());
  for (std::size_t column = 0; column < columns.size(); ++column) {
    const bool is_repeated = column > 0 && columns[column] == columns[column - 1];
    made.push_back(is_repeated ? made.back() : codes_of(columns[column]));
  }
  return made;
}

// Counts become codes; predictors and the mode of the recording are copied.
CodeTables::Inside inside_of(const SymbolCounts& symbol_counts) {
  CodeTables::Inside made{{}, PrefixCode(symbol_counts.heads()), {}};
  if (symbol_counts.snapshot_modes() != SnapshotModes::both)
    made.trained_on = symbol_counts.snapshot_modes();
  for (const SymbolCounts::Type& counts : symbol_counts.types()) {
    CodeTables::Inside::Type type{codes_of(counts.continuing),
                                  codes_of(counts.unexpected),
                                  codes_of(counts.errors),
                                  counts.predictors,
                                  {},
                                  counts.in_version};
    made.types.push_back(std::move(type));
  }
  return made;
}

// The digest covers the lengths of all codes and the predictors: tables with equal digests read
// each other's snapshots. An older description does not know of types that its version lacks.
std::uint64_t digest_of(const CodeTables::Inside& inside) {
  std::vector<std::byte> all;
  const auto add = [&](const PrefixCode& code) {
    all.push_back(static_cast<std::byte>(code.symbols() >> 8));
    all.push_back(static_cast<std::byte>(code.symbols()));
    // Lengths define canonical codes: equal lengths are equal codes.
    for (std::size_t i = 0; i < code.symbols(); ++i) {
      all.push_back(static_cast<std::byte>(code.bits(i)));
    }
  };
  add(inside.heads);
  for (const CodeTables::Inside::Type& type : inside.types) {
    if (!type.in_version) continue;
    for (std::size_t age = 0; age < SymbolCounts::kAges; ++age) {
      add(type.continuing[age]);
      add(type.unexpected[age]);
      for (const auto& column : type.errors) add(column[age]);
    }
    for (const Predictor predictor : type.predictors) {
      all.push_back(static_cast<std::byte>(predictor));
    }
  }
  const Digest128 whole = blake2b_128(all);
  return bits::Reader(whole, 64).get(64);
}

// The predictor with the shortest residuals; another one than `now` only if that saves two in a
// hundred.
Predictor best_of(const std::array<std::uint64_t, kPredictors>& trials, Predictor now) {
  std::uint64_t least = trials[static_cast<std::size_t>(now)];
  Predictor best = now;
  least -= least / 50;
  // Trials count the bits that each predictor would have cost. 0: not tried.
  for (std::size_t p = 0; p < kPredictors; ++p) {
    if (trials[p] == 0 || trials[p] >= least) continue;
    least = trials[p];
    best = static_cast<Predictor>(p);
  }
  return best;
}

// How many columns from this one on are one place, rotation or direction.
std::size_t together(const schema::EntityInfo& info, std::size_t column) {
  for (const schema::FollowInfo& follow : info.follows) {
    if (follow.first == column) return follow.axes;
  }
  const schema::ColumnGroup group = info.columns[column].group;
  return group == schema::ColumnGroup::none ? 1 : columns_of(group);
}

// How often a head is expected: the base is mostly two to four snapshots back, and what is not
// usual is rare. Bits from the lowest on: some between did not arrive, another tick, input or
// digest, other sections.
std::uint32_t expected_head(std::size_t symbol) {
  constexpr std::array<std::uint32_t, SymbolCounts::kHeads / 16> kBack{16, 24, 32, 24, 12,
                                                                       8,  6,  4,  4};
  // The weight is a product of independent factors, each a power of two.
  std::uint32_t weight = kBack[symbol / 16] << 12;
  if ((symbol & 1) != 0) weight /= 16;
  if ((symbol & 2) != 0) weight /= 64;
  if ((symbol & 4) != 0) weight /= 16;
  if ((symbol & 8) != 0) weight /= 2;
  return std::max(weight, 1U);
}

// The symbols of the continuing alphabet are masks, then nothing here and gone.
std::size_t nothing_here(const PrefixCode& continuing) {
  return continuing.symbols() - 2;
}

}  // namespace

std::string_view name_of(Predictor predictor) {
  switch (predictor) {
    case Predictor::hold: return "hold";
    case Predictor::linear: return "linear";
    case Predictor::steady: return "steady";
    case Predictor::linear_recent: return "linear_recent";
    case Predictor::quadratic: return "quadratic";
    case Predictor::follow_start: return "follow_start";
    case Predictor::follow: return "follow";
    case Predictor::follow_end: return "follow_end";
  }
  return "";
}

// Columns that are no numbers, that are sent at spawn only, or that have more than 30 bits have one
// predictor: hold.
PredictorChoice predictors_of(const schema::EntityInfo& info, std::size_t column) {
  const ColumnInfo& of = info.columns[column];
  const auto bit = [](Predictor predictor) { return 1U << static_cast<unsigned>(predictor); };
  if (of.at_spawn || of.form == ColumnForm::varying || of.form == ColumnForm::opaque) return {};
  PredictorChoice choice{of.smooth ? Predictor::steady : Predictor::hold,
                         bit(Predictor::hold) | bit(Predictor::linear)};
  if (of.bits > 30) return {};
  if (of.group != schema::ColumnGroup::none) {
    if (of.smooth) choice.by_words = Predictor::linear;
    return choice;
  }
  choice.all |= bit(Predictor::steady) | bit(Predictor::linear_recent) | bit(Predictor::quadratic);
  for (const schema::FollowInfo& follow : info.follows) {
    if (column < follow.first || column >= std::size_t{follow.first} + follow.axes) continue;
    // `owner only` fields predict nothing for other clients.
    if (!of.owner_only && hides_leader(info, follow)) continue;
    choice.by_words = Predictor::follow_end;
    choice.all |=
        bit(Predictor::follow_start) | bit(Predictor::follow) | bit(Predictor::follow_end);
  }
  return choice;
}

// Whether the column is an axis of a position with the word `follow`.
bool follows(const schema::EntityInfo& info, std::size_t column) {
  return std::any_of(info.follows.begin(), info.follows.end(), [&](const auto& follow) {
    return column >= follow.first && column < std::size_t{follow.first} + follow.axes;
  });
}

bool leads(const schema::EntityInfo& info, std::size_t column) {
  return std::any_of(info.follows.begin(), info.follows.end(),
                     [&](const auto& follow) { return follow.led_by(column); });
}

bool hides_leader(const schema::EntityInfo& info, const schema::FollowInfo& follow) {
  for (std::size_t column = 0; column < info.columns.size(); ++column) {
    if (follow.led_by(column) && info.columns[column].owner_only) return true;
  }
  return false;
}

// Positions that follow come last: their prediction uses speed and direction of the same snapshot.
std::vector<std::uint16_t> coding_order(const schema::EntityInfo& info) {
  std::vector<std::uint16_t> order;
  // Two passes: columns that others depend on first.
  for (const bool last : {false, true}) {
    for (std::size_t column = 0; column < info.columns.size(); ++column) {
      if (follows(info, column) == last) order.push_back(static_cast<std::uint16_t>(column));
    }
  }
  return order;
}

namespace {

// Columns that often differ from their prediction by one step.
bool smoothly_moves(const schema::EntityInfo& info, std::size_t column) {
  const ColumnInfo& of = info.columns[column];
  const bool number = of.form == ColumnForm::number || of.form == ColumnForm::circular;
  if (!number || of.bits > 30) return false;
  return of.smooth || leads(info, column);
}

}  // namespace

// Which columns have a place in the change mask, and with how many bits: at most kMaskBits in all,
// because the mask is one symbol of an alphabet.
std::vector<MaskColumn> mask_columns(const schema::EntityInfo& info,
                                     const std::vector<std::uint16_t>& order) {
  std::vector<MaskColumn> columns;
  unsigned bits = 0;
  // Places change most often, and are coded last.
  for (auto column = order.rbegin(); column != order.rend(); ++column) {
    if (info.columns[*column].at_spawn) continue;
    const unsigned width = follows(info, *column) ? 2 : 1;
    if (bits + width > kMaskBits) break;
    columns.push_back({*column, 0, static_cast<std::uint8_t>(width)});
    bits += width;
  }
  // Bits that are left go to those that are often off by one step.
  for (MaskColumn& each : columns) {
    if (bits == kMaskBits) break;
    if (each.bits > 1 || !smoothly_moves(info, each.column)) continue;
    ++each.bits;
    ++bits;
  }
  std::reverse(columns.begin(), columns.end());
  // Places are counted from the first column of the order.
  unsigned place = 0;
  for (MaskColumn& each : columns) {
    each.place = static_cast<std::uint8_t>(place);
    place += each.bits;
  }
  return columns;
}

// All counts begin at 0, the predictors as the words of the description say.
SymbolCounts::SymbolCounts(const schema::EntitiesInfo& entities) {
  for (const schema::EntityInfo* info : entities.types) {
    const std::size_t masks = masks_of(mask_columns(*info, coding_order(*info)));
    Type type;
    type.continuing.fill(Type::Counts(masks + 2));
    type.unexpected.fill(Type::Counts(masks + 1));
    std::array<Type::Counts, kAges> errors;
    errors.fill(Type::Counts(kWhole + 1));
    type.errors.assign(info->columns.size(), errors);
    // Predictors by the words of the description, until training chooses others.
    for (std::size_t c = 0; c < info->columns.size(); ++c) {
      type.predictors.push_back(predictors_of(*info, c).by_words);
    }
    type.trials.assign(info->columns.size(), {});
    type.in_version = entities.has(types_.size());
    types_.push_back(std::move(type));
  }
}

// The built-in tables: a mask is as likely as its columns are to change, independently of each
// other. Residuals halve in frequency every four symbols.
SymbolCounts SymbolCounts::expected(const schema::EntitiesInfo& entities) {
  SymbolCounts made(entities);
  // Weights, not probabilities: only their ratios matter.
  for (std::size_t head = 0; head < kHeads; ++head) made.heads_[head] = expected_head(head);
  for (std::size_t k = 0; k < made.types_.size(); ++k) {
    const schema::EntityInfo& info = *entities.types[k];
    const auto columns = mask_columns(info, coding_order(info));
    const auto likely = [&](std::size_t mask, std::uint64_t of) {
      std::uint64_t priority = of;
      // A product over the columns: independence is assumed where nothing is known.
      for (const MaskColumn& each : columns) {
        // Shares are in thousandths.
        const std::uint64_t changes = changes_expected(info, each.column);
        const std::size_t state = mask >> each.place & ((1U << each.bits) - 1);
        std::uint64_t share = 1000 - changes;
        const bool follows_it = follows(info, each.column);
        if (state > 0 && each.bits == 1) share = changes;
        if (state > 0 && each.bits == 2) {
          share = changes * (state < 3 ? (follows_it ? 8 : 6) : (follows_it ? 4 : 8)) / 20;
        }
        priority = priority * share / 1000;
      }
      return static_cast<std::uint32_t>(std::max<std::uint64_t>(priority, 1));
    };
    Type& type = made.types_[k];
    for (std::size_t age = 0; age < kAges; ++age) {
      const std::size_t masks = masks_of(columns);
      for (std::size_t mask = 0; mask < masks; ++mask) {
        type.continuing[age][mask] = likely(mask, 1 << 20);
        // One column or another; seldom all that moves.
        type.unexpected[age][mask] = mask == 0 ? 1 : likely(mask, 1 << 20);
      }
      // The two symbols that are no masks: nothing here, and gone.
      type.continuing[age][masks] = 1 << 16;
      type.continuing[age][masks + 1] = 1 << 10;
      type.unexpected[age][masks] = 1 << 17;
      for (std::size_t column = 0; column < info.columns.size(); ++column) {
        auto& errors = type.errors[column][age];
        // Symbols of residuals are in zigzag order.
        // Half as many are four symbols further on.
        for (std::size_t i = 0; i < kErrors; ++i) errors[i] = std::uint32_t{1} << (20 - i / 4);
        // Half as many are two classes further on.
        for (std::size_t i = 0; i < kClasses; ++i) {
          errors[kErrors + i] = std::uint32_t{1} << (17 - i / 2);
        }
        errors[kWhole] = 1 << 15;
      }
    }
  }
  return made;
}

// The second pass of training counts the residuals of the predictors that the first pass chose.
void SymbolCounts::predict_with(const CodeTables& codes) {
  // Tables of the first pass name the predictors.
  for (std::size_t k = 0; k < types_.size(); ++k) {
    types_[k].predictors = codes.inside().types[k].predictors;
  }
}

// Counts of several recordings, or of several clients, are sums.
void SymbolCounts::add(const SymbolCounts& other) {
  snapshots_ |= other.snapshots_;
  const auto sum = [](Type::Counts& into, const Type::Counts& from) {
    for (std::size_t i = 0; i < into.size(); ++i) into[i] += from[i];
  };
  sum(heads_, other.heads_);
  // Element by element: both have the alphabets of one description.
  for (std::size_t k = 0; k < types_.size(); ++k) {
    for (std::size_t age = 0; age < kAges; ++age) {
      sum(types_[k].continuing[age], other.types_[k].continuing[age]);
      sum(types_[k].unexpected[age], other.types_[k].unexpected[age]);
      for (std::size_t c = 0; c < types_[k].errors.size(); ++c) {
        sum(types_[k].errors[c][age], other.types_[k].errors[c][age]);
      }
    }
    types_[k].predictors = other.types_[k].predictors;
    for (std::size_t c = 0; c < types_[k].trials.size(); ++c) {
      for (std::size_t p = 0; p < kPredictors; ++p) {
        types_[k].trials[c][p] += other.types_[k].trials[c][p];
      }
    }
  }
}

namespace {

// Traffic of another day has long residuals of other classes. So each class, and the whole value,
// counts a 256th of all long residuals more: together these are one in twenty.
SymbolCounts::Type::Counts with_rare_classes(SymbolCounts::Type::Counts seen) {
  constexpr std::uint64_t kShare = 256;
  const auto first = seen.begin() + SymbolCounts::kErrors;
  const std::uint64_t all = std::accumulate(first, seen.end(), std::uint64_t{0});
  std::for_each(first, seen.end(), [&](std::uint32_t& each) {
    each += static_cast<std::uint32_t>((all + kShare - 1) / kShare);
  });
  return seen;
}

}  // namespace

// Mixes what was counted with what is expected: a recording never has all symbols.
SymbolCounts SymbolCounts::fitted(const schema::EntitiesInfo& entities, const SymbolCounts& counted,
                                  Choose choose) {
  // The expected counts weigh as much as this many symbols that were seen, or as this share of all
  // of them: a symbol that the traffic never had stays below some 16 bits, however much was
  // counted.
  constexpr std::uint64_t kMinExpected = 8;
  constexpr std::uint64_t kExpectedShare = 64;
  constexpr std::uint64_t kScale = 256;
  // A symbol that was never seen takes some 15 bits; one that says that there is nothing to say 10.
  constexpr unsigned kRarest = 15;
  constexpr unsigned kRarestNothing = 10;
  SymbolCounts made = expected(entities);
  made.snapshots_ = counted.snapshots_;
  const auto fit = [&](Type::Counts& weights, const Type::Counts& seen,
                       std::size_t words = 0) {  // the last ones are no masks
    const std::uint64_t sum = std::accumulate(weights.begin(), weights.end(), std::uint64_t{0});
    const std::uint64_t all = std::accumulate(seen.begin(), seen.end(), std::uint64_t{0});
    const std::uint64_t expected_count = std::max(kMinExpected, all / kExpectedShare);
    // So that no weight leaves 32 bits.
    const std::uint64_t cut = (all + expected_count) * kScale / 0xf0000000U + 1;
    // Invariant: no weight is 0, so each symbol has a code.
    for (std::size_t i = 0; i < weights.size(); ++i) {
      const std::uint64_t priority = (seen[i] * kScale + weights[i] * expected_count * kScale /
                                                             std::max<std::uint64_t>(sum, 1)) /
                                     cut;
      const unsigned rarest = i + words >= weights.size() ? kRarestNothing : kRarest;
      const std::uint64_t min = (all * kScale / cut) >> rarest;
      weights[i] = static_cast<std::uint32_t>(std::max({priority, min, std::uint64_t{1}}));
    }
  };
  fit(made.heads_, counted.heads_);
  for (std::size_t k = 0; k < made.types_.size(); ++k) {
    Type& type = made.types_[k];
    const Type& seen = counted.types_[k];
    type.predictors = seen.predictors;
    for (std::size_t c = 0; choose == Choose::predictors && c < seen.trials.size();) {
      // Columns that are one place, rotation or direction have one predictor.
      const std::size_t count = together(*entities.types[k], c);
      std::array<std::uint64_t, kPredictors> sum{};
      // Trials of the columns of one place are added.
      for (std::size_t i = 0; i < count; ++i) {
        for (std::size_t p = 0; p < kPredictors; ++p) sum[p] += seen.trials[c + i][p];
      }
      const Predictor best = best_of(sum, seen.predictors[c + count - 1]);
      for (std::size_t i = 0; i < count; ++i) {
        if (predictors_of(*entities.types[k], c + i).has(best)) type.predictors[c + i] = best;
      }
      c += count;
    }
    for (std::size_t age = 0; age < kAges; ++age) {
      fit(type.continuing[age], seen.continuing[age], 2);
      fit(type.unexpected[age], seen.unexpected[age], 1);
      for (std::size_t c = 0; c < type.errors.size(); ++c) {
        fit(type.errors[c][age], with_rare_classes(seen.errors[c][age]));
      }
    }
  }
  return made;
}

// Bits of the counted symbols with these codes, beside their entropy (Shannon, 1948), which no
// prefix code can beat.
std::vector<AlphabetCost> costs_of(const SymbolCounts& counted, const CodeTables& codes) {
  std::vector<AlphabetCost> all;
  const auto add = [&](AlphabetCost& cost, const SymbolCounts::Type::Counts& counts,
                       const PrefixCode& code) {
    const auto sum = std::accumulate(counts.begin(), counts.end(), std::uint64_t{0});
    // A symbol that never came has no cost and no entropy.
    for (std::size_t i = 0; i < counts.size(); ++i) {
      if (counts[i] == 0) continue;
      const double count = counts[i];
      cost.bits += count * code.bits(i);
      cost.floor += count * std::log2(static_cast<double>(sum) / count);
    }
    cost.symbols += sum;
  };
  for (std::size_t k = 0; k < counted.types().size(); ++k) {
    const SymbolCounts::Type& type = counted.types()[k];
    const CodeTables::Inside::Type& code = codes.inside().types[k];
    const auto number = static_cast<std::uint16_t>(k);
    AlphabetCost continuing{number, AlphabetCost::Of::continuing};
    AlphabetCost unexpected{number, AlphabetCost::Of::unexpected};
    std::vector<AlphabetCost> errors;
    for (std::size_t c = 0; c < type.errors.size(); ++c) {
      errors.push_back({number, AlphabetCost::Of::errors, static_cast<std::uint16_t>(c)});
    }
    for (std::size_t age = 0; age < SymbolCounts::kAges; ++age) {
      add(continuing, type.continuing[age], code.continuing[age]);
      add(unexpected, type.unexpected[age], code.unexpected[age]);
      for (std::size_t c = 0; c < errors.size(); ++c)
        add(errors[c], type.errors[c][age], code.errors[c][age]);
    }
    all.push_back(continuing);
    all.push_back(unexpected);
    all.insert(all.end(), errors.begin(), errors.end());
  }
  AlphabetCost heads{0, AlphabetCost::Of::heads};
  add(heads, counted.heads(), codes.inside().heads);
  all.push_back(heads);
  std::erase_if(all, [](const AlphabetCost& cost) { return cost.symbols == 0; });
  return all;
}

// The code for "nothing here" is kept apart: the encoder asks for its length for each entity.
CodeTables::CodeTables(Inside inside)
    : inside_(std::make_unique<Inside>(std::move(inside))), digest_(digest_of(*inside_)) {
  // One lookup for each age, in place of one for each entity.
  for (Inside::Type& type : inside_->types) {
    for (std::size_t age = 0; age < SymbolCounts::kAges; ++age) {
      type.nothing[age] = type.continuing[age].code(nothing_here(type.continuing[age]));
    }
  }
}
CodeTables::CodeTables(const SymbolCounts& symbol_counts) : CodeTables(inside_of(symbol_counts)) {}
std::optional<SnapshotModes> CodeTables::trained_on() const {
  return inside_->trained_on;
}
CodeTables::CodeTables(CodeTables&&) noexcept = default;
CodeTables::~CodeTables() = default;

std::shared_ptr<const CodeTables> built_in_codes(const schema::EntitiesInfo& entities) {
  return std::make_shared<const CodeTables>(SymbolCounts::expected(entities));
}

}  // namespace kwind::replica
