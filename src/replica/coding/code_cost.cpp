// Expected cost of changes under given code tables: a code of n bits implies a probability of 2^-n.
#include <cmath>

#include "replica/coding/code_tables.h"

namespace kwind::replica {
namespace {

constexpr double kLength = 9;  // bits that say how long a varying field is, about

double share_of(const PrefixCode& code, std::size_t symbol) {
  return std::exp2(-static_cast<double>(code.bits(symbol)));
}

// The mean length of a residual: each symbol with the probability that its code implies, and what
// follows it.
double error_bits(const PrefixCode& code, unsigned value_bits) {
  double bits = 0;
  for (std::size_t i = 0; i < code.symbols(); ++i) {
    double behind = 0;
    if (i == SymbolCounts::kWhole) {
      behind = value_bits;
    } else if (i >= SymbolCounts::kErrors) {
      behind = class_bits(i);
    }
    bits += share_of(code, i) * (code.bits(i) + behind);
  }
  return bits;
}

}  // namespace

ExpectedBits expected_bits(const CodeTables& codes, const schema::EntityInfo& info,
                           std::uint32_t age) {
  const CodeTables::Inside::Type& type = codes.inside().types[info.type];
  const std::size_t place = age_of(age);
  const PrefixCode& continuing = type.continuing[place];
  const PrefixCode& unexpected = type.unexpected[place];
  const auto columns = mask_columns(info, coding_order(info));
  const std::size_t masks = masks_of(columns);
  ExpectedBits made;
  double all = 0;
  for (std::size_t symbol = 0; symbol < continuing.symbols(); ++symbol) {
    const double share = share_of(continuing, symbol);
    all += share;
    made.continuing += share * continuing.bits(symbol);
    if (symbol >= masks) continue;
    made.changes += share;
    for (const MaskColumn& each : columns) {
      const std::size_t state = symbol >> each.place & ((1U << each.bits) - 1);
      // The mask itself carries a residual of 1 or -1.
      const bool by_mask = each.bits == 2 && state < kLongError;
      if (state == 0 || by_mask) continue;
      const schema::ColumnInfo& column = info.columns[each.column];
      double bits = column.bits;
      if (column.form == schema::ColumnForm::varying) {
        bits = kLength + column.last / 2.0;
      } else if (column.form != schema::ColumnForm::opaque && column.bits <= 30) {
        bits = error_bits(type.errors[each.column][place], column.bits);
      }
      made.errors += share * bits;
    }
  }
  // A kind of one symbol has codes without bits.
  made.continuing /= all;
  made.changes /= all;
  made.errors = made.changes > 0 ? made.errors / all / made.changes : 0;
  // The same for entities of which the client expected no update.
  double starting = 0;
  for (std::size_t symbol = 0; symbol < masks; ++symbol) {
    starting += share_of(unexpected, symbol);
    made.starts += share_of(unexpected, symbol) * unexpected.bits(symbol);
  }
  made.starts = starting > 0 ? made.starts / starting : 0;
  return made;
}

}  // namespace kwind::replica
