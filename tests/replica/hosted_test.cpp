// A world that reaches clients through Server and Client, on the simulated network.
#include <gtest/gtest.h>

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
      const std::string wrong = kit::difference(*mirror, bay_, seen_);
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

}  // namespace
}  // namespace kwind::host
