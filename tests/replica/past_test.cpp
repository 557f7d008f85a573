// The world as a client saw it.
#include <gtest/gtest.h>

#include "moving_bay.h"

namespace kwind {
namespace past_test {

bay::Gull gull_at(double x) {
  bay::Gull gull;
  gull.at = {x, 0};
  gull.speed = 2;
  return gull;
}

TEST(Past, HoldsValuesOfEarlierTicksAndOfWhatLiesBetween) {
  replica::World world(bay::kEntities);
  const auto gull = *world.spawn(gull_at(0));
  for (int tick = 1; tick <= 20; ++tick) {
    world.put(gull, gull_at(tick));
    world.end_tick();
  }
  EXPECT_EQ(world.at(7).get(gull)->at[0], 7);
  EXPECT_EQ(world.at(7.25).get(gull)->at[0], 7.25);
  EXPECT_EQ(world.at(20).get(gull)->at[0], 20);
  // Beyond the newest and before the first.
  EXPECT_EQ(world.at(99).get(gull)->at[0], 20);
  EXPECT_EQ(world.at(-4).get(gull)->at[0], 1);
  EXPECT_EQ(world.at(std::numeric_limits<double>::quiet_NaN()).get(gull)->at[0], 20);
  // The newest is the tick that ended last: what the present one does is not yet past.
  world.despawn(gull);
  ASSERT_TRUE(world.at(99).get(gull));
  EXPECT_EQ(world.at(99).get(gull)->at[0], 20);
}

TEST(Past, HasNothingBetweenBothEndsOfALeap) {
  replica::World world(bay::kEntities);
  const auto gull = *world.spawn(gull_at(0));
  for (int tick = 1; tick <= 6; ++tick) {
    world.put(gull, gull_at(tick < 6 ? tick : 400));
    world.end_tick();
  }
  EXPECT_EQ(world.at(4.5).get(gull)->at[0], 4.5);
  EXPECT_EQ(world.at(5.9).get(gull)->at[0], 5);
  EXPECT_EQ(world.at(6).get(gull)->at[0], 400);
}

TEST(Past, KnowsWhoWasThere) {
  replica::World world(bay::kEntities);
  const auto early = *world.spawn(gull_at(1));
  for (int tick = 1; tick <= 5; ++tick) world.end_tick();
  const auto late = *world.spawn(gull_at(2));
  world.despawn(early);
  for (int tick = 6; tick <= 9; ++tick) world.end_tick();
  EXPECT_TRUE(world.at(5).get(early));
  EXPECT_FALSE(world.at(6).get(early)) << "gone in tick 6";
  EXPECT_FALSE(world.at(5).get(late)) << "spawned in tick 6";
  EXPECT_TRUE(world.at(6).get(late));
  EXPECT_FALSE(world.at(6).get(schema::Ref<bay::Tug>{late.id, late.generation}));
  EXPECT_FALSE(world.at(6).get(schema::Ref<bay::Gull>{0, 0}));
  EXPECT_FALSE(world.at(6).get(schema::Ref<bay::Gull>{399, 1}));
}

TEST(Past, ForgetsWhatIsOlderThanItsHistory) {
  replica::World world(bay::kEntities);
  const auto gull = *world.spawn(gull_at(0));
  const int ticks = static_cast<int>(replica::World::kHistoryRows) + 10;
  for (int tick = 1; tick <= ticks; ++tick) {
    world.put(gull, gull_at(tick));
    world.end_tick();
  }
  EXPECT_FALSE(world.at(10).get(gull));
  EXPECT_EQ(world.at(11).get(gull)->at[0], 11);
}

// Each column group comes back as it was put.
TEST(Past, HoldsRotationsAndLists) {
  kit::MovingBay bay(3);
  bay.populate(0, 0, 0, 2, 0, 4);
  for (int i = 0; i < 25; ++i) bay.step();
  const std::uint32_t newest = bay.world().tick() - 1;
  for (const auto& [id, one] : bay.all()) {
    for (std::uint32_t tick = 1; tick <= newest; ++tick) {
      std::visit(
          [&, id = id, generation = one.ref.generation](const auto& value) {
            using T = std::decay_t<decltype(value)>;
            const auto past = bay.world().at(tick).get(schema::Ref<T>{id, generation});
            ASSERT_TRUE(past) << "tick " << tick;
            EXPECT_EQ(kit::bits_of(*past, schema::View::owner),
                      kit::bits_of(value, schema::View::owner))
                << "entity " << id << " in tick " << tick;
          },
          *bay.at(id, tick));
    }
  }
}

}  // namespace past_test
}  // namespace kwind
