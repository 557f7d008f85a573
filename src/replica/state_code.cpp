#include "state_code.h"

namespace kwind::replica {
namespace {

using schema::ColumnForm;
using schema::ColumnInfo;

constexpr unsigned kErrorOrder = 1;
constexpr unsigned kLengthOrder = 5;

bool travels(const ColumnInfo& column, Part part) {
  return part.owner || !column.owner_only;
}
bool changes(const ColumnInfo& column, Part part) {
  return travels(column, part) && !column.at_spawn;
}

void write_bits(bits::Writer& out, const SharedBits& value) {
  if (value == nullptr) return out.put_count(0, kLengthOrder);
  out.put_count(value->bits, kLengthOrder);
  out.put_bits(value->bytes, value->bits);
}
bool read_bits(bits::Reader& in, const ColumnInfo& column, SharedBits& value) {
  const std::uint64_t bits = in.get_count(kLengthOrder);
  if (!in.ok() || bits > column.last || bits > in.left_bits()) return false;
  BitString made{std::vector<std::byte>(bits::bytes_for(bits)), static_cast<std::size_t>(bits)};
  if (!in.get_bits(made.bytes, made.bits)) return false;
  value = std::make_shared<const BitString>(std::move(made));
  return true;
}

// An error that is not 0: 1, -1, 2, -2, ...
void write_error(bits::Writer& out, std::int64_t error) {
  const std::uint64_t size = static_cast<std::uint64_t>(error < 0 ? -error : error);
  out.put_count((size - 1) >> 31 == 0 ? (size - 1) * 2 + (error < 0 ? 1 : 0) : 0, kErrorOrder);
}
std::int64_t read_error(bits::Reader& in) {
  const std::uint64_t code = in.get_count(kErrorOrder);
  const auto size = static_cast<std::int64_t>(code / 2 + 1);
  return code % 2 == 0 ? size : -size;
}
// Columns of 31 and 32 bits would have errors beyond what a count holds.
bool by_error(const ColumnInfo& column) {
  return column.form != ColumnForm::opaque && column.bits <= 30;
}

}  // namespace

void write_whole(bits::Writer& out, const KindShape& shape, const Row& row, Part part) {
  for (const std::uint16_t c : shape.order()) {
    const ColumnInfo& column = shape.info().columns[c];
    if (!travels(column, part)) continue;
    if (column.form == ColumnForm::varying) {
      write_bits(out, row.varying[shape.varying_place(c)]);
    } else {
      out.put(row.numbers[c], column.bits);
    }
  }
}

bool read_whole(bits::Reader& in, const KindShape& shape, OwnRow& row, Part part) {
  row.numbers.assign(shape.columns(), 0);
  row.varying.assign(shape.varying(), nullptr);
  for (const std::uint16_t c : shape.order()) {
    const ColumnInfo& column = shape.info().columns[c];
    if (!travels(column, part)) continue;
    if (column.form == ColumnForm::varying) {
      if (!read_bits(in, column, row.varying[shape.varying_place(c)])) return false;
    } else {
      row.numbers[c] = static_cast<std::uint32_t>(in.get(column.bits));
      if (row.numbers[c] > column.last) return false;
    }
  }
  return in.ok();
}

std::size_t write_change(bits::Writer& out, const KindShape& shape, std::span<const Known> known,
                         const Row& row, std::uint32_t tick, Part part) {
  std::size_t changed = 0;
  for (const std::uint16_t c : shape.order()) {
    const ColumnInfo& column = shape.info().columns[c];
    if (!changes(column, part)) continue;
    if (column.form == ColumnForm::varying) {
      const std::size_t place = shape.varying_place(c);
      const bool differs = !same(known.front().row.varying[place], row.varying[place]);
      out.put_bool(differs);
      if (differs) write_bits(out, row.varying[place]);
      changed += differs ? 1 : 0;
      continue;
    }
    const std::uint32_t foretold = shape.foretell(c, known, row.numbers, tick);
    const bool differs = foretold != row.numbers[c];
    out.put_bool(differs);
    if (!differs) continue;
    ++changed;
    if (by_error(column)) {
      write_error(out, shape.error_of(c, foretold, row.numbers[c]));
    } else {
      out.put(row.numbers[c], column.bits);
    }
  }
  return changed;
}

bool read_change(bits::Reader& in, const KindShape& shape, std::span<const Known> known,
                 std::uint32_t tick, OwnRow& row, Part part) {
  row.assign(known.front().row);
  for (const std::uint16_t c : shape.order()) {
    const ColumnInfo& column = shape.info().columns[c];
    if (!changes(column, part)) continue;
    if (column.form == ColumnForm::varying) {
      if (in.get_bool() && !read_bits(in, column, row.varying[shape.varying_place(c)]))
        return false;
      continue;
    }
    const std::uint32_t foretold = shape.foretell(c, known, row.numbers, tick);
    row.numbers[c] = foretold;
    if (!in.get_bool()) continue;
    if (by_error(column)) {
      if (!shape.at_error(c, foretold, read_error(in), row.numbers[c])) return false;
    } else {
      row.numbers[c] = static_cast<std::uint32_t>(in.get(column.bits));
      if (row.numbers[c] > column.last) return false;
    }
  }
  return in.ok();
}

void foretell_all(const KindShape& shape, std::span<const Known> known, std::uint32_t tick,
                  OwnRow& row) {
  row.assign(known.front().row);
  for (const std::uint16_t c : shape.order()) {
    const ColumnInfo& column = shape.info().columns[c];
    if (column.form == ColumnForm::varying || column.at_spawn) continue;
    row.numbers[c] = shape.foretell(c, known, row.numbers, tick);
  }
}

bool is_foretold(const KindShape& shape, std::span<const Known> known, const Row& row,
                 std::uint32_t tick, Part part) {
  for (const std::uint16_t c : shape.order()) {
    const ColumnInfo& column = shape.info().columns[c];
    if (!changes(column, part)) continue;
    if (column.form == ColumnForm::varying) {
      const std::size_t place = shape.varying_place(c);
      if (!same(known.front().row.varying[place], row.varying[place])) return false;
    } else if (shape.foretell(c, known, row.numbers, tick) != row.numbers[c]) {
      return false;
    }
  }
  return true;
}

}  // namespace kwind::replica
