// A world that reaches clients through Server and Client, on the simulated network.
#include <gtest/gtest.h>

#include <array>
#include <map>

#include "kit/sim_hosts.h"
#include "moving_bay.h"

namespace kwind::host {
namespace {

using namespace std::chrono_literals;

// A server that keeps the bay in step for all of its clients.
class Harbour {
 public:
  explicit Harbour(const io::sim::Conditions& conditions, std::uint64_t seed = 1)
      : bay_(seed), hosts_(bay::kProtocol, conditions, seed) {
    Server& server = hosts_.server();
    server.on_connect([&](Peer peer) {
      viewers_.insert_or_assign(peer, std::make_unique<replica::Viewer>(bay_.world()));
    });
    server.on_disconnect([&](Peer peer, Errc, std::string_view) { viewers_.erase(peer); });
    server.on_fill_told([&](Peer peer, std::uint64_t token, bool arrived) {
      const auto found = viewers_.find(peer);
      if (found == viewers_.end()) return;
      if (arrived) {
        found->second->acked(token);
      } else {
        found->second->lost(token);
      }
    });
  }

  kit::MovingBay& bay() { return bay_; }
  kit::SimHosts& hosts() { return hosts_; }
  replica::Mirror& join() {
    Client& client = hosts_.join();
    mirrors_.push_back(std::make_unique<replica::Mirror>(bay::kEntities));
    replica::Mirror* const mirror = mirrors_.back().get();
    client.on_fill([this, mirror](std::span<const std::byte> payload, std::size_t bits) {
      const Errc error = mirror->receive(payload, bits);
      EXPECT_TRUE(error == Errc::none || error == Errc::replayed) << error_info(error).name;
      const std::string wrong = kit::difference(*mirror, bay_);
      if (!wrong.empty()) ADD_FAILURE() << wrong;
      return error;
    });
    return *mirror;
  }
  void run(Duration time) {
    hosts_.run(time, [&] {
      bay_.step();
      seen_.clear();
      for (const auto& [id, one] : bay_.all()) seen_.push_back({id, false});
      for (const auto& [peer, viewer] : viewers_) {
        viewer->see(seen_);
        EXPECT_TRUE(hosts_.server().offer_fill(peer, viewer.get(), 2));
      }
    });
  }
  replica::Viewer& viewer() { return *viewers_.begin()->second; }
  [[nodiscard]] std::size_t viewers() const { return viewers_.size(); }

 private:
  kit::MovingBay bay_;
  std::map<Peer, std::unique_ptr<replica::Viewer>> viewers_;
  std::vector<std::unique_ptr<replica::Mirror>> mirrors_;
  std::vector<replica::Seen> seen_;
  kit::SimHosts hosts_;
};

TEST(HostedReplica, ClientsSeeTheWorldOverLossyPaths) {
  Harbour harbour(
      {.delay = 50ms, .jitter = 20ms, .loss = 0.05, .duplicate = 0.02, .reorder = 0.05});
  harbour.bay().populate(20, 20, 20, 10);
  replica::Mirror& first = harbour.join();
  harbour.run(3s);
  EXPECT_EQ(first.size(), 70U);
  replica::Mirror& late = harbour.join();
  harbour.run(2s);
  EXPECT_EQ(late.size(), 70U);
  EXPECT_EQ(harbour.viewer().counts().started_anew, 0U);
  EXPECT_GT(harbour.viewer().counts().frames, 80U);
}

TEST(HostedReplica, AClientThatLeavesTakesItsViewerAlong) {
  Harbour harbour({.delay = 20ms});
  harbour.bay().populate(5, 5, 5, 5);
  harbour.join();
  harbour.join();
  harbour.run(1s);
  EXPECT_EQ(harbour.viewers(), 2U);
  harbour.hosts().client(0).close("enough");
  harbour.run(2s);
  EXPECT_EQ(harbour.viewers(), 1U);
}

TEST(HostedReplica, AClientThatHeardNothingForAWhileIsToldAnew) {
  Harbour harbour({.delay = 20ms}, 7);
  harbour.bay().populate(20, 20, 20, 10);
  replica::Mirror& mirror = harbour.join();
  harbour.run(1s);
  EXPECT_EQ(mirror.size(), 70U);
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
  EXPECT_EQ(mirror.size(), 70U);
  EXPECT_EQ(harbour.viewer().counts().started_anew, 1U);
  EXPECT_EQ(harbour.hosts().ended(0), "") << "the connection held";
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
  const std::array mirrors{&harbour.join(), &harbour.join(), &harbour.join()};
  harbour.run(1s);
  for (int round = 0; round < 40; ++round) {
    for (std::size_t who = 0; who < mirrors.size(); ++who) {
      // Each its own rows, all three a shared one.
      const auto y = static_cast<std::int32_t>(round % 4 == 0 ? 40 : who * 10 + bay.random()() % 8);
      const auto x = static_cast<std::int32_t>(bay.random()() % 48);
      harbour.hosts().client(who).send(bay::Mark{x, y, static_cast<bay::Ink>(1 + who % 2)});
    }
    harbour.run(100ms);
  }
  replica::Mirror& late = harbour.join();
  harbour.run(2s);
  const bay::Chart& now = std::get<bay::Chart>(bay.all().at(id).value);
  std::size_t marked = 0;
  for (const bay::Ink cell : now.inks.cells()) marked += cell != bay::Ink::blank ? 1 : 0;
  EXPECT_GT(marked, 80U);
  for (const replica::Mirror* mirror : mirrors) {
    EXPECT_TRUE(mirror->get(ref)->inks == now.inks);
    EXPECT_EQ(mirror->get(ref)->title, "Outer roads");
  }
  EXPECT_TRUE(late.get(ref)->inks == now.inks);
}

TEST(HostedReplica, ARefToWhatTheOtherEndDoesNotKnowArrivesEmpty) {
  Harbour harbour({.delay = 20ms}, 4);
  kit::MovingBay& bay = harbour.bay();
  bay::Tug tug;
  const std::uint32_t id = bay.spawn(tug);
  const schema::Ref<bay::Tug> ref{id, bay.all().at(id).ref.generation};
  replica::Mirror& mirror = harbour.join();
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
    client.send(bay::Tow{named});
    server.send_to_all(bay::Tow{named});
    harbour.run(500ms);
  };
  using Refs = std::vector<schema::Ref<bay::Tug>>;
  const schema::Ref<bay::Tug> older{id, static_cast<std::uint8_t>(ref.generation + 1)};
  both_send(older);
  EXPECT_EQ(at_server, Refs{older}) << "nobody looks";
  server.refs_known_by(
      [&](Peer, const schema::AnyRef& named) { return harbour.viewer().knows(named); });
  client.refs_known_by([&](const schema::AnyRef& named) { return mirror.is_there(named); });
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

}  // namespace
}  // namespace kwind::host
