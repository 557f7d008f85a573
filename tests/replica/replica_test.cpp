#include <gtest/gtest.h>

#include <deque>
#include <set>

#include "kit/sim_pair.h"
#include "kit/sweep.h"
#include "moving_bay.h"

namespace kwind {
namespace {

using namespace std::chrono_literals;
using replica::Mirror;
using replica::Seen;
using replica::Viewer;

// A path for frames in ticks: they and what becomes of them take their time, get lost, doubled,
// overtaken.
struct Path {
  double loss = 0;
  double doubled = 0;
  double late = 0;          // share that takes up to 12 ticks longer
  int one_way = 1;          // ticks
  std::size_t room = 1200;  // bytes of a frame
  int frames_a_tick = 2;
  bool optimistic = false;
};

class Crossing {
 public:
  Crossing(kit::MovingBay& bay, const Path& path,
           std::shared_ptr<const replica::CodeSet> codes = nullptr)
      : bay_(bay),
        path_(path),
        viewer_(bay.world(), {.optimistic = path.optimistic}),
        mirror_(bay::kEntities, 20, std::move(codes)) {}

  Viewer& viewer() { return viewer_; }
  Mirror& mirror() { return mirror_; }
  Path& path() { return path_; }
  void see(std::vector<Seen> seen) {
    seen_ = std::move(seen);
    viewer_.see(seen_);
  }
  void see_all() {
    std::vector<Seen> seen;
    for (const auto& [id, one] : bay_.all()) seen.push_back({id, id % 5 == 0});
    see(std::move(seen));
  }

  // What the tick that has just ended makes leave, and what arrives meanwhile.
  void tick() {
    ++now_;
    for (int i = 0; i < path_.frames_a_tick; ++i) {
      std::vector<std::byte> memory(path_.room);
      bits::Writer out(memory);
      const auto token = viewer_.fill(Time{}, out);
      if (!token) break;
      bits_ += out.bit_count();
      memory.resize(out.finish());
      for (const std::byte byte : memory) {  // FNV-1a
        digest_ = (digest_ ^ std::to_integer<std::uint64_t>(byte)) * 0x100000001b3U;
      }
      const bool lost = bay_.chance(path_.loss);
      const auto arrival = [&] {
        const int extra = bay_.chance(path_.late) ? static_cast<int>(bay_.random()() % 12) : 0;
        return now_ + path_.one_way + extra;
      };
      const int when = arrival();
      if (!lost) under_way_.emplace(when, Frame{memory, out.bit_count(), *token});
      if (!lost && bay_.chance(path_.doubled)) {
        under_way_.emplace(arrival(), Frame{memory, out.bit_count(), *token});
      }
      if (lost) fates_.emplace(now_ + 2 * path_.one_way + 2, std::pair(*token, false));
    }
    while (!under_way_.empty() && under_way_.begin()->first <= now_) {
      const Frame frame = std::move(under_way_.begin()->second);
      under_way_.erase(under_way_.begin());
      const Errc error = mirror_.receive(frame.bytes, frame.bits);
      if (error == Errc::none) {
        ASSERT_EQ(kit::difference(mirror_, bay_, seen_), "") << "after frame " << frame.token;
        fates_.emplace(now_ + path_.one_way, std::pair(frame.token, true));
      } else {
        ASSERT_EQ(error, Errc::replayed) << error_info(error).name << " frame " << frame.token;
      }
    }
    while (!fates_.empty() && fates_.begin()->first <= now_) {
      const auto [token, arrived] = fates_.begin()->second;
      fates_.erase(fates_.begin());
      if (arrived) {
        viewer_.acked(token);
      } else {
        viewer_.lost(token);
      }
    }
  }
  /// Of all frames so far.
  [[nodiscard]] std::uint64_t digest() const { return digest_; }
  void count_from_here() {
    bits_ = 0;
    counted_from_ = now_;
  }
  [[nodiscard]] double bytes_a_tick_since() const {
    return static_cast<double>(bits_) / 8 / (now_ - counted_from_);
  }

  // Whether the client sees what it is to see, as it stands.
  void expect_complete() {
    std::set<std::uint32_t> wanted;
    std::set<std::uint32_t> there;
    for (const Seen& seen : seen_) wanted.insert(seen.id);
    for (const auto& ref : mirror_.entities()) {
      there.insert(ref.id);
      EXPECT_TRUE(bay_.world().is_alive(ref)) << ref.id;
    }
    EXPECT_EQ(there, wanted);
    EXPECT_EQ(mirror_.size(), wanted.size());
    EXPECT_TRUE(viewer_.complete());
  }

 private:
  struct Frame {
    std::vector<std::byte> bytes;
    std::size_t bits;
    std::uint64_t token;
  };
  kit::MovingBay& bay_;
  Path path_;
  Viewer viewer_;
  Mirror mirror_;
  std::vector<Seen> seen_;
  std::multimap<int, Frame> under_way_;
  std::multimap<int, std::pair<std::uint64_t, bool>> fates_;
  std::uint64_t bits_ = 0;
  std::uint64_t digest_ = 0xcbf29ce484222325U;
  int now_ = 0;
  int counted_from_ = 0;
};

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
  EXPECT_EQ(crossing.mirror().size(), 70U);
  EXPECT_EQ(crossing.viewer().counts().whole, 70U) << "each once";
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
    for (const auto& each : crossing.mirror().happenings())
      kinds.push_back(static_cast<int>(each.kind));
    crossing.mirror().clear_happenings();
    return kinds;
  };
  crossing.see_all();
  bay.step();
  step();
  EXPECT_EQ(happened(), std::vector<int>{0});
  const schema::Ref<bay::Crate> ref{id, bay.all().at(id).ref.generation};
  EXPECT_EQ(crossing.mirror().get(ref)->label, "salt");
  EXPECT_FALSE(crossing.mirror().get(schema::Ref<bay::Gull>{id, ref.generation})) << "another kind";
  bay.put(id, bay::Crate{{10, 20.5}, bay::Cargo::fish, "fish"});
  bay.step();
  step();
  EXPECT_EQ(happened(), std::vector<int>{1});
  EXPECT_EQ(crossing.mirror().get(ref)->label, "fish");
  EXPECT_DOUBLE_EQ(crossing.mirror().get(ref)->at[1], 20.5);
  bay.despawn(id);
  crossing.see_all();
  step();
  EXPECT_EQ(happened(), std::vector<int>{2});
  EXPECT_FALSE(crossing.mirror().get(ref));
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
    return crossing.mirror().get(ref)->fuel;
  };
  bay.step();
  EXPECT_EQ(fuel_seen(false), 0);
  EXPECT_EQ(fuel_seen(true), 700);
  EXPECT_EQ(crossing.mirror().get(ref)->name, "Curlew");
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
  const auto bytes = [](std::uint64_t seed, const std::shared_ptr<const replica::CodeSet>& codes,
                        replica::Tally* tally) {
    kit::MovingBay bay(seed, codes);
    bay.populate(100, 30, 12, 9);
    Crossing crossing(bay, {.loss = 0.02}, codes);
    crossing.viewer().count_into(tally);
    for (int i = 0; i < 400; ++i) {
      bay.step(0.05);
      crossing.see_all();
      crossing.tick();
      if (i == 100) crossing.count_from_here();
    }
    return crossing.bytes_a_tick_since();
  };
  replica::Tally tally(bay::kEntities);
  const double before = bytes(8, nullptr, &tally);
  const auto trained = std::make_shared<const replica::CodeSet>(tally);
  EXPECT_LT(bytes(8, trained, nullptr), 0.95 * before);
  EXPECT_LT(bytes(9, trained, nullptr), 0.95 * bytes(9, nullptr, nullptr)) << "another seed";
  // Codes from nothing at all still carry everything.
  const auto blank = std::make_shared<const replica::CodeSet>(replica::Tally(bay::kEntities));
  EXPECT_GT(bytes(9, blank, nullptr), before);
}

TEST(Replica, HoldsOnHostilePathsWhileEntitiesComeAndGo) {
  const auto run = [](std::uint64_t seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    kit::MovingBay bay(seed);
    auto& random = bay.random();
    bay.populate(static_cast<int>(random() % 10), static_cast<int>(random() % 10),
                 static_cast<int>(random() % 10), static_cast<int>(random() % 10));
    Path path;
    path.loss = bay.chance(0.3) ? 0 : bay.even(0, 0.3);
    path.late = bay.chance(0.3) ? 0 : bay.even(0, 0.4);
    path.doubled = bay.even(0, 0.2);
    path.one_way = 1 + static_cast<int>(random() % 6);
    path.room = bay.chance(0.3) ? 60 + random() % 100 : 1200;
    path.frames_a_tick = 1 + static_cast<int>(random() % 3);
    path.optimistic = bay.chance(0.4);
    SCOPED_TRACE(path.optimistic ? "optimistic" : "");
    Crossing crossing(bay, path);
    const double share_seen = bay.even(0.3, 1);
    const double flapping = bay.chance(0.5) ? 0 : bay.even(0, 0.2);
    std::set<std::uint32_t> hidden;
    const auto look = [&] {
      std::vector<Seen> seen;
      for (const auto& [id, one] : bay.all()) {
        if (bay.chance(flapping)) {
          if (!hidden.erase(id)) hidden.insert(id);
        }
        if (!hidden.contains(id)) seen.push_back({id, id % 5 == 0});
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
    for (int i = 0; i < 160; ++i) {
      bay.stand_still();
      crossing.tick();
      if (testing::Test::HasFatalFailure()) return;
    }
    crossing.expect_complete();
  };
  for (const std::uint64_t seed : kit::seeds(300, 5000)) {
    run(seed);
    if (HasFailure()) FAIL() << "seed " << seed;
  }
}

TEST(Replica, ASpoiltFrameChangesNothingOrIsWhole) {
  kit::MovingBay bay(6);
  bay.populate(3, 6, 6, 6);
  Viewer viewer(bay.world());
  Mirror mirror(bay::kEntities);
  std::vector<Seen> seen;
  std::vector<std::byte> memory(1200);
  std::size_t refused = 0;
  for (int i = 0; i < 3000; ++i) {
    bay.step(0.05);
    seen.clear();
    for (const auto& [id, one] : bay.all()) seen.push_back({id, false});
    viewer.see(seen);
    bits::Writer out(memory);
    const auto token = viewer.fill(Time{}, out);
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
    const bits::Digest128 before = mirror.digest();
    if (i % 10 == 0) {
      const Errc error = mirror.receive(spoilt, kept);
      if (error == Errc::none) {  // as good as another frame: from here on all is told anew
        mirror = Mirror(bay::kEntities);
        viewer = Viewer(bay.world());
        continue;
      }
      ++refused;
      ASSERT_EQ(mirror.digest(), before) << error_info(error).name;
    }
    const Errc error = mirror.receive(memory, bits);
    ASSERT_EQ(error, Errc::none) << error_info(error).name << " in tick " << i;
    ASSERT_EQ(kit::difference(mirror, bay, seen), "");
    viewer.acked(*token);
  }
  EXPECT_GT(refused, 100U);
}

TEST(Replica, AFrameWithAHugeNumberTakesNoLonger) {
  // A thousand times 2^31 steps would take this test beyond its time limit.
  Mirror mirror(bay::kEntities);
  for (std::uint32_t i = 0; i <= 1000; ++i) {
    const std::uint32_t frame = i == 1000 ? 0xfffffffeU : 0x80000000U + i * 2000000;
    std::vector<std::byte> memory(32);
    bits::Writer out(memory);
    out.put_bool(true);  // all anew
    out.put(frame, 32);
    out.put(7, 32);
    out.put_count(0, 3);
    out.put_bool(false);  // no more in the head
    out.put_bool(false);  // nobody arrives
    out.finish();
    EXPECT_EQ(mirror.receive(memory, out.bit_count()), Errc::none);
  }
  EXPECT_EQ(mirror.size(), 0U);
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
  EXPECT_EQ(crossing.digest(), 17145402052113609886U);
}

}  // namespace
}  // namespace kwind
