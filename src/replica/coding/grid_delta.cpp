// Reading and writing of changed grid cells.
//
// A change is a list of cells, each by its distance from the one before (exponential Golomb), with
// its difference from the old cell.
#include "replica/coding/grid_delta.h"

#include <utility>

#include "kwind/schema/codec.h"

namespace kwind::replica {
namespace {

constexpr unsigned kChangedCountOrder = 1;
// Pencilling goes from cell to cell: neighbours are cheap.
constexpr unsigned kGapOrder = 3;

// Indexes of the cells; empty if the bits are no such grid.
std::vector<std::uint32_t> cells_of(const schema::GridShape& model, const BitString& bits) {
  std::vector<std::uint32_t> cells(model.cells());
  schema::Decoder in(bits::Reader(bits.bytes, bits.bits));
  schema::decode_grid(in, model, [&](std::size_t cell, std::uint64_t index) {
    cells[cell] = static_cast<std::uint32_t>(index);
  });
  if (in.error() != Errc::none || in.left_bits() > 0) cells.clear();
  return cells;
}

}  // namespace

// Both grids are decoded to indexes, as the runs of the whole form hide which cells differ.
BitString grid_change(const schema::GridShape& model, const BitString& before, const BitString& now,
                      std::size_t max) {
  const std::vector<std::uint32_t> old = cells_of(model, before);
  const std::vector<std::uint32_t> cells = cells_of(model, now);
  if (old.empty() || cells.empty()) return {};
  std::vector<std::size_t> changed;
  for (std::size_t i = 0; i < cells.size(); ++i) {
    if (cells[i] != old[i]) changed.push_back(i);
  }
  if (changed.empty()) return {};
  BitString made{std::vector<std::byte>(bits::bytes_for(max)), 0};
  schema::Encoder out{bits::Writer(made.bytes)};
  out.count_code(changed.size() - 1, kChangedCountOrder);
  std::size_t next = 0;
  for (const std::size_t cell : changed) {
    out.count_code(cell - std::exchange(next, cell + 1), kGapOrder);
    schema::grid_detail::put_difference(out, model, old[cell], cells[cell]);
  }
  if (out.error() != Errc::none || out.bit_count() >= max) return {};
  out.finish();
  made.bits = out.bit_count();
  made.bytes.resize(bits::bytes_for(made.bits));
  return made;
}

// A gap and a difference for each changed cell; the result is encoded anew, because a grid is held
// in the bits of its whole form. O(cells): see kMaxEditedSize.
SharedBits read_grid_change(bits::Reader& in, const schema::GridShape& model,
                            const BitString& before, std::size_t max) {
  std::vector<std::uint32_t> cells = cells_of(model, before);
  if (cells.empty()) return nullptr;
  schema::Decoder changes(in);
  const std::uint64_t count = changes.count_code(kChangedCountOrder, cells.size() - 1) + 1;
  std::uint64_t cell = 0;
  for (std::uint64_t i = 0; i < count && changes.error() == Errc::none; ++i, ++cell) {
    cell += changes.count_code(kGapOrder, cells.size());
    if (changes.error() != Errc::none || cell >= cells.size()) return nullptr;
    cells[cell] =
        static_cast<std::uint32_t>(schema::grid_detail::get_different(changes, model, cells[cell]));
  }
  if (changes.error() != Errc::none) return nullptr;
  in.skip(in.left_bits() - changes.left_bits());
  BitString made{std::vector<std::byte>(bits::bytes_for(max)), 0};
  schema::Encoder out{bits::Writer(made.bytes)};
  schema::encode_grid(out, model, [&](std::size_t i) { return cells[i]; });
  if (out.error() != Errc::none) return nullptr;
  out.finish();
  made.bits = out.bit_count();
  made.bytes.resize(bits::bytes_for(made.bits));
  made.bytes.shrink_to_fit();
  return std::make_shared<const BitString>(std::move(made));
}

}  // namespace kwind::replica
