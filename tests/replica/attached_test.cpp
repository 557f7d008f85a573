// `relative to`: an attached entity moves with its carrier, for interest and for clients, and is
// not sent again for that.
#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>
#include <vector>

#include "attached.h"
#include "kit/good_path.h"
#include "kit/sweep.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/interest.h"

namespace kwind::replica {
namespace attached_test {

using attached::Crate;
using attached::Lamp;
using attached::Link;
using attached::Tug;
using Point = Eigen::Vector2d;

// A world and a client on a path without loss.
class Attached : public testing::Test {
 protected:
  void tick() {
    world_.end_tick();
    view_.clear();
    for (const RelevantEntity& each : query_.update()) view_.insert(each.id);
    replicator_.see(query_);
    kit::deliver(replicator_, client_);
  }
  [[nodiscard]] bool sees(schema::AnyRef entity) const { return view_.contains(entity.id); }
  [[nodiscard]] std::optional<Point> position(schema::AnyRef entity) const {
    const auto found = client_.position(entity, client_.tick());
    return found ? std::optional(Point((*found)[0], (*found)[1])) : std::nullopt;
  }

  World world_{attached::kEntities};
  Interest interest_{world_, {.enter = 50, .leave = 60, .update_every = 1}};
  InterestQuery query_{interest_};
  ClientReplicator replicator_{world_, {.digest_every = 0}};
  ClientWorld client_{attached::kEntities, 20};
  std::set<std::uint32_t> view_;
};

TEST_F(Attached, AnAttachedEntityMovesWithItsCarrierForNothing) {
  query_.set_origin(0, 0);
  const auto tug = *world_.spawn(Tug{{100, 0}});
  const auto crate = *world_.spawn(Crate{tug, {2, 1}});
  const auto lamp = *world_.spawn(Lamp{crate, {0, 0.5}, true});
  tick();
  EXPECT_FALSE(sees(crate) || sees(lamp)) << "2 m from a tug that is far away";
  for (double x = 100; x >= 20; x -= 5) {
    world_.put(tug, Tug{{x, 0}});
    tick();
  }
  EXPECT_TRUE(sees(tug) && sees(crate) && sees(lamp));
  EXPECT_EQ(position(crate), Point(22, 1));
  EXPECT_EQ(position(lamp), Point(22, 1.5));
  EXPECT_EQ(client_.get(lamp)->at, Point(0, 0.5)) << "the value itself counts from the crate";
  // Only the tug is sent, as it moves.
  for (int i = 0; i < 5; ++i) tick();
  const ReplicatorCounts before = replicator_.counts();
  for (double x = 19; x >= 10; x -= 1) {
    world_.put(tug, Tug{{x, 0}});
    tick();
  }
  const ReplicatorCounts after = replicator_.counts();
  EXPECT_EQ(after.changed + after.predicted - before.changed - before.predicted, 10U);
  EXPECT_EQ(position(lamp), Point(12, 1.5));
  for (double x = 10; x <= 100; x += 5) {
    world_.put(tug, Tug{{x, 0}});
    tick();
  }
  EXPECT_FALSE(sees(tug) || sees(crate) || sees(lamp));
}

TEST_F(Attached, ACarrierComesIntoViewWithItsAttachedEntity) {
  query_.set_origin(0, 0);
  const auto tug = *world_.spawn(Tug{{100, 0}});
  const auto crate = *world_.spawn(Crate{tug, {-70, 0}});
  tick();
  EXPECT_TRUE(sees(crate) && sees(tug)) << "the tow is 30 m away, its tug 100";
  EXPECT_EQ(position(crate), Point(30, 0));
  query_.set_filter([&](const schema::AnyRef& entity) { return entity.id != tug.id; });
  tick();
  EXPECT_FALSE(sees(crate) || sees(tug)) << "who may not see the tug cannot know where the tow is";
  query_.add_owned(crate);
  tick();
  EXPECT_TRUE(sees(crate)) << "its owner has it all the same";
  EXPECT_FALSE(position(crate)) << "... without a place";
}

TEST_F(Attached, WhoseCarrierIsGoneStaysUntilItIsPutElsewhere) {
  query_.set_origin(0, 0);
  const auto tug = *world_.spawn(Tug{{30, 0}});
  const auto crate = *world_.spawn(Crate{tug, {2, 0}});
  tick();
  world_.despawn(schema::AnyRef(tug));
  tick();
  EXPECT_TRUE(sees(crate));
  EXPECT_FALSE(position(crate));
  // Another tug gets no crate of its predecessor, whatever its id.
  const auto other = *world_.spawn(Tug{{200, 0}});
  tick();
  EXPECT_TRUE(sees(crate));
  world_.put(crate, Crate{{}, {40, 3}});
  tick();
  EXPECT_EQ(position(crate), Point(40, 3));
  world_.put(crate, Crate{other, {0, 0}});
  tick();
  EXPECT_FALSE(sees(crate));
}

TEST_F(Attached, ACircleHasNoPlaceAndEndsNothing) {
  query_.set_origin(0, 0);
  const auto first = *world_.spawn(Link{{}, {10, 0}});
  const auto second = *world_.spawn(Link{first, {1, 0}});
  tick();
  EXPECT_EQ(position(second), Point(11, 0));
  world_.put(first, Link{second, {1, 0}});
  tick();
  tick();
  EXPECT_FALSE(position(first) || position(second));
  world_.put(first, Link{first, {5, 0}});  // on itself
  tick();
  EXPECT_FALSE(position(first));
  world_.put(first, Link{{}, {20, 0}});
  tick();
  EXPECT_EQ(position(second), Point(21, 0));
  EXPECT_TRUE(sees(second));
}

TEST_F(Attached, WhatChangesItsCarrierIsNotDrawnOnTheWay) {
  query_.set_origin(0, 0);
  const auto crate = *world_.spawn(Crate{{}, {10, 10}});
  const auto lamp = *world_.spawn(Lamp{{}, {12, 11}, true});
  for (int i = 0; i < 4; ++i) tick();
  world_.put(lamp, Lamp{crate, {2, 1}, true});
  tick();
  // The same place, counted from the crate: half way between the numbers there is nothing.
  const double newest = client_.tick();
  EXPECT_EQ(world_.at(newest - 0.5).get(lamp)->at, Point(12, 11));
  EXPECT_EQ(world_.at(newest).get(lamp)->at, Point(2, 1));
  for (const double at : {newest - 0.75, newest - 0.5, newest - 0.1, newest}) {
    EXPECT_EQ(client_.position(lamp, at), (std::array<double, 3>{12, 11, 0})) << at;
  }
}

// Tugs, crates and lamps that are put, moved and attached anywhere, against positions added up by hand.
TEST_F(Attached, HoldsAgainstAModel) {
  for (const std::uint64_t seed : kit::seeds(8, 400)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    const auto any = [&](double low, double high) {
      return std::round(std::uniform_real_distribution<double>(low, high)(random) * 16) / 16;
    };
    World world(attached::kEntities);
    Interest interest(world, {.enter = 60, .leave = 60, .update_every = 1});
    InterestQuery query(interest);
    query.set_origin(0, 0);
    std::map<std::uint32_t, Tug> tugs;
    std::map<std::uint32_t, std::pair<schema::Ref<Tug>, Point>> crates;
    std::vector<schema::Ref<Tug>> tug_refs;
    std::vector<schema::Ref<Crate>> crate_refs;
    for (int i = 0; i < 8; ++i) {
      tug_refs.push_back(*world.spawn(Tug{{any(-100, 100), 0}}));
      tugs[tug_refs.back().id] = Tug{};
      world.put(tug_refs.back(), tugs[tug_refs.back().id]);
      crate_refs.push_back(*world.spawn(Crate{{}, {0, 0}}));
      crates[crate_refs.back().id] = {{}, Point(0, 0)};
    }
    for (int now = 0; now < 120; ++now) {
      for (const auto& tug : tug_refs) {
        if (!tugs.contains(tug.id) || random() % 3 == 0) continue;
        tugs[tug.id] = Tug{{any(-100, 100), any(-100, 100)}};
        world.put(tug, tugs[tug.id]);
      }
      const auto crate = crate_refs[random() % crate_refs.size()];
      auto& [aboard, at] = crates[crate.id];
      aboard = random() % 3 == 0 ? schema::Ref<Tug>{} : tug_refs[random() % tug_refs.size()];
      at = {any(-20, 20), any(-20, 20)};
      world.put(crate, Crate{aboard, at});
      if (random() % 40 == 0) {
        const auto gone = tug_refs[random() % tug_refs.size()];
        if (tugs.erase(gone.id) > 0) world.despawn(schema::AnyRef(gone));
      }
      world.end_tick();
      std::set<std::uint32_t> seen;
      for (const RelevantEntity& each : query.update()) seen.insert(each.id);
      for (const auto& [id, held] : crates) {
        if (held.first && !tugs.contains(held.first.id)) continue;  // where it was
        const Point base = held.first ? tugs[held.first.id].at : Point(0, 0);
        EXPECT_EQ(seen.contains(id), (base + held.second).norm() <= 60) << id << " in tick " << now;
        if (seen.contains(id) && held.first) {
          EXPECT_TRUE(seen.contains(held.first.id));
        }
      }
    }
  }
}

// For hits: where an attached entity was, in the world.
TEST_F(Attached, WhereItWasIsToldOfThePast) {
  const auto tug = *world_.spawn(Tug{{0, 0}});
  const auto other = *world_.spawn(Tug{{40, 0}});
  const auto crate = *world_.spawn(Crate{tug, {2, 1}});
  const auto lamp = *world_.spawn(Lamp{crate, {0, 0.5}, true});
  const auto link = *world_.spawn(Link{{}, {7, 7}});
  for (int x = 1; x <= 10; ++x) {
    world_.put(tug, Tug{{static_cast<double>(x), 0}});
    if (x == 8) world_.put(crate, Crate{other, {2, 1}});
    tick();
  }
  const auto then = [&](double tick, schema::AnyRef entity) {
    const auto found = world_.at(tick).position(entity);
    return found ? std::optional(Point((*found)[0], (*found)[1])) : std::nullopt;
  };
  EXPECT_EQ(then(4, tug), Point(4, 0));
  EXPECT_EQ(then(4.5, lamp), Point(6.5, 1.5));
  EXPECT_EQ(then(7.5, crate), Point(9.5, 1)) << "before it changes its carrier";
  EXPECT_EQ(then(8, crate), Point(42, 1));
  EXPECT_EQ(then(8, link), Point(7, 7));
  EXPECT_FALSE(world_.at(4).position(crate, "aboard"));
  world_.put(link, Link{link, {1, 1}});
  world_.despawn(tug);
  tick();
  EXPECT_EQ(then(4.5, lamp), Point(6.5, 1.5)) << "the tug was there then";
  EXPECT_FALSE(then(11, link)) << "in a cycle";
  EXPECT_FALSE(then(11, tug));
}

}  // namespace attached_test
}  // namespace kwind::replica
