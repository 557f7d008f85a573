// A row of columns in the bits of a message, for decoders. Pure.
#pragma once
#include <algorithm>
#include <cstdint>
#include <vector>

#include "kwind/bits/writer.h"
#include "replica/coding/entity_model.h"
#include "replica/coding/unit_columns.h"

namespace kwind::replica {

/// The bits of `known`, moved on to tick `to` if that is later, with `owner only` columns for the
/// owner alone; returns their number. `memory` grows as it needs to. O(bits).
inline std::size_t write_row(std::vector<std::byte>& memory, const EntityModel& model,
                             const Known& known, bool owner, Tick to) {
  std::size_t bits = model.columns() * 64;
  for (const SharedBits& field : known.row.varying) bits += field != nullptr ? field->bits : 0;
  if (memory.size() < bits::bytes_for(bits)) memory.resize(bits::bytes_for(bits));
  bits::Writer out(memory);
  for (std::size_t c = 0; c < model.columns(); ++c) {
    const schema::ColumnInfo& column = model.info().columns[c];
    if (column.owner_only && !owner) continue;
    if (column.group != schema::ColumnGroup::none) {
      if (column.group_place == 0) write_unit(out, &column, &known.row.numbers[c]);
    } else if (column.form != schema::ColumnForm::varying) {
      const bool later = to > known.tick && !column.at_spawn;
      out.put(later ? model.moved_on(c, known, to) : known.row.numbers[c], column.bits);
    } else if (const SharedBits& held = known.row.varying[model.varying_place(c)]) {
      out.put_bits(held->bytes, held->bits);
    }
  }
  KWIND_ASSERT(out.ok());
  out.finish();
  return out.bit_count();
}

}  // namespace kwind::replica
