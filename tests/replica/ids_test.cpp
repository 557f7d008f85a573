// When an id may name another entity.
#include <gtest/gtest.h>

#include <memory>
#include <optional>

#include "crossing.h"

namespace kwind::replica {
namespace ids_test {

using kit::Crossing;

// All ids of a bay are taken, and a client knows of the first ten.
struct FullBay {
  FullBay() {
    while (bay.spawn(bay::Pile{{0, 0}}) != 0) {
    }
    std::vector<RelevantEntity> seen;
    for (std::uint32_t id = 1; id <= 10; ++id) seen.push_back({id, false});
    crossing.see(std::move(seen));
    tick(6);
  }
  void tick(int count = 1) {
    for (int i = 0; i < count; ++i) {
      bay.stand_still();
      crossing.tick();
    }
  }
  // Ticks until one more has room, and its id.
  std::pair<int, std::uint32_t> ticks_to_room(int max) {
    for (int ticks = 0; ticks <= max; ++ticks) {
      if (const std::uint32_t id = bay.spawn(bay::Pile{{1, 1}})) return {ticks, id};
      tick();
    }
    return {max, 0};
  }
  kit::MovingBay bay{1};
  Crossing crossing{bay, {}};
};

TEST(EntityIds, AreFreeAgainWhenEachClientThatKnewThemKnowsTheEnd) {
  FullBay here;
  EXPECT_EQ(here.crossing.client_world().size(), 10U);
  const schema::AnyRef third = here.bay.all().at(3).ref;
  here.bay.despawn(200);
  here.bay.despawn(3);
  EXPECT_EQ(here.bay.spawn(bay::Pile{{1, 1}}), 0U) << "not in the tick in which they end";
  here.tick();
  EXPECT_EQ(here.bay.spawn(bay::Pile{{1, 1}}), 200U) << "of which nobody knew";
  EXPECT_EQ(here.bay.spawn(bay::Pile{{1, 1}}), 0U) << "of the other a client knows";
  // A tick there, one back, and the one in which the replicator hears of it.
  const auto [ticks, id] = here.ticks_to_room(100);
  EXPECT_EQ(id, 3U);
  EXPECT_LE(ticks, 3);
  here.tick(4);
  const schema::AnyRef next = here.bay.all().at(3).ref;
  EXPECT_NE(next.generation, third.generation);
  EXPECT_FALSE(here.crossing.replicator().knows(third));
  EXPECT_TRUE(here.crossing.replicator().knows(next));
  here.crossing.expect_complete();
}

TEST(EntityIds, AreFreeAfterFiveSecondsWhateverClientsSay) {
  FullBay here;
  here.bay.despawn(3);
  here.crossing.path().loss = 1;
  // Once 64 snapshots are without an answer the client is taken to know nothing.
  const auto [ticks, id] = here.ticks_to_room(200);
  EXPECT_EQ(id, 3U);
  EXPECT_GT(ticks, 3);
  EXPECT_LE(ticks, 100);
  here.crossing.path().loss = 0;
  here.tick(200);
  here.crossing.expect_complete();
  // Who says nothing and is told nothing keeps no id.
  here.bay.despawn(4);
  for (int i = 0; i < 99; ++i) here.bay.stand_still();
  EXPECT_EQ(here.bay.spawn(bay::Pile{{1, 1}}), 0U);
  here.bay.stand_still();
  EXPECT_EQ(here.bay.spawn(bay::Pile{{1, 1}}), 4U);
  here.tick(10);
  here.crossing.expect_complete();
}

TEST(EntityIds, RestAsLongAsThereAreOthers) {
  kit::MovingBay bay(1);
  bay.populate(5, 0, 0, 0);
  bay.despawn(2);
  bay.stand_still();
  EXPECT_EQ(bay.spawn(bay::Pile{{1, 1}}), 6U) << "new ones before those just used";
  for (int i = 0; i < 99; ++i) bay.stand_still();
  EXPECT_EQ(bay.spawn(bay::Pile{{1, 1}}), 2U) << "but rested ones first";
}

TEST(EntityIds, AViewerThatEndsLetsGo) {
  FullBay here;
  std::optional<ClientReplicator> other(here.bay.world());
  other->see(std::vector<RelevantEntity>{{20, false}});
  std::vector<std::byte> memory(200);
  bits::Writer out(memory);
  ASSERT_TRUE(other->fill(Time{}, out));
  here.bay.despawn(20);
  here.tick();
  EXPECT_EQ(here.bay.spawn(bay::Pile{{1, 1}}), 0U) << "what is under way may arrive";
  other.reset();
  EXPECT_EQ(here.bay.spawn(bay::Pile{{1, 1}}), 20U);
}

TEST(EntityIds, WhatWasLostOnTheWayKeepsNone) {
  FullBay here;
  ClientReplicator other(here.bay.world());
  other.see(std::vector<RelevantEntity>{{20, false}});
  std::vector<std::byte> memory(200);
  bits::Writer out(memory);
  const auto token = other.fill(Time{}, out);
  ASSERT_TRUE(token);
  here.bay.despawn(20);
  here.tick();
  EXPECT_EQ(here.bay.spawn(bay::Pile{{1, 1}}), 0U);
  other.lost(*token);
  EXPECT_EQ(here.bay.spawn(bay::Pile{{1, 1}}), 20U);
}

TEST(EntityIds, AWorldMayEndBeforeItsViewers) {
  auto bay = std::make_unique<kit::MovingBay>(1);
  bay->populate(3, 0, 0, 0);
  bay->stand_still();
  ClientReplicator replicator(bay->world());
  replicator.see(std::vector<RelevantEntity>{{1, false}, {2, false}});
  std::vector<std::byte> memory(200);
  bits::Writer out(memory);
  ASSERT_TRUE(replicator.fill(Time{}, out));
  bay.reset();
}

}  // namespace ids_test
}  // namespace kwind::replica
