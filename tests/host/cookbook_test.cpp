// The recipes of docs/cookbook.md, run; the page shows this code.
#include <gtest/gtest.h>

#include <algorithm>
#include <fstream>
#include <iterator>
#include <map>
#include <set>
#include <sstream>

#include "cookbook.h"
#include "kit/sim_hosts.h"
#include "kwind/host/replicated_world.h"
#include "kwind/host/replication.h"

namespace kwind::host {
namespace cookbook_test {

using namespace std::chrono_literals;
using cookbook::Enter;
using cookbook::Flare;
using cookbook::Gull;
using cookbook::Say;
using cookbook::Splash;
using cookbook::Throw;
using cookbook::Tug;

TEST(Cookbook, ChatReachesTheRoomAndNobodyElse) {
  kit::SimHosts hosts(cookbook::kProtocol);
  Server& server = hosts.server();
  // recipe
  server.on_connect([&](Peer peer) { server.rooms().enter(peer, "lobby"); });
  server.on<Say>([&](Peer peer, const Say& said) {
    for (const route::RoomKey& room : server.rooms().rooms_of(peer)) {
      server.send_to_room(room, said);
    }
  });
  // end
  Client& ada = hosts.join();
  Client& ben = hosts.join();
  int heard = 0;
  ada.on<Say>([&](const Say& said) { heard += said.words == "ahoy" ? 1 : 0; });
  ben.on<Say>([&](const Say& said) { heard += said.words == "ahoy" ? 10 : 0; });
  hosts.run(200ms);
  ASSERT_EQ(ada.send(Say{"ahoy"}), Errc::none);
  hosts.run(300ms);
  EXPECT_EQ(heard, 11);
  server.rooms().leave_all(server.peers()[1]);
  hosts.run(1s);
  ASSERT_EQ(ada.send(Say{"ahoy"}), Errc::none);
  hosts.run(300ms);
  EXPECT_EQ(heard, 12);
}

struct Match {
  explicit Match(kit::SimHosts& hosts)
      : server(hosts.server()),
        state(server, cookbook::kEntities,
              {.tick_rate = 20, .view = {.enter = 200, .leave = 220}}) {}
  Server& server;
  Replication state;
};

TEST(Cookbook, APlayerGoesFromTheLobbyIntoAMatch) {
  kit::SimHosts hosts(cookbook::kProtocol);
  Match match(hosts);
  Server& server = match.server;
  Replication& state = match.state;
  const auto gull = *state.spawn(Gull{{1, 1}});
  const auto other = *state.spawn(Gull{{2, 2}});
  // recipe
  state.put_in_room(gull, "match 7");
  server.on<Enter>([&](Peer peer, const Enter& order) {
    const std::string room = "match " + std::to_string(order.match);
    server.rooms().move(peer, "lobby", room);
    state.view(peer)->set_origin(0, 0);
  });
  // end
  state.put_in_room(other, "match 8");
  server.on_connect([&](Peer peer) { server.rooms().enter(peer, "lobby"); });
  Client& ada = hosts.join();
  ReplicatedWorld world(ada, cookbook::kEntities);
  hosts.run(300ms);
  EXPECT_EQ(world.size(), 0U);
  ASSERT_EQ(ada.send(Enter{7}), Errc::none);
  hosts.run(500ms);
  EXPECT_TRUE(world.get(gull.ref()));
  EXPECT_FALSE(world.get(other.ref()));
  EXPECT_EQ(server.rooms().members("match 7").size(), 1U);
}

TEST(Cookbook, ASpectatorSeesWhatTheWatchedPlayerSees) {
  kit::SimHosts hosts(cookbook::kProtocol);
  Match match(hosts);
  Replication& state = match.state;
  Entity<Tug> tug = *state.spawn(Tug{{300, 0}, 80});
  const auto near = *state.spawn(Gull{{310, 0}});
  // recipe
  const auto watch = [&](Peer spectator) {
    ClientView& view = *state.view(spectator);
    const Tug& watched = tug.get();
    view.set_origin(watched.at[0], watched.at[1]);  // each tick; follow() would make it the owner
  };
  // end
  state.on_tick([&](std::uint32_t) {
    for (const Peer peer : hosts.server().peers()) watch(peer);
  });
  Client& spectator = hosts.join();
  ReplicatedWorld world(spectator, cookbook::kEntities);
  hosts.run(500ms);
  EXPECT_TRUE(world.get(near.ref()));
  ASSERT_TRUE(world.get(tug.ref()));
  EXPECT_EQ(world.get(tug.ref())->fuel, 0) << "that is the owner's";
}

TEST(Cookbook, WhatOnlyTheOwnerMayKnow) {
  kit::SimHosts hosts(cookbook::kProtocol);
  Match match(hosts);
  Replication& state = match.state;
  Entity<Tug> tug = *state.spawn(Tug{{0, 0}, 80});
  // recipe
  state.on_client([&](ClientView& view) { view.follow(tug.ref()); });  // sees `fuel`, owner only
  // end
  Client& pilot = hosts.join();
  ReplicatedWorld world(pilot, cookbook::kEntities);
  hosts.run(500ms);
  ASSERT_TRUE(world.get(tug.ref()));
  EXPECT_EQ(world.get(tug.ref())->fuel, 80);
}

TEST(Cookbook, AFlareIsOneSpawnAndEachEndComputesItsWay) {
  kit::SimHosts hosts(cookbook::kProtocol);
  Match match(hosts);
  Replication& state = match.state;
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  // recipe
  constexpr std::uint32_t kBurns = 10;  // ticks
  std::vector<Entity<Flare>> flares;
  const auto fire = [&](Eigen::Vector2d from, Eigen::Vector2d to) {
    const auto now = static_cast<std::int32_t>(state.tick());
    if (const auto flare = state.spawn(Flare{now, from, to})) flares.push_back(*flare);
  };
  // What does not change after the spawn costs nothing. Both ends compute where it is.
  const auto place_of = [&](const Flare& flare, double tick) -> Eigen::Vector2d {
    return flare.from +
           (flare.to - flare.from) * std::clamp((tick - flare.born) / kBurns, 0.0, 1.0);
  };
  state.on_tick([&](std::uint32_t tick) {
    std::erase_if(flares, [&](Entity<Flare>& flare) {
      const bool burnt = tick >= static_cast<std::uint32_t>(flare.get().born) + kBurns;
      return burnt && flare.despawn();
    });
  });
  // end
  Client& client = hosts.join();
  ReplicatedWorld world(client, cookbook::kEntities);
  hosts.run(500ms);
  fire({0, 0}, {10, 0});
  std::set<double> seen;
  hosts.run(400ms, [&] {
    if (const auto tick = world.playout_tick(hosts.now())) {
      world.each<Flare>(hosts.now(), [&](schema::Ref<Flare>, const Flare& flare) {
        seen.insert(place_of(flare, *tick)[0]);
      });
    }
  });
  EXPECT_GT(seen.size(), 5U) << "it moves between ticks";
  EXPECT_EQ(flares.size(), 1U);
  hosts.run(1s);
  EXPECT_EQ(flares.size(), 0U);
  EXPECT_EQ(world.size(), 0U) << "it has burnt out";
}

TEST(Cookbook, AHitIsJudgedByWhatThePlayerSaw) {
  kit::SimHosts hosts(cookbook::kProtocol);
  Match match(hosts);
  Server& server = match.server;
  Replication& state = match.state;
  Entity<Gull> gull = *state.spawn(Gull{{0, 0}});
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  state.on_tick([&](std::uint32_t tick) { gull.set(Gull{{tick % 100 / 2.0, 0}}); });
  double seen_at = -1;
  // recipe
  state.on_input<Throw>([&](ClientView& view, const Throw& input) {
    const replica::PastWorld seen = state.world().at(state.tick_seen_by(view.peer()));
    const auto target = seen.get(input.gull);
    if (!target || target->at.norm() > 50) return;  // out of reach, as the player saw it
    seen_at = target->at[0];
    server.send_to_all(Splash{input.gull});
  });
  // end
  Client& client = hosts.join();
  ReplicatedWorld world(client, cookbook::kEntities);
  int splashes = 0;
  client.on<Splash>([&](const Splash&) { ++splashes; });
  double drawn_at = -1;
  hosts.run(1s, [&] {
    if (const auto drawn = world.sample(gull.ref(), hosts.now())) drawn_at = drawn->at[0];
  });
  ASSERT_GE(drawn_at, 0);
  const double aimed_at = drawn_at;
  world.send_input(Throw{gull.ref()});
  hosts.run(500ms);
  EXPECT_EQ(splashes, 1);
  EXPECT_NEAR(seen_at, aimed_at, 0.3) << "half a metre a tick: within a tick of what was drawn";
}

TEST(Cookbook, WhoBreaksRulesGoesAndStaysOut) {
  kit::SimHosts hosts(cookbook::kProtocol);
  Server& server = hosts.server();
  std::set<std::string> banned;
  // recipe
  const auto ban = [&](Peer peer, std::string_view why) {
    if (const link::Claims* const who = server.claims(peer)) banned.insert(who->subject);
    server.close(peer, why);  // the client gets the reason
  };
  server.on_connect([&](Peer peer) {
    const link::Claims* const who = server.claims(peer);
    if (who != nullptr && banned.contains(who->subject)) server.close(peer, "you are banned");
  });
  // end
  Client& client = hosts.join();
  std::string why;
  client.on_disconnect([&](Errc, std::string_view reason) { why = reason; });
  hosts.run(200ms);
  ban(server.peers()[0], "no fishing in the lock");
  hosts.run(500ms);
  EXPECT_EQ(why, "no fishing in the lock");
  EXPECT_TRUE(server.peers().empty());
}

TEST(Cookbook, APlayerOfTheServersOwnProcess) {
  // recipe
  io::sim::Network network({}, 1);  // no delay, no loss: memory in one process
  const Endpoint here = Endpoint::v4(127, 0, 0, 1, 4000);
  ServerOptions options;
  options.plaintext = Plaintext::loopback_only;
  Server server(network.open(here), cookbook::kProtocol, options);
  ClientOptions local;
  local.plaintext = Plaintext::loopback_only;
  Time now{1s};
  Client client(network.open(Endpoint::v4(127, 0, 0, 2, 1)), here, cookbook::kProtocol, now, local);
  // end
  std::string heard;
  server.on<Say>([&](Peer, const Say& said) { heard = said.words; });
  for (int i = 0; i < 50; ++i, now += 10ms) {
    server.receive(now);
    client.receive(now);
    if (i == 25) {
      EXPECT_EQ(client.send(Say{"alone at sea"}), Errc::none);
    }
    client.flush(now);
    server.flush(now);
  }
  EXPECT_EQ(heard, "alone at sea");
}

TEST(Cookbook, ThePageShowsTheseRecipes) {
  const auto text_of = [](const std::string& file) {
    std::ifstream in(file, std::ios::binary);
    return std::string{std::istreambuf_iterator<char>(in), {}};
  };
  const std::string page = text_of(KWIND_SOURCE_DIR "/docs/cookbook.md");
  const std::string source = text_of(KWIND_SOURCE_DIR "/tests/host/cookbook_test.cpp");
  std::istringstream lines(source);
  std::string recipe;
  bool inside = false;
  int shown = 0;
  for (std::string line; std::getline(lines, line);) {
    if (line == "  // end" && inside) {
      EXPECT_NE(page.find("```cpp\n" + recipe + "```"), std::string::npos) << recipe;
      inside = false;
      ++shown;
    } else if (inside) {
      recipe += line.substr(std::min<std::size_t>(2, line.size())) + "\n";
    } else if (line == "  // recipe") {
      inside = true;
      recipe.clear();
    }
  }
  EXPECT_EQ(shown, 8);
}

}  // namespace cookbook_test
}  // namespace kwind::host
