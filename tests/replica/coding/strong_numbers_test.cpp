// StrongNumber: ticks and snapshot numbers do not mix, and count as 32-bit numbers do.
#include "replica/coding/strong_numbers.h"

#include <gtest/gtest.h>

#include <type_traits>

namespace kwind::replica {
namespace strong_numbers_test {

template <class A, class B>
concept Comparable = requires(A a, B b) {
  a == b;
};
template <class A, class B>
concept Subtractable = requires(A a, B b) {
  a - b;
};

static_assert(!Comparable<Tick, SnapshotNumber> && !Subtractable<Tick, SnapshotNumber>);
static_assert(!Comparable<Tick, std::uint32_t>, "a tick is not compared with an id or a count");
static_assert(!Comparable<EntityId, Tick> && !Comparable<EntityId, SnapshotNumber>);
static_assert(!std::is_convertible_v<std::uint32_t, EntityId>);
static_assert(!std::is_convertible_v<std::uint32_t, Tick>);
static_assert(!std::is_convertible_v<Tick, std::uint32_t>);
static_assert(sizeof(Tick) == 4 && std::is_trivially_copyable_v<Tick>);

TEST(StrongNumbers, CountFromOneAndNoneIsFalse) {
  EXPECT_FALSE(SnapshotNumber());
  SnapshotNumber number(7);
  EXPECT_TRUE(number);
  EXPECT_EQ((++number).raw(), 8U);
  EXPECT_EQ((number + 2).raw(), 10U);
  EXPECT_EQ((number - 3).raw(), 5U);
  EXPECT_EQ(SnapshotNumber(10) - SnapshotNumber(4), 6U);
  EXPECT_LT(SnapshotNumber(4), SnapshotNumber(10));
  EXPECT_EQ(SnapshotNumber(70) % std::size_t{64}, 6U);
}

TEST(StrongNumbers, WrapAsUnsignedNumbersDo) {
  EXPECT_EQ((Tick(0xffffffffU) + 2).raw(), 1U);
  EXPECT_EQ(Tick(1) - Tick(0xffffffffU), 2U);
}

TEST(StrongNumbers, ThereIsNoneBeforeTheFirst) {
  EXPECT_EQ(number_before(Tick(10), 3), Tick(7));
  EXPECT_EQ(number_before(Tick(3), 3), Tick());
  EXPECT_EQ(number_before(Tick(2), 3), Tick());
}

TEST(StrongNumbers, ATableByIdHasAnElementForEachIdAndOneForNone) {
  ById<int> table;
  EXPECT_EQ(table.size(), 1U);
  EXPECT_TRUE(table.has(EntityId()));
  EXPECT_FALSE(table.has(EntityId(1)));
  EXPECT_EQ(table.end_id(), EntityId(1));
  table.emplace_back();
  table[EntityId(1)] = 7;
  EXPECT_EQ(table[EntityId(1)], 7);
  table.resize(5);
  EXPECT_TRUE(table.has(EntityId(4)));
  EXPECT_FALSE(table.has(EntityId(5)));
  EXPECT_EQ(table.end_id(), EntityId(5));
  EXPECT_GE(table.memory(), 5 * sizeof(int));
}

}  // namespace strong_numbers_test
}  // namespace kwind::replica
