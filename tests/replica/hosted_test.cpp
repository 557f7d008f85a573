// A world that reaches clients through Server and Client, on the simulated network.
#include <gtest/gtest.h>

#include <array>
#include <map>

#include "kit/sim_hosts.h"
#include "kit/sweep.h"
#include "moving_bay.h"

namespace kwind::host {
namespace hosted_test {

using namespace std::chrono_literals;

// A socket of a device that goes from one network to another.
class RoamingTransport final : public Transport {
 public:
  RoamingTransport(io::sim::Network& network, const Endpoint& first)
      : network_(network), transport_(&network.open(first)) {}
  void move(const Endpoint& to) {
    network_.close(transport_->local());
    transport_ = &network_.open(to);
  }
  Endpoint local() const override { return transport_->local(); }
  std::optional<ReceivedDatagram> receive(Time now) override { return transport_->receive(now); }
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override {
    transport_->send(now, to, bytes);
  }
  void flush(Time) override {}
  const TransportCounts& counts() const override { return transport_->counts(); }

 private:
  io::sim::Network& network_;
  io::sim::SimTransport* transport_;
};

// A server that keeps the bay in step for all of its clients.
class Harbour {
 public:
  explicit Harbour(const io::sim::Conditions& conditions, std::uint64_t seed = 1)
      : bay_(seed), hosts_(bay::kProtocol, conditions, seed) {
    Server& server = hosts_.server();
    server.on_connect([&](Peer peer) {
      replicators_.insert_or_assign(peer,
                                    std::make_unique<replica::ClientReplicator>(bay_.world()));
    });
    server.on_disconnect([&](Peer peer, Errc, std::string_view) { replicators_.erase(peer); });
  }

  kit::MovingBay& bay() { return bay_; }
  kit::SimHosts& hosts() { return hosts_; }
  replica::ClientWorld& join() { return client_world_of(hosts_.join()); }
  replica::ClientWorld& client_world_of(Client& client) {
    client_worlds_.push_back(std::make_unique<replica::ClientWorld>(bay::kEntities));
    replica::ClientWorld* const client_world = client_worlds_.back().get();
    client.on_payload([this, client_world](std::span<const std::byte> payload, std::size_t bits) {
      const Errc error = client_world->receive(payload, bits);
      EXPECT_TRUE(error == Errc::none || error == Errc::replayed) << error_info(error).name;
      const std::string wrong = kit::difference(*client_world, bay_);
      if (!wrong.empty()) ADD_FAILURE() << wrong;
      return error;
    });
    return *client_world;
  }
  void run(Duration time, double comings_and_goings = 0) {
    hosts_.run(time, [&] {
      if (each_tick) each_tick();
      bay_.step(comings_and_goings);
      seen_.clear();
      for (const auto& [id, one] : bay_.all()) seen_.push_back({id, false});
      for (const auto& [peer, replicator] : replicators_) {
        replicator->see(seen_);
        EXPECT_TRUE(hosts_.server().schedule_payload(peer, replicator.get(), 2));
      }
    });
  }
  std::function<void()> each_tick;
  replica::ClientReplicator& replicator() { return *replicators_.begin()->second; }
  [[nodiscard]] std::size_t replicators() const { return replicators_.size(); }

 private:
  kit::MovingBay bay_;
  std::map<Peer, std::unique_ptr<replica::ClientReplicator>> replicators_;
  std::vector<std::unique_ptr<replica::ClientWorld>> client_worlds_;
  std::vector<replica::RelevantEntity> seen_;
  kit::SimHosts hosts_;
};

TEST(HostedReplica, ClientsSeeTheWorldOverLossyPaths) {
  Harbour harbour(
      {.delay = 50ms, .jitter = 20ms, .loss = 0.05, .duplicate = 0.02, .reorder = 0.05});
  harbour.bay().populate(20, 20, 20, 10);
  replica::ClientWorld& first = harbour.join();
  harbour.run(3s);
  EXPECT_EQ(first.size(), 70U);
  replica::ClientWorld& late = harbour.join();
  harbour.run(2s);
  EXPECT_EQ(late.size(), 70U);
  EXPECT_EQ(harbour.replicator().counts().full_resyncs, 0U);
  EXPECT_GT(harbour.replicator().counts().snapshots, 80U);
}

TEST(HostedReplica, AClientThatLeavesTakesItsViewerAlong) {
  Harbour harbour({.delay = 20ms});
  harbour.bay().populate(5, 5, 5, 5);
  harbour.join();
  harbour.join();
  harbour.run(1s);
  EXPECT_EQ(harbour.replicators(), 2U);
  harbour.hosts().client(0).close("enough");
  harbour.run(2s);
  EXPECT_EQ(harbour.replicators(), 1U);
}

TEST(HostedReplica, AClientThatHeardNothingForAWhileIsToldAnew) {
  Harbour harbour({.delay = 20ms}, 7);
  harbour.bay().populate(20, 20, 20, 10);
  replica::ClientWorld& client_world = harbour.join();
  harbour.run(1s);
  EXPECT_EQ(client_world.size(), 70U);
  const Endpoint client = Endpoint::v4(127, 0, 1, 1, 5000);
  const auto with_loss = [&](double loss) {
    io::sim::Network& network = harbour.hosts().network();
    network.set_conditions(client, kit::SimHosts::kServer, {.delay = 20ms, .loss = loss});
    network.set_conditions(kit::SimHosts::kServer, client, {.delay = 20ms, .loss = loss});
  };
  with_loss(1);
  harbour.run(6s);
  with_loss(0);
  harbour.run(4s);
  EXPECT_EQ(client_world.size(), 70U);
  EXPECT_EQ(harbour.replicator().counts().full_resyncs, 1U);
  EXPECT_EQ(harbour.hosts().ended(0), "") << "the connection held";
}

// Joins and leaves, a client that roams, and greedy bulk beside.
TEST(HostedReplica, HoldsWhileClientsRoamAndBulkTravelsBeside) {
  for (const std::uint64_t seed : kit::seeds(kit::kSanitized ? 3 : 8, 200)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    const auto up_to = [&](std::uint64_t max) { return static_cast<int>(random() % (max + 1)); };
    Harbour harbour({.delay = std::chrono::milliseconds(10 + up_to(80)),
                     .jitter = std::chrono::milliseconds(up_to(30)),
                     .loss = up_to(80) / 1000.0,
                     .duplicate = 0.02,
                     .reorder = up_to(50) / 1000.0},
                    seed);
    harbour.bay().populate(10, 10, 15, 5, 3);
    harbour.bay().spawn(bay::Chart{});
    harbour.bay().spawn(bay::Ledger{1, std::string(3000, 'r')});
    harbour.join();
    harbour.join();
    kit::SimHosts& hosts = harbour.hosts();
    RoamingTransport transport(hosts.network(), Endpoint::v4(10, 0, 0, 1, 7000));
    ClientOptions options;
    options.server_key = kit::server_key().public_key;
    options.entropy = kit::entropy(seed + 99);
    Client roamer(transport, kit::SimHosts::kServer, bay::kProtocol, hosts.now(), options);
    const replica::ClientWorld& roamed = harbour.client_world_of(roamer);
    std::size_t acknowledged = 0;
    roamer.on<bay::Log>([&](const bay::Log& log) { acknowledged += log.lines.size(); });
    int tick = 0;
    // It says something in each tick, as a game does: the server can follow it by that alone.
    const auto turn = [&] {
      roamer.receive(hosts.now());
      if (roamer.connected()) (void)roamer.send(bay::Hail{"here"});
      roamer.flush(hosts.now());
    };
    harbour.each_tick = [&] {
      turn();
      if (++tick % 10 == 0) hosts.server().send_to_all(bay::Log{std::string(15000, 'l')});
      if (tick % 60 == 59) {
        transport.move(Endpoint::v4(10, 0, 1, static_cast<std::uint8_t>(tick / 60), 7000));
      }
    };
    harbour.run(4s, 0.2);
    replica::ClientWorld& late = harbour.join();
    hosts.client(0).close("enough");
    harbour.run(6s, 0.2);
    harbour.each_tick = turn;
    harbour.run(4s);
    EXPECT_TRUE(roamer.connected());
    EXPECT_EQ(roamed.size(), harbour.bay().all().size());
    EXPECT_EQ(late.size(), harbour.bay().all().size());
    EXPECT_EQ(roamed.counts().desyncs + late.counts().desyncs, 0U);
    EXPECT_GT(acknowledged, 100000U);
    if (HasFailure()) FAIL() << "seed " << seed;
  }
}

TEST(HostedReplica, PilotsPencilOnOneChartTogether) {
  Harbour harbour({.delay = 40ms, .jitter = 10ms, .loss = 0.05}, 3);
  kit::MovingBay& bay = harbour.bay();
  const std::uint32_t id = bay.spawn(bay::Chart{"Outer roads", {}, {}});
  const schema::Ref<bay::Chart> ref{id, bay.all().at(id).ref.generation};
  bay::Chart chart = std::get<bay::Chart>(bay.all().at(id).value);
  harbour.hosts().server().on<bay::Mark>([&](Peer, const bay::Mark& mark) {
    chart = std::get<bay::Chart>(bay.all().at(id).value);
    chart.inks.at(static_cast<std::uint32_t>(mark.x), static_cast<std::uint32_t>(mark.y)) =
        mark.ink;
    bay.put(id, chart);
  });
  const std::array client_worlds{&harbour.join(), &harbour.join(), &harbour.join()};
  harbour.run(1s);
  for (int round = 0; round < 40; ++round) {
    for (std::size_t who = 0; who < client_worlds.size(); ++who) {
      // Each its own rows, all three a shared one.
      const auto y = static_cast<std::int32_t>(round % 4 == 0 ? 40 : who * 10 + bay.random()() % 8);
      const auto x = static_cast<std::int32_t>(bay.random()() % 48);
      (void)harbour.hosts().client(who).send(bay::Mark{x, y, static_cast<bay::Ink>(1 + who % 2)});
    }
    harbour.run(100ms);
  }
  replica::ClientWorld& late = harbour.join();
  harbour.run(2s);
  const bay::Chart& now = std::get<bay::Chart>(bay.all().at(id).value);
  // The bay pencils on it as well, at times in the very last tick: until that has arrived
  // everywhere.
  const auto all_have_it = [&] {
    return std::all_of(
        client_worlds.begin(), client_worlds.end(), [&](const replica::ClientWorld* client_world) {
          return client_world->get(ref)->inks == now.inks && late.get(ref)->inks == now.inks;
        });
  };
  for (int tick = 0; tick < 100 && !all_have_it(); ++tick) harbour.run(50ms);
  std::size_t marked = 0;
  for (const bay::Ink cell : now.inks.cells()) marked += cell != bay::Ink::blank ? 1 : 0;
  EXPECT_GT(marked, 80U);
  for (const replica::ClientWorld* client_world : client_worlds) {
    EXPECT_TRUE(client_world->get(ref)->inks == now.inks);
    EXPECT_EQ(client_world->get(ref)->title, "Outer roads");
  }
  EXPECT_TRUE(late.get(ref)->inks == now.inks);
}

TEST(HostedReplica, ARefToWhatTheOtherEndDoesNotKnowArrivesEmpty) {
  Harbour harbour({.delay = 20ms}, 4);
  kit::MovingBay& bay = harbour.bay();
  bay::Tug tug;
  const std::uint32_t id = bay.spawn(tug);
  const schema::Ref<bay::Tug> ref{id, bay.all().at(id).ref.generation};
  replica::ClientWorld& client_world = harbour.join();
  Client& client = harbour.hosts().client(0);
  Server& server = harbour.hosts().server();
  std::vector<schema::Ref<bay::Tug>> at_server;
  std::vector<schema::Ref<bay::Tug>> at_client;
  server.on<bay::Tow>([&](Peer, const bay::Tow& tow) { at_server.push_back(tow.tug); });
  client.on<bay::Tow>([&](const bay::Tow& tow) { at_client.push_back(tow.tug); });
  harbour.run(1s);
  const auto both_send = [&](const schema::Ref<bay::Tug>& named) {
    at_server.clear();
    at_client.clear();
    (void)client.send(bay::Tow{named});
    server.send_to_all(bay::Tow{named});
    harbour.run(500ms);
  };
  using Refs = std::vector<schema::Ref<bay::Tug>>;
  const schema::Ref<bay::Tug> older{id, static_cast<std::uint8_t>(ref.generation + 1)};
  both_send(older);
  EXPECT_EQ(at_server, Refs{older}) << "nobody looks";
  server.set_reference_filter(
      [&](Peer, const schema::AnyRef& named) { return harbour.replicator().knows(named); });
  client.set_reference_filter(
      [&](const schema::AnyRef& named) { return client_world.is_there(named); });
  both_send(ref);
  EXPECT_EQ(at_server, Refs{ref});
  EXPECT_EQ(at_client, Refs{ref});
  EXPECT_EQ(server.counts().refs_emptied + client.counts().refs_emptied, 0U);
  both_send(older);
  EXPECT_EQ(at_server, Refs{{}}) << "of another generation";
  EXPECT_EQ(at_client, Refs{{}});
  bay.despawn(id);
  both_send(ref);
  EXPECT_EQ(at_server, Refs{{}}) << "gone";
  EXPECT_EQ(at_client, Refs{{}});
  EXPECT_EQ(server.counts().refs_emptied, 2U);
  EXPECT_EQ(client.counts().refs_emptied, 2U);
  both_send({});
  EXPECT_EQ(server.counts().refs_emptied, 2U) << "an empty one is none";
}

}  // namespace hosted_test
}  // namespace kwind::host
