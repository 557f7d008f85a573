#include <gtest/gtest.h>

#include <cmath>
#include <set>

#include "crossing.h"
#include "kit/sweep.h"
#include "moving_bay.h"

namespace kwind {
namespace replica_test {

using kit::Crossing;
using kit::Path;
using replica::ClientReplicator;
using replica::ClientWorld;
using replica::RelevantEntity;

TEST(Replica, AClientHasWhatTheServerHas) {
  kit::MovingBay bay(1);
  bay.populate(20, 20, 20, 10);
  Crossing crossing(bay, {});
  for (int i = 0; i < 100; ++i) {
    bay.step();
    crossing.see_all();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  // The world stands still: what is left to tell arrives.
  for (int i = 0; i < 5; ++i) {
    bay.stand_still();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  crossing.expect_complete();
  EXPECT_EQ(crossing.client_world().size(), 70U);
  const std::uint64_t whole = crossing.replicator().counts().whole;
  EXPECT_GE(whole, 70U);
  EXPECT_LE(whole, 70U * 5) << "each until it is acknowledged, and then no more";
}

TEST(Replica, WhatHappenedIsTold) {
  kit::MovingBay bay(2);
  const std::uint32_t id = bay.spawn(bay::Crate{{10, 20}, bay::Cargo::salt, "salt"});
  Crossing crossing(bay, {});
  const auto step = [&] {
    for (int i = 0; i < 4; ++i) {
      bay.stand_still();
      crossing.tick();
    }
  };
  const auto happened = [&] {
    std::vector<int> kinds;
    for (const auto& each : crossing.client_world().take_events())
      kinds.push_back(static_cast<int>(each.type));
    return kinds;
  };
  crossing.see_all();
  bay.step();
  step();
  EXPECT_EQ(happened(), std::vector<int>{0});
  const schema::Ref<bay::Crate> ref{id, bay.all().at(id).ref.generation};
  EXPECT_EQ(crossing.client_world().get(ref)->label, "salt");
  EXPECT_FALSE(crossing.client_world().get(schema::Ref<bay::Gull>{id, ref.generation}))
      << "another kind";
  bay.put(id, bay::Crate{{10, 20.5}, bay::Cargo::fish, "fish"});
  bay.step();
  step();
  EXPECT_EQ(happened(), std::vector<int>{1});
  EXPECT_EQ(crossing.client_world().get(ref)->label, "fish");
  EXPECT_DOUBLE_EQ(crossing.client_world().get(ref)->at[1], 20.5);
  bay.despawn(id);
  crossing.see_all();
  step();
  EXPECT_EQ(happened(), std::vector<int>{2});
  EXPECT_FALSE(crossing.client_world().get(ref));
  EXPECT_FALSE(bay.world().put(ref, bay::Crate{}));
}

TEST(Replica, OwnerOnlyFieldsGoToTheOwner) {
  kit::MovingBay bay(3);
  bay::Tug tug;
  tug.fuel = 700;
  tug.name = "Curlew";
  const std::uint32_t id = bay.spawn(tug);
  Crossing crossing(bay, {});
  const schema::Ref<bay::Tug> ref{id, bay.all().at(id).ref.generation};
  const auto fuel_seen = [&](bool owner) {
    crossing.see({{id, owner}});
    for (int i = 0; i < 6; ++i) {
      bay.stand_still();
      crossing.tick();
    }
    return crossing.client_world().get(ref)->fuel;
  };
  bay.step();
  EXPECT_EQ(fuel_seen(false), 0);
  EXPECT_EQ(fuel_seen(true), 700);
  EXPECT_EQ(crossing.client_world().get(ref)->name, "Curlew");
  EXPECT_EQ(fuel_seen(false), 0) << "it was told once; as of now it is somebody else's";
}

TEST(Replica, FewBytesCarryWhatMoves) {
  kit::MovingBay bay(4);
  bay.populate(100, 30, 12, 9);
  Crossing crossing(bay, {.loss = 0.02});
  for (int i = 0; i < 100; ++i) {
    bay.step();
    crossing.see_all();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  crossing.count_from_here();
  for (int i = 0; i < 400; ++i) {
    bay.step();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  // 21 of 151 move each tick; packed, their changed fields would take some 200 bytes.
  RecordProperty("bytes", std::to_string(crossing.bytes_a_tick_since()));
  EXPECT_LT(crossing.bytes_a_tick_since(), 60);
}

TEST(Replica, CodesThatFitTheTrafficTakeFewerBytes) {
  const auto bytes = [](std::uint64_t seed, const std::shared_ptr<const replica::CodeTables>& codes,
                        replica::SymbolCounts* symbol_counts) {
    kit::MovingBay bay(seed, codes);
    bay.populate(100, 30, 12, 9);
    Crossing crossing(bay, {.loss = 0.02}, codes);
    crossing.replicator().count_into(symbol_counts);
    for (int i = 0; i < 400; ++i) {
      bay.step(0.05);
      crossing.see_all();
      crossing.tick();
      if (i == 100) crossing.count_from_here();
    }
    return crossing.bytes_a_tick_since();
  };
  replica::SymbolCounts symbol_counts(bay::kEntities);
  const double before = bytes(8, nullptr, &symbol_counts);
  const auto trained = std::make_shared<const replica::CodeTables>(symbol_counts);
  EXPECT_LT(bytes(8, trained, nullptr), 0.95 * before);
  EXPECT_LT(bytes(9, trained, nullptr), 0.95 * bytes(9, nullptr, nullptr)) << "another seed";
  // Codes from nothing at all still carry everything.
  const auto blank =
      std::make_shared<const replica::CodeTables>(replica::SymbolCounts(bay::kEntities));
  EXPECT_GT(bytes(9, blank, nullptr), before);
}

TEST(Replica, ASymbolThatTrafficNeverHadStaysShort) {
  for (const std::uint32_t counted : {1000U, 1000000U, 0xf0000000U}) {
    replica::SymbolCounts traffic(bay::kEntities);
    replica::SymbolCounts unseen(bay::kEntities);
    for (std::size_t k = 0; k < traffic.types().size(); ++k) {
      for (std::size_t age = 0; age < replica::SymbolCounts::kAges; ++age) {
        traffic.types()[k].continuing[age].back() = counted;
        for (std::uint32_t& count : unseen.types()[k].continuing[age]) count = 1;
        unseen.types()[k].continuing[age].back() = 0;
      }
    }
    const replica::CodeTables codes(replica::SymbolCounts::fitted(bay::kEntities, traffic));
    for (const replica::AlphabetCost& cost : replica::costs_of(unseen, codes)) {
      // Among n symbols that share 1/256 of the weight, n times as likely as the built-in set says.
      const double each = cost.bits / static_cast<double>(cost.symbols);
      EXPECT_LE(each, 8 + std::log2(static_cast<double>(cost.symbols)) + 4) << counted;
    }
  }
}

TEST(Replica, HoldsOnHostilePathsWhileEntitiesComeAndGo) {
  const auto run = [](std::uint64_t seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    kit::MovingBay bay(seed);
    auto& random = bay.random();
    const auto few = [&] { return static_cast<int>(random() % 10); };
    const std::array counts{few(), few(), few(), few(), few()};
    bay.populate(counts[0], counts[1], counts[2], counts[3], counts[4]);
    for (std::uint64_t i = random() % 3; i > 0; --i) bay.spawn(bay::Chart{});
    for (std::uint64_t i = random() % 3; i > 0; --i) bay.spawn(bay::Ledger{});
    if (seed % 3 == 0) bay.fill_up();
    Path path;
    path.loss = bay.chance(0.3) ? 0 : bay.even(0, 0.3);
    path.late = bay.chance(0.3) ? 0 : bay.even(0, 0.4);
    path.doubled = bay.even(0, 0.2);
    path.one_way = 1 + static_cast<int>(random() % 6);
    path.room = bay.chance(0.4) ? 40 + random() % 100 : 1200;
    path.snapshots_a_tick = 1 + static_cast<int>(random() % 3);
    path.speculative_baselines = bay.chance(0.4);
    path.mistaken = seed % 2 == 0 ? bay.even(0, 0.3) : 0;
    SCOPED_TRACE(path.speculative_baselines ? "speculative_baselines" : "");
    Crossing crossing(bay, path);
    const double share_seen = bay.even(0.3, 1);
    const double flapping = bay.chance(0.5) ? 0 : bay.even(0, 0.2);
    // How long an entity has the same owner.
    const std::uint32_t owned_for =
        bay.chance(0.5) ? 1000 : 1 + static_cast<std::uint32_t>(random() % 20);
    std::set<std::uint32_t> hidden;
    const auto look = [&] {
      std::vector<RelevantEntity> seen;
      for (const auto& [id, one] : bay.all()) {
        if (bay.chance(flapping)) {
          if (!hidden.erase(id)) hidden.insert(id);
        }
        const bool owned =
            (id + static_cast<std::uint32_t>(bay.world().tick()) / owned_for) % 5 == 0;
        if (!hidden.contains(id)) seen.push_back({id, owned});
      }
      crossing.see(std::move(seen));
    };
    for (const auto& [id, one] : bay.all()) {
      if (!bay.chance(share_seen)) hidden.insert(id);
    }
    for (int i = 0; i < 150; ++i) {
      bay.step(0.2);
      look();
      if (i == 60 && seed % 4 == 0) crossing.path().loss = 1;  // nothing for a while
      if (i == 60 + static_cast<int>(seed % 90) && seed % 4 == 0) crossing.path().loss = 0.1;
      crossing.tick();
      if (testing::Test::HasFatalFailure()) return;
    }
    // A quiet path and a world that stands still: all is told in the end.
    crossing.path() = {};
    for (int i = 0; i < 160 && !(i > 100 && crossing.replicator().complete()); ++i) {
      bay.stand_still();
      crossing.tick();
      if (testing::Test::HasFatalFailure()) return;
    }
    crossing.expect_complete();
  };
  for (const std::uint64_t seed : kit::seeds(kit::kSanitized ? 60 : 300, 5000)) {
    run(seed);
    if (HasFailure()) FAIL() << "seed " << seed;
  }
}

TEST(Replica, ASpoiltSnapshotChangesNothingOrIsWhole) {
  kit::MovingBay bay(6);
  bay.populate(3, 6, 6, 6);
  ClientReplicator replicator(bay.world());
  ClientWorld client_world(bay::kEntities);
  std::vector<RelevantEntity> seen;
  std::vector<std::byte> memory(1200);
  std::size_t refused = 0;
  for (int i = 0; i < 3000; ++i) {
    bay.step(0.05);
    seen.clear();
    for (const auto& [id, one] : bay.all()) seen.push_back({id, false});
    replicator.see(seen);
    bits::Writer out(memory);
    const auto token = replicator.fill(Time{}, out);
    if (!token) continue;
    const std::size_t bits = out.bit_count();
    out.finish();
    std::vector<std::byte> spoilt(
        memory.begin(), memory.begin() + static_cast<std::ptrdiff_t>(bits::bytes_for(bits)));
    const std::size_t kept = i % 3 == 0 ? bay.random()() % bits : bits;
    if (kept == bits) {
      const std::size_t bit = bay.random()() % bits;
      spoilt[bit / 8] ^= std::byte{1} << bit % 8;
    }
    const Digest128 before = client_world.digest();
    if (i % 10 == 0) {
      const Errc error = client_world.receive(spoilt, kept);
      // As good as another snapshot, or kept until it can be read: a full resync follows.
      if (error == Errc::none || error == Errc::base_missing) {
        client_world = ClientWorld(bay::kEntities);
        replicator = ClientReplicator(bay.world());
        continue;
      }
      ++refused;
      ASSERT_EQ(client_world.digest(), before) << error_info(error).name;
    }
    const Errc error = client_world.receive(memory, bits);
    ASSERT_EQ(error, Errc::none) << error_info(error).name << " in tick " << i;
    ASSERT_EQ(kit::difference(client_world, bay), "");
    replicator.acked(*token);
  }
  EXPECT_GT(refused, 100U);
}

TEST(Replica, ASnapshotWithAHugeNumberTakesNoLonger) {
  // A thousand times 2^31 steps would take this test beyond its time limit.
  ClientWorld client_world(bay::kEntities);
  const std::uint64_t codes = replica::built_in_codes(bay::kEntities)->digest() & 0xffffU;
  for (std::uint32_t i = 0; i <= 1000; ++i) {
    const std::uint32_t snapshot = i == 1000 ? 0xfffffffeU : 0x80000000U + i * 2000000;
    std::vector<std::byte> memory(32);
    bits::Writer out(memory);
    out.put_bool(true);  // all anew
    out.put(snapshot, 32);
    out.put(7, 32);
    out.put(std::uint64_t{20} * 16, 16);
    out.put(codes, 16);
    out.put_bool(false);  // exact
    out.put_count(0, 3);
    out.put_bool(false);  // no input
    out.put_bool(false);  // no digest
    out.put_bool(false);  // nobody arrives
    out.put_bool(false);  // nor do parts of anybody
    out.finish();
    EXPECT_EQ(client_world.receive(memory, out.bit_count()), Errc::none);
  }
  EXPECT_EQ(client_world.size(), 0U);
}

TEST(Replica, EveryCompilerMakesTheSameBits) {
  kit::MovingBay bay(5);
  bay.populate(5, 10, 10, 10);
  Crossing crossing(bay, {.loss = 0.05, .late = 0.05});
  for (int i = 0; i < 200; ++i) {
    bay.step(0.1);
    crossing.see_all();
    ASSERT_NO_FATAL_FAILURE(crossing.tick());
  }
  EXPECT_EQ(crossing.digest(), 17090068561789385974U);
}

}  // namespace replica_test
}  // namespace kwind
