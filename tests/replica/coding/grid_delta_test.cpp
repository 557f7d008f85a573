// Delta coding of grids: every grid comes back from every other of its shape.
#include "replica/coding/grid_delta.h"

#include <gtest/gtest.h>

#include <random>
#include <vector>

#include "kit/sweep.h"
#include "kwind/schema/codec.h"
#include "kwind/schema/grid.h"

namespace kwind::replica {
namespace grid_delta_test {

BitString grid_of(const schema::GridShape& shape, const std::vector<std::uint32_t>& cells) {
  BitString made{std::vector<std::byte>(cells.size() * 8 + 64), 0};
  schema::Encoder out{bits::Writer(made.bytes)};
  schema::encode_grid(out, shape, [&](std::size_t i) { return cells[i]; });
  made.bits = out.bit_count();
  made.bytes.resize(out.finish());
  return made;
}

TEST(GridDelta, GivesBackEveryGridFromEveryOther) {
  for (const std::uint64_t seed : kit::seeds(60, 3000)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    const schema::GridShape shape{static_cast<std::uint32_t>(1 + random() % 20),
                                  static_cast<std::uint32_t>(1 + random() % 20), 2 + random() % 30,
                                  random() % 2 == 0};
    std::vector<std::uint32_t> cells(shape.cells());
    for (std::uint32_t& cell : cells) cell = static_cast<std::uint32_t>(random() % shape.count);
    for (int change = 0; change < 10; ++change) {
      const BitString before = grid_of(shape, cells);
      for (std::size_t i = random() % (1 + cells.size() / 4) + 1; i > 0; --i) {
        cells[random() % cells.size()] = static_cast<std::uint32_t>(random() % shape.count);
      }
      const BitString now = grid_of(shape, cells);
      const BitString delta = grid_change(shape, before, now, 1000000);
      if (before == now) continue;
      ASSERT_GT(delta.bits, 0U);
      bits::Reader in(delta.bytes, delta.bits);
      const SharedBits read = read_grid_change(in, shape, before, 1000000);
      ASSERT_NE(read, nullptr);
      EXPECT_EQ(*read, now);
      EXPECT_EQ(in.left_bits(), 0U);
      EXPECT_EQ(grid_change(shape, before, now, delta.bits).bits, 0U) << "no shorter than allowed";
    }
  }
}

TEST(GridDelta, OneCellOfManyTakesFewBits) {
  const schema::GridShape shape{48, 48, 8, false};
  std::vector<std::uint32_t> cells(shape.cells(), 3);
  const BitString before = grid_of(shape, cells);
  cells[1000] = 4;
  EXPECT_LE(grid_change(shape, before, grid_of(shape, cells), 1000000).bits, 40U);
}

TEST(GridDelta, RandomBitsMakeNoGridBeyondItsShape) {
  std::mt19937_64 random(11);
  const schema::GridShape shape{6, 7, 5, true};
  const BitString before = grid_of(shape, std::vector<std::uint32_t>(shape.cells(), 2));
  int made = 0;
  for (int i = 0; i < 3000; ++i) {
    std::vector<std::byte> bytes(1 + random() % 24);
    for (std::byte& byte : bytes) byte = static_cast<std::byte>(random());
    bits::Reader in(bytes, bytes.size() * 8);
    const SharedBits read = read_grid_change(in, shape, before, 4000);
    if (read == nullptr) continue;
    ++made;
    EXPECT_LE(read->bits, 4000U);
    // What was accepted is a grid: it changes into itself by nothing, and into the old one.
    const BitString back = grid_change(shape, *read, before, 100000);
    EXPECT_TRUE(back.bits > 0 || *read == before);
  }
  EXPECT_GT(made, 0);
}

}  // namespace grid_delta_test
}  // namespace kwind::replica
