// Clients of three versions of a description at one server: what `Replication` and `ReplicatedWorld`
// make of it without a word from the game. tests/replica/versions_test.cpp looks at the values.
#include <gtest/gtest.h>

#include <set>

#include "kit/sim_hosts.h"
#include "kwind/host/replicated_world.h"
#include "kwind/host/replication.h"
#include "refit.h"

namespace kwind::host {
namespace entity_versions_test {

using namespace std::chrono_literals;
using refit::Buoy;
using refit::Cargo;
using refit::Crate;
using refit::Tug;

// What a program was that was built when the description had only its first versions; as far as the
// handshake is concerned.
schema::ProtocolInfo built_at(std::uint16_t newest) {
  schema::ProtocolInfo info = refit::kProtocol;
  info.version = newest;
  info.versions = info.versions.subspan(std::size_t{refit::kProtocol.version} - newest);
  info.entities_since = newest;
  return info;
}

const schema::ProtocolInfo kFirst = built_at(1);
const schema::ProtocolInfo kSecond = built_at(2);

// Code tables that differ from the built-in ones.
std::shared_ptr<const replica::CodeTables> trained() {
  auto counts = replica::SymbolCounts::expected(refit::kEntities);
  counts.heads()[0] *= 50;
  return std::make_shared<const replica::CodeTables>(counts);
}

ClientOptions offering(const std::shared_ptr<const replica::CodeTables>& tables) {
  ClientOptions options;
  options.code_table_sets = {tables->digest()};
  return options;
}

struct Player {
  Player(kit::SimHosts& hosts, const schema::ProtocolInfo& info,
         const std::shared_ptr<const replica::CodeTables>& tables)
      : client(hosts.join(info, offering(tables))),
        world(client, refit::kEntities, {.code_tables = {tables}}) {
    world.on_spawn<Tug>([this](schema::Ref<Tug>, const Tug&) { ++tugs; });
    world.on_spawn<Crate>([this](schema::Ref<Crate>, const Crate&) { ++crates; });
    world.on_spawn<Buoy>([this](schema::Ref<Buoy>, const Buoy&) { ++buoys; });
  }
  Client& client;
  ReplicatedWorld world;
  int tugs = 0;
  int crates = 0;
  int buoys = 0;
};

TEST(EntityVersions, OfClientsDifferInOneWorld) {
  const auto tables = trained();
  ServerOptions server_options;
  server_options.code_table_sets = {tables->digest()};
  kit::SimHosts hosts(refit::kProtocol, {.delay = 20ms, .loss = 0.02}, 1, server_options);
  ReplicationOptions options;
  options.view.enter = options.view.leave = 500;
  options.code_tables = {tables};
  Replication state(hosts.server(), refit::kEntities, options);
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  auto tug = *state.spawn(Tug{.speed = 2, .at = {1, 1}, .cargo = Cargo::timber, .crew = 3});
  (void)*state.spawn(Crate{{2, 2}, 50});
  auto buoy = *state.spawn(Buoy{{3, 3}, true});
  Player first(hosts, kFirst, tables);
  Player second(hosts, kSecond, tables);
  Player third(hosts, refit::kProtocol, tables);
  int turn = 0;
  hosts.run(3s, [&] {
    Tug next = tug.get();
    next.at.x() = 1 + 0.1 * ++turn;
    next.crew = turn % 10;
    (void)tug.set(next);
  });
  hosts.run(1s);
  EXPECT_EQ(first.client.version(), 1);
  EXPECT_EQ(second.client.version(), 2);
  EXPECT_EQ(std::tuple(first.tugs, first.crates, first.buoys), std::tuple(1, 0, 1));
  EXPECT_EQ(std::tuple(second.tugs, second.crates, second.buoys), std::tuple(1, 1, 1));
  EXPECT_EQ(std::tuple(third.tugs, third.crates, third.buoys), std::tuple(1, 1, 0));
  EXPECT_EQ(first.world.get(tug.ref())->crew, tug.get().crew);
  EXPECT_EQ(first.world.get(tug.ref())->cargo, Cargo::salt);
  EXPECT_EQ(third.world.get(tug.ref())->cargo, Cargo::timber);
  EXPECT_EQ(third.world.get(tug.ref())->crew, Tug{}.crew);
  // Trained tables are for those who have the newest entities.
  EXPECT_EQ(first.client.code_tables(), 0U);
  EXPECT_EQ(second.client.code_tables(), 0U);
  EXPECT_EQ(third.client.code_tables(), tables->digest());
  for (const Player* const player : {&first, &second, &third}) {
    EXPECT_EQ(player->world.client_world().counts().desyncs, 0U);
    EXPECT_GT(player->world.client_world().counts().digests, 0U);
  }
  EXPECT_TRUE(buoy.despawn());
  EXPECT_TRUE(tug.despawn());
  hosts.run(1s);
  EXPECT_FALSE(first.world.get(buoy.ref()) || second.world.get(tug.ref()));
}

// After an update a player starts the new program and is back: the world is that of its version.
TEST(EntityVersions, AClientThatConnectsAgainHasTheWorldOfItsNewConnection) {
  const auto tables = trained();
  kit::SimHosts hosts(refit::kProtocol);
  Replication state(hosts.server(), refit::kEntities);
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  const auto buoy = *state.spawn(Buoy{{3, 3}, true});
  kit::SimHosts old_hosts(kSecond);
  Replication old_state(old_hosts.server(), refit::kEntities);
  old_state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  const auto old_buoy = *old_state.spawn(Buoy{{4, 4}, false});
  // A new program at an old server.
  Player at_old(old_hosts, refit::kProtocol, tables);
  old_hosts.run(1s);
  EXPECT_EQ(at_old.client.version(), 2);
  ASSERT_TRUE(at_old.world.get(old_buoy.ref()));
  EXPECT_EQ(at_old.world.get(old_buoy.ref())->at, Eigen::Vector2d(4, 4));
  Player at_new(hosts, refit::kProtocol, tables);
  hosts.run(1s);
  EXPECT_EQ(at_new.client.version(), 3);
  EXPECT_FALSE(at_new.world.get(buoy.ref())) << "version 3 has no buoys";
}

// Clients of older versions are not measured: their symbols are of other columns.
TEST(EntityVersions, TableFitMeasuresThoseOfTheNewest) {
  const auto tables = trained();
  kit::SimHosts hosts(refit::kProtocol);
  Replication state(hosts.server(), refit::kEntities);
  state.on_client([](ClientView& view) { view.set_origin(0, 0); });
  state.measure_tables();
  auto tug = *state.spawn(Tug{.at = {1, 1}});
  Player old(hosts, kFirst, tables);
  int turn = 0;
  const auto play = [&] {
    Tug next = tug.get();
    next.at.x() = ++turn % 50;
    (void)tug.set(next);
  };
  hosts.run(10s, play);
  EXPECT_EQ(old.tugs, 1);
  EXPECT_EQ(state.table_fit().snapshots, 0U);
  Player fresh(hosts, refit::kProtocol, tables);
  hosts.run(10s, play);
  EXPECT_GT(state.table_fit().snapshots, 100U);
}

}  // namespace entity_versions_test
}  // namespace kwind::host
