// What a snapshot promises in exact mode: once it is here, nothing in view is older than it.
#include <gtest/gtest.h>

#include <deque>
#include <map>

#include "kit/sweep.h"
#include "moving_bay.h"

namespace kwind {
namespace freshness_test {

struct Sent {
  int due;
  bool lost;
  std::uint64_t token;
  std::vector<std::byte> bytes;
  std::size_t bits;
};

// One client of a bay, over a path that loses snapshots and acknowledgements.
class Path {
 public:
  Path(kit::MovingBay& bay, double loss, int trip, replica::ReplicatorOptions options = {})
      : bay_(bay), loss_(loss), trip_(trip), replicator_(bay.world(), options) {}

  // The tick's snapshot, and what arrives in it. Calls `arrived` after each snapshot that is newer.
  template <class Arrived>
  void tick(const std::vector<replica::RelevantEntity>& view, const Arrived& arrived) {
    ++now_;
    replicator_.see(view);
    std::vector<std::byte> memory(20000);
    bits::Writer out(memory);
    if (const auto token = replicator_.fill(Time{}, out)) {
      out.finish();
      bits_ += out.bit_count();
      sent_.push_back({now_ + trip_, bay_.chance(loss_), *token, memory, out.bit_count()});
    }
    for (; !sent_.empty() && sent_.front().due <= now_; sent_.pop_front()) {
      const Sent& each = sent_.front();
      if (each.lost) {
        fates_.emplace(now_ + trip_ + 2, std::pair(each.token, false));
        continue;
      }
      const std::uint32_t before = world_.tick();
      const Errc error = world_.receive(each.bytes, each.bits);
      ASSERT_TRUE(error == Errc::none || error == Errc::replayed) << static_cast<int>(error);
      if (!bay_.chance(loss_)) fates_.emplace(now_ + trip_, std::pair(each.token, true));
      if (world_.tick() > before) arrived(world_);
    }
    while (!fates_.empty() && fates_.begin()->first <= now_) {
      const auto [token, heard] = fates_.begin()->second;
      fates_.erase(fates_.begin());
      heard ? replicator_.acked(token) : replicator_.lost(token);
    }
  }
  replica::ClientReplicator& replicator() { return replicator_; }
  [[nodiscard]] std::size_t bits() const { return bits_; }

 private:
  kit::MovingBay& bay_;
  double loss_;
  int trip_;
  int now_ = 0;
  std::size_t bits_ = 0;
  replica::ClientReplicator replicator_;
  replica::ClientWorld world_{bay::kEntities, 20};
  std::deque<Sent> sent_;
  std::multimap<int, std::pair<std::uint64_t, bool>> fates_;
};

TEST(Freshness, NothingInViewIsOlderThanItsSnapshot) {
  for (const std::uint64_t seed : kit::seeds(6, 100)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    kit::MovingBay bay(seed);
    bay.populate(5, 12, 12, 6, 0, 6);
    Path path(bay, 0.15, 1 + static_cast<int>(seed % 4));
    std::set<std::uint32_t> hidden;
    std::map<std::uint32_t, std::set<std::uint32_t>> views;  // by tick
    std::size_t compared = 0;
    for (int i = 0; i < 300; ++i) {
      bay.step(0.1);
      const std::uint32_t tick = bay.world().tick() - 1;
      std::vector<replica::RelevantEntity> view;
      for (const auto& [id, one] : bay.all()) {
        if (bay.chance(0.03) && !hidden.erase(id)) hidden.insert(id);
        if (hidden.contains(id)) continue;
        view.push_back({.id = id});
        views[tick].insert(id);
      }
      path.tick(view, [&](const replica::ClientWorld& world) {
        std::set<std::uint32_t> there;
        for (const schema::AnyRef& ref : world.entities()) {
          there.insert(ref.id);
          if (!views[world.tick()].contains(ref.id)) continue;
          const kit::Anyone* const now = bay.at(ref.id, world.tick());
          if (now == nullptr) continue;
          ++compared;
          std::visit(
              [&](const auto& value) {
                using T = std::decay_t<decltype(value)>;
                const auto held = world.get(schema::Ref<T>{ref.id, ref.generation});
                ASSERT_TRUE(held) << "entity " << ref.id;
                EXPECT_EQ(kit::bits_of(*held, schema::View::others),
                          kit::bits_of(value, schema::View::others))
                    << "entity " << ref.id << " in tick " << world.tick();
              },
              *now);
        }
        for (const std::uint32_t id : views[world.tick()]) {
          EXPECT_TRUE(there.contains(id)) << "entity " << id << " in tick " << world.tick();
        }
      });
      if (::testing::Test::HasFailure()) return;
    }
    EXPECT_GT(compared, 3000U);
  }
}

// One change in a world that stands still: it is repeated until it is acknowledged, and then never.
TEST(Freshness, AChangeIsRepeatedUntilItIsAcknowledged) {
  kit::MovingBay bay(1);
  const std::uint32_t id = bay.spawn(bay::Crate{{1, 2}, bay::Cargo::salt, "crate"});
  constexpr int kTrip = 3;
  Path path(bay, 0, kTrip);
  const std::vector<replica::RelevantEntity> view{{.id = id}};
  const auto run = [&](int ticks) {
    const std::uint64_t before = path.replicator().counts().snapshots;
    for (int i = 0; i < ticks; ++i) {
      bay.stand_still();
      path.tick(view, [](const auto&) {});
    }
    return path.replicator().counts().snapshots - before;
  };
  EXPECT_EQ(run(20), static_cast<std::uint64_t>(2 * kTrip + 1));
  EXPECT_TRUE(path.replicator().complete());
  bay.put(id, bay::Crate{{1, 2}, bay::Cargo::fish, "crate"});
  EXPECT_EQ(run(2), 2U);
  EXPECT_FALSE(path.replicator().complete());
  EXPECT_EQ(run(20), static_cast<std::uint64_t>(2 * kTrip + 1 - 2));
  EXPECT_TRUE(path.replicator().complete());
}

// All that a client gets when it joins is in flight at once: it is not sent twice as a whole.
TEST(Freshness, RepeatsTakeThreeHundredBytesOfASnapshot) {
  kit::MovingBay bay(1);
  bay.populate(300, 0, 0, 0);
  std::vector<replica::RelevantEntity> view;
  for (const auto& [id, one] : bay.all()) view.push_back({.id = id});
  bay.stand_still();
  replica::ClientReplicator replicator(bay.world());
  replicator.see(view);
  std::vector<std::byte> memory(1000);
  std::size_t first = 0;
  for (int i = 0; i < 20; ++i) {
    bits::Writer out(memory);
    if (!replicator.fill(Time{}, out)) break;
    first += out.bit_count();
  }
  EXPECT_GT(first, 8000U);  // more than one snapshot
  for (int tick = 0; tick < 5; ++tick) {
    bay.stand_still();
    bits::Writer out(memory);
    ASSERT_TRUE(replicator.fill(Time{}, out));
    EXPECT_LT(out.bit_count(), 2400U + 200);
    bits::Writer more(memory);
    EXPECT_FALSE(replicator.fill(Time{}, more)) << "a second one in tick " << tick;
  }
}

}  // namespace freshness_test
}  // namespace kwind
