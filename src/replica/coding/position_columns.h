// Which columns of an entity are a position. Pure.
#pragma once
#include <cstddef>
#include <cstdint>
#include <span>
#include <string_view>

#include "kwind/schema/entity_info.h"

namespace kwind::replica {

/// The columns of a position: the first one, and how many there are; 0 axes if it is none.
struct PositionColumns {
  std::size_t first = 0;
  std::size_t axes = 0;
};

/// Of a field by name: a position has two or three numbers with steps. O(columns).
inline PositionColumns position_columns(const schema::EntityInfo& info, std::string_view field) {
  PositionColumns found;
  for (std::size_t c = 0; c < info.columns.size(); ++c) {
    const schema::ColumnInfo& column = info.columns[c];
    const bool is_number = column.form == schema::ColumnForm::number && column.step > 0;
    if (!is_number || info.fields[column.field].name != field) continue;
    if (found.axes == 0) found.first = c;
    ++found.axes;
  }
  if (found.axes != 2 && found.axes != 3) found.axes = 0;
  return found;
}

/// The reference in the column of the carrier that a position counts from; 0 if it counts from
/// nothing.
inline std::uint32_t carrier_number(const schema::EntityInfo& info, std::size_t first_column,
                                    std::span<const std::uint32_t> numbers) {
  for (const schema::AttachmentInfo& each : info.attachments) {
    if (each.first == first_column) return numbers[each.carrier];
  }
  return 0;
}

}  // namespace kwind::replica
