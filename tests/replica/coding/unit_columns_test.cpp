// Rotations and directions as columns: every index comes back, steady turns are predicted.
#include <gtest/gtest.h>

#include <array>
#include <cmath>
#include <random>

#include "kwind/bits/unit_vectors.h"
#include "replica/coding/unit_columns.h"

namespace kwind::replica {
namespace unit_columns_test {

using schema::ColumnInfo;

ColumnInfo group_column(schema::ColumnGroup group, std::uint32_t half, std::uint8_t place) {
  ColumnInfo column{};
  column.form = schema::ColumnForm::number;
  column.last = 2 * half;
  column.bits = static_cast<std::uint8_t>(bits::bits_for(2 * half + 1U));
  column.group = group;
  column.group_place = place;
  return column;
}

TEST(UnitColumns, EveryIndexComesBack) {
  constexpr std::uint32_t kHalf = 2;
  for (const auto group : {schema::ColumnGroup::rotation, schema::ColumnGroup::direction3}) {
    std::vector<ColumnInfo> columns;
    for (std::uint8_t i = 0; i < columns_of(group); ++i) {
      columns.push_back(group_column(group, kHalf, i));
    }
    const std::uint64_t side = 2 * kHalf + 1;
    const bool rotation = group == schema::ColumnGroup::rotation;
    const std::uint64_t count = rotation ? 4 * side * side * side : side * side;
    const unsigned width = bits::bits_for(count);
    for (std::uint64_t index = 0; index < count; ++index) {
      std::array<std::byte, 16> memory{};
      bits::Writer out(memory);
      out.put(index, width);
      out.finish();
      bits::Reader in(memory, width);
      std::array<std::uint32_t, 4> numbers{};
      read_unit(in, columns.data(), numbers.data());
      EXPECT_LT(numbers[0], rotation ? 4U : side);
      std::array<std::byte, 16> again{};
      bits::Writer back(again);
      write_unit(back, columns.data(), numbers.data());
      back.finish();
      EXPECT_EQ(again, memory) << index;
      EXPECT_EQ(back.bit_count(), width);
    }
  }
}

// The columns of a rotation on the grid.
std::array<std::uint32_t, 4> numbers_of(const bits::RotationGrid& grid, double angle) {
  const double axis[] = {0.48, 0.6, 0.64};
  const double s = std::sin(angle / 2);
  std::uint64_t index =
      grid.index_of(std::cos(angle / 2), s * axis[0], s * axis[1], s * axis[2]).index;
  std::array<std::uint32_t, 4> numbers{};
  for (std::size_t i = 3; i > 0; --i, index /= grid.side()) {
    numbers[i] = static_cast<std::uint32_t>(index % grid.side());
  }
  numbers[0] = static_cast<std::uint32_t>(index);
  return numbers;
}

// All the way round, over every change of the largest component.
TEST(UnitColumns, ASteadySpinIsPredictedToAFewSteps) {
  for (const double within : {0.05, 0.5, 2.0}) {
    const bits::RotationGrid grid = bits::RotationGrid::within(within);
    const auto last = static_cast<std::uint32_t>(grid.side() - 1);
    std::size_t changes = 0;
    for (double angle = 0; angle < 13; angle += 0.01) {
      constexpr double kSpin = 0.05;  // radians a tick
      const auto oldest = numbers_of(grid, angle);
      const auto newest = numbers_of(grid, angle + 4 * kSpin);
      const auto now = numbers_of(grid, angle + 7 * kSpin);
      changes += now[0] != newest[0] ? 1 : 0;
      const auto predicted = predict_rotation({newest.data(), oldest.data(), 4, 3}, now[0], last);
      for (std::size_t i = 0; i < 3; ++i) {
        const auto off = std::abs(std::int64_t{predicted[i]} - std::int64_t{now[i + 1]});
        // A tenth of the way that it turned, and rounding.
        EXPECT_LE(off, 3 + grid.half * 3 * kSpin / 10)
            << "within " << within << ", angle " << angle;
      }
      // Held: the same, or what another largest component makes of it.
      const auto held = predict_rotation({newest.data(), nullptr, 0, 3}, newest[0], last);
      EXPECT_EQ(held, (std::array{newest[1], newest[2], newest[3]}));
      if (HasFailure()) return;
    }
    EXPECT_GT(changes, 20U);
  }
}

TEST(UnitColumns, PredictionsStayOnTheGridWhateverTheStatesAre) {
  std::mt19937_64 random(4);
  for (const std::uint32_t half : {1U, 2U, 100U, 1U << 19}) {
    for (int i = 0; i < 20000; ++i) {
      std::array<std::uint32_t, 4> a{};
      std::array<std::uint32_t, 4> b{};
      for (std::size_t k = 1; k < 4; ++k) {
        a[k] = static_cast<std::uint32_t>(random() % (2 * half + 1));
        b[k] = static_cast<std::uint32_t>(random() % (2 * half + 1));
      }
      a[0] = random() % 4;
      b[0] = random() % 4;
      const auto span = static_cast<std::uint32_t>(1 + random() % 40);
      const UnitStates states{a.data(), b.data(), span, static_cast<std::uint32_t>(random() % 41)};
      for (const std::uint32_t each : predict_rotation(states, random() % 4, 2 * half)) {
        ASSERT_LE(each, 2 * half);
      }
      a[0] = a[3];
      b[0] = b[3];
      for (const std::uint32_t each : predict_direction(states, 2 * half)) {
        ASSERT_LE(each, 2 * half);
      }
    }
  }
}

TEST(UnitColumns, ADirectionThatTurnsSteadilyIsPredicted) {
  const bits::DirectionGrid grid = bits::DirectionGrid::within(0.5);
  const auto last = static_cast<std::uint32_t>(grid.side() - 1);
  const auto numbers = [&](double angle) {
    const std::uint64_t index = grid.index_of(std::cos(angle), 0.3, std::sin(angle)).index;
    return std::array{static_cast<std::uint32_t>(index / grid.side()),
                      static_cast<std::uint32_t>(index % grid.side())};
  };
  double sum = 0;
  double held = 0;
  for (double angle = 0; angle < 6.2; angle += 0.01) {
    const auto oldest = numbers(angle);
    const auto newest = numbers(angle + 0.1);
    const auto now = numbers(angle + 0.2);
    const auto predicted = predict_direction({newest.data(), oldest.data(), 4, 4}, last);
    for (std::size_t i = 0; i < 2; ++i) {
      sum += std::abs(static_cast<double>(predicted[i]) - static_cast<double>(now[i]));
      held += std::abs(static_cast<double>(newest[i]) - static_cast<double>(now[i]));
    }
  }
  EXPECT_LT(sum, held / 3);
}

}  // namespace unit_columns_test
}  // namespace kwind::replica
