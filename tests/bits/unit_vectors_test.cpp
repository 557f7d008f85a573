#include "kwind/bits/unit_vectors.h"

#include <gtest/gtest.h>

#include <limits>
#include <random>

namespace kwind::bits {
namespace unit_vectors_test {

constexpr double kDegrees = 180 / 3.14159265358979323846;
constexpr double kNan = std::numeric_limits<double>::quiet_NaN();

template <std::size_t N>
std::array<double, N> random_unit(std::mt19937_64& random) {
  std::normal_distribution<double> normal;
  std::array<double, N> v{};
  double square = 0;
  for (double& c : v) {
    c = normal(random);
    square += c * c;
  }
  for (double& c : v) c /= std::sqrt(square);
  return v;
}

// Twice the angle whose sine is half the chord: exact for small angles too.
template <std::size_t N>
double angle(const std::array<double, N>& a, const std::array<double, N>& b) {
  double square = 0;
  for (std::size_t i = 0; i < N; ++i) square += (a[i] - b[i]) * (a[i] - b[i]);
  return 2 * std::asin(std::min(1.0, std::sqrt(square) / 2)) * kDegrees;
}
double turned(const std::array<double, 4>& a, std::array<double, 4> b) {
  double dot = 0;
  for (std::size_t i = 0; i < 4; ++i) dot += a[i] * b[i];
  if (dot < 0) {
    for (double& c : b) c = -c;
  }
  return 2 * angle(a, b);
}

std::array<double, 3> back(const DirectionGrid& grid, const std::array<double, 3>& d) {
  return grid.value_of(grid.index_of(d[0], d[1], d[2]).index);
}
std::array<double, 4> back(const RotationGrid& grid, const std::array<double, 4>& q) {
  return grid.value_of(grid.index_of(q[0], q[1], q[2], q[3]).index);
}

TEST(DirectionGrid, StaysWithinTheStatedAngle) {
  std::mt19937_64 random(31);
  for (const double within : {20.0, 5.0, 1.0, 0.1, 0.003}) {
    const DirectionGrid grid = DirectionGrid::within(within);
    double worst = 0;
    for (int i = 0; i < 100000; ++i) {
      const auto d = random_unit<3>(random);
      worst = std::max(worst, angle(d, back(grid, d)));
    }
    EXPECT_LE(worst, within);
    EXPECT_GT(worst, within / 3) << "the grid is finer than it need be";
  }
}

TEST(DirectionGrid, EveryCanonicalIndexComesBackAndNoOtherDoes) {
  for (const std::uint32_t half : {1U, 2U, 3U, 7U, 40U}) {
    const DirectionGrid grid{half};
    std::uint64_t canonical = 0;
    for (std::uint64_t index = 0; index <= grid.last_index(); ++index) {
      const auto d = grid.value_of(index);
      const Quantised again = grid.index_of(d[0], d[1], d[2]);
      ASSERT_TRUE(again.in_range);
      ASSERT_TRUE(grid.canonical(again.index));
      ASSERT_EQ(again.index == index, grid.canonical(index)) << half << " " << index;
      canonical += grid.canonical(index) ? 1 : 0;
    }
    EXPECT_EQ(canonical, 4 * half * half + 2) << "points of the octahedron";
  }
}

TEST(RotationGrid, StaysWithinTheStatedAngleAlsoWhereTwoComponentsAreLargest) {
  std::mt19937_64 random(32);
  for (const double within : {20.0, 5.0, 1.0, 0.05}) {
    const RotationGrid grid = RotationGrid::within(within);
    double worst = 0;
    for (int i = 0; i < 100000; ++i) {
      auto q = random_unit<4>(random);
      if (i % 2 == 0) q[1] = q[0] * (1 + 1e-3 * static_cast<double>(i % 7));  // near ties
      if (i % 6 == 0) q[2] = -q[0];
      double square = 0;
      for (const double c : q) square += c * c;
      for (double& c : q) c /= std::sqrt(square);
      worst = std::max(worst, turned(q, back(grid, q)));
    }
    EXPECT_LE(worst, within);
    EXPECT_GT(worst, within / 3) << "the grid is finer than it need be";
  }
}

TEST(RotationGrid, EveryCanonicalIndexComesBack) {
  for (const std::uint32_t half : {1U, 2U, 3U, 9U}) {
    const RotationGrid grid{half};
    for (std::uint64_t index = 0; index <= grid.last_index(); ++index) {
      if (!grid.canonical(index)) continue;
      const auto q = grid.value_of(index);
      ASSERT_EQ(grid.index_of(q[0], q[1], q[2], q[3]).index, index) << half;
      ASSERT_EQ(grid.index_of(-q[0], -q[1], -q[2], -q[3]).index, index) << "the same rotation";
    }
  }
}

TEST(RotationGrid, GivesOnlyCanonicalIndexes) {
  std::mt19937_64 random(33);
  for (const std::uint32_t half : {1U, 2U, 5U, 300U}) {
    const RotationGrid grid{half};
    for (int i = 0; i < 50000; ++i) {
      auto q = random_unit<4>(random);
      if (i % 3 == 0) q = {0.5, -0.5, 0.5, i % 2 == 0 ? 0.5 : -0.5};
      if (i % 5 == 0) q[1] = q[3];
      ASSERT_TRUE(grid.canonical(grid.index_of(q[0], q[1], q[2], q[3]).index));
    }
  }
}

TEST(Direction2, ComesBackFromEveryStep) {
  const AngleRange steps{1, 2, 720};
  for (std::uint64_t index = 0; index < steps.count; ++index) {
    const auto d = direction2_value(steps, index);
    ASSERT_EQ(direction2_index(steps, d[0], d[1]).index, index);
    ASSERT_EQ(direction2_index(steps, d[0] * 1e300, d[1] * 1e300).index, index);
  }
}

TEST(UnitVectors, WithoutADirectionAreOutOfRange) {
  const DirectionGrid grid{10};
  EXPECT_FALSE(grid.index_of(0, 0, 0).in_range);
  EXPECT_FALSE(grid.index_of(kNan, 0, 1).in_range);
  EXPECT_EQ(grid.value_of(grid.index_of(0, 0, 0).index), (std::array<double, 3>{0, 0, 1}));
  const RotationGrid turns{10};
  EXPECT_FALSE(turns.index_of(0, 0, 0, 0).in_range);
  EXPECT_EQ(turns.value_of(turns.index_of(0, kNan, 0, 0).index),
            (std::array<double, 4>{1, 0, 0, 0}));
  EXPECT_FALSE(direction2_index({1, 2, 720}, 0, 0).in_range);
  EXPECT_TRUE(grid.index_of(1e-310, 0, 0).in_range) << "tiny, but it points somewhere";
}

}  // namespace unit_vectors_test
}  // namespace kwind::bits
