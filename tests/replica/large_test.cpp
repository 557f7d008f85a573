// Entities that no datagram holds, and grids of which only cells change.
#include <gtest/gtest.h>

#include "crossing.h"
#include "kit/sweep.h"

namespace kwind {
namespace large_test {

using kit::Crossing;

schema::Ref<bay::Ledger> ledger_of(const kit::MovingBay& bay, std::uint32_t id) {
  return {id, bay.all().at(id).ref.generation};
}

TEST(LargeEntities, ComeInPartsAndAppearWhole) {
  kit::MovingBay bay(11);
  bay.populate(0, 5, 20, 0);
  const std::uint32_t id = bay.spawn(bay::Ledger{7, std::string(5900, 'k')});
  Crossing crossing(bay, {.loss = 0.1, .late = 0.1, .one_way = 2, .room = 400});
  const auto ref = ledger_of(bay, id);
  int there_after = 0;
  for (int i = 1; i <= 120; ++i) {
    bay.step();
    crossing.see_all();
    // Compares each value with what it was; a text cut off would differ.
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
    if (there_after == 0 && crossing.client_world().get(ref)) there_after = i;
  }
  // 12 datagrams' worth at half of the room each, two a tick, and what was lost of it.
  EXPECT_GT(there_after, 12);
  EXPECT_LT(there_after, 60);
  EXPECT_GE(crossing.replicator().counts().fragmented, 1U);
  EXPECT_LE(crossing.replicator().counts().longest_wait, 60U) << "what moves did not wait for it";
  // A small change of it goes as one, a large one in parts again.
  bay.put(id, bay::Ledger{7, std::string(5900, 'k')});
  for (int i = 0; i < 80; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  const auto wholes = crossing.replicator().counts().whole;
  bay.put(id, bay::Ledger{8, std::string(5900, 'k')});
  for (int i = 0; i < 20; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  EXPECT_EQ(crossing.client_world().get(ref)->page, 8);
  EXPECT_EQ(crossing.replicator().counts().whole, wholes);
  bay.put(id, bay::Ledger{9, std::string(5000, 'w')});
  for (int i = 0; i < 80; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  EXPECT_TRUE(crossing.client_world().get(ref)->lines == std::string(5000, 'w'));
  EXPECT_GT(crossing.replicator().counts().whole, wholes);
}

TEST(LargeEntities, OneThatChangesWhileItIsUnderWayIsCaughtUpWith) {
  kit::MovingBay bay(12);
  const std::uint32_t id = bay.spawn(bay::Ledger{1, std::string(4000, 'a')});
  Crossing crossing(bay, {.room = 300, .snapshots_a_tick = 1});
  crossing.see_all();
  const auto ref = ledger_of(bay, id);
  for (int i = 1; i < 60; ++i) {
    bay.put(id, bay::Ledger{i % 1000, std::string(4000, 'a')});
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  ASSERT_TRUE(crossing.client_world().get(ref));
  EXPECT_GT(crossing.client_world().get(ref)->page, 50);
  EXPECT_EQ(crossing.replicator().counts().fragmented, 1U);
}

TEST(LargeEntities, OnesThatGoOrAreHiddenOnTheWayLeaveRoomForOthers) {
  for (const std::uint64_t seed : kit::seeds(30, 300)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    kit::MovingBay bay(seed);
    Crossing crossing(bay, {.loss = 0.1,
                            .late = 0.2,
                            .room = 200 + bay.random()() % 300,
                            .snapshots_a_tick = 1,
                            .speculative_baselines = seed % 3 == 0});
    std::vector<std::uint32_t> ids;
    for (int i = 0; i < 300; ++i) {
      if (ids.size() < 4 && bay.chance(0.1)) {
        bay::Ledger ledger;
        bay.write(ledger, 5900);
        ids.push_back(bay.spawn(ledger));
      } else if (!ids.empty() && bay.chance(0.03)) {
        bay.despawn(ids.front());
        ids.erase(ids.begin());
      }
      std::vector<replica::RelevantEntity> seen;
      for (const std::uint32_t each : ids) {
        if ((each * 7 + static_cast<std::uint32_t>(i) / 30) % 5 != 0) {
          seen.push_back({each, each % 2 == static_cast<std::uint32_t>(i) / 50 % 2});
        }
      }
      std::sort(seen.begin(), seen.end(), [](const auto& a, const auto& b) { return a.id < b.id; });
      crossing.see(seen);
      bay.step();
      ASSERT_NO_FATAL_FAILURE(crossing.tick());
    }
    crossing.path() = {};
    for (int i = 0; i < 60; ++i) {
      bay.stand_still();
      ASSERT_NO_FATAL_FAILURE(crossing.tick());
    }
    crossing.expect_complete();
    EXPECT_EQ(crossing.replicator().counts().full_resyncs, 0U);
    if (HasFailure()) FAIL() << "seed " << seed;
  }
}

// 80 charts have 195,840 cells: more than a snapshot may edit, though their changes fit into it.
// The client takes the rest whole.
TEST(GridEntities, ASnapshotEditsNoMoreThanItMay) {
  kit::MovingBay bay(15);
  bay::Chart chart;
  std::vector<std::uint32_t> ids;
  for (int i = 0; i < 80; ++i) ids.push_back(bay.spawn(chart));
  Crossing crossing(bay, {.room = 1200});
  crossing.see_all();
  for (int i = 0; i < 20; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  for (std::size_t cell = 0; cell < 5; ++cell) {
    chart.inks.cells()[cell * 400] = bay::Ink::red;
    for (const std::uint32_t id : ids) bay.put(id, chart);
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  for (int i = 0; i < 10; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  crossing.expect_complete();
  EXPECT_EQ(crossing.replicator().counts().full_resyncs, 0U);
}

TEST(GridEntities, ACellTakesFewBytesAndALateJoinerGetsTheWholeChart) {
  kit::MovingBay bay(14);
  bay::Chart chart;
  for (bay::Ink& cell : chart.inks.cells()) cell = static_cast<bay::Ink>(bay.random()() % 3);
  const std::uint32_t id = bay.spawn(chart);
  Crossing crossing(bay, {.loss = 0.05, .room = 1100});
  crossing.see_all();
  for (int i = 0; i < 20; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  const schema::Ref<bay::Chart> ref{id, bay.all().at(id).ref.generation};
  ASSERT_TRUE(crossing.client_world().get(ref));
  // 2304 cells of two or three bits: the whole chart takes 700 bytes and more. A cell tells where
  // it is among them in at most 18 bits.
  crossing.count_from_here();
  for (int i = 0; i < 200; ++i) {
    bay::Ink& cell = chart.inks.cells()[bay.random()() % 2304];
    cell = cell == bay::Ink::red ? bay::Ink::blank : bay::Ink::red;
    bay.put(id, chart);
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  EXPECT_LT(crossing.bytes_a_tick_since(), 14) << "each tick, and again until an ack is heard";
  Crossing late(bay, {.room = 300});
  late.see_all();
  for (int i = 0; i < 20; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
    ASSERT_NO_FATAL_FAILURE(late.tick());
  }
  EXPECT_TRUE(late.client_world().get(ref)->inks == chart.inks);
  EXPECT_TRUE(crossing.client_world().get(ref)->inks == chart.inks);
  crossing.expect_complete();
  late.expect_complete();
}

}  // namespace large_test
}  // namespace kwind
