// Fields that only the owner sees, while the owner changes.
#include <gtest/gtest.h>

#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/world.h"
#include "owned.h"

namespace kwind {
namespace owned_test {

using replica::EntityEvent;

// A world and one client's copy of it, with nothing lost in between.
struct Owned {
  replica::World world{owned::kEntities};
  replica::ClientReplicator replicator{world, {}};
  replica::ClientWorld client_world{owned::kEntities, 20};
  std::vector<replica::RelevantEntity> seen{};

  void tick() {
    replicator.see(seen);
    world.end_tick();
    std::vector<std::byte> memory(1200);
    bits::Writer out(memory);
    const auto token = replicator.fill(Time{}, out);
    ASSERT_TRUE(token);
    const std::size_t bits = out.bit_count();
    out.finish();
    ASSERT_EQ(client_world.receive(memory, bits), Errc::none);
    replicator.acked(*token);
  }
};

TEST(Owned, WhatWasBeforeIsDrawnAsItWasWhenTheOwnerChanges) {
  for (const bool gains : {true, false}) {
    Owned bay;
    // Little fuel: a change of more than an eighth of its range is a leap, and never blended.
    owned::Tug tug{"tow the salt barge", {3, 4}, {1, 2}, 777, "Tern", 3};
    const auto ref = bay.world.spawn(tug);
    ASSERT_TRUE(ref);
    bay.seen = {{ref->id, !gains}};
    for (int i = 0; i < 10; ++i) {
      tug.depth = 777 + i;
      bay.world.put(*ref, tug);
      if (i == 7) bay.seen = {{ref->id, gains}};
      bay.tick();
      ASSERT_FALSE(HasFatalFailure());
    }
    EXPECT_EQ(bay.client_world.owns(*ref), gains);
    EXPECT_EQ(bay.client_world.get(*ref)->orders, gains ? tug.orders : "");
    for (double tick = 2; tick <= 10; tick += 0.25) {
      const auto drawn = bay.client_world.sample(*ref, tick);
      ASSERT_TRUE(drawn);
      EXPECT_EQ(drawn->at, tug.at) << tick;
      EXPECT_EQ(drawn->name, "Tern") << tick;
      EXPECT_NEAR(drawn->depth, 776 + tick, 1) << tick;
      // Between a view without the field and one with it there is nothing to blend.
      const bool as_owner = (tick >= 8) == gains;
      EXPECT_EQ(drawn->fuel, as_owner ? tug.fuel : owned::Tug{}.fuel) << tick;
    }
    EXPECT_EQ(bay.client_world.sample(*ref, 5)->orders, gains ? "" : tug.orders);
    EXPECT_EQ(bay.client_world.sample(*ref, 9.5)->orders, gains ? tug.orders : "");
  }
}

TEST(Owned, AChangeOfTheOwnerAloneIsTold) {
  Owned bay;
  const auto ref = bay.world.spawn(owned::Barge{{1, 2}});
  ASSERT_TRUE(ref);
  bay.seen = {{ref->id, false}};
  bay.tick();
  ASSERT_EQ(bay.client_world.take_events().size(), 1U);
  for (const bool mine : {true, false, true}) {
    bay.seen = {{ref->id, mine}};
    bay.tick();
    const auto entity_events = bay.client_world.take_events();
    ASSERT_EQ(entity_events.size(), 1U);
    EXPECT_EQ(entity_events[0].type, EntityEvent::Type::updated);
    EXPECT_EQ(bay.client_world.owns(*ref), mine);
  }
}

}  // namespace owned_test
}  // namespace kwind
