// Delta coding against baselines: a mask of changed fields, then residuals in prefix codes. Write
// and read stand side by side.
//
// A residual is the value less its prediction, and mostly small. Its symbol is its place in the
// zigzag order; two further symbols escape to an exponential Golomb code and to the whole value,
// whichever is shorter. A value of varying size (text, list, grid) is sent as an edit of its last
// value where that is shorter than the value.
//
// Invariant 1: both ends compute a prediction from states that both have, in whole numbers, so that
//   the result is the same on every machine.
#include "replica/coding/delta_codec.h"

#include <algorithm>
#include <bit>

#include "replica/coding/grid_delta.h"
#include "replica/coding/list_delta.h"

namespace kwind::replica {
namespace {

using schema::ColumnForm;
using schema::ColumnInfo;

constexpr unsigned kLengthOrder = 5;

// Columns for the owner alone travel to nobody else.
bool travels(const ColumnInfo& column, Part part) {
  return part.owner || !column.owner_only;
}

// A varying value as its length, in an Exp-Golomb code of order kLengthOrder, and its bits. An
// absent value has the length 0.
void write_bits(bits::Writer& out, const SharedBits& value) {
  if (value == nullptr) return out.put_count(0, kLengthOrder);
  out.put_count(value->bits, kLengthOrder);
  out.put_bits(value->bytes, value->bits);
}
// The length is checked against the column's maximum and the bits that are left, before memory is
// taken.
bool read_bits(bits::Reader& in, const ColumnInfo& column, SharedBits& value) {
  const std::uint64_t bits = in.get_count(kLengthOrder);
  if (!in.ok() || bits > column.last || bits > in.left_bits()) return false;
  BitString made{std::vector<std::byte>(bits::bytes_for(bits)), static_cast<std::size_t>(bits)};
  if (!in.get_bits(made.bytes, made.bits)) return false;
  value = std::make_shared<const BitString>(std::move(made));
  return true;
}

// As kMaxEditedSize counts it.
std::size_t size_of_edit(const EntityModel& model, const ColumnInfo& column,
                         const BitString& before) {
  if (column.grid < 0) return bits::bytes_for(before.bits);
  return model.info().grids[static_cast<std::size_t>(column.grid)].cells();
}

// What changed of it, if that takes fewer bits than all of it.
void write_varying(bits::Writer& out, const Basis& basis, std::size_t c, const Row& row) {
  const ColumnInfo& column = basis.model.info().columns[c];
  const std::size_t place = basis.model.varying_place(c);
  const SharedBits& now = row.varying[place];
  const SharedBits& before = basis.known.front().row.varying[place];
  BitString change;
  if (before != nullptr && now != nullptr && !basis.no_edits) {
    change = column.grid < 0
                 ? list_change(column, *before, *now, now->bits)
                 : grid_change(basis.model.info().grids[static_cast<std::size_t>(column.grid)],
                               *before, *now, now->bits);
  }
  out.put_bool(change.bits > 0);
  if (change.bits == 0) return write_bits(out, now);
  out.put_bits(change.bytes, change.bits);
}
// An edit of a few bits may cost the work of a whole grid: each edit is charged to the snapshot's
// budget.
bool read_varying(bits::Reader& in, const Basis& basis, std::size_t c, OwnRow& row) {
  const ColumnInfo& column = basis.model.info().columns[c];
  const std::size_t place = basis.model.varying_place(c);
  if (!in.get_bool()) return read_bits(in, column, row.varying[place]);
  const SharedBits& before = basis.known.front().row.varying[place];
  if (before == nullptr) return false;
  if (basis.edits_left != nullptr) {
    const std::size_t size = size_of_edit(basis.model, column, *before);
    if (size > *basis.edits_left) return false;
    *basis.edits_left -= size;
  }
  row.varying[place] =
      column.grid < 0
          ? read_list_change(in, column, *before)
          : read_grid_change(in, basis.model.info().grids[static_cast<std::size_t>(column.grid)],
                             *before, column.last);
  return row.varying[place] != nullptr;
}

// Zigzag order of residuals that are not 0: 1, -1, 2, -2 have the places 0, 1, 2, 3.
std::uint64_t place_of(std::int64_t error) {
  const auto size = static_cast<std::uint64_t>(error < 0 ? -error : error);
  return (size - 1) * 2 + (error < 0 ? 1 : 0);
}

// The place of the first residual of a class whose numbers have so many bits. The classes before
// have 2^kFirstClassBits, ..., 2^(bits - 1) residuals: 2^bits - 2^kFirstClassBits in all.
std::uint64_t first_of_class(unsigned bits) {
  return SymbolCounts::kErrors + (std::uint64_t{1} << bits) -
         (std::uint64_t{1} << SymbolCounts::kFirstClassBits);
}

// The symbol of a residual that is not 0. The shortest have symbols of their own: 1, -1, 2, -2, ...
// A long one has the symbol of its class, or kWhole where the value itself takes fewer bits.
std::size_t symbol_of(const PrefixCode& code, std::uint64_t place, unsigned value_bits) {
  if (place < SymbolCounts::kErrors) return place;
  const std::uint64_t in_order =
      place - SymbolCounts::kErrors + (std::uint64_t{1} << SymbolCounts::kFirstClassBits);
  const std::size_t symbol = SymbolCounts::kErrors +
                             static_cast<std::size_t>(std::bit_width(in_order)) - 1 -
                             SymbolCounts::kFirstClassBits;
  if (symbol >= SymbolCounts::kWhole) return SymbolCounts::kWhole;
  const bool whole =
      code.bits(SymbolCounts::kWhole) + value_bits < code.bits(symbol) + class_bits(symbol);
  return whole ? SymbolCounts::kWhole : symbol;
}
void write_error(bits::Writer& out, const PrefixCode& code, std::int64_t error, std::uint32_t value,
                 unsigned value_bits) {
  const std::uint64_t place = place_of(error);
  const std::size_t symbol = symbol_of(code, place, value_bits);
  code.write(out, symbol);
  if (symbol == SymbolCounts::kWhole) {
    out.put(value, value_bits);
  } else if (symbol >= SymbolCounts::kErrors) {
    const unsigned width = class_bits(symbol);
    out.put(place - first_of_class(width), width);
  }
}
// Puts the value at the residual from `value`, which holds the prediction.
bool read_error(bits::Reader& in, const PrefixCode& code, const EntityModel& model,
                std::size_t column, std::uint32_t& value) {
  const auto symbol = code.read(in);
  if (!symbol) return false;
  const ColumnInfo& info = model.info().columns[column];
  if (*symbol == SymbolCounts::kWhole) {
    value = static_cast<std::uint32_t>(in.get(info.bits));
    return in.ok() && value <= info.last;
  }
  std::uint64_t place = *symbol;
  if (place >= SymbolCounts::kErrors) {
    const unsigned width = class_bits(*symbol);
    place = first_of_class(width) + in.get(width);
  }
  const auto size = static_cast<std::int64_t>(place / 2 + 1);
  return in.ok() && model.at_error(column, value, place % 2 == 0 ? size : -size, value);
}

// The value that both ends expect in the column, from the rows that the receiver is known to have.
// `row` gives the columns that stand before it, which its prediction may follow.
std::uint32_t predicted(const Basis& basis, const Row& row, std::size_t column) {
  return basis.model.predict(column, basis.predictors[column], basis.known, row.numbers,
                             basis.tick);
}

// About how many sixteenths of a bit a residual takes.
std::uint64_t about_bits(std::int64_t error) {
  if (error == 0) return 8;
  const auto size = static_cast<std::uint64_t>(error < 0 ? -error : error);
  return 40 + 32 * (static_cast<std::uint64_t>(std::bit_width(size)) - 1);
}

// Whether the receiver would be wrong without a word about the column.
bool differs(const Basis& basis, const Row& row, const ChangingColumn& each) {
  const std::uint16_t c = each.column;
  if (each.owner_only && !basis.part.owner) return false;
  if (each.varies) {
    const std::size_t place = basis.model.varying_place(c);
    return !same(basis.known.front().row.varying[place], row.varying[place]);
  }
  return predicted(basis, row, c) != row.numbers[c];
}

}  // namespace

// All columns in full, for an entity that the receiver does not have.
void write_whole(bits::Writer& out, const EntityModel& model, const Row& row, Part part) {
  for (const std::uint16_t c : model.order()) {
    const ColumnInfo& column = model.info().columns[c];
    if (!travels(column, part)) continue;
    if (column.form == ColumnForm::varying) {
      write_bits(out, row.varying[model.varying_place(c)]);
    } else {
      out.put(row.numbers[c], column.bits);
    }
  }
}

// The reverse of write_whole(). Columns that are not sent to this client stay 0.
bool read_whole(bits::Reader& in, const EntityModel& model, OwnRow& row, Part part) {
  row.numbers.assign(model.columns(), 0);
  row.varying.assign(model.varying(), nullptr);
  for (const std::uint16_t c : model.order()) {
    const ColumnInfo& column = model.info().columns[c];
    if (!travels(column, part)) continue;
    if (column.form == ColumnForm::varying) {
      if (!read_bits(in, column, row.varying[model.varying_place(c)])) return false;
    } else {
      row.numbers[c] = static_cast<std::uint32_t>(in.get(column.bits));
      if (row.numbers[c] > column.last) return false;
    }
  }
  return in.ok();
}

// The sender counts as the receiver does, so that no snapshot exceeds the receiver's budget.
std::size_t edited_size(const Basis& basis, const Row& row) {
  std::size_t size = 0;
  for (const ChangingColumn& each : basis.model.changing()) {
    if (!each.varies || !differs(basis, row, each)) continue;
    const SharedBits& before =
        basis.known.front().row.varying[basis.model.varying_place(each.column)];
    if (before == nullptr) continue;  // comes whole
    size += size_of_edit(basis.model, basis.model.info().columns[each.column], *before);
  }
  return size;
}

// The change mask: for each column that has a place in it one bit, or two bits that also say the
// two most frequent residuals, 1 and -1.
std::uint32_t mask_of(const Basis& basis, const Row& row) {
  std::uint32_t mask = 0;
  for (const ChangingColumn& each : basis.model.changing()) {
    if (each.width == 0 || !differs(basis, row, each)) continue;
    std::uint32_t state = 1;
    if (each.width > 1) {
      const std::uint16_t c = each.column;
      const std::int64_t error = basis.model.error_of(c, predicted(basis, row, c), row.numbers[c]);
      state = error == 1 ? 1 : error == -1 ? 2 : kLongError;
    }
    mask |= state << each.place;
  }
  return mask;
}

// The part of a change after its mask. Columns without a place in it, which hardly ever change,
// share one bit that says whether any did; only then has each a bit of its own.
void write_change(bits::Writer& out, const Basis& basis, const Row& row, std::uint32_t mask) {
  const EntityModel& model = basis.model;
  bool any = false;
  for (const ChangingColumn& each : model.changing()) {
    any = any || (each.width == 0 && differs(basis, row, each));
  }
  if (model.has_unchanging()) out.put_bool(any);
  for (const ChangingColumn& each : model.changing()) {
    const std::uint16_t c = each.column;
    if (each.owner_only && !basis.part.owner) continue;
    bool changed = false;
    if (each.width > 0) {
      const std::uint32_t said = each.said(mask);
      changed = said != 0 && (each.width == 1 || said == kLongError);
    } else if (any) {
      changed = differs(basis, row, each);
      out.put_bool(changed);
    }
    if (!changed) continue;
    if (each.varies) {
      write_varying(out, basis, c, row);
    } else if (each.by_error) {
      write_error(out, basis.codes.errors[c][basis.age()],
                  model.error_of(c, predicted(basis, row, c), row.numbers[c]), row.numbers[c],
                  each.bits);
    } else {
      out.put(row.numbers[c], each.bits);
    }
  }
}

// In the order of writing. A column is predicted before it is read, changed or not, because later
// ones may follow it.
bool read_change(bits::Reader& in, const Basis& basis, std::uint32_t mask, OwnRow& row) {
  const EntityModel& model = basis.model;
  row.assign(basis.known.front().row);
  const bool any = model.has_unchanging() && in.get_bool();
  for (const ChangingColumn& each : model.changing()) {
    const std::uint16_t c = each.column;
    const std::uint32_t said = each.said(mask);
    if (each.owner_only && !basis.part.owner) {
      if (said != 0) return false;
      continue;
    }
    if (each.moves != ChangingColumn::Moves::no) {
      model.predict_at(each, basis.predictors, basis.known, row.numbers, basis.tick);
    }
    if (each.width > 0 ? said == 0 : !(any && in.get_bool())) continue;
    if (each.width > 1 && said != kLongError) {
      if (!model.at_error(c, row.numbers[c], said == 1 ? 1 : -1, row.numbers[c])) return false;
    } else if (each.varies) {
      if (!read_varying(in, basis, c, row)) return false;
    } else if (each.by_error) {
      if (!read_error(in, basis.codes.errors[c][basis.age()], model, c, row.numbers[c]))
        return false;
    } else {
      row.numbers[c] = static_cast<std::uint32_t>(in.get(each.bits));
      if (row.numbers[c] > model.info().columns[c].last) return false;
    }
  }
  return in.ok();
}

// Counts the symbols that a change takes with the predictors of `counts`, and what each predictor
// that the column permits would cost: `kwind train` chooses by that.
void count_change(const Basis& basis_in, const Row& row, bool is_continuing,
                  SymbolCounts::Type& counts) {
  Basis basis = basis_in;
  basis.predictors = counts.predictors;
  const EntityModel& model = basis.model;
  const std::size_t age = basis.age();
  const std::uint32_t mask = mask_of(basis, row);
  ++(is_continuing ? counts.continuing : counts.unexpected)[age][mask];
  for (const ChangingColumn& each : model.changing()) {
    const std::uint16_t c = each.column;
    if (!each.by_error || (each.owner_only && !basis.part.owner)) continue;
    const auto error_with = [&](Predictor predictor) {
      const std::uint32_t value = model.predict(c, predictor, basis.known, row.numbers, basis.tick);
      return model.error_of(c, value, row.numbers[c]);
    };
    for (std::size_t p = 0; p < kPredictors; ++p) {
      const auto predictor = static_cast<Predictor>(p);
      if (model.choice(c).has(predictor)) counts.trials[c][p] += about_bits(error_with(predictor));
    }
    const std::uint32_t said = each.said(mask);
    const std::int64_t error = error_with(counts.predictors[c]);
    if (error == 0 || (each.width > 1 && said != kLongError)) continue;
    ++counts.errors[c][age][symbol_of(basis.codes.errors[c][age], place_of(error), each.bits)];
  }
}

}  // namespace kwind::replica
