// `urgent` and `lazy`: which changes in flight are sent again before their fate is known.
#include <gtest/gtest.h>

#include <vector>

#include "fresh.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"

namespace kwind::replica {
namespace urgency_test {

using fresh::Buoy;
using fresh::Flare;
using fresh::Tender;
using fresh::Weed;
using fresh::Wreck;

static_assert(Buoy::entity_info().freshness == schema::Freshness::usual);
static_assert(Flare::entity_info().freshness == schema::Freshness::urgent);
static_assert(Weed::entity_info().freshness == schema::Freshness::lazy);

// A world and one client; each snapshot is delivered, lost or left in flight by hand.
class Urgency : public testing::Test {
 protected:
  struct Snapshot {
    std::uint64_t token = 0;
    std::size_t bits = 0;
    std::vector<std::byte> bytes;
  };
  template <class T>
  schema::Ref<T> spawn(const T& value) {
    const auto ref = *world_.spawn(value);
    view_.push_back({.id = ref.id});
    return ref;
  }
  std::optional<Snapshot> tick() {
    world_.end_tick();
    replicator_.see(view_);
    Snapshot made;
    made.bytes.resize(20000);
    bits::Writer out(made.bytes);
    const auto token = replicator_.fill(Time{}, out);
    if (!token) return std::nullopt;
    made.token = *token;
    made.bits = out.bit_count();
    out.finish();
    return made;
  }
  void deliver(const Snapshot& snapshot, bool acknowledge = true) {
    EXPECT_EQ(client_.receive(snapshot.bytes, snapshot.bits), Errc::none);
    if (acknowledge) replicator_.acked(snapshot.token);
  }
  int changes_in(int ticks);
  // Until the client has all and the server knows.
  void settle() {
    for (int i = 0; i < 10; ++i) {
      if (const auto snapshot = tick()) deliver(*snapshot);
    }
    ASSERT_TRUE(replicator_.complete());
  }

  World world_{fresh::kEntities};
  std::vector<RelevantEntity> view_;
  ClientReplicator replicator_{world_, {.digest_every = 0}};
  ClientWorld client_{fresh::kEntities, 20};
};

TEST_F(Urgency, AnUrgentChangeIsRepeatedWhateverElseIsInFlight) {
  std::vector<schema::Ref<Buoy>> buoys;
  buoys.reserve(300);
  for (int i = 0; i < 300; ++i) buoys.push_back(spawn(Buoy{{i / 2.0, 0}}));
  const auto flare = spawn(Flare{false});
  const auto last = spawn(Buoy{{0, 1}});
  settle();
  // All change at once: repeats of the buoys alone are beyond their budget.
  for (std::size_t i = 0; i < buoys.size(); ++i) {
    world_.put(buoys[i], Buoy{{double(i * 37 % 400), double(i * 91 % 400)}});
  }
  world_.put(last, Buoy{{77, 33}});
  world_.put(flare, Flare{true});
  const auto first = tick();
  ASSERT_TRUE(first);
  ASSERT_GT(first->bits, 6000U);
  // The first one is lost, which nobody knows yet.
  const auto second = tick();
  ASSERT_TRUE(second);
  EXPECT_LT(second->bits, first->bits / 2) << "repeats of the others have a budget";
  deliver(*second, false);
  EXPECT_TRUE(client_.get(flare)->lit);
  EXPECT_NE(client_.get(last)->at, (Eigen::Vector2d(77, 33))) << "the budget was used up before";
  // Once it is acknowledged it is not said again.
  replicator_.acked(second->token);
  replicator_.lost(first->token);
  settle();
  EXPECT_EQ(client_.get(last)->at, (Eigen::Vector2d(77, 33)));
  EXPECT_FALSE(tick()) << "all is told";
}

TEST_F(Urgency, ALazyChangeIsSentAgainWhenItIsLost) {
  const auto weed = spawn(Weed{{1, 2}});
  settle();
  world_.put(weed, Weed{{3, 4}});
  std::optional<Snapshot> sent;
  int snapshots = 0;
  for (int i = 0; i < 8; ++i) {
    if (auto snapshot = tick()) {
      sent = std::move(snapshot);
      ++snapshots;
    }
  }
  EXPECT_EQ(snapshots, 1) << "it is in flight, and may wait";
  replicator_.lost(sent->token);
  const auto again = tick();
  ASSERT_TRUE(again);
  deliver(*again);
  EXPECT_EQ(client_.get(weed)->at, (Eigen::Vector2d(3, 4)));
}

TEST_F(Urgency, AUsualChangeIsRepeatedUntilItIsAcknowledged) {
  const auto buoy = spawn(Buoy{{1, 2}});
  settle();
  world_.put(buoy, Buoy{{3, 4}});
  std::optional<Snapshot> newest;
  for (int i = 0; i < 8; ++i) {
    newest = tick();
    EXPECT_TRUE(newest) << "tick " << i;
  }
  deliver(*newest);
  const ReplicatorCounts before = replicator_.counts();
  (void)tick();  // perhaps an empty one, which says what became of those before
  EXPECT_EQ(replicator_.counts().changed, before.changed) << "it has arrived";
  EXPECT_TRUE(replicator_.complete());
}

// How many of the next ticks have a snapshot with a change, while nothing is acknowledged.
int Urgency::changes_in(int ticks) {
  int found = 0;
  for (int i = 0; i < ticks; ++i) {
    const std::uint64_t before = replicator_.counts().changed;
    (void)tick();
    found += replicator_.counts().changed > before ? 1 : 0;
  }
  return found;
}

TEST_F(Urgency, FieldsOfOneEntityDiffer) {
  const auto tender = spawn(Tender{{1, 2}, false, "moored"});
  settle();
  world_.put(tender, Tender{{1, 2}, false, "cast off"});
  EXPECT_EQ(changes_in(6), 1) << "a log may wait";
  world_.put(tender, Tender{{1, 2}, true, "cast off"});
  EXPECT_EQ(changes_in(6), 6) << "a lamp is said until it is acknowledged, and the log with it";
  const auto newest = tick();
  deliver(*newest);
  EXPECT_EQ(*client_.get(tender), (Tender{{1, 2}, true, "cast off"}));
  settle();
  world_.put(tender, Tender{{3, 2}, true, "cast off"});
  EXPECT_EQ(changes_in(6), 6) << "a place is repeated as usual";
}

TEST_F(Urgency, AFieldOfALazyEntityCanBeUrgent) {
  const auto wreck = spawn(Wreck{40, false});
  settle();
  world_.put(wreck, Wreck{41, false});
  const auto lost = tick();
  ASSERT_TRUE(lost);
  EXPECT_EQ(changes_in(6), 0);
  replicator_.lost(lost->token);
  settle();
  EXPECT_EQ(client_.get(wreck)->depth, 41);
  world_.put(wreck, Wreck{41, true});
  EXPECT_EQ(changes_in(6), 6);
}

TEST_F(Urgency, AnUrgentFieldGoesBeyondTheBudget) {
  std::vector<schema::Ref<Buoy>> buoys;
  for (int i = 0; i < 300; ++i) buoys.push_back(spawn(Buoy{{i / 2.0, 0}}));
  const auto lit = spawn(Tender{{0, 0}, false, ""});
  const auto moved = spawn(Tender{{0, 0}, false, ""});
  settle();
  world_.put(lit, Tender{{0, 0}, true, ""});
  world_.put(moved, Tender{{5, 5}, false, ""});
  ASSERT_TRUE(tick());  // lost, and nobody knows
  // What changed last is repeated first, and fills the budget.
  for (std::size_t i = 0; i < buoys.size(); ++i) {
    world_.put(buoys[i], Buoy{{double(i * 37 % 400), double(i * 91 % 400)}});
  }
  ASSERT_TRUE(tick());
  const auto third = tick();
  ASSERT_TRUE(third);
  deliver(*third, false);
  EXPECT_TRUE(client_.get(lit)->lamp);
  EXPECT_EQ(client_.get(moved)->at, Eigen::Vector2d(0, 0)) << "the budget was used up before";
}

TEST_F(Urgency, TheDespawnOfAnUrgentEntityIsRepeated) {
  const auto flare = spawn(Flare{true});
  const auto buoy = spawn(Buoy{{1, 2}});
  settle();
  world_.despawn(schema::AnyRef{flare.id, flare.generation});
  world_.despawn(schema::AnyRef{buoy.id, buoy.generation});
  const auto lost = tick();  // nobody knows
  ASSERT_TRUE(lost);
  EXPECT_FALSE(replicator_.complete());
  const auto second = tick();
  ASSERT_TRUE(second);
  deliver(*second, false);
  EXPECT_FALSE(client_.get(flare));
  EXPECT_TRUE(client_.get(buoy)) << "of a usual one the loss is waited for";
  replicator_.acked(second->token);
  settle();
  EXPECT_FALSE(client_.get(buoy));
  EXPECT_EQ(client_.size(), 0U);
  // An id that is taken again while despawns are in flight.
  const auto again = spawn(Flare{false});
  settle();
  EXPECT_FALSE(client_.get(again)->lit);
}

}  // namespace urgency_test
}  // namespace kwind::replica
