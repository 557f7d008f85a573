// Delta coding of values of varying size: lists and texts by item, all others by their common
// beginning and end. Pure.
#pragma once
#include <cstddef>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/schema/entity_info.h"
#include "replica/coding/column_row.h"

namespace kwind::replica {

/// The bits of docs/state-format.md; empty if they would be `max` bits or more.
/// O(items), and O(items^2) where items were inserted among at most 64.
BitString list_change(const schema::ColumnInfo& column, const BitString& before,
                      const BitString& now, std::size_t max);
/// The value that they make of `before`, of at most `column.last` bits; nullptr if the bits are
/// wrong. O(bits).
SharedBits read_list_change(bits::Reader& in, const schema::ColumnInfo& column,
                            const BitString& before);

}  // namespace kwind::replica
