// Clients of older versions in one world: each sees the entities, fields and values that its version
// has. Random ones are walked in tests/properties; here is what a reader wants to see.
#include <gtest/gtest.h>

#include "kit/good_path.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/interest.h"
#include "refit.h"

namespace kwind::replica {
namespace versions_test {

using refit::Buoy;
using refit::Cargo;
using refit::Crate;
using refit::Tug;

// A client on a path without loss.
struct Client {
  Client(World& world, Interest& interest, std::uint16_t version)
      : query(interest),
        replicator(world, {.digest_every = 5, .version = version}),
        world_here(refit::kEntities, 20, nullptr, version) {
    query.set_origin(0, 0);
    replicator.bind(&query);
  }
  InterestQuery query;
  ClientReplicator replicator;
  ClientWorld world_here;
};

class Refit : public testing::Test {
 protected:
  void tick() {
    world_.end_tick();
    for (Client* const client : {&first_, &second_, &third_})
      kit::deliver(client->replicator, client->world_here);
  }
  static Tug tug() {
    return {.speed = 4, .bearing = 90, .at = {8, 6}, .cargo = Cargo::ice, .crew = 7, .log = "fog"};
  }

  World world_{refit::kEntities};
  Interest interest_{world_, {.enter = 50, .leave = 60, .update_every = 1}};
  Client first_{world_, interest_, 1};
  Client second_{world_, interest_, 2};
  Client third_{world_, interest_, 3};
};

TEST_F(Refit, EachClientHasWhatItsVersionHas) {
  const auto made = *world_.spawn(tug());
  first_.query.add_owned(made);
  third_.query.add_owned(made);
  tick();
  const Tug one = *first_.world_here.get(made);
  EXPECT_EQ(one.speed, Tug{}.speed) << "version 1 has no speed";
  EXPECT_EQ(one.bearing, 90);
  EXPECT_EQ(one.at, tug().at);
  EXPECT_EQ(one.cargo, Cargo::empty) << "the stand-in for ice";
  EXPECT_EQ(one.crew, 7);
  EXPECT_EQ(one.log, "");
  const Tug two = *second_.world_here.get(made);
  EXPECT_EQ(two.speed, 4);
  EXPECT_EQ(two.cargo, Cargo::empty);
  EXPECT_EQ(two.crew, 7);
  const Tug three = *third_.world_here.get(made);
  EXPECT_EQ(three.cargo, Cargo::ice);
  EXPECT_EQ(three.crew, 4) << "version 3 has no crew, which keeps its default";
  EXPECT_EQ(three.log, "fog");
  Tug next = tug();
  next.cargo = Cargo::timber;
  next.crew = 2;
  world_.put(made, next);
  tick();
  EXPECT_EQ(first_.world_here.get(made)->cargo, Cargo::salt);
  EXPECT_EQ(second_.world_here.get(made)->cargo, Cargo::timber);
  EXPECT_EQ(second_.world_here.get(made)->crew, 2);
  for (const Client* const client : {&first_, &second_, &third_}) {
    EXPECT_EQ(client->world_here.counts().desyncs, 0U);
  }
}

// Buoys are near, and Interest takes their positions from version 2.
TEST_F(Refit, ATypeIsThereForThoseWhoseVersionHasIt) {
  const auto crate = *world_.spawn(Crate{{1, 1}, 20});
  const auto buoy = *world_.spawn(Buoy{{2, 2}, true});
  const auto far = *world_.spawn(Buoy{{-90, 0}, true});
  tick();
  const auto sees = [](const Client& client, schema::AnyRef entity) {
    return client.world_here.is_there(entity);
  };
  EXPECT_FALSE(sees(first_, crate));
  EXPECT_TRUE(sees(second_, crate) && sees(third_, crate));
  EXPECT_TRUE(sees(first_, buoy) && sees(second_, buoy));
  EXPECT_FALSE(sees(third_, buoy) || sees(first_, far));
  EXPECT_TRUE(world_.is_alive(buoy)) << "though the newest version lacks its type";
  EXPECT_EQ(world_.size(), 3U);
  EXPECT_EQ(first_.replicator.explain(crate).reason, UpdateReason::not_in_version);
  EXPECT_EQ(third_.replicator.explain(buoy).reason, UpdateReason::not_in_version);
  EXPECT_EQ(second_.replicator.explain(buoy).reason, UpdateReason::up_to_date);
  tick();  // takes the acknowledgements
  EXPECT_TRUE(first_.replicator.complete() && third_.replicator.complete());
  EXPECT_TRUE(world_.put(buoy, Buoy{{3, 3}, false}));
  EXPECT_TRUE(world_.put(far, Buoy{{-40, 0}, true}));
  tick();
  EXPECT_EQ(first_.world_here.get(buoy)->at, Eigen::Vector2d(3, 3));
  EXPECT_TRUE(sees(first_, far)) << "it came nearer";
  EXPECT_TRUE(world_.despawn(buoy));
  EXPECT_FALSE(world_.despawn(buoy));
  tick();
  EXPECT_FALSE(sees(first_, buoy) || sees(second_, buoy));
  EXPECT_EQ(world_.size(), 2U);
}

// Speed and direction are known from version 2 on: from there a steady course costs next to nothing.
TEST_F(Refit, WhereAVersionLacksTheSpeedNothingFollowsIt) {
  Tug sailing = tug();
  const auto made = *world_.spawn(sailing);
  for (int i = 0; i < 5; ++i) tick();
  const auto bits = [](const Client& client) { return client.replicator.counts().bits; };
  const std::uint64_t first_before = bits(first_);
  const std::uint64_t second_before = bits(second_);
  for (int i = 0; i < 100; ++i) {
    sailing.at.y() += 4.0 / 20;
    world_.put(made, sailing);
    tick();
  }
  EXPECT_EQ(first_.world_here.get(made)->at, second_.world_here.get(made)->at);
  EXPECT_LT(bits(second_) - second_before, (bits(first_) - first_before) * 3 / 4);
}

}  // namespace versions_test
}  // namespace kwind::replica
