// Worlds that are larger, and clients that are away longer, than anybody plans for: each behaves as
// docs/state-format.md says.
#include <gtest/gtest.h>

#include <chrono>
#include <random>

#include "kwind/replica/client_world.h"
#include "kwind/replica/interest.h"
#include "multitude.h"

namespace kwind {
namespace multitude_test {

using multitude::Mote;

class Multitude {
 public:
  explicit Multitude(std::size_t snapshots_a_tick = 1)
      : world_(multitude::kEntities),
        interest_(world_, {.enter = 40, .leave = 44}),
        query_(interest_),
        replicator_(world_),
        client_world_(multitude::kEntities),
        snapshots_a_tick_(snapshots_a_tick) {
    replicator_.bind(&query_);
  }
  void spawn(std::size_t count) {
    for (std::size_t i = 0; i < count; ++i) {
      const Mote mote{{even(), even()}, static_cast<std::int32_t>(random_() % 256)};
      const auto ref = world_.spawn(mote);
      ASSERT_TRUE(ref);
      motes_.emplace_back(*ref, mote);
    }
  }
  void despawn_last(std::size_t count) {
    for (; count > 0; --count) {
      world_.despawn(motes_.back().first);
      motes_.pop_back();
    }
  }
  void tick(bool answers = true) {
    world_.end_tick();
    // As a link does once its probes are answered.
    if (answers) {
      for (const std::uint64_t lost : std::exchange(unanswered_, {})) replicator_.lost(lost);
    }
    for (std::size_t i = 0; i < snapshots_a_tick_; ++i) {
      std::vector<std::byte> memory(1100);
      bits::Writer out(memory);
      const auto token = replicator_.fill(Time{}, out);
      if (!token) break;
      ++snapshots_;
      out.finish();
      if (!answers) {
        unanswered_.push_back(*token);
        continue;
      }
      ASSERT_EQ(client_world_.receive(memory, out.bit_count()), Errc::none);
      replicator_.acked(*token);
    }
  }
  /// What is in view, as it is, and nothing else.
  void expect_right() {
    std::size_t in_view = 0;
    for (const auto& [ref, mote] : motes_) {
      if (mote.at.norm() > 40) continue;
      ++in_view;
      const auto held = client_world_.get(ref);
      ASSERT_TRUE(held) << ref.id;
      EXPECT_EQ(held->glow, mote.glow);
    }
    EXPECT_GE(client_world_.size(), in_view);
    EXPECT_LE(client_world_.size(), in_view + in_view / 3) << "what lies between enter and leave";
  }
  void glow(std::size_t i, std::int32_t glow) {
    motes_[i].second.glow = glow;
    world_.put(motes_[i].first, motes_[i].second);
  }
  void set_origin(double x, double y) { query_.set_origin(x, y); }
  replica::World& world() { return world_; }
  replica::ClientReplicator& replicator() { return replicator_; }
  replica::ClientWorld& client_world() { return client_world_; }
  [[nodiscard]] std::size_t snapshots() const { return snapshots_; }
  [[nodiscard]] std::size_t size() const { return motes_.size(); }

 private:
  double even() { return std::uniform_real_distribution<double>(-510, 510)(random_); }
  std::mt19937_64 random_{3};
  replica::World world_;
  replica::Interest interest_;
  replica::InterestQuery query_;
  replica::ClientReplicator replicator_;
  replica::ClientWorld client_world_;
  std::size_t snapshots_a_tick_;
  std::vector<std::pair<schema::Ref<Mote>, Mote>> motes_;
  std::size_t snapshots_ = 0;
  std::vector<std::uint64_t> unanswered_;
};

TEST(Multitude, TenThousandSpawnsInATickArriveNearestFirstWithinTheBudget) {
  Multitude bay;
  bay.set_origin(0, 0);
  bay.tick();
  bay.spawn(10000);
  for (int i = 0; i < 12; ++i) ASSERT_NO_FATAL_FAILURE(bay.tick());
  // 48 of them are in view; the others cost this client nothing.
  bay.expect_right();
  EXPECT_TRUE(bay.replicator().view_complete());
  EXPECT_LE(bay.snapshots(), 5U);
  // All of them to one who sees everything: one datagram a tick, until all have come.
  replica::ClientReplicator all(bay.world());
  std::vector<replica::RelevantEntity> seen;
  for (std::uint32_t id = 1; id <= 10000; ++id) seen.push_back({id, false});
  all.see(seen);
  replica::ClientWorld client_world(multitude::kEntities);
  std::size_t snapshots = 0;
  for (; snapshots < 200 && !all.view_complete(); ++snapshots) {
    bay.tick();
    std::vector<std::byte> memory(1100);
    bits::Writer out(memory);
    if (const auto token = all.fill(Time{}, out)) {
      out.finish();
      ASSERT_EQ(client_world.receive(memory, out.bit_count()), Errc::none);
      all.acked(*token);
    }
  }
  // Some 50 bits each.
  EXPECT_GT(snapshots, 10000 * 45 / 8 / 1100);
  EXPECT_LT(snapshots, 10000 * 60 / 8 / 1100);
  EXPECT_EQ(client_world.size(), 10000U);
}

TEST(Multitude, SixtyThousandEntitiesAndNotOneMore) {
  Multitude bay;
  bay.set_origin(0, 0);
  bay.spawn(60000);
  EXPECT_FALSE(bay.world().spawn(Mote{})) << "entities up to 60000";
  EXPECT_EQ(bay.world().size(), 60000U);
  for (int i = 0; i < 20; ++i) ASSERT_NO_FATAL_FAILURE(bay.tick());
  bay.expect_right();
  for (std::size_t i = 0; i < bay.size(); i += 7) bay.glow(i, 255);
  for (int i = 0; i < 10; ++i) ASSERT_NO_FATAL_FAILURE(bay.tick());
  bay.expect_right();
  EXPECT_LT(bay.world().memory() / 60000, 2048U);
  EXPECT_LT(bay.replicator().memory(), 512U * 1024) << "by what it sees, not by what there is";
  // Half of them go; of most no client knew.
  bay.despawn_last(30000);
  EXPECT_FALSE(bay.world().spawn(Mote{})) << "no id is free yet";
  ASSERT_NO_FATAL_FAILURE(bay.tick());
  EXPECT_TRUE(bay.world().spawn(Mote{}));
  // After five seconds all are free, the least first.
  for (int i = 0; i < 101; ++i) ASSERT_NO_FATAL_FAILURE(bay.tick());
  const auto again = bay.world().spawn(Mote{});
  ASSERT_TRUE(again);
  EXPECT_EQ(again->id, 30001U);
  EXPECT_EQ(again->generation, 2);
}

TEST(Multitude, AClientThatAcknowledgesNothingForAMinuteIsToldAnew) {
  Multitude bay;
  bay.set_origin(0, 0);
  bay.spawn(3000);
  for (int i = 0; i < 20; ++i) ASSERT_NO_FATAL_FAILURE(bay.tick());
  bay.expect_right();
  const std::size_t before = bay.replicator().memory();
  for (int i = 0; i < 1200; ++i) {
    for (std::size_t m = static_cast<std::size_t>(i) % 10; m < bay.size(); m += 10) {
      bay.glow(m, i % 256);
    }
    ASSERT_NO_FATAL_FAILURE(bay.tick(false));
  }
  EXPECT_GE(bay.replicator().counts().full_resyncs, 1U);
  EXPECT_LT(bay.replicator().memory(), 2 * before + 65536) << "what it waits for is bounded";
  for (int i = 0; i < 20; ++i) ASSERT_NO_FATAL_FAILURE(bay.tick());
  bay.expect_right();
  EXPECT_TRUE(bay.replicator().view_complete());
}

}  // namespace multitude_test
}  // namespace kwind
