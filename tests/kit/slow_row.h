// The columns of a value as numbers and text, and what docs/state-format.md says of columns alone:
// their order and the bits that each has in the mask of a symbol.
#pragma once
#include <algorithm>
#include <cstdint>
#include <string>
#include <utility>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/schema/codec.h"
#include "kwind/schema/entity_info.h"

namespace kwind::kit {

/// The columns of a value: whole numbers, and the bits of varying ones as text.
struct SlowRow {
  std::vector<std::uint32_t> numbers;
  std::vector<std::string> varying;
  friend bool operator==(const SlowRow&, const SlowRow&) = default;
};
struct SlowThing {
  const schema::EntityInfo* kind = nullptr;
  std::uint8_t generation = 0;
  SlowRow row;
};

template <class T>
SlowRow slow_row(const T& value) {
  std::vector<std::byte> memory(4096);
  schema::Encoder out{bits::Writer(memory)};
  std::vector<std::size_t> ends;
  encode_columns(out, value, [&] { ends.push_back(out.bit_count()); });
  out.finish();
  SlowRow row;
  const auto columns = T::entity_info().columns;
  bits::Reader in(memory, out.bit_count());
  std::size_t field = 0;
  std::size_t begin = 0;
  for (std::size_t c = 0; c < columns.size(); ++c) {
    if (columns[c].group != schema::ColumnGroup::none) {
      if (columns[c].group_place > 0) continue;
      // One index of mixed radix, the first column most significant.
      const bool rotation = columns[c].group == schema::ColumnGroup::rotation;
      const std::size_t count = rotation ? 4 : 2;
      const std::uint64_t side = std::uint64_t{columns[c + 1].last} + 1;
      std::uint64_t index = in.get(static_cast<unsigned>(ends[field] - begin));
      row.numbers.resize(c + count);
      row.varying.resize(c + count);
      for (std::size_t i = count; i-- > 1; index /= side) {
        row.numbers[c + i] = static_cast<std::uint32_t>(index % side);
      }
      row.numbers[c] = static_cast<std::uint32_t>(index);
      begin = ends[field++];
      continue;
    }
    row.numbers.push_back(0);
    row.varying.emplace_back();
    if (columns[c].form == schema::ColumnForm::varying) {
      for (std::size_t i = begin; i < ends[field]; ++i) row.varying[c] += in.get_bool() ? '1' : '0';
    } else {
      row.numbers[c] = static_cast<std::uint32_t>(in.get(columns[c].bits));
    }
    if (c + 1 == columns.size() || columns[c + 1].field != columns[c].field) begin = ends[field++];
  }
  return row;
}

inline bool is_place(const schema::EntityInfo& kind, std::size_t c) {
  for (const schema::FollowInfo& follow : kind.follows) {
    if (c >= follow.first && c < std::size_t{follow.first} + follow.axes) return true;
  }
  return false;
}
// Columns as a body has them: positions that follow come last.
inline std::vector<std::size_t> order_of(const schema::EntityInfo& kind) {
  std::vector<std::size_t> order;
  for (const bool places : {false, true}) {
    for (std::size_t c = 0; c < kind.columns.size(); ++c) {
      if (is_place(kind, c) == places) order.push_back(c);
    }
  }
  return order;
}
// Whether differences of the column are written by symbols.
inline bool is_number(const schema::ColumnInfo& column) {
  return (column.form == schema::ColumnForm::number ||
          column.form == schema::ColumnForm::circular) &&
         column.bits <= 30;
}

// Whether the column gets a second bit of the mask, while bits are left.
inline bool often_near(const schema::EntityInfo& kind, std::size_t c) {
  const schema::ColumnInfo& column = kind.columns[c];
  if (!is_number(column)) return false;
  bool moves = column.smooth;
  for (const schema::FollowInfo& follow : kind.follows) {
    const bool is_velocity = follow.form == schema::FollowForm::velocity;
    const bool is_direction = follow.form == schema::FollowForm::direction;
    const std::size_t speeds = is_velocity ? follow.axes : 1;
    const std::size_t turns = is_velocity ? 0 : is_direction ? 2 : 1;
    moves = moves || (c >= follow.speed && c - follow.speed < speeds) ||
            (c >= follow.along && c - follow.along < turns);
  }
  return moves;
}
// Column and width of each, from the lowest bits on.
inline std::vector<std::pair<std::size_t, unsigned>> mask_of(const schema::EntityInfo& kind) {
  std::vector<std::pair<std::size_t, unsigned>> columns;
  unsigned bits = 0;
  const auto order = order_of(kind);
  for (auto c = order.rbegin(); c != order.rend(); ++c) {
    if (kind.columns[*c].at_spawn) continue;
    const unsigned width = is_place(kind, *c) ? 2 : 1;
    if (bits + width > 10) break;
    bits += width;
    columns.push_back({*c, width});
  }
  for (auto& [c, width] : columns) {
    if (bits == 10 || width == 2 || !often_near(kind, c)) continue;
    width = 2;
    ++bits;
  }
  std::reverse(columns.begin(), columns.end());
  return columns;
}
// The number of different masks.
inline std::size_t masks_of(const schema::EntityInfo& kind) {
  unsigned bits = 0;
  for (const auto& [column, width] : mask_of(kind)) bits += width;
  return std::size_t{1} << bits;
}

}  // namespace kwind::kit
