// Codes the cells of a grid row by row: runs of cells that equal their left neighbour (the one
// above, at the start of a row) by length, exponential Golomb, and each other cell by its
// difference.
#include "kwind/schema/grid.h"

namespace kwind::schema {

unsigned GridShape::min_cell_bits() const {
  return named ? bits::bits_for(count - 1) : 2;  // order 1: 0 and 1 take two bits
}

unsigned GridShape::max_cell_bits() const {
  if (named || count < 2) return bits::bits_for(count - 1);
  return bits::count_bits(2 * (count - 1) - 1, 1);
}

namespace grid_detail {

// A cell that changed cannot have its old value: one value less to name.
void put_difference(Encoder& out, const GridShape& shape, std::uint64_t before,
                    std::uint64_t index) {
  if (shape.named) {
    out.write(Piece{index > before ? index - 1 : index, bits::bits_for(shape.count - 1), 0});
  } else if (index > before) {
    out.count_code(2 * (index - before - 1), 1);
  } else {
    out.count_code(2 * (before - index - 1) + 1, 1);
  }
}

// The reverse; a value that equals the old one is refused.
std::uint64_t get_different(Decoder& in, const GridShape& shape, std::uint64_t before) {
  if (shape.count < 2) {  // a grid of one value has no cell that differs
    in.fail(Errc::value_range);
    return before;
  }
  if (shape.named) {
    const std::uint64_t index = in.choice(shape.count - 1);
    return index >= before ? index + 1 : index;
  }
  const std::uint64_t code = in.count_code(1, 2 * (shape.count - 1) - 1);
  const std::uint64_t distance = code / 2 + 1;
  const bool down = code % 2 != 0;
  if (down ? distance > before : before + distance >= shape.count) {
    in.fail(Errc::value_range);
    return before;
  }
  return down ? before - distance : before + distance;
}

}  // namespace grid_detail
}  // namespace kwind::schema
