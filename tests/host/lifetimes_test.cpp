// What ends before what it was registered with, while it is in use, or in its own handler.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "kit/sim_hosts.h"
#include "kwind/host/replicated_world.h"
#include "kwind/host/replication.h"
#include "sailing.h"

namespace kwind::host {
namespace lifetimes_test {

using namespace std::chrono_literals;
using pilotage::Buoy;
using pilotage::Helm;
using pilotage::is_close;
using pilotage::sail;
using pilotage::Tug;

ReplicationOptions options() {
  ReplicationOptions made;
  made.view.enter = 50;
  made.view.leave = 60;
  return made;
}

// A server whose clients may come back, and that notices after a second that they are gone.
ServerOptions patient() {
  ServerOptions made;
  made.resume = 60s;
  made.timeouts.idle_timeout = 1s;
  made.timeouts.keepalive = 200ms;
  return made;
}

// Lets the server find out that its first client is gone.
void lose(kit::SimHosts& hosts) {
  hosts.kill(0);
  hosts.run(2s);
  ASSERT_EQ(hosts.log(), (std::vector<std::string>{"in 1"})) << "away, and not gone";
}

TEST(Lifetimes, AServerGoesOnWithoutItsReplication) {
  kit::SimHosts hosts(pilotage::kProtocol);
  std::size_t clients = 0;
  std::size_t inputs = 0;
  {
    Replication state(hosts.server(), pilotage::kEntities, options());
    state.on_client([&](ClientView&) { ++clients; });
    state.on_input<Helm>([&](ClientView&, const Helm&) { ++inputs; });
    hosts.join();
    hosts.run(500ms);
    EXPECT_EQ(clients, 1U);
  }
  hosts.join();
  hosts.run(500ms);
  EXPECT_EQ(hosts.client(1).send(Helm{.throttle = 5}), Errc::none);
  hosts.client(0).close("enough");
  hosts.run(500ms);
  EXPECT_EQ(clients, 1U);
  EXPECT_EQ(inputs, 0U);
  EXPECT_EQ(hosts.server().connections(), 1U);
}

TEST(Lifetimes, AClientGoesOnWithoutItsWorld) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Replication state(hosts.server(), pilotage::kEntities, options());
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  (void)state.spawn(Buoy{.at = {10, 0}});
  Client& client = hosts.join();
  std::size_t spawns = 0;
  {
    ReplicatedWorld world(client, pilotage::kEntities);
    world.on_spawn<Buoy>([&](schema::Ref<Buoy>, const Buoy&) { ++spawns; });
    hosts.run(500ms);
    EXPECT_EQ(spawns, 1U);
  }
  hosts.reconnect(0);
  hosts.run(500ms);
  EXPECT_TRUE(client.connected());
  EXPECT_EQ(spawns, 1U);
}

TEST(Lifetimes, AWorldGoesOnWithoutItsPrediction) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Replication state(hosts.server(), pilotage::kEntities, options());
  std::optional<Entity<Tug>> tug;
  state.on_client([&](ClientView& view) {
    tug = state.spawn(Tug{});
    view.follow(*tug);
  });
  ReplicatedWorld world(hosts.join(), pilotage::kEntities);
  std::size_t steps = 0;
  {
    Predicted<Tug, Helm> mine(
        world,
        [&](const Tug& from, const Helm& order) {
          ++steps;
          return sail(from, order);
        },
        is_close);
    hosts.run(500ms);
    mine.apply(Helm{.throttle = 1});
    EXPECT_EQ(steps, 1U);
  }
  hosts.run(500ms, [&] { tug->set(Tug{.at = {tug->get().at[0] + 5, 0}}); });
  EXPECT_EQ(steps, 1U);
  EXPECT_GT(world.get(tug->ref())->at[0], 10);
}

// Inputs are numbered from 1 in each connection: those of the one before are not applied again.
TEST(Lifetimes, APredictionBeginsAnewWithEachConnection) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Replication state(hosts.server(), pilotage::kEntities, options());
  std::optional<Entity<Tug>> tug;
  state.on_client([&](ClientView& view) {
    if (!tug) tug = state.spawn(Tug{});  // its pilot's for good
    view.follow(*tug);
  });
  state.on_input<Helm>([&](ClientView&, const Helm& order) { tug->set(sail(tug->get(), order)); });
  ReplicatedWorld world(hosts.join(), pilotage::kEntities);
  Predicted<Tug, Helm> mine(world, sail, is_close);
  hosts.run(500ms);
  hosts.run(2s, [&] { mine.apply(Helm{.throttle = 100}); });
  hosts.reconnect(0);
  EXPECT_TRUE(mine.state());
  hosts.run(1s);
  hosts.run(500ms, [&] { mine.apply(Helm{.throttle = 100}); });
  hosts.run(500ms);
  ASSERT_TRUE(mine.state());
  EXPECT_NEAR(mine.state()->at[0], tug->get().at[0], 0.1);
  EXPECT_EQ(mine.corrections(), 0U);
}

// The second connection must not go on with the world of the first.
TEST(Lifetimes, AHandlerThatThrowsAtAReconnectLeavesNoOldWorld) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Replication state(hosts.server(), pilotage::kEntities, options());
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  const auto first = *state.spawn(Buoy{.at = {10, 0}});
  const auto second = *state.spawn(Buoy{.at = {20, 0}});
  Client& client = hosts.join();
  std::size_t faults = 0;
  client.on_fault([&](std::string_view, const route::RawMessage*) { ++faults; });
  ReplicatedWorld world(client, pilotage::kEntities);
  world.on_despawn<Buoy>([&](schema::Ref<Buoy>) { throw std::runtime_error("of the game"); });
  hosts.run(500ms);
  hosts.reconnect(0);
  hosts.run(1s);
  EXPECT_EQ(faults, 2U);
  EXPECT_EQ(client.counts().drops.total(), 0U);
  ASSERT_TRUE(world.get(first.ref()) && world.get(second.ref()));
  EXPECT_NEAR(world.get(second.ref())->at[0], 20, 0.1);
}

TEST(Lifetimes, ClosingAllEndsThoseTooThatAreAway) {
  kit::SimHosts hosts(pilotage::kProtocol, {.delay = 20ms}, 1, patient());
  hosts.join();
  hosts.run(500ms);
  lose(hosts);
  hosts.server().close_all("the harbour is closed");
  hosts.run(100ms);
  EXPECT_EQ(hosts.server().connections(), 0U);
  EXPECT_EQ(hosts.log().back(), "out 1 closed_here the harbour is closed");
}

TEST(Lifetimes, HandlersMayAddHandlers) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Replication state(hosts.server(), pilotage::kEntities, options());
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  std::size_t ticks = 0;
  state.on_tick([&](std::uint32_t) {
    if (ticks++ > 0) return;
    for (int i = 0; i < 100; ++i) state.on_tick([&](std::uint32_t) { ++ticks; });
    state.on_client([](ClientView&) {});
  });
  auto buoy = *state.spawn(Buoy{.at = {10, 0}});
  ReplicatedWorld world(hosts.join(), pilotage::kEntities);
  std::size_t updates = 0;
  world.on_spawn<Buoy>([&](schema::Ref<Buoy>, const Buoy&) {
    for (int i = 0; i < 100; ++i) {
      world.on_update<Buoy>([&](schema::Ref<Buoy>, const Buoy&) { ++updates; });
      world.on_spawn<Buoy>([](schema::Ref<Buoy>, const Buoy&) {});
      world.on_any_event([](const replica::EntityEvent&) {});
      world.on_snapshot([] {});
    }
  });
  hosts.run(500ms);
  buoy.set(Buoy{.at = {12, 0}});
  hosts.run(500ms);
  EXPECT_GT(ticks, 1000U);
  EXPECT_EQ(updates, 100U);
}

// Anybody can send datagrams to a client's port.
TEST(Lifetimes, AFloodDoesNotKeepAClientInItsReceive) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Client& client = hosts.join();
  hosts.run(500ms);
  const auto before = client.counts().drops.of(Errc::unknown_connection);
  io::sim::SimTransport& stranger = hosts.network().open(Endpoint::v4(127, 0, 0, 9, 9));
  const std::array<std::byte, 100> junk{};
  for (int i = 0; i < 5000; ++i) {
    stranger.send(hosts.now(), Endpoint::v4(127, 0, 1, 1, 5000), junk);
  }
  client.receive(hosts.now() + 1s);
  EXPECT_EQ(client.counts().drops.of(Errc::unknown_connection) - before,
            Client::kMaxReceivedDatagrams);
  for (int i = 0; i < 2; ++i) client.receive(hosts.now() + 1s);
  EXPECT_EQ(client.counts().drops.of(Errc::unknown_connection) - before, 5000U);
}

// What a peer writes may not command the terminal of who reads it.
TEST(Lifetimes, AReasonStaysWithinItsLine) {
  EXPECT_EQ(explain_end(Errc::closed_by_peer, "bye\x1b[2J\r\nroot: fine"),
            fmt::format("{} (bye\xef\xbf\xbd[2J\xef\xbf\xbd\xef\xbf\xbdroot: fine)",
                        error_info(Errc::closed_by_peer).text));
}

}  // namespace lifetimes_test
}  // namespace kwind::host
