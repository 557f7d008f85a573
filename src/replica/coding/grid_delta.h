// Delta coding of grids by cell: the changed cells in place of the whole grid. Pure.
#pragma once
#include <cstddef>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/schema/grid.h"
#include "replica/coding/column_row.h"

namespace kwind::replica {

/// The bits of docs/state-format.md; empty if they would be `most` bits or more, or one of the two
/// is no grid of that shape. O(cells).
BitString grid_change(const schema::GridShape& model, const BitString& before, const BitString& now,
                      std::size_t max);
/// The grid that it makes of `before`, of at most `most` bits; nullptr if the bits are wrong.
/// O(cells).
SharedBits read_grid_change(bits::Reader& in, const schema::GridShape& model,
                            const BitString& before, std::size_t max);

}  // namespace kwind::replica
