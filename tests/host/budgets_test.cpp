// Clients that send valid messages, requests and room changes as fast as they can: a flood costs
// its sender.
#include <gtest/gtest.h>

#include "kit/sim_hosts.h"
#include "routing.h"

namespace kwind::host {
namespace budgets_test {

using namespace std::chrono_literals;
using namespace routing;
using kit::SimHosts;
using route::Outcome;

// An honest client beside a flooding one, 20 ms away: when what it says was heard.
class Floods : public testing::Test {
 protected:
  explicit Floods(ServerOptions options = {}) : hosts_(kProtocol, {.delay = 20ms}, 1, options) {
    hosts_.server().on<Hail>([this](Peer peer, const Hail& hail) {
      if (peer == Peer{1}) {
        heard_.push_back(hosts_.now());
      } else {
        ++flooded_;
      }
      if (on_hail_) on_hail_(peer, hail);
    });
    honest_ = &hosts_.join();
    flooder_ = &hosts_.join();
    hosts_.run(300ms);
  }
  // Two seconds in which the honest client speaks 20 times a second, and the other floods.
  void flood(const std::function<void()>& with) {
    std::vector<Time> said;
    hosts_.run(2s, [&] {
      if (honest_->send(Hail{1, "ahoy"}) == Errc::none) said.push_back(hosts_.now());
      with();
    });
    hosts_.run(300ms);
    ASSERT_EQ(heard_.size(), said.size());
    for (std::size_t i = 0; i < said.size(); ++i) {
      EXPECT_LE(heard_[i] - said[i], Duration(30ms)) << i;
    }
  }

  SimHosts hosts_;
  Client* honest_ = nullptr;
  Client* flooder_ = nullptr;
  std::vector<Time> heard_;
  std::size_t flooded_ = 0;
  std::function<void(Peer, const Hail&)> on_hail_;
};

class FloodsWithABudget : public Floods {
 protected:
  static ServerOptions budget() {
    ServerOptions options;
    options.tick_budget = {8, 4000, 50ms};
    return options;
  }
  FloodsWithABudget() : Floods(budget()) {}
};

TEST_F(FloodsWithABudget, ValidMessagesAreTakenAtTheBudgetsPaceAndTheRestWaitsAtItsSender) {
  std::size_t refused = 0;
  std::size_t sent = 0;
  flood([&] {
    for (int i = 0; i < 1000; ++i) {
      const bool taken =
          flooder_->send(Hail{i, "a long text that fills the window soon"}) == Errc::none;
      ++(taken ? sent : refused);
      (void)flooder_->send(Flash{i});
    }
  });
  EXPECT_LE(flooded_, 8U * 50);
  EXPECT_GE(flooded_, 8U * 40);
  EXPECT_GT(refused, 0U) << "its own queue is full";
  EXPECT_GT(hosts_.server().counts().drops.of(Errc::over_budget), 0U) << "unreliable ones go";
  EXPECT_TRUE(flooder_->connected());
}

TEST_F(Floods, RequestsBeyondTheLimitAreDroppedAndOthersAnswered) {
  std::vector<route::Responder<TakeTow>> kept;
  hosts_.server().on_request<TakeTow>(
      [&](Peer peer, const TakeTow&, route::Responder<TakeTow> responder) {
        if (peer == Peer{1}) {
          (void)responder.reply({.line = 1});
        } else {
          kept.push_back(std::move(responder));  // and never answers
        }
      });
  int replies = 0;
  int outcomes = 0;
  int asked = 0;
  int honest_asked = 0;
  flood([&] {
    const Errc error = honest_->request(
        TakeTow{1}, 1s, [&](const Outcome<TakeTow>& outcome) { replies += outcome ? 1 : 0; });
    honest_asked += error == Errc::none ? 1 : 0;
    for (int i = 0; i < 200; ++i) {
      asked +=
          flooder_->request(TakeTow{i % 100}, 300ms, [&](const auto&) { ++outcomes; }) == Errc::none
              ? 1
              : 0;
    }
  });
  hosts_.run(1s);
  EXPECT_EQ(replies, honest_asked);
  EXPECT_EQ(outcomes, asked) << "each ends, by its timeout";
  EXPECT_EQ(kept.size(), ServerOptions().open_requests) << "the server holds no more of them";
  EXPECT_GT(hosts_.server().counts().drops.of(Errc::too_many_requests), 100U);
}

TEST_F(Floods, RoomChangesLoseAndDoubleNothingForOthers) {
  Server& server = hosts_.server();
  server.rooms().enter(Peer{1}, "pier");
  on_hail_ = [&](Peer peer, const Hail& hail) {
    if (peer == Peer{2}) server.rooms().move(peer, hail.number % 3, (hail.number + 1) % 3);
    if (peer == Peer{1}) server.send_to_room("pier", Hail{7, "heard"});
  };
  int echoes = 0;
  honest_->on<Hail>([&](const Hail& hail) { echoes += hail.number == 7 ? 1 : 0; });
  flood([&] {
    for (int i = 0; i < 40; ++i) (void)flooder_->send(Hail{i, ""});
  });
  hosts_.run(200ms);
  EXPECT_EQ(static_cast<std::size_t>(echoes), heard_.size());
  EXPECT_GT(flooded_, 1000U);
  EXPECT_EQ(server.rooms().rooms_of(Peer{2}).size(), 1U);
  EXPECT_EQ(server.rooms().count(), 2U);
}

// ---- slots ----

TEST(Slots, AreSmallUniqueAndUsedAgainAfterAllOthers) {
  ServerOptions options;
  options.capacity = 3;
  SimHosts hosts(kProtocol, {.delay = 5ms}, 1, options);
  const auto slots = [&] {
    std::string all;
    for (const Peer peer : hosts.server().peers()) {
      all += std::to_string(unsigned(peer)) + ":" + std::to_string(hosts.server().slot(peer)) + " ";
    }
    return all;
  };
  hosts.join();
  hosts.join();
  hosts.run(200ms);
  EXPECT_EQ(slots(), "1:1 2:2 ");
  hosts.client(0).close("home");
  hosts.run(3s);
  hosts.join();
  hosts.run(200ms);
  EXPECT_EQ(slots(), "2:2 3:3 ") << "1 is free, 3 has never been used";
  hosts.join();
  hosts.run(200ms);
  EXPECT_EQ(slots(), "2:2 3:3 4:1 ");
  EXPECT_EQ(hosts.server().slot(Peer{1}), 0U);
}

// Both places of a server are taken; who leaves may come back for ten minutes.
struct TwoPlaces : SimHosts {
  TwoPlaces() : SimHosts(kProtocol, {.delay = 5ms}, 1, options()) {
    join();
    join();
    run(300ms);
  }
  static ServerOptions options() {
    ServerOptions made;
    made.capacity = 2;
    made.resume = 600s;
    return made;
  }
};

TEST(Slots, AClientThatIsAwayKeepsItsOwnUntilItIsNeeded) {
  TwoPlaces hosts;
  const auto resume = hosts.client(0).resume();
  ASSERT_TRUE(resume);
  hosts.kill(0);
  hosts.run(20s);  // past the timeout
  EXPECT_EQ(hosts.server().slot(Peer{1}), 1U) << "it may come back";
  EXPECT_EQ(hosts.log(), (std::vector<std::string>{"in 1", "in 2"}));
  hosts.join();  // the door has a place; the slot is taken from who is away
  hosts.run(300ms);
  EXPECT_EQ(hosts.server().slot(Peer{3}), 1U);
  EXPECT_EQ(hosts.log()[2].substr(0, 13), "out 1 timeout");
  EXPECT_EQ(hosts.log()[3], "in 3");
}

TEST(Slots, TheClientThatIsAwayLongestGivesItsOwnFirst) {
  TwoPlaces hosts;
  hosts.kill(1);  // the second leaves first
  hosts.run(20s);
  hosts.kill(0);
  hosts.run(20s);
  ASSERT_EQ(hosts.log().size(), 2U) << "both are away, not gone";
  hosts.join();
  hosts.run(300ms);
  ASSERT_GE(hosts.log().size(), 4U);
  EXPECT_EQ(hosts.log()[2].substr(0, 13), "out 2 timeout");
  EXPECT_EQ(hosts.server().slot(Peer{3}), 2U);
  EXPECT_EQ(hosts.server().slot(Peer{1}), 1U) << "it may still come back";
}

}  // namespace budgets_test
}  // namespace kwind::host
