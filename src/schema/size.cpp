// How many bits values take: fewest, typical, most.
#include <algorithm>

#include "kwind/schema/grid.h"
#include "kwind/schema/protocol.h"
#include "schema/shapes.h"

namespace kwind::schema {
namespace {

// Sums in 64 bits, so that they saturate rather than wrap.
struct Sum {
  std::uint64_t min = 0;
  std::uint64_t typical = 0;
  std::uint64_t max = 0;

  Sum& operator+=(const Size& size) {
    min += size.min_bits;
    typical += size.typical_bits;
    max += size.max_bits;
    return *this;
  }
  [[nodiscard]] Size size() const {
    const auto saturated = [](std::uint64_t v) {
      return static_cast<std::uint32_t>(std::min<std::uint64_t>(v, ~0U));
    };
    return {saturated(min), saturated(typical), saturated(max)};
  }
};

Size exactly(std::uint64_t bits) {
  return Sum{bits, bits, bits}.size();
}

// A list or text: empty at least, half full typically, full at most.
Size of_items(std::uint32_t limit, const Size& item) {
  const std::uint64_t length = bits::bits_for(std::uint64_t{limit} + 1);
  return Sum{length, length + std::uint64_t{limit} * item.typical_bits / 2,
             length + std::uint64_t{limit} * item.max_bits}
      .size();
}

// The code of the case and the smallest, average and largest value of any case that the version
// has.
Size of_one_of(const Protocol& protocol, const Options& one_of, std::uint16_t version) {
  Sum sum;
  std::uint64_t min = ~std::uint64_t{0};
  std::uint64_t max = 0;
  std::uint64_t alive = 0;
  for (const Option& option : one_of.options) {
    if (!option.life.alive(version)) continue;
    const Size size =
        option.type.empty() ? Size{} : size_of(protocol, option.type.front(), version);
    min = std::min<std::uint64_t>(min, size.min_bits);
    max = std::max<std::uint64_t>(max, size.max_bits);
    sum.typical += size.typical_bits;
    ++alive;
  }
  if (alive == 0) return {};
  const std::uint64_t code = bits::bits_for(alive);
  return Sum{min + code, sum.typical / alive + code, max + code}.size();
}

// The cheapest way to code so many cells: one run, or a run that just fits into its bits, a cell
// that differs, and the rest likewise.
std::uint64_t min_grid_bits(std::uint64_t cells, unsigned cell_bits) {
  std::uint64_t before = 0;
  std::uint64_t min = ~std::uint64_t{0};
  while (cells > 0) {
    min = std::min<std::uint64_t>(min, before + bits::count_bits(cells, 0));
    const std::uint64_t piece = std::bit_floor(cells + 1) - 1;  // cells of the run and the other
    before += bits::count_bits(piece - 1, 0) + cell_bits;
    cells -= piece;
  }
  return std::min(min, before);
}

// Runs of equal cells and cells that differ; see docs/wire-format.md for the code.
Size of_grid(const GridShape& shape) {
  const std::uint64_t cells = shape.cells();
  const std::uint64_t all_same = bits::count_bits(cells, 0);
  if (shape.count < 2) return exactly(all_same);
  // Most: each cell differs, behind a run of none (1 bit). Where differing takes no bits, every
  // second one does, behind a run of one (3 bits); and a run of one may be the last.
  const std::uint64_t cell = shape.max_cell_bits();
  const std::uint64_t max =
      cell == 0 ? (3 * cells + 1) / 2 + 2 : cells * (1 + cell) + (cell == 1 ? 1 : 0);
  // Typical: a cell after each 15 that are as predicted.
  const std::uint64_t typical_cell =
      bits::count_bits(15, 0) + (shape.min_cell_bits() + shape.max_cell_bits()) / 2;
  return Sum{min_grid_bits(cells, shape.min_cell_bits()),
             std::max(all_same, cells / 16 * typical_cell), std::max(all_same, max)}
      .size();
}

}  // namespace

// Exact for types of fixed size. All sums saturate: the limits of a description permit values that
// no memory holds.
Size size_of(const Protocol& protocol, const Type& type, std::uint16_t version) {
  const auto element = [&] { return size_of(protocol, type.element.front(), version); };
  switch (type.kind) {
    case TypeKind::boolean: return exactly(1);
    case TypeKind::integer: return exactly(type.integer.bits());
    case TypeKind::real: return exactly(type.real.bits());
    case TypeKind::f32: return exactly(32);
    case TypeKind::f64: return exactly(64);
    case TypeKind::angle:
    case TypeKind::direction2: return exactly(type.angle.bits());
    case TypeKind::direction3: return exactly(type.direction.bits());
    case TypeKind::rotation: return exactly(type.rotation.bits());
    case TypeKind::tick: return exactly(16);
    case TypeKind::peer: return exactly(bits::bits_for(type.limit));
    case TypeKind::ref:
      return exactly(bits::bits_for(std::uint64_t{type.limit} * kGenerations + 1));
    case TypeKind::count:
      return Sum{bits::count_bits(0, Decoder::kCountOrder),
                 bits::count_bits(type.limit / 8, Decoder::kCountOrder),
                 bits::count_bits(type.limit, Decoder::kCountOrder)}
          .size();
    case TypeKind::vec: {
      Sum sum;
      for (std::uint32_t i = 0; i < type.limit; ++i) sum += element();
      return sum.size();
    }
    case TypeKind::text:
    case TypeKind::bytes: return of_items(type.limit, exactly(8));
    case TypeKind::list: return of_items(type.limit, element());
    case TypeKind::enumeration:
      return exactly(bits::bits_for(protocol.enums[type.index].alive(version)));
    case TypeKind::flags: return exactly(protocol.flags[type.index].alive(version));
    case TypeKind::record: return size_of(protocol, protocol.records[type.index].fields, version);
    case TypeKind::maybe: {
      const Size size = element();
      return Sum{1, 1 + std::uint64_t{size.typical_bits} / 2, 1 + std::uint64_t{size.max_bits}}
          .size();
    }
    case TypeKind::one_of: return of_one_of(protocol, protocol.one_ofs[type.index], version);
    case TypeKind::grid: return of_grid(grid_shape(protocol, type, version));
  }
  return {};
}

Size size_of(const Protocol& protocol, const std::vector<Field>& fields, std::uint16_t version) {
  Sum sum;
  for (const Field& field : fields) {
    if (field.travels(version)) sum += size_of(protocol, field.type, version);
  }
  return sum.size();
}

// Buffers and checks need the extremes over all versions that are still spoken.
Size size_in_any_version(const Protocol& protocol, const std::vector<Field>& fields) {
  Size all = size_of(protocol, fields, protocol.version);
  for (std::uint32_t v = protocol.version; v-- > oldest_version(protocol);) {
    const Size size = size_of(protocol, fields, static_cast<std::uint16_t>(v));
    all.min_bits = std::min(all.min_bits, size.min_bits);
    all.max_bits = std::max(all.max_bits, size.max_bits);
  }
  return all;
}

}  // namespace kwind::schema
