// Replication and ReplicatedWorld: a game that only constructs them has everything wired.
#include "kwind/host/replication.h"

#include <gtest/gtest.h>

#include <set>
#include <stdexcept>
#include <vector>

#include "kit/sim_hosts.h"
#include "kwind/host/replicated_world.h"
#include "sailing.h"

namespace kwind::host {
namespace replication_test {

using namespace std::chrono_literals;
using pilotage::Buoy;
using pilotage::Helm;
using pilotage::is_close;
using pilotage::sail;
using pilotage::Sighting;
using pilotage::Tug;

struct Game {
  explicit Game(kit::SimHosts& hosts, ReplicationOptions how = options())
      : state(hosts.server(), pilotage::kEntities, std::move(how)) {
    state.on_client([this](ClientView& view) {
      tugs.emplace(view.peer(), *state.spawn(Tug{}));
      view.follow(tugs.at(view.peer()));
    });
    state.on_input<Helm>([this](ClientView& view, const Helm& order) {
      Entity<Tug>& tug = tugs.at(view.peer());
      tug.set(sail(tug.get(), order));
      ++inputs;
      if (judge) judge(view);
    });
  }
  static ReplicationOptions options() {
    ReplicationOptions made;
    made.tick_rate = 20;
    made.view.enter = 50;
    made.view.leave = 60;
    return made;
  }
  Replication state;
  std::map<Peer, Entity<Tug>> tugs;
  std::size_t inputs = 0;
  std::function<void(ClientView&)> judge{};
};

TEST(Replication, AClientSeesItsOwnEntityAndWhatIsNear) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  const auto near = *game.state.spawn(Buoy{.at = {10, 0}});
  const auto far = *game.state.spawn(Buoy{.at = {100, 0}});
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  std::set<std::uint32_t> spawned;
  world.on_spawn<Buoy>([&](schema::Ref<Buoy> ref, const Buoy&) { spawned.insert(ref.id); });
  hosts.run(1s);
  EXPECT_EQ(spawned, (std::set<std::uint32_t>{near.ref().id}));
  EXPECT_TRUE(world.owned<Tug>());
  EXPECT_FALSE(world.get(far.ref()));
  EXPECT_TRUE(game.state.view(hosts.server().peers()[0])->complete());
}

TEST(Replication, ValuesSpawnsAndDespawnsArrive) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  auto buoy = *game.state.spawn(Buoy{.at = {10, 0}});
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  std::size_t updates = 0;
  std::size_t despawns = 0;
  world.on_update<Buoy>([&](schema::Ref<Buoy>, const Buoy&) { ++updates; });
  world.on_despawn<Buoy>([&](schema::Ref<Buoy>) { ++despawns; });
  hosts.run(500ms);
  EXPECT_TRUE(buoy.set(Buoy{.at = {12, 0}}));
  hosts.run(500ms);
  ASSERT_TRUE(world.get(buoy.ref()));
  EXPECT_NEAR(world.get(buoy.ref())->at[0], 12, 0.1);
  EXPECT_GT(updates, 0U);
  EXPECT_TRUE(buoy.despawn());
  EXPECT_FALSE(buoy.set(Buoy{})) << "after despawn()";
  hosts.run(500ms);
  EXPECT_EQ(despawns, 1U);
  EXPECT_FALSE(world.get(buoy.ref()));
}

TEST(Replication, OneInputAClientAndTickAndThePredictionAgrees) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  Predicted<Tug, Helm> mine(world, sail, is_close);
  EXPECT_FALSE(mine.state()) << "not in view yet";
  hosts.run(500ms);
  ASSERT_TRUE(mine.state());
  std::size_t made = 0;
  hosts.run(3s, [&] {  // called each 50 ms, a tick
    mine.apply(Helm{.throttle = 100});
    ++made;
  });
  hosts.run(1s);
  EXPECT_EQ(game.inputs, made);
  EXPECT_EQ(mine.corrections(), 0U);
  const auto tug = game.tugs.begin()->second.get();
  EXPECT_NEAR(mine.state()->at[0], tug.at[0], 0.1);
  EXPECT_GT(tug.at[0], 10);
}

// What a client shows when it gives an input is some ticks old; the server finds the values shown.
TEST(Replication, TheServerFindsWhatAClientSawWhenItGaveAnInput) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  auto buoy = *game.state.spawn(Buoy{.at = {0, 0}});
  game.state.on_tick([&](std::uint32_t tick) { buoy.set(Buoy{.at = {tick / 8.0, 0}}); });
  std::vector<double> shown;
  std::vector<double> found;
  std::vector<double> ages;
  game.judge = [&](ClientView& view) {
    const double seen = game.state.tick_seen_by(view.peer());
    ages.push_back(game.state.tick() - 1 - seen);
    if (const auto past = game.state.world().at(seen).get(buoy.ref())) found.push_back(past->at[0]);
  };
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  hosts.run(1s);
  hosts.run(2s, [&] {
    const auto value = world.sample(buoy.ref(), hosts.now());
    ASSERT_TRUE(value);
    shown.push_back(value->at[0]);
    world.send_input(Helm{.throttle = 0});
  });
  hosts.run(1s);
  ASSERT_EQ(found.size(), shown.size());
  for (std::size_t i = 0; i < shown.size(); ++i) EXPECT_NEAR(found[i], shown[i], 0.1) << i;
  EXPECT_GT(*std::min_element(ages.begin(), ages.end()), 1);
  EXPECT_LE(*std::max_element(ages.begin(), ages.end()), 0.3 * 20);
}

// The client shows more than a tick behind: see the test before.
TEST(Replication, NoClaimOfAClientReachesBehindTheLimit) {
  kit::SimHosts hosts(pilotage::kProtocol);
  ReplicationOptions options = Game::options();
  options.max_rewind = 50ms;  // a tick
  Game game(hosts, options);
  auto buoy = *game.state.spawn(Buoy{.at = {0, 0}});
  game.state.on_tick([&](std::uint32_t tick) { buoy.set(Buoy{.at = {tick / 8.0, 0}}); });
  std::vector<double> ages;
  game.judge = [&](ClientView& view) {
    ages.push_back(game.state.tick() - 1 - game.state.tick_seen_by(view.peer()));
  };
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  hosts.run(1s);
  hosts.run(1s, [&] {
    ASSERT_TRUE(world.sample(buoy.ref(), hosts.now()));
    world.send_input(Helm{.throttle = 0});
  });
  hosts.run(1s);
  ASSERT_FALSE(ages.empty());
  for (const double age : ages) EXPECT_EQ(age, 1);
}

TEST(Replication, AClientThatShowsNothingIsJudgedByTheNewestTick) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  double seen = 0;
  std::uint32_t newest = 0;
  game.judge = [&](ClientView& view) {
    seen = game.state.tick_seen_by(view.peer());
    newest = game.state.tick() - 1;
  };
  hosts.run(500ms);
  world.send_input(Helm{});
  hosts.run(500ms);
  EXPECT_GT(newest, 0U);
  EXPECT_EQ(seen, newest);
  EXPECT_EQ(game.state.tick_seen_by(Peer{}), game.state.tick() - 1);
}

TEST(Replication, AClientFollowsTheTickRateOfTheServer) {
  kit::SimHosts hosts(pilotage::kProtocol);
  ReplicationOptions options = Game::options();
  options.tick_rate = 50;
  Replication state(hosts.server(), pilotage::kEntities, options);
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  auto buoy = *state.spawn(Buoy{.at = {0, 0}});
  state.on_tick([&](std::uint32_t tick) { buoy.set(Buoy{.at = {tick / 8.0, 0}}); });
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  EXPECT_EQ(world.tick_rate(), 0);
  hosts.run(2s);
  EXPECT_EQ(world.tick_rate(), 50);
  const double before = *world.playout_tick(hosts.now());
  hosts.run(2s);
  EXPECT_NEAR(*world.playout_tick(hosts.now()) - before, 100, 5);
}

TEST(Replication, AnInputThatComesAsAMessageMovesNothing) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  hosts.run(500ms);
  const std::uint64_t dropped = hosts.server().counts().drops.of(Errc::not_allowed);
  for (int i = 0; i < 10; ++i) {
    ASSERT_EQ(client.send(Helm{.throttle = 100}), Errc::none);
    hosts.run(50ms);
  }
  EXPECT_EQ(game.inputs, 0U);
  EXPECT_EQ(hosts.server().counts().drops.of(Errc::not_allowed), dropped + 10);
  world.send_input(Helm{.throttle = 100});
  hosts.run(500ms);
  EXPECT_EQ(game.inputs, 1U);
}

TEST(Replication, ATickThatIsSplitEndsInTheNextFlush) {
  kit::SimHosts hosts(pilotage::kProtocol);
  ReplicationOptions options = Game::options();
  options.tick_between_receive_and_flush = true;
  Replication state(hosts.server(), pilotage::kEntities, options);
  const auto buoy = *state.spawn(Buoy{.at = {5, 0}});
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  std::vector<std::uint32_t> begun;
  state.on_tick([&](std::uint32_t tick) { begun.push_back(tick); });
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  hosts.run(1s);
  EXPECT_TRUE(world.get(buoy.ref()));
  ASSERT_GT(begun.size(), 15U);
  for (std::size_t i = 1; i < begun.size(); ++i) EXPECT_EQ(begun[i], begun[i - 1] + 1);
  // A tick is open between receive() and flush(): what is set there belongs to it.
  const Time now = hosts.now() + 50ms;
  hosts.server().receive(now);
  const std::uint32_t open = state.tick();
  EXPECT_EQ(begun.back(), open);
  hosts.server().flush(now);
  EXPECT_EQ(state.tick(), open + 1);
}

// The explanation of a tick is asked when it has ended, and told before its snapshots are.
TEST(Replication, SaysWhyAClientGetsAnUpdateOrNone) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  auto near = *game.state.spawn(Buoy{.at = {10, 0}});
  const auto far = *game.state.spawn(Buoy{.at = {100, 0}});
  std::vector<replica::UpdateExplanation> of_near;
  std::uint32_t last = 0;
  game.state.on_tick_ended([&](std::uint32_t tick) {
    EXPECT_EQ(tick, game.state.tick() - 1) << "the tick has ended";
    EXPECT_TRUE(last == 0 || tick == last + 1);
    last = tick;
    for (const Peer peer : hosts.server().peers()) {
      ClientView& view = *game.state.view(peer);
      const std::uint64_t snapshots = view.counts().snapshots;
      of_near.push_back(view.explain(near.ref()));
      EXPECT_EQ(view.explain(far.ref()).reason, replica::UpdateReason::out_of_view);
      EXPECT_EQ(view.counts().snapshots, snapshots) << "nothing was sent for it";
    }
  });
  // What a handler throws reaches on_fault, and no other handler misses its call.
  int faults = 0;
  hosts.server().on_fault([&](const route::HandlerException<Peer>&) { ++faults; });
  game.state.on_tick_ended([](std::uint32_t) { throw std::runtime_error("the tide"); });
  int after = 0;
  game.state.on_tick_ended([&](std::uint32_t) { ++after; });
  hosts.join();
  hosts.run(1s);
  EXPECT_GT(after, 15);
  EXPECT_EQ(faults, after);
  ASSERT_GT(of_near.size(), 10U);
  EXPECT_EQ(of_near.front().form, replica::UpdateForm::full);
  EXPECT_EQ(of_near.back().reason, replica::UpdateReason::up_to_date);
  near.set(Buoy{.at = {11, 0}});
  hosts.run(50ms);
  EXPECT_EQ(of_near.back().form, replica::UpdateForm::delta);
  EXPECT_EQ(of_near.back().fields, std::vector<std::string_view>{"at"});
}

TEST(Replication, AWorldThatIsConstructedLateFillsAllTheSame) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  const auto buoy = *game.state.spawn(Buoy{.at = {10, 0}});
  Client& client = hosts.join();
  hosts.run(2s);  // no copy of the world yet: payload is refused, and counted
  EXPECT_GT(client.counts().drops.of(Errc::payload_not_taken), 0U);
  ReplicatedWorld world(client, pilotage::kEntities);
  hosts.run(2s);
  EXPECT_TRUE(world.get(buoy.ref()));
}

TEST(Replication, AHandlerThatThrowsCostsItsTickNotTheServer) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  std::size_t ticks = 0;
  game.state.on_tick([&](std::uint32_t) {
    if (++ticks == 3) throw std::runtime_error("a fault of the game");
  });
  std::size_t faults = 0;
  hosts.server().on_fault([&](const route::HandlerException<Peer>&) { ++faults; });
  hosts.run(1s);
  EXPECT_EQ(faults, 1U);
  EXPECT_GE(ticks, 19U);
}

TEST(Replication, ASecondConnectionStartsWithAnEmptyWorldAndFills) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  const auto buoy = *game.state.spawn(Buoy{.at = {10, 0}});
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  std::size_t despawns = 0;
  world.on_despawn<Buoy>([&](schema::Ref<Buoy>) { ++despawns; });
  hosts.run(1s);
  ASSERT_TRUE(world.get(buoy.ref()));
  hosts.reconnect(0);
  hosts.run(2s);
  EXPECT_TRUE(client.connected());
  EXPECT_EQ(despawns, 1U) << "of the connection before";
  EXPECT_TRUE(world.get(buoy.ref()));
}

// A reference in a message reaches a client only if the client has the entity.
TEST(Replication, AReferenceToAnEntityOutOfViewArrivesEmpty) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Game game(hosts);
  const auto near = *game.state.spawn(Buoy{.at = {10, 0}});
  const auto far = *game.state.spawn(Buoy{.at = {100, 0}});
  Client& client = hosts.join();
  ReplicatedWorld world(client, pilotage::kEntities);
  std::vector<std::uint32_t> named;
  client.on<Sighting>([&](const Sighting& seen) { named.push_back(seen.buoy.id); });
  hosts.run(1s);
  EXPECT_EQ(hosts.server().send_to_all(Sighting{near.ref()}), 1U);
  EXPECT_EQ(hosts.server().send_to_all(Sighting{far.ref()}), 1U);
  hosts.run(500ms);
  EXPECT_EQ(named, (std::vector<std::uint32_t>{near.ref().id, 0}));
  EXPECT_EQ(game.state.view(Peer{99}), nullptr);
}

TEST(ReplicationDeathTest, ConstructedAfterAClientConnectedIsAMistakeOfTheProgram) {
  kit::SimHosts hosts(pilotage::kProtocol);
  (void)hosts.join();
  hosts.run(500ms);
  EXPECT_DEATH(Replication(hosts.server(), pilotage::kEntities), "");
}

TEST(ReplicationDeathTest, TwoOfOneServerAreAMistakeOfTheProgram) {
  kit::SimHosts hosts(pilotage::kProtocol);
  Replication first(hosts.server(), pilotage::kEntities);
  EXPECT_DEATH(Replication(hosts.server(), pilotage::kEntities), "");
}

}  // namespace replication_test
}  // namespace kwind::host
