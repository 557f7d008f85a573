// One kind of room for messages and entities: who is in a room of the server sees what was put in it.
#include <gtest/gtest.h>

#include <memory>
#include <random>
#include <string>
#include <vector>

#include "kit/sim_hosts.h"
#include "kit/sweep.h"
#include "kwind/host/replicated_world.h"
#include "kwind/host/replication.h"
#include "sailing.h"

namespace kwind::host {
namespace entity_rooms_test {

using namespace std::chrono_literals;
using pilotage::Buoy;

// Some clients at one place, where all that is in no room is near.
struct Harbour {
  Harbour(std::uint64_t seed, int players)
      : hosts(pilotage::kProtocol, {.delay = 20ms, .loss = 0.02}, seed),
        state(hosts.server(), pilotage::kEntities,
              {.tick_rate = 20, .view = {.enter = 50, .leave = 60}}) {
    state.on_client([this](ClientView& view) {
      view.set_origin(0, 0);
      peers.push_back(view.peer());
    });
    for (int i = 0; i < players; ++i) {
      worlds.push_back(std::make_unique<ReplicatedWorld>(hosts.join(), pilotage::kEntities));
      while (peers.size() < worlds.size()) hosts.run(50ms);  // so that peers come in this order
    }
    hosts.run(500ms);
  }
  Entity<Buoy> buoy() { return *state.spawn(Buoy{.at = {1, 1}}); }
  [[nodiscard]] Peer peer(std::size_t i) const { return peers[i]; }
  bool sees(std::size_t player, const Entity<Buoy>& buoy) {
    return worlds[player]->get(buoy.ref()).has_value();
  }

  kit::SimHosts hosts;
  Replication state;
  std::vector<std::unique_ptr<ReplicatedWorld>> worlds;
  std::vector<Peer> peers;  // of the worlds
};

TEST(EntityRooms, WhoIsInTheRoomSeesTheEntity) {
  Harbour harbour(1, 2);
  auto& rooms = harbour.hosts.server().rooms();
  rooms.enter(harbour.peer(0), "lock");  // before an entity is there
  Entity<Buoy> in_lock = harbour.buoy();
  Entity<Buoy> free = harbour.buoy();
  EXPECT_TRUE(harbour.state.put_in_room(in_lock, "lock"));
  harbour.hosts.run(500ms);
  EXPECT_TRUE(harbour.sees(0, in_lock));
  EXPECT_FALSE(harbour.sees(1, in_lock));
  EXPECT_TRUE(harbour.sees(1, free)) << "what is in no room is for all";
  // After it, and out again.
  rooms.enter(harbour.peer(1), "lock");
  rooms.leave(harbour.peer(0), "lock");
  harbour.hosts.run(500ms);
  EXPECT_FALSE(harbour.sees(0, in_lock));
  EXPECT_TRUE(harbour.sees(1, in_lock));
  // Another room, then none.
  EXPECT_TRUE(harbour.state.put_in_room(in_lock, 7));
  harbour.hosts.run(500ms);
  EXPECT_FALSE(harbour.sees(1, in_lock));
  EXPECT_TRUE(harbour.state.take_out_of_room(in_lock));
  harbour.hosts.run(500ms);
  EXPECT_TRUE(harbour.sees(0, in_lock));
  EXPECT_TRUE(harbour.sees(1, in_lock));
  in_lock.despawn();
  EXPECT_FALSE(harbour.state.put_in_room(in_lock, "lock"));
  EXPECT_FALSE(harbour.state.take_out_of_room(in_lock));
}

TEST(EntityRooms, ARoomDoesNotMakeTheFarNear) {
  Harbour harbour(2, 1);
  Entity<Buoy> far = *harbour.state.spawn(Buoy{.at = {300, 0}});
  harbour.state.put_in_room(far, "lock");
  harbour.hosts.server().rooms().enter(harbour.peer(0), "lock");
  harbour.hosts.run(500ms);
  EXPECT_FALSE(harbour.sees(0, far));
}

TEST(EntityRooms, AClientThatComesLaterSeesTheRoomItIsPutIn) {
  Harbour harbour(3, 0);
  Entity<Buoy> in_lock = harbour.buoy();
  harbour.state.put_in_room(in_lock, "lock");
  harbour.hosts.server().on_connect(
      [&](Peer peer) { harbour.hosts.server().rooms().enter(peer, "lock"); });
  ReplicatedWorld world(harbour.hosts.join(), pilotage::kEntities);
  harbour.hosts.run(500ms);
  EXPECT_TRUE(world.get(in_lock.ref()));
}

// A room of each of thousands of matches, whose entities despawn: their names go, the others stay.
TEST(EntityRooms, NamesOfOldMatchesAreForgotten) {
  Harbour harbour(4, 2);
  auto& rooms = harbour.hosts.server().rooms();
  Entity<Buoy> lasting = harbour.buoy();
  harbour.state.put_in_room(lasting, "lasting");
  rooms.enter(harbour.peer(0), "lasting");
  rooms.enter(harbour.peer(1), "match 10");  // stays in a room that is forgotten
  for (int match = 0; match < 3000; ++match) {
    Entity<Buoy> buoy = harbour.buoy();
    ASSERT_TRUE(harbour.state.put_in_room(buoy, "match " + std::to_string(match)));
    buoy.despawn();
    if (match % 8 == 0) harbour.hosts.run(50ms);  // ids rest for a while
  }
  harbour.hosts.run(500ms);
  EXPECT_TRUE(harbour.sees(0, lasting));
  EXPECT_FALSE(harbour.sees(1, lasting));
  Entity<Buoy> again = harbour.buoy();
  harbour.state.put_in_room(again, "match 10");
  harbour.hosts.run(500ms);
  EXPECT_TRUE(harbour.sees(1, again)) << "the name has another number now";
  EXPECT_FALSE(harbour.sees(0, again));
}

TEST(EntityRooms, RandomWalksAgainstAModel) {
  for (const std::uint64_t seed : kit::seeds(kit::kSanitized ? 3 : 8, 400)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    Harbour harbour(seed, 3);
    std::mt19937_64 random(seed);
    auto& rooms = harbour.hosts.server().rooms();
    const auto name = [&] { return "quay " + std::to_string(random() % 4); };
    struct One {
      Entity<Buoy> buoy;
      std::string room{};
    };
    std::vector<One> all;
    for (int step = 0; step < 60; ++step) {
      for (int act = 0; act < 4; ++act) {
        const std::size_t player = random() % 3;
        switch (random() % 6) {
          case 0:
            if (all.size() < 20) all.push_back({harbour.buoy()});
            break;
          case 1: rooms.enter(harbour.peer(player), name()); break;
          case 2: rooms.leave(harbour.peer(player), name()); break;
          case 3: rooms.move(harbour.peer(player), name(), name()); break;
          default: {
            if (all.empty()) break;
            One& one = all[random() % all.size()];
            one.room = random() % 4 == 0 ? "" : name();
            EXPECT_TRUE(one.room.empty() ? harbour.state.take_out_of_room(one.buoy)
                                         : harbour.state.put_in_room(one.buoy, one.room));
          }
        }
      }
      if (step % 6 != 5) {
        harbour.hosts.run(50ms);
        continue;
      }
      harbour.hosts.run(1s);
      for (std::size_t player = 0; player < 3; ++player) {
        for (const One& one : all) {
          const bool expected = one.room.empty() || rooms.contains(one.room, harbour.peer(player));
          ASSERT_EQ(harbour.sees(player, one.buoy), expected)
              << "step " << step << ", player " << player << ", room " << one.room;
        }
      }
    }
  }
}

}  // namespace entity_rooms_test
}  // namespace kwind::host
