// Symbol counts to canonical Huffman codes, and the built-in counts.
#include "replica/coding/code_tables.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "kwind/core/digest.h"

namespace kwind::replica {
namespace {

using schema::ColumnForm;
using schema::ColumnInfo;

// Of a thousand ticks in which an entity moves, in how many the column is not as predicted.
std::uint64_t changes_expected(const schema::EntityInfo& info, std::size_t column) {
  if (follows(info, column)) return 550;
  if (info.columns[column].smooth) return 600;
  return 20;
}

std::vector<PrefixCode> codes_of(
    const std::array<SymbolCounts::Type::Counts, SymbolCounts::kAges>& counts) {
  std::vector<PrefixCode> made;
  made.reserve(counts.size());
  for (const auto& each : counts) made.emplace_back(each);
  return made;
}

CodeTables::Inside inside_of(const SymbolCounts& symbol_counts) {
  CodeTables::Inside made;
  if (symbol_counts.snapshot_modes() != SnapshotModes::both)
    made.trained_on = symbol_counts.snapshot_modes();
  for (const SymbolCounts::Type& counts : symbol_counts.types()) {
    CodeTables::Inside::Type type{codes_of(counts.continuing), codes_of(counts.unexpected), {}, {}};
    for (const auto& column : counts.errors) type.errors.push_back(codes_of(column));
    made.types.push_back(std::move(type));
  }
  return made;
}

std::uint64_t digest_of(const CodeTables::Inside& inside) {
  std::vector<std::byte> all;
  const auto add = [&](const PrefixCode& code) {
    all.push_back(static_cast<std::byte>(code.symbols() >> 8));
    all.push_back(static_cast<std::byte>(code.symbols()));
    for (std::size_t i = 0; i < code.symbols(); ++i) {
      all.push_back(static_cast<std::byte>(code.bits(i)));
    }
  };
  for (const CodeTables::Inside::Type& type : inside.types) {
    for (std::size_t age = 0; age < SymbolCounts::kAges; ++age) {
      add(type.continuing[age]);
      add(type.unexpected[age]);
      for (const auto& column : type.errors) add(column[age]);
    }
  }
  const Digest128 whole = blake2b_128(all);
  return bits::Reader(whole, 64).get(64);
}

// Its symbols are masks, nothing here, gone.
std::size_t nothing_here(const PrefixCode& continuing) {
  return continuing.symbols() - 2;
}

}  // namespace

bool follows(const schema::EntityInfo& info, std::size_t column) {
  return std::any_of(info.follows.begin(), info.follows.end(), [&](const auto& follow) {
    return column >= follow.first && column < std::size_t{follow.first} + follow.axes;
  });
}

std::vector<std::uint16_t> coding_order(const schema::EntityInfo& info) {
  std::vector<std::uint16_t> order;
  for (const bool last : {false, true}) {
    for (std::size_t column = 0; column < info.columns.size(); ++column) {
      if (follows(info, column) == last) order.push_back(static_cast<std::uint16_t>(column));
    }
  }
  return order;
}

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
  std::reverse(columns.begin(), columns.end());
  unsigned place = 0;
  for (MaskColumn& each : columns) {
    each.place = static_cast<std::uint8_t>(place);
    place += each.bits;
  }
  return columns;
}

SymbolCounts::SymbolCounts(const schema::EntitiesInfo& entities) {
  for (const schema::EntityInfo* info : entities.types) {
    const std::size_t masks = masks_of(mask_columns(*info, coding_order(*info)));
    Type type;
    type.continuing.fill(Type::Counts(masks + 2));
    type.unexpected.fill(Type::Counts(masks + 1));
    std::array<Type::Counts, kAges> errors;
    errors.fill(Type::Counts(kErrors + 1));
    type.errors.assign(info->columns.size(), errors);
    types_.push_back(std::move(type));
  }
}

SymbolCounts SymbolCounts::expected(const schema::EntitiesInfo& entities) {
  SymbolCounts made(entities);
  for (std::size_t k = 0; k < made.types_.size(); ++k) {
    const schema::EntityInfo& info = *entities.types[k];
    const auto columns = mask_columns(info, coding_order(info));
    const auto likely = [&](std::size_t mask, std::uint64_t of) {
      std::uint64_t priority = of;
      for (const MaskColumn& each : columns) {
        const std::uint64_t changes = changes_expected(info, each.column);
        const std::size_t state = mask >> each.place & ((1U << each.bits) - 1);
        std::uint64_t share = 1000 - changes;
        if (state > 0) share = each.bits == 1 ? changes : changes * (state < 3 ? 9 : 2) / 20;
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
      type.continuing[age][masks] = 1 << 14;
      type.continuing[age][masks + 1] = 1 << 10;
      type.unexpected[age][masks] = 1 << 17;
      for (std::size_t column = 0; column < info.columns.size(); ++column) {
        auto& errors = type.errors[column][age];
        // Where values are predicted, half as many are twice as far off; elsewhere anything goes.
        const unsigned half = follows(info, column) ? 2 : 4;
        for (std::size_t i = 0; i < kErrors; ++i)
          errors[i] = std::uint32_t{1} << (20 - i / 2 / (half / 2));
        errors[kErrors] = 1 << 16;
      }
    }
  }
  return made;
}

void SymbolCounts::add(const SymbolCounts& other) {
  snapshots_ |= other.snapshots_;
  const auto sum = [](Type::Counts& into, const Type::Counts& from) {
    for (std::size_t i = 0; i < into.size(); ++i) into[i] += from[i];
  };
  for (std::size_t k = 0; k < types_.size(); ++k) {
    for (std::size_t age = 0; age < kAges; ++age) {
      sum(types_[k].continuing[age], other.types_[k].continuing[age]);
      sum(types_[k].unexpected[age], other.types_[k].unexpected[age]);
      for (std::size_t c = 0; c < types_[k].errors.size(); ++c) {
        sum(types_[k].errors[c][age], other.types_[k].errors[c][age]);
      }
    }
  }
}

SymbolCounts SymbolCounts::fitted(const schema::EntitiesInfo& entities,
                                  const SymbolCounts& counted) {
  // The expected counts weigh as much as this many symbols that were seen, or as this share of all
  // of them: a symbol that the traffic never had stays below some 16 bits, however much was
  // counted.
  constexpr std::uint64_t kMinExpected = 8;
  constexpr std::uint64_t kExpectedShare = 256;
  constexpr std::uint64_t kScale = 256;
  SymbolCounts made = expected(entities);
  made.snapshots_ = counted.snapshots_;
  const auto fit = [&](Type::Counts& weights, const Type::Counts& seen) {
    const std::uint64_t sum = std::accumulate(weights.begin(), weights.end(), std::uint64_t{0});
    const std::uint64_t all = std::accumulate(seen.begin(), seen.end(), std::uint64_t{0});
    const std::uint64_t expected_count = std::max(kMinExpected, all / kExpectedShare);
    // So that no weight leaves 32 bits.
    const std::uint64_t cut = (all + expected_count) * kScale / 0xf0000000U + 1;
    for (std::size_t i = 0; i < weights.size(); ++i) {
      const std::uint64_t priority = (seen[i] * kScale + weights[i] * expected_count * kScale /
                                                             std::max<std::uint64_t>(sum, 1)) /
                                     cut;
      weights[i] = static_cast<std::uint32_t>(std::max<std::uint64_t>(priority, 1));
    }
  };
  for (std::size_t k = 0; k < made.types_.size(); ++k) {
    Type& type = made.types_[k];
    const Type& seen = counted.types_[k];
    for (std::size_t age = 0; age < kAges; ++age) {
      fit(type.continuing[age], seen.continuing[age]);
      fit(type.unexpected[age], seen.unexpected[age]);
      for (std::size_t c = 0; c < type.errors.size(); ++c)
        fit(type.errors[c][age], seen.errors[c][age]);
    }
  }
  return made;
}

std::vector<AlphabetCost> costs_of(const SymbolCounts& counted, const CodeTables& codes) {
  std::vector<AlphabetCost> all;
  const auto add = [&](AlphabetCost& cost, const SymbolCounts::Type::Counts& counts,
                       const PrefixCode& code) {
    const auto sum = std::accumulate(counts.begin(), counts.end(), std::uint64_t{0});
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
  std::erase_if(all, [](const AlphabetCost& cost) { return cost.symbols == 0; });
  return all;
}

CodeTables::CodeTables(Inside inside)
    : inside_(std::make_unique<Inside>(std::move(inside))), digest_(digest_of(*inside_)) {
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
