// What replica promises beside the invariant: order, patience, tolerance, repair.
#include <gtest/gtest.h>

#include "crossing.h"
#include "kit/sweep.h"

namespace kwind {
namespace promises_test {

using kit::Crossing;
using kit::Path;
using replica::ClientReplicator;
using replica::RelevantEntity;

TEST(ReplicaPromises, AClientThatDiffersIsRepairedWithinASecond) {
  for (const bool speculative_baselines : {false, true}) {
    kit::MovingBay bay(11);
    bay.populate(10, 10, 10, 10);
    Crossing crossing(bay, {.speculative_baselines = speculative_baselines});
    std::vector<replica::Desync> found;
    crossing.replicator().on_desync([&](const replica::Desync& each) { found.push_back(each); });
    for (int i = 0; i < 50; ++i) {
      bay.step();
      crossing.see_all();
      ASSERT_NO_FATAL_FAILURE(crossing.tick());
    }
    // A pile stands still: nobody would ever tell of it again.
    const auto pile = *std::find_if(bay.all().begin(), bay.all().end(), [](const auto& each) {
      return std::holds_alternative<bay::Pile>(each.second.value);
    });
    crossing.client_world().spoil(pile.second.ref, 1, 4);
    crossing.note_spoilt();
    ASSERT_NE(kit::difference(crossing.client_world(), bay), "");
    int ticks = 0;
    for (; ticks < 20 && found.empty(); ++ticks) {
      bay.step();
      crossing.tick();
    }
    ASSERT_EQ(found.size(), 1U) << "in " << ticks << " ticks";
    EXPECT_EQ(found[0].id, pile.first);
    EXPECT_EQ(found[0].type, "Pile");
    EXPECT_EQ(found[0].field, "at");
    for (int i = 0; i < 6; ++i) {
      bay.stand_still();
      ASSERT_NO_FATAL_FAILURE(crossing.tick());
    }
    crossing.expect_complete();
    EXPECT_EQ(kit::difference(crossing.client_world(), bay), "");
    EXPECT_EQ(crossing.replicator().counts().desyncs, 1U);
    EXPECT_EQ(crossing.replicator().counts().full_resyncs, 0U)
        << "one entity was told again, not all";
  }
}

TEST(ReplicaPromises, AnyBitsAsAReportHarmNobody) {
  kit::MovingBay bay(12);
  bay.populate(5, 5, 5, 5);
  Crossing crossing(bay, {});
  std::vector<std::byte> memory(64);
  for (int i = 0; i < 2000; ++i) {
    bay.step();
    crossing.see_all();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
    for (std::byte& byte : memory) byte = static_cast<std::byte>(bay.random()());
    (void)crossing.replicator().receive_desync_report(memory, bay.random()() % (memory.size() * 8));
  }
  for (int i = 0; i < 80; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  crossing.expect_complete();
}

TEST(ReplicaPromises, NothingInViewStarves) {
  kit::MovingBay bay(13);
  bay.populate(0, 0, 60, 40);
  // Far less room than the motion takes; tugs are said to matter a hundred times as much.
  Crossing crossing(bay, {.room = 48, .snapshots_a_tick = 1});
  std::map<std::uint32_t, std::uint32_t> last;
  for (int i = 0; i < 600; ++i) {
    bay.step();
    std::vector<RelevantEntity> seen;
    for (const auto& [id, one] : bay.all()) {
      seen.push_back({id, false, std::holds_alternative<bay::Tug>(one.value) ? 100.0F : 1.0F});
    }
    crossing.see(seen);
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  EXPECT_EQ(crossing.client_world().size(), 100U);
  std::array<double, 2> age{};  // of all gulls, all tugs; ticks
  for (const auto& [id, one] : bay.all()) {
    const std::uint32_t old = bay.world().tick() - crossing.client_world().state_tick(one.ref);
    EXPECT_LE(old, 2 * ClientReplicator::kPatience + 4);
    age[std::holds_alternative<bay::Tug>(one.value) ? 1 : 0] += old;
  }
  // What waits beyond its patience goes in the order of waiting: a round of all takes no more than
  // that many ticks again here.
  EXPECT_LE(crossing.replicator().counts().longest_wait, 2 * ClientReplicator::kPatience);
  EXPECT_LE(crossing.replicator().oldest_wait(), 2 * ClientReplicator::kPatience);
  EXPECT_GT(crossing.replicator().oldest_wait(), 0U);
  EXPECT_LT(age[1] / 40, 0.5 * age[0] / 60) << "what weighs more waits less";
}

TEST(ReplicaPromises, ALateJoinerGetsTheNearestFirstAndIsThenComplete) {
  kit::MovingBay bay(14);
  bay.populate(300, 0, 0, 0);
  bay.step();
  Crossing crossing(bay, {.room = 100, .snapshots_a_tick = 1});
  const auto far = [&](const schema::AnyRef& ref) {
    const auto& at = std::get<bay::Pile>(bay.all().at(ref.id).value).at;
    return std::hypot(at[0], at[1]);
  };
  std::vector<RelevantEntity> seen;
  for (const auto& [id, one] : bay.all()) {
    seen.push_back({id, false, static_cast<float>(4 - far(one.ref) / 300)});
  }
  crossing.see(seen);
  EXPECT_FALSE(crossing.replicator().view_complete());
  for (int i = 0; i < 6; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  ASSERT_GT(crossing.client_world().size(), 20U);
  ASSERT_LT(crossing.client_world().size(), 200U);
  double farthest_there = 0;
  double nearest_missing = 1e9;
  std::set<std::uint32_t> there;
  for (const auto& ref : crossing.client_world().entities()) {
    there.insert(ref.id);
    farthest_there = std::max(farthest_there, far(ref));
  }
  for (const auto& [id, one] : bay.all()) {
    if (!there.contains(id)) nearest_missing = std::min(nearest_missing, far(one.ref));
  }
  // Two snapshots of them are still on their way.
  EXPECT_LT(farthest_there, nearest_missing + 60);
  EXPECT_FALSE(crossing.replicator().view_complete());
  for (int i = 0; i < 60 && !crossing.replicator().view_complete(); ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  EXPECT_TRUE(crossing.replicator().view_complete());
  EXPECT_EQ(crossing.client_world().size(), 300U);
}

// How far the shown place of a punt or a raft is from the true one.
std::optional<double> distance_off(const replica::ClientWorld& client_world,
                                   const schema::AnyRef& ref, const kit::Anyone& truth,
                                   double tick) {
  return std::visit(
      [&]<class T>(const T& value) -> std::optional<double> {
        if constexpr (std::is_same_v<T, bay::Punt> || std::is_same_v<T, bay::Raft>) {
          const auto shown = client_world.sample(schema::Ref<T>{ref.id, ref.generation}, tick);
          return shown ? std::optional((shown->at - value.at).norm()) : std::nullopt;
        }
        return std::nullopt;
      },
      truth);
}

TEST(ReplicaPromises, WhatHasAToleranceIsShownWithinIt) {
  for (const std::uint64_t seed : kit::seeds(10, 200)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    kit::MovingBay bay(seed);
    bay.populate(0, 0, 0, 0, 20);
    Crossing crossing(bay, {.one_way = 1});
    for (int i = 0; i < 200; ++i) {
      bay.step();
      crossing.see_all();
      ASSERT_NO_FATAL_FAILURE(crossing.tick());
      const std::uint32_t tick = crossing.client_world().tick();
      for (const schema::AnyRef& ref : crossing.client_world().entities()) {
        const auto* const truth = bay.at(ref.id, tick);
        ASSERT_NE(truth, nullptr);
        const auto off = distance_off(crossing.client_world(), ref, *truth, tick);
        // A quarter of a metre, and the rounding of both to a sixteenth.
        ASSERT_TRUE(off);
        ASSERT_LE(*off, 0.25 + 0.09) << ref.id << " at tick " << tick;
      }
    }
    // 20 punts and 5 rafts move all the time: exact, each would be told of in each tick.
    EXPECT_LT(crossing.replicator().counts().changed, 200 * 25 / 4);
  }
}

TEST(ReplicaPromises, ARateIsKeptAndItsTicksAreSpread) {
  replica::World world(bay::kEntities, {.ticks_per_second = 20});
  std::vector<schema::Ref<bay::Buoy>> buoys;
  std::vector<RelevantEntity> seen;
  for (int i = 0; i < 40; ++i) {
    buoys.push_back(*world.spawn(bay::Buoy{i}));
    seen.push_back({buoys.back().id});
  }
  ClientReplicator replicator(world);
  replicator.see(seen);
  replica::ClientWorld client_world(bay::kEntities);
  std::vector<std::byte> memory(1200);
  std::map<std::uint32_t, std::vector<std::uint32_t>> updates;  // ticks, by id
  std::map<std::uint32_t, int> of_a_tick;
  for (int tick = 1; tick <= 80; ++tick) {
    for (std::size_t i = 0; i < buoys.size(); ++i) {
      world.put(buoys[i], bay::Buoy{(static_cast<int>(i) + tick * 7) % 1000});
    }
    world.end_tick();
    bits::Writer out(memory);
    const auto token = replicator.fill(Time{}, out);
    ASSERT_TRUE(token);
    out.finish();
    ASSERT_EQ(client_world.receive(memory, out.bit_count()), Errc::none);
    replicator.acked(*token);
    for (const replica::EntityEvent& each : client_world.take_events()) {
      updates[each.entity.id].push_back(client_world.tick());
      if (tick > 10) ++of_a_tick[client_world.tick()];
    }
  }
  for (const auto& [id, ticks] : updates) {
    ASSERT_GT(ticks.size(), 15U);
    for (std::size_t i = 2; i < ticks.size(); ++i) EXPECT_EQ(ticks[i] - ticks[i - 1], 4U) << id;
    const auto held = client_world.get(buoys[id - 1]);
    EXPECT_EQ(held->height, (static_cast<int>(id) - 1 + static_cast<int>(ticks.back()) * 7) % 1000);
  }
  for (const auto& [tick, count] : of_a_tick) EXPECT_EQ(count, 10) << "tick " << tick;
}

TEST(ReplicaPromises, TheNewestInputUsedIsTold) {
  kit::MovingBay bay(15);
  bay.populate(0, 0, 5, 0);
  Crossing crossing(bay, {.loss = 0.1});
  for (std::uint32_t i = 1; i < 300; ++i) {
    bay.step();
    crossing.see_all();
    // An input a tick, but for a while in which none came.
    const std::uint32_t used = i < 100 ? 70000 + i : i < 120 ? 70100 : 70000 + i;
    crossing.replicator().last_processed_input(used);
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
    if (crossing.client_world().tick() == 0) {
      EXPECT_FALSE(crossing.client_world().last_processed_input());
      continue;
    }
    const std::uint32_t then = crossing.client_world().tick();
    const std::uint32_t wanted = then < 100 ? 70000 + then : then < 120 ? 70100 : 70000 + then;
    EXPECT_EQ(crossing.client_world().last_processed_input(), static_cast<std::uint16_t>(wanted))
        << then;
  }
}

TEST(ReplicaPromises, AValueOutsideItsRangeIsClampedCountedAndNamed) {
  kit::MovingBay bay(16);
  const std::uint32_t id = bay.spawn(bay::Gull{0, 5, {0, 0}, false});
  bay.stand_still();
  EXPECT_EQ(bay.world().out_of_range(), 0U);
  EXPECT_FALSE(bay.world().last_out_of_range());
  bay.put(id, bay::Gull{0, 500, {0, 0}, false});
  EXPECT_EQ(bay.world().out_of_range(), 1U);
  const auto found = bay.world().last_out_of_range();
  ASSERT_TRUE(found);
  EXPECT_EQ(found->entity.id, id);
  EXPECT_EQ(found->type_name, "Gull");
  EXPECT_EQ(found->field, "speed");
  EXPECT_EQ(found->tick, 2U);
}

}  // namespace promises_test
}  // namespace kwind
