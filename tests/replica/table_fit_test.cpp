// Replication::table_fit(): what it says that training would save is what trained tables save.
#include <gtest/gtest.h>

#include <cmath>
#include <memory>
#include <numbers>
#include <random>
#include <utility>
#include <vector>

#include "bay.h"
#include "kit/sim_hosts.h"
#include "kwind/host/replicated_world.h"
#include "kwind/host/replication.h"

namespace kwind::host {
namespace table_fit_test {

using namespace std::chrono_literals;
using Tables = std::shared_ptr<const replica::CodeTables>;

// Gulls that circle and tire, in view of all clients.
struct Bay {
  explicit Bay(const Tables& tables = nullptr, std::uint64_t seed = 1, bool speculative = false)
      : tables_(tables),
        random(seed),
        hosts(bay::kProtocol, {.delay = 30ms, .loss = 0.02}, seed, server_options(tables)),
        state(hosts.server(), bay::kEntities, replication_options(tables, speculative)) {
    state.on_client([this](ClientView& view) {
      view.set_origin(0, 0);
      if (counts) view.replicator().count_into(counts);
    });
    state.on_tick([this](std::uint32_t) { fly(); });
    for (int i = 0; i < 40; ++i) {
      gulls.push_back(*state.spawn(bay::Gull{.bearing = 9.0 * i, .speed = 8, .at = {i * 2.0, 0}}));
    }
  }
  static ServerOptions server_options(const Tables& tables) {
    ServerOptions made;
    if (tables != nullptr) made.code_table_sets = {tables->digest()};
    return made;
  }
  static ReplicationOptions replication_options(const Tables& tables, bool speculative) {
    ReplicationOptions made{.tick_rate = 20, .view = {.enter = 500, .leave = 550}};
    made.speculative_baselines = speculative;
    if (tables != nullptr) made.code_tables = {tables};
    return made;
  }
  void fly() {
    for (std::size_t i = 0; i < gulls.size(); ++i) {
      bay::Gull gull = gulls[i].get();
      gull.bearing = std::fmod(gull.bearing + 3 + double(random() % 3) / 2, 360);
      gull.speed = 8 + std::sin(double(i) + double(state.tick()) / 30);
      const double angle = gull.bearing * std::numbers::pi / 180;
      gull.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * gull.speed / 20;
      gull.hungry = random() % 50 == 0;
      gulls[i].set(gull);
    }
  }
  Client& join() {
    ClientOptions options;
    ReplicatedWorldOptions how;
    if (tables_ != nullptr) {
      options.code_table_sets = {tables_->digest()};
      how.code_tables = {tables_};
    }
    Client& client = hosts.join(options);
    worlds.push_back(std::make_unique<ReplicatedWorld>(client, bay::kEntities, how));
    return client;
  }
  [[nodiscard]] double bytes_a_snapshot() {
    std::uint64_t bits = 0;
    std::uint64_t snapshots = 0;
    for (const Peer peer : hosts.server().peers()) {
      const replica::ReplicatorCounts& counted = state.view(peer)->replicator().counts();
      bits += counted.bits;
      snapshots += counted.snapshots;
    }
    return static_cast<double>(bits) / 8 / static_cast<double>(snapshots);
  }
  void expect_no_desync() {
    for (const auto& world : worlds) {
      const replica::ClientWorldCounts& counted = world->client_world().counts();
      EXPECT_GT(counted.digests, 0U);
      EXPECT_EQ(counted.desyncs, 0U);
    }
  }

  Tables tables_;
  std::mt19937_64 random;
  kit::SimHosts hosts;
  Replication state;
  std::vector<Entity<bay::Gull>> gulls;
  std::vector<std::unique_ptr<ReplicatedWorld>> worlds;
  replica::SymbolCounts* counts = nullptr;
};

TEST(TableFit, SaysWhatTrainingSaves) {
  Bay untrained;
  untrained.state.measure_tables();
  for (int i = 0; i < 3; ++i) untrained.join();
  untrained.hosts.run(90s);
  const TableFit before = untrained.state.table_fit();
  EXPECT_GT(before.snapshots, 1500U) << "one client at a time, all the time";
  EXPECT_NEAR(before.bytes, untrained.bytes_a_snapshot(), before.bytes * 0.05);
  EXPECT_GT(before.saving(), 0.08);
  untrained.expect_no_desync();

  // Tables as `kwind train` makes them, without another choice of predictors.
  replica::SymbolCounts counts(bay::kEntities);
  Bay counted(nullptr, 2);
  counted.counts = &counts;
  counted.join();
  counted.hosts.run(60s);
  const auto tables = std::make_shared<const replica::CodeTables>(replica::SymbolCounts::fitted(
      bay::kEntities, counts, replica::SymbolCounts::Choose::nothing));
  Bay trained(tables, 3);
  trained.state.measure_tables();
  for (int i = 0; i < 3; ++i) trained.join();
  trained.hosts.run(90s);
  EXPECT_NEAR(trained.bytes_a_snapshot(), before.trained_bytes, before.bytes * 0.04);
  const TableFit after = trained.state.table_fit();
  EXPECT_NEAR(after.bytes, trained.bytes_a_snapshot(), after.bytes * 0.05);
  EXPECT_LT(std::abs(after.saving()), 0.03) << "there is nothing left to gain";
  trained.expect_no_desync();
}

// Counted in a minute of one client.
replica::SymbolCounts counted_in(bool speculative, const Tables& tables = nullptr) {
  replica::SymbolCounts counts(bay::kEntities);
  if (tables != nullptr) counts.predict_with(*tables);
  Bay bay(nullptr, 2, speculative);
  bay.counts = &counts;
  bay.join();
  bay.hosts.run(60s);
  return counts;
}
// Trained as `kwind train` does it: predictors first, then codes for what these leave.
Tables trained_on(const std::vector<bool>& modes) {
  const auto all = [&](const Tables& tables) {
    replica::SymbolCounts counts(bay::kEntities);
    if (tables != nullptr) counts.predict_with(*tables);
    for (const bool speculative : modes) counts.add(counted_in(speculative, tables));
    return counts;
  };
  const auto predictors = std::make_shared<const replica::CodeTables>(
      replica::SymbolCounts::fitted(bay::kEntities, all(nullptr)));
  return std::make_shared<const replica::CodeTables>(replica::SymbolCounts::fitted(
      bay::kEntities, all(predictors), replica::SymbolCounts::Choose::nothing));
}
double bytes_with(const Tables& tables, bool speculative) {
  Bay bay(tables, 3, speculative);
  bay.join();
  bay.hosts.run(60s);
  bay.expect_no_desync();
  return bay.bytes_a_snapshot();
}

TEST(TableFit, OneSetOfTablesServesBothModes) {
  const Tables both = trained_on({false, true});
  EXPECT_FALSE(both->trained_on()) << "any server takes it";
  for (const bool speculative : {false, true}) {
    const double own = bytes_with(trained_on({speculative}), speculative);
    const double shared = bytes_with(both, speculative);
    EXPECT_LT(own, bytes_with(nullptr, speculative) * 0.9) << "training pays here";
    EXPECT_LT(shared, own * 1.02) << (speculative ? "speculative" : "exact");
  }
}

TEST(TableFit, MeasuresClientsOfAnySet) {
  // The clients with the built-in tables have gone for good, and others have come.
  Bay bay(trained_on({false}), 5);
  bay.state.measure_tables();
  Client& plain = bay.hosts.join(ClientOptions{});
  bay.worlds.push_back(std::make_unique<ReplicatedWorld>(plain, bay::kEntities));
  bay.hosts.run(10s);
  plain.close("enough seen");
  bay.hosts.run(1s);
  EXPECT_GT(bay.state.table_fit().snapshots, 100U);
  bay.join();
  bay.hosts.run(20s);
  const TableFit fit = bay.state.table_fit();
  EXPECT_GT(fit.snapshots, 300U);
  EXPECT_LT(fit.snapshots, 420U) << "those of other tables do not count any more";
  EXPECT_LT(std::abs(fit.saving()), 0.05) << "the tables in use fit";
}

TEST(TableFit, CountsOneClientAtATimeWhoeverComesAndGoes) {
  Bay bay(nullptr, 7);
  EXPECT_EQ(bay.state.table_fit().snapshots, 0U) << "it was not asked to measure";
  EXPECT_EQ(bay.state.table_fit().saving(), 0);
  bay.state.measure_tables();
  bay.hosts.run(500ms);
  EXPECT_EQ(bay.state.table_fit().snapshots, 0U) << "nobody is here";
  std::vector<Client*> clients;
  std::uint64_t counted = 0;
  for (int step = 0; step < 60; ++step) {
    if (bay.random() % 3 == 0) clients.push_back(&bay.join());
    if (!clients.empty() && bay.random() % 4 == 0) {
      const auto which = static_cast<std::ptrdiff_t>(bay.random() % clients.size());
      clients[static_cast<std::size_t>(which)]->close("enough seen");
      clients.erase(clients.begin() + which);
    }
    if (step == 20) bay.state.measure_tables(false);
    if (step == 30) bay.state.measure_tables(true);
    bay.hosts.run(300ms);
    const std::uint64_t now = bay.state.table_fit().snapshots;
    const std::uint64_t more = now - std::exchange(counted, now);
    EXPECT_LE(more, 7U) << "six ticks of one client";
    if (step >= 20 && step < 30) {
      EXPECT_EQ(more, 0U) << "it does not measure";
    }
  }
  EXPECT_GT(bay.state.table_fit().snapshots, 100U);
  EXPECT_GT(bay.state.table_fit().bytes, 0);
}

}  // namespace table_fit_test
}  // namespace kwind::host
