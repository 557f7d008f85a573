// How the values of an entity become bits: whole, or as what differs from what both ends can
// foretell. The order of bits is that of docs/state-format.md. Pure.
#pragma once
#include <cstdint>
#include <span>

#include "kind_shape.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::replica {

/// Whose values are coded.
struct Part {
  bool owner = false;  ///< with the `owner only` columns
};

/// All columns of an entity.
void write_whole(bits::Writer& out, const KindShape& shape, const Row& row, Part part);
/// False if the bits hold no such entity. Columns that do not travel become 0, or empty.
[[nodiscard]] bool read_whole(bits::Reader& in, const KindShape& shape, OwnRow& row, Part part);

/// What differs at `tick` from what `known` (newest first, at least one) foretells. Returns how
/// many columns do.
std::size_t write_change(bits::Writer& out, const KindShape& shape, std::span<const Known> known,
                         const Row& row, std::uint32_t tick, Part part);
[[nodiscard]] bool read_change(bits::Reader& in, const KindShape& shape,
                               std::span<const Known> known, std::uint32_t tick, OwnRow& row,
                               Part part);
/// What is foretold of all columns.
void foretell_all(const KindShape& shape, std::span<const Known> known, std::uint32_t tick,
                  OwnRow& row);
/// Whether `row` is just that.
[[nodiscard]] bool is_foretold(const KindShape& shape, std::span<const Known> known, const Row& row,
                               std::uint32_t tick, Part part);

}  // namespace kwind::replica
