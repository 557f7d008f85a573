// Rooms and fan-out through Server and Client on the simulated network.
#include <gtest/gtest.h>

#include <map>
#include <optional>

#include "host/routing_kit.h"
#include "kwind/schema/sample.h"

namespace kwind::host {
namespace rooms_test {

using namespace std::chrono_literals;
using namespace routing;
using kit::SimHosts;

TEST(Rooms, SendToThoseWhoAreInThem) {
  SimHosts hosts(kProtocol);
  std::map<int, std::string> heard;
  for (int i = 1; i <= 4; ++i) {
    hosts.join().on<Hail>([&heard, i](const Hail& hail) { heard[i] += hail.words; });
  }
  hosts.run(300ms);
  Server& server = hosts.server();
  server.rooms().enter(Peer{1}, "quay");
  server.rooms().enter(Peer{2}, "quay");
  server.rooms().enter(Peer{2}, 7);
  server.rooms().enter(Peer{3}, 7);
  EXPECT_EQ(server.send_to_room("quay", Hail{0, "q"}), 2U);
  EXPECT_EQ(server.send_to_room_but(7, Peer{3}, Hail{0, "7"}), 1U);
  EXPECT_EQ(server.send_to_room("nowhere", Hail{0, "n"}), 0U);
  const std::vector<Peer> some{Peer{4}, Peer{1}, Peer{99}};
  EXPECT_EQ(server.send_to(some, Hail{0, "s"}), 2U);
  EXPECT_EQ(server.send_to_all(Hail{0, "!"}), 4U);
  hosts.run(100ms);
  EXPECT_EQ(heard[1], "qs!");
  EXPECT_EQ(heard[2], "q7!");
  EXPECT_EQ(heard[3], "!");
  EXPECT_EQ(heard[4], "s!");
}

TEST(Rooms, AMoveLosesAndDoublesNothingAndSnapshotsComeFirst) {
  SimHosts hosts(kProtocol, {.delay = 30ms, .jitter = 20ms, .loss = 0.1}, 5);
  std::vector<std::string> heard;
  hosts.join().on<Hail>([&](const Hail& hail) { heard.push_back(hail.words); });
  hosts.run(500ms);
  Server& server = hosts.server();
  server.rooms().on_enter([&](Peer peer, const route::RoomKey& room) {
    (void)server.send(peer, Hail{0, "this is " + room.text()});
  });
  server.rooms().enter(Peer{1}, "north");
  int number = 0;
  std::vector<std::string> expected{"this is north"};
  std::string here = "north";
  hosts.run(5s, [&] {
    ++number;
    for (const char* room : {"north", "south"}) {
      server.send_to_room(room, Hail{0, room + std::to_string(number)});
    }
    expected.push_back(here + std::to_string(number));
    const std::string there = here == "north" ? "south" : "north";
    server.rooms().move(Peer{1}, here, there);
    expected.push_back("this is " + there);
    here = there;
    for (const char* room : {"north", "south"}) {
      server.send_to_room(room, Hail{0, std::string(room) + "'" + std::to_string(number)});
    }
    expected.push_back(here + "'" + std::to_string(number));
  });
  hosts.run(3s);
  EXPECT_EQ(heard, expected);
}

TEST(Rooms, AMoveLeavesBeforeItEnters) {
  SimHosts hosts(kProtocol);
  hosts.join();
  hosts.run(200ms);
  auto& rooms = hosts.server().rooms();
  std::string steps;
  rooms.on_leave([&](Peer peer, const route::RoomKey& room) {
    steps += "left " + room.text() + (rooms.contains("south", peer) ? ", in both; " : "; ");
  });
  rooms.on_enter([&](Peer peer, const route::RoomKey& room) {
    steps += "entered " + room.text() + (rooms.contains("north", peer) ? ", in north; " : "; ");
  });
  rooms.enter(Peer{1}, "north");
  rooms.move(Peer{1}, "north", "south");
  rooms.move(Peer{1}, "south", "south");
  EXPECT_EQ(steps, "entered north, in north; left north; entered south; ");
}

TEST(Rooms, AMoveMayNameTheRoomsByTheListThatItChanges) {
  SimHosts hosts(kProtocol);
  hosts.join();
  hosts.run(200ms);
  auto& rooms = hosts.server().rooms();
  for (const bool strings : {false, true}) {
    const route::RoomKey quay = strings ? route::RoomKey("the quay of the salt barges") : 1U;
    const route::RoomKey pier = strings ? route::RoomKey("the pier of the ferry to town") : 2U;
    rooms.enter(Peer{1}, quay);
    rooms.enter(Peer{1}, pier);
    rooms.move(Peer{1}, rooms.rooms_of(Peer{1})[0], rooms.rooms_of(Peer{1})[1]);
    EXPECT_FALSE(rooms.contains(quay, Peer{1}));
    EXPECT_TRUE(rooms.contains(pier, Peer{1}));
    rooms.leave_all(Peer{1});
  }
}

TEST(Rooms, AreLeftByWhoIsGoneAfterTheGameHasHeardOfIt) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  hosts.join();
  hosts.run(300ms);
  Server& server = hosts.server();
  std::string log;
  server.rooms().on_leave([&](Peer peer, const route::RoomKey& room) {
    log += std::to_string(unsigned(peer)) + " left " + room.text() + "; ";
  });
  server.on_disconnect([&](Peer peer, Errc, std::string_view) {
    EXPECT_EQ(server.rooms().rooms_of(peer).size(), 2U) << "it can still be seen where it was";
    log += "gone; ";
  });
  for (const unsigned peer : {1U, 2U}) {
    server.rooms().enter(Peer{peer}, "quay");
    server.rooms().enter(Peer{peer}, 3);
  }
  client.close("");
  hosts.run(500ms);
  EXPECT_EQ(log, "gone; 1 left 3; 1 left quay; ");
  EXPECT_EQ(server.rooms().members("quay").size(), 1U);
}

TEST(FanOut, EncodesOnceHoweverManyThereAre) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1,
                 with([](ServerOptions& options) { options.capacity = 200; }));
  std::size_t heard = 0;
  for (int i = 0; i < 200; ++i) {
    hosts.join().on<Hail>([&](const Hail& hail) { heard += hail.words == "ahoy" ? 1 : 0; });
  }
  hosts.run(1s);
  for (const Peer peer : hosts.server().peers()) hosts.server().rooms().enter(peer, "all");
  const auto before = hosts.server().counts().encoded;
  EXPECT_EQ(hosts.server().send_to_room("all", Hail{1, "ahoy"}), 200U);
  EXPECT_EQ(hosts.server().counts().encoded, before + 1);
  hosts.run(300ms);
  EXPECT_EQ(heard, 200U);
}

TEST(FanOut, ASlowReaderCostsOthersNothing) {
  ServerOptions options;
  options.queues.push_back({"sure", 50, 1 << 20, link::AtLimit::close});
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1, options);
  std::size_t heard = 0;
  hosts.join().on<Hail>([&](const Hail&) { ++heard; });
  ClientOptions dozing;
  dozing.hold_until_ready = true;  // takes nothing in
  Client& slow = hosts.join(dozing);
  hosts.run(300ms);
  const std::string words(60, 'x');
  std::size_t sent = 0;
  hosts.run(60s, [&] {
    for (int i = 0; i < 20; ++i, ++sent) hosts.server().send_to_all(Hail{i, words});
  });
  hosts.run(1s);
  EXPECT_EQ(heard, sent) << "nothing lost by who reads";
  EXPECT_TRUE(slow.ended());
  EXPECT_EQ(hosts.log().back().substr(0, 16), "out 2 queue_full");
}

}  // namespace rooms_test
}  // namespace kwind::host
