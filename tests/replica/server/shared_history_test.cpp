// Copy on write of histories: who holds one, and when it is copied.
#include <gtest/gtest.h>

#include "bay.h"
#include "replica/server/shared_histories.h"

namespace kwind::replica {
namespace shared_history_test {

class SharedHistoriesTest : public testing::Test {
 protected:
  World world_{bay::kEntities};
  const WorldState& state_ = WorldAccess::state(world_);
  SharedHistories histories_;
};

TEST_F(SharedHistoriesTest, ClientsOfEqualOptionsBeginInOneHistory) {
  const ClientHistory a(histories_.beginning(state_, {}));
  const ClientHistory b(histories_.beginning(state_, {}));
  const ClientHistory other(histories_.beginning(state_, {.speculative_baselines = true}));
  EXPECT_EQ(&*a, &*b);
  EXPECT_NE(&*a, &*other);
  EXPECT_EQ(a.clients(), 2U);
  EXPECT_EQ(other.clients(), 1U);
  EXPECT_TRUE(other.is_shared()) << "others may begin there";
}

TEST_F(SharedHistoriesTest, ACopyIsItsClientsAlone) {
  ClientHistory a(histories_.beginning(state_, {}));
  const ClientHistory b(histories_.beginning(state_, {}));
  a.move_to(histories_.copy_of(*a.ref()));
  EXPECT_FALSE(a.is_shared());
  EXPECT_EQ(b.clients(), 1U);
  a.to_change().full_resync();
  EXPECT_EQ(a->replicator_counts().full_resyncs, 1U);
  EXPECT_EQ(b->replicator_counts().full_resyncs, 0U) << "the other one did not notice";
}

TEST_F(SharedHistoriesTest, AStepHoldsBothItsEnds) {
  world_.end_tick();
  ClientHistory a(histories_.beginning(state_, {}));
  ClientHistory b(histories_.beginning(state_, {}));
  const HistoryRef before = a.ref();
  Step* const step = before->begin_step();
  ASSERT_NE(step, nullptr);
  step->view = 3;
  EXPECT_EQ(before->find_step(3, {}), nullptr) << "it is not whole yet";
  a.move_to(histories_.copy_of(*before));
  EXPECT_FALSE(a.is_shared());
  histories_.end_step(before, *step, a.ref());
  EXPECT_TRUE(a.is_shared()) << "others may follow";
  EXPECT_EQ(before->find_step(3, {}), step);
  EXPECT_EQ(before->find_step(4, {}), nullptr) << "another view";
  EXPECT_EQ(before->find_step(3, {SnapshotNumber(1)}), nullptr) << "other acknowledgements";
  b.move_to(before->find_step(3, {})->to);
  EXPECT_EQ(&*a, &*b);
  // The next tick forgets the steps; two clients in one history are a group.
  world_.end_tick();
  EXPECT_EQ(histories_.group_like(a.ref()), a.ref());
  EXPECT_EQ(before->find_step(3, {}), nullptr);
  EXPECT_EQ(a.clients(), 2U);
}

TEST_F(SharedHistoriesTest, AWorldMayGoFirst) {
  auto world = std::make_unique<World>(bay::kEntities);
  auto replicator = std::make_unique<ClientReplicator>(*world);
  ClientReplicator other(*world);
  world.reset();
  replicator.reset();  // nothing of the world is touched: AddressSanitizer would tell
}

}  // namespace shared_history_test
}  // namespace kwind::replica
