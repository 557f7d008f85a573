// The value of a `grid of T W x H`, and the coding that makes a chart with few marks cheap.
// No neighbours but the codec. One grid, one thread; its cells are allocated once.
#pragma once
#include <memory>
#include <span>
#include <utility>

#include "kwind/core/compiler.h"
#include "kwind/schema/codec.h"

namespace kwind::schema {

/// W columns and H rows of T, row by row from the top left.
template <class T, std::uint32_t W, std::uint32_t H>
class Grid {
 public:
  static constexpr std::uint32_t kWidth = W;
  static constexpr std::uint32_t kHeight = H;

  Grid() : Grid(T{}) {}
  explicit Grid(const T& all) : cells_(new T[kCells]) {
    for (T& cell : cells()) cell = all;
  }
  Grid(const Grid& other) : cells_(new T[kCells]) { *this = other; }
  Grid& operator=(const Grid& other) {
    for (std::size_t i = 0; i < kCells; ++i) cells_[i] = other.cells_[i];
    return *this;
  }
  // Moves are copies: a grid always has its cells.
  ~Grid() = default;

  /// Requires: x < W, y < H.
  [[nodiscard]] T& at(std::uint32_t x, std::uint32_t y) {
    KWIND_ASSERT(x < W && y < H);
    return cells_[std::size_t{y} * W + x];
  }
  [[nodiscard]] const T& at(std::uint32_t x, std::uint32_t y) const {
    KWIND_ASSERT(x < W && y < H);
    return cells_[std::size_t{y} * W + x];
  }
  [[nodiscard]] std::span<T> cells() { return {cells_.get(), kCells}; }
  [[nodiscard]] std::span<const T> cells() const { return {cells_.get(), kCells}; }
  friend bool operator==(const Grid& a, const Grid& b) {
    for (std::size_t i = 0; i < kCells; ++i) {
      if (!(a.cells_[i] == b.cells_[i])) return false;
    }
    return true;
  }

 private:
  static constexpr std::size_t kCells = std::size_t{W} * H;
  std::unique_ptr<T[]> cells_;
};

/// Shape and values of a grid: `width` columns, and cells that are indexes below `count`.
struct KWIND_API GridShape {
  std::uint32_t width = 1;
  std::uint32_t height = 1;
  std::uint64_t count = 1;  ///< 1 to 2^31
  bool named = false;       ///< cells are names, not numbers: neighbours in the list are no nearer

  [[nodiscard]] std::size_t cells() const { return std::size_t{width} * height; }
  /// Bits of one cell that differs from its prediction: fewest and most.
  [[nodiscard]] unsigned min_cell_bits() const;
  [[nodiscard]] unsigned max_cell_bits() const;
};

/// Each cell is predicted to equal its left neighbour, the first of a row the one above, the very
/// first index 0. What travels: how many cells from here equal their predictions (Exp-Golomb, order
/// 0); then, unless that was the last cell, by how much the next one differs; and again. The
/// difference to a number is a count of order 1, 2 (d - 1) for d above 0, 2 (-d - 1) + 1 below; the
/// index of a name, less one if it is above the prediction, takes a fixed number of bits. One list
/// of cells has one coding. O(cells). `index_of(i)` gives the index of cell i.
template <class IndexOf>
void encode_grid(Encoder& out, const GridShape& shape, const IndexOf& index_of);

/// Calls set(i, index) for each cell in order; on an error for some of them only.
template <class Set>
void decode_grid(Decoder& in, const GridShape& shape, const Set& set);

// ---- bodies ----

namespace grid_detail {
KWIND_API void put_difference(Encoder& out, const GridShape& shape, std::uint64_t before,
                              std::uint64_t index);
KWIND_API std::uint64_t get_different(Decoder& in, const GridShape& shape, std::uint64_t before);
}  // namespace grid_detail

template <class IndexOf>
void encode_grid(Encoder& out, const GridShape& shape, const IndexOf& index_of) {
  std::uint64_t before = 0;
  std::uint64_t above = 0;  // the first of the row above
  std::uint64_t run = 0;
  std::size_t cell = 0;
  for (std::uint32_t y = 0; y < shape.height; ++y) {
    for (std::uint32_t x = 0; x < shape.width; ++x, ++cell) {
      const std::uint64_t index = index_of(cell);
      if (x == 0) before = std::exchange(above, index);
      if (index == before) {
        ++run;
        continue;
      }
      out.count_code(std::exchange(run, 0), 0);
      grid_detail::put_difference(out, shape, before, index);
      before = index;
    }
  }
  if (run > 0) out.count_code(run, 0);
}

template <class Set>
void decode_grid(Decoder& in, const GridShape& shape, const Set& set) {
  std::uint64_t before = 0;
  std::uint64_t above = 0;
  std::uint64_t run = 0;
  std::size_t cell = 0;
  bool run_known = false;
  for (std::uint32_t y = 0; y < shape.height; ++y) {
    for (std::uint32_t x = 0; x < shape.width; ++x, ++cell) {
      if (!run_known) {
        run = in.count_code(0, shape.cells() - cell);
        if (in.error() != Errc::none) return;
        run_known = true;
      }
      if (x == 0) before = above;
      if (run > 0) {
        --run;
      } else {
        before = grid_detail::get_different(in, shape, before);
        if (in.error() != Errc::none) return;
        run_known = false;
      }
      if (x == 0) above = before;
      set(cell, before);
    }
  }
}

}  // namespace kwind::schema
