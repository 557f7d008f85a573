#include <gtest/gtest.h>

#include <cmath>
#include <limits>
#include <random>

#include "kwind/bits/quantise.h"

namespace kwind::bits {
namespace quantise_test {

constexpr double kInfinity = std::numeric_limits<double>::infinity();
constexpr double kNan = std::numeric_limits<double>::quiet_NaN();

TEST(IntRange, KeepsEveryValueOfSmallRanges) {
  for (const IntRange range : {IntRange{0, 100}, {-7, 7}, {5, 5}, {-1000, -900}}) {
    for (std::int64_t v = range.lo; v <= range.hi; ++v) {
      const Quantised q = range.index_of(v);
      EXPECT_TRUE(q.in_range);
      EXPECT_LE(q.index, low_mask(range.bits()));
      EXPECT_EQ(range.value_of(q.index), v);
    }
    EXPECT_EQ(range.index_of(range.lo - 1).index, 0U);
    EXPECT_EQ(range.index_of(range.hi + 1).index, range.last_index());
    EXPECT_FALSE(range.index_of(range.lo - 1).in_range);
    EXPECT_FALSE(range.index_of(range.hi + 1).in_range);
  }
}

TEST(IntRange, SpansAllOf64Bits) {
  constexpr IntRange all{std::numeric_limits<std::int64_t>::min(),
                         std::numeric_limits<std::int64_t>::max()};
  static_assert(all.bits() == 64);
  for (const std::int64_t v : {all.lo, all.lo + 1, std::int64_t{-1}, std::int64_t{0}, all.hi}) {
    EXPECT_EQ(all.value_of(all.index_of(v).index), v);
  }
  static_assert(IntRange{5, 5}.bits() == 0);
  static_assert(IntRange{0, 1}.bits() == 1);
  static_assert(IntRange{0, 128}.bits() == 8);
}

// real -1024..<1024 step 1/16, -1..1 step 1/64, 0..20 step 0.1, 0..1 step 1/3
constexpr RealRange kRanges[] = {
    {-16384, 1, 16, 32768}, {-64, 1, 64, 129}, {0, 1, 10, 201}, {0, 1, 3, 4}};

TEST(RealRange, ReturnsEveryIndexAndExactEnds) {
  for (const RealRange& range : kRanges) {
    for (std::uint64_t i = 0; i < range.count; ++i) {
      const Quantised q = range.index_of(range.value_of(i));
      ASSERT_TRUE(q.in_range);
      ASSERT_EQ(q.index, i);
    }
  }
  EXPECT_EQ(kRanges[0].value_of(0), -1024.0);
  EXPECT_EQ(kRanges[0].value_of(32767), 1024.0 - 1.0 / 16);
  EXPECT_EQ(kRanges[1].value_of(128), 1.0);
  EXPECT_EQ(kRanges[2].value_of(3), 0.3) << "the double nearest to 0.3, not three times 0.1";
}

TEST(RealRange, LandsWithinHalfAStepForRandomValues) {
  std::mt19937_64 random(3);
  for (const RealRange& range : kRanges) {
    const double lo = range.value_of(0);
    const double hi = range.value_of(range.last_index());
    const double step = static_cast<double>(range.step) / static_cast<double>(range.scale);
    for (int i = 0; i < 20000; ++i) {
      const double v = lo + (hi - lo) * static_cast<double>(random() >> 11) * 0x1p-53;
      const Quantised q = range.index_of(v);
      ASSERT_TRUE(q.in_range);
      ASSERT_LE(std::abs(range.value_of(q.index) - v), step / 2 * (1 + 1e-9)) << v;
    }
  }
}

TEST(RealRange, IsExactAtTheWidestThatADescriptionMayAskFor) {
  constexpr std::int64_t kWide = std::int64_t{1} << 50;
  constexpr RealRange range{-kWide, 1, 1, 2 * kWide + 1};
  for (std::int64_t v = kWide - 1000; v <= kWide; ++v) {
    ASSERT_EQ(range.value_of(range.index_of(static_cast<double>(v)).index), v);
    ASSERT_EQ(range.value_of(range.index_of(static_cast<double>(-v)).index), -v);
  }
  EXPECT_FALSE(range.index_of(static_cast<double>(kWide + 1)).in_range);
  EXPECT_FALSE(range.index_of(static_cast<double>(-kWide - 1)).in_range);
}

TEST(RealRange, RoundsHalvesUpAndClampsTheRest) {
  const RealRange& range = kRanges[1];
  EXPECT_EQ(range.value_of(range.index_of(0.5 / 64).index), 1.0 / 64);
  EXPECT_EQ(range.value_of(range.index_of(-0.5 / 64).index), 0.0);
  for (const double v : {1.5, 1e300, kInfinity}) {
    EXPECT_EQ(range.index_of(v).index, 128U) << v;
    EXPECT_FALSE(range.index_of(v).in_range) << v;
  }
  for (const double v : {-1.5, -1e300, -kInfinity, kNan}) {
    EXPECT_EQ(range.index_of(v).index, 0U) << v;
    EXPECT_FALSE(range.index_of(v).in_range) << v;
  }
}

TEST(AngleRange, WrapsTheShortWayRound) {
  constexpr AngleRange range{1, 2, 720};  // half degrees
  std::mt19937_64 random(4);
  for (int i = 0; i < 20000; ++i) {
    const double v = (static_cast<double>(random() >> 11) * 0x1p-53 - 0.5) * 4000;
    const Quantised q = range.index_of(v);
    ASSERT_TRUE(q.in_range);
    ASSERT_LT(q.index, range.count);
    const double off = std::remainder(range.value_of(q.index) - v, 360.0);
    ASSERT_LE(std::abs(off), 0.25 + 1e-9) << v;
  }
  EXPECT_EQ(range.index_of(359.9).index, 0U);
  EXPECT_EQ(range.value_of(range.index_of(-90).index), 270.0);
  EXPECT_EQ(range.value_of(range.index_of(630).index), 270.0);
  EXPECT_FALSE(range.index_of(kNan).in_range);
  EXPECT_FALSE(range.index_of(kInfinity).in_range);
}

}  // namespace quantise_test
}  // namespace kwind::bits
