#include "kwind/replica/interest.h"

#include <gtest/gtest.h>

#include <cmath>
#include <limits>
#include <set>

#include "kit/sweep.h"
#include "moving_bay.h"

namespace kwind {
namespace interest_test {

using replica::Interest;
using replica::InterestQuery;
using replica::RelevantEntity;

std::set<std::uint32_t> ids_of(std::span<const RelevantEntity> seen) {
  std::set<std::uint32_t> ids;
  for (const RelevantEntity& each : seen) ids.insert(each.id);
  EXPECT_EQ(ids.size(), seen.size()) << "each once";
  EXPECT_TRUE(
      std::is_sorted(seen.begin(), seen.end(),
                     [](const RelevantEntity& a, const RelevantEntity& b) { return a.id < b.id; }));
  return ids;
}

Eigen::Vector2d place_of(const kit::Anyone& anyone) {
  return std::visit(
      [](const auto& value) -> Eigen::Vector2d {
        if constexpr (requires { value.at[0]; }) return {value.at[0], value.at[1]};
        return {0, 0};
      },
      anyone);
}

TEST(Interest, AViewIsWhatIsNearWithABorderOfItsOwn) {
  for (const std::uint64_t seed : kit::seeds(20, 300)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    kit::MovingBay bay(seed);
    bay.populate(60, 40, 60, 30);
    Interest interest(bay.world(), {.enter = 120,
                                    .leave = 150,
                                    .types = {{.type = "Crate", .enter = 40, .leave = 40}},
                                    .update_every = 1});
    InterestQuery query(interest);
    std::set<std::uint32_t> before;
    Eigen::Vector2d eye{bay.even(-500, 500), bay.even(-500, 500)};
    for (int i = 0; i < 60; ++i) {
      eye += Eigen::Vector2d{3, -2};
      bay.step(0.3);
      query.set_origin(eye[0], eye[1]);
      const auto found = ids_of(query.update());
      // By the book: every distance, one by one.
      for (const auto& [id, one] : bay.all()) {
        const double far = (place_of(one.value) - eye).norm();
        const bool crate = std::holds_alternative<bay::Crate>(one.value);
        const double enter = crate ? 40 : 120;
        const double leave = crate ? 40 : 150;
        constexpr double kRounding = 0.1;
        if (far < enter - kRounding) {
          EXPECT_TRUE(found.contains(id)) << id << " at " << far;
        } else if (far > leave + kRounding) {
          EXPECT_FALSE(found.contains(id)) << id << " at " << far;
        } else if (far > enter + kRounding && far < leave - kRounding) {
          EXPECT_EQ(found.contains(id), before.contains(id)) << id << " at " << far;
        }
      }
      for (const std::uint32_t id : found) EXPECT_TRUE(bay.all().contains(id)) << id;
      before = found;
    }
    if (HasFailure()) FAIL() << "seed " << seed;
  }
}

TEST(Interest, TheDistancesMayBeInfiniteOrAlmostNothing) {
  kit::MovingBay bay(7);
  bay.populate(60, 40, 60, 30);
  bay.step(0.3);
  constexpr double kInfinite = std::numeric_limits<double>::infinity();
  Interest all(bay.world(), {.enter = kInfinite, .leave = kInfinite, .update_every = 1});
  InterestQuery sees_all(all);
  sees_all.set_origin(-500, 500);
  EXPECT_EQ(ids_of(sees_all.update()).size(), bay.all().size());
  for (const RelevantEntity& each : sees_all.update()) EXPECT_TRUE(std::isfinite(each.priority));
  Interest far(bay.world(), {.enter = 20, .leave = kInfinite, .update_every = 1});
  InterestQuery keeps(far);
  keeps.set_origin(0, 0);
  const std::set<std::uint32_t> near = ids_of(keeps.update());
  keeps.set_origin(1e12, 0);
  EXPECT_EQ(ids_of(keeps.update_now()), near) << "nothing leaves, and nothing enters";
  Interest none(bay.world(), {.enter = 1e-300, .leave = 1e-300, .update_every = 1});
  InterestQuery sees_none(none);
  sees_none.set_origin(1e5, 1e5);
  for (const std::uint32_t id : ids_of(sees_none.update())) {
    EXPECT_EQ(place_of(bay.all().at(id).value).norm(), 0) << "only types without a place";
  }
}

TEST(Interest, OptionsForATypeThatTheWorldDoesNotHaveAreNotIgnored) {
  kit::MovingBay bay(1);
  const auto make = [&](replica::TypeInterest own) {
    Interest made(bay.world(), {.types = {std::move(own)}});
  };
  make({.type = "Crate", .enter = 1, .leave = 2});
  EXPECT_DEATH(make({.type = "Crates", .always = true}), "");
  EXPECT_DEATH(make({.type = "Crate", .enter = 0}), "");
  EXPECT_DEATH(make({.type = "Crate", .enter = std::nan("")}), "");
  EXPECT_DEATH(make({.type = "Crate", .leave = -1}), "");
  EXPECT_DEATH(make({.type = "Crate", .priority = 0}), "");
  EXPECT_DEATH(make({.type = "Crate", .priority = std::nan("")}), "");
}

TEST(Interest, RoomsOwnersFiltersAndWhatIsAlwaysSeen) {
  kit::MovingBay bay(1);
  const std::uint32_t near = bay.spawn(bay::Gull{0, 8, {5, 5}, false});
  const std::uint32_t cellar = bay.spawn(bay::Pile{{1, 1}});
  const std::uint32_t mine = bay.spawn(bay::Tug{"Dunlin", 0, 0, {400, 400}});
  const std::uint32_t crate = bay.spawn(bay::Crate{{-400, -400}, bay::Cargo::salt, "far"});
  bay.stand_still();
  Interest interest(bay.world(),
                    {.enter = 50, .leave = 50, .types = {{.type = "Crate", .always = true}}});
  InterestQuery query(interest);
  const auto seen = [&] { return ids_of(query.update()); };
  EXPECT_EQ(seen(), (std::set{crate})) << "it does not know yet where from";
  query.set_origin(0, 0);
  EXPECT_EQ(seen(), (std::set{near, cellar, crate}));
  EXPECT_TRUE(interest.put_in_room(bay.all().at(cellar).ref, 7));
  EXPECT_EQ(ids_of(query.update_now()), (std::set{near, crate}));
  query.enter_room(7);
  EXPECT_EQ(seen(), (std::set{near, cellar, crate}));
  query.leave_room(7);
  EXPECT_EQ(seen(), (std::set{near, crate}));
  query.add_owned(bay.all().at(mine).ref);
  EXPECT_EQ(seen(), (std::set{near, mine, crate}));
  for (const RelevantEntity& each : query.update()) EXPECT_EQ(each.owner, each.id == mine);
  query.set_filter([&](schema::AnyRef ref) { return ref.id != near; });
  EXPECT_EQ(seen(), (std::set{mine, crate}));
  query.set_filter(nullptr);
  query.set_origin(bay.all().at(mine).ref);
  EXPECT_EQ(seen(), (std::set{mine, crate})) << "from the tug nothing else is near";
  query.remove_owned(bay.all().at(mine).ref);
  for (const RelevantEntity& each : query.update()) EXPECT_FALSE(each.owner);
  const schema::AnyRef gone = bay.all().at(crate).ref;
  bay.despawn(crate);
  bay.stand_still();
  EXPECT_EQ(seen(), (std::set{mine}));
  EXPECT_FALSE(interest.put_in_room(gone, 1));
}

TEST(Interest, AnEntityInheritsNoViewFromTheOneThatHadItsId) {
  replica::World world(bay::kEntities, {.reuse_after_ticks = 0});
  Interest interest(world, {.enter = 100, .leave = 200, .update_every = 1});
  InterestQuery query(interest);
  query.set_origin(0, 0);
  const auto near = world.spawn(bay::Crate{{50, 0}, bay::Cargo::salt, ""});
  world.end_tick();
  EXPECT_EQ(query.update().size(), 1U);
  world.despawn(*near);
  std::optional<schema::Ref<bay::Crate>> far;
  for (int i = 0; i < 400 && (!far || far->id != near->id); ++i) {
    far = world.spawn(bay::Crate{{150, 0}, bay::Cargo::salt, ""});
    ASSERT_TRUE(far);
  }
  ASSERT_EQ(far->id, near->id);
  world.end_tick();
  EXPECT_EQ(query.update().size(), 0U) << "between enter and leave, and never seen";
  world.put(*far, bay::Crate{{50, 0}, bay::Cargo::salt, ""});
  world.end_tick();
  EXPECT_EQ(query.update().size(), 1U);
  world.put(*far, bay::Crate{{150, 0}, bay::Cargo::salt, ""});
  world.end_tick();
  EXPECT_EQ(query.update().size(), 1U) << "seen before: stays up to leave";
}

TEST(Interest, ASightStaysWhereItIsWhenWhatItFollowsHasNoPlace) {
  replica::World world(bay::kEntities);
  Interest interest(world, {.enter = 100, .leave = 100, .update_every = 1});
  InterestQuery query(interest);
  const auto crate = world.spawn(bay::Crate{{400, 0}, bay::Cargo::salt, ""});
  (void)world.spawn(bay::Crate{{0, 0}, bay::Cargo::salt, ""});
  const auto ledger = world.spawn(bay::Ledger{1, "salt"});
  query.set_origin(400, 0);
  world.end_tick();
  const auto crates = [&] {
    const auto ids = ids_of(query.update());
    return std::pair(ids.contains(crate->id), ids.contains(crate->id + 1));
  };
  EXPECT_EQ(crates(), std::pair(true, false));
  query.set_origin(*ledger);
  world.end_tick();
  EXPECT_EQ(crates(), std::pair(true, false)) << "not from the corner of the world";
}

// In view of everybody, and still somewhere.
TEST(Interest, ASightFollowsWhatIsAlwaysInView) {
  replica::World world(bay::kEntities);
  Interest interest(
      world,
      {.enter = 100, .leave = 100, .types = {{.type = "Gull", .always = true}}, .update_every = 1});
  InterestQuery query(interest);
  bay::Gull gull{0, 6, {400, 0}, true};
  const auto followed = world.spawn(gull);
  const auto east = world.spawn(bay::Crate{{400, 0}, bay::Cargo::salt, ""});
  const auto west = world.spawn(bay::Crate{{-400, 0}, bay::Cargo::salt, ""});
  query.set_origin(*followed);
  world.end_tick();
  EXPECT_EQ(ids_of(query.update()), (std::set<std::uint32_t>{followed->id, east->id}));
  gull.at = {-400, 0};
  world.put(*followed, gull);
  world.end_tick();
  EXPECT_EQ(ids_of(query.update()), (std::set<std::uint32_t>{followed->id, west->id}));
}

TEST(Interest, WhatIsNearerWeighsMore) {
  kit::MovingBay bay(2);
  for (int i = 1; i <= 10; ++i) bay.spawn(bay::Pile{{i * 10.0, 0}});
  bay.stand_still();
  Interest interest(bay.world(),
                    {.enter = 200, .leave = 200, .types = {{.type = "Pile", .priority = 2}}});
  InterestQuery query(interest);
  query.set_origin(0, 0);
  const auto seen = query.update();
  ASSERT_EQ(seen.size(), 10U);
  for (std::size_t i = 1; i < seen.size(); ++i) EXPECT_LT(seen[i].priority, seen[i - 1].priority);
  EXPECT_GT(seen.back().priority, 2);
}

TEST(Interest, ALateStartAndMissedTicksAreCaughtUpWith) {
  kit::MovingBay bay(3);
  bay.populate(20, 0, 10, 0);
  for (int i = 0; i < 5; ++i) bay.step();
  Interest interest(bay.world(), {.enter = 2000, .leave = 2000, .update_every = 3});
  InterestQuery query(interest);
  query.set_origin(0, 0);
  EXPECT_EQ(query.update().size(), 30U);
  for (int i = 0; i < 5; ++i) bay.step(1);  // nobody looks
  std::set<std::uint32_t> wanted;
  for (const auto& [id, one] : bay.all()) wanted.insert(id);
  EXPECT_EQ(ids_of(query.update_now()), wanted);
}

}  // namespace interest_test
}  // namespace kwind
