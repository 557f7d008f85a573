// What ends while something else is in flight: connections, questions, pauses. On the simulated
// network, in virtual time.
#include <gtest/gtest.h>

#include <optional>
#include <stdexcept>
#include <string>
#include <vector>

#include "kit/sim_hosts.h"
#include "routing.h"

namespace kwind::host {
namespace endings_test {

using namespace std::chrono_literals;
using namespace routing;
using kit::SimHosts;
using route::Ending;
using route::Outcome;

ServerOptions with(const std::function<void(ServerOptions&)>& change) {
  ServerOptions options;
  change(options);
  return options;
}

// A loop that reads the clock for receive() and again for send(): the server's time goes on between
// the two.
TEST(Endings, AConnectionThatEndsInSendIsReported) {
  ServerOptions options;
  options.capacity = 1;
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1, options);
  hosts.join();
  hosts.run(300ms);
  ASSERT_EQ(hosts.server().peers().size(), 1U);
  hosts.kill(0);
  Time now = hosts.now();
  const Time end = now + 12s;
  while (now < end) {
    hosts.server().receive(now);
    // Just before the next timer; then the timer is over when send() runs.
    now = std::min(std::max(hosts.server().next_wakeup(), now + 1ms), now + 50ms);
    hosts.server().flush(now);
    if (!hosts.server().peers().empty()) {
      EXPECT_LT(hosts.server().next_wakeup(), end) << "a client is left whose time will run out";
    }
  }
  EXPECT_TRUE(hosts.server().peers().empty());
  EXPECT_EQ(hosts.log().back().substr(0, 13), "out 1 timeout");
  EXPECT_EQ(hosts.server().connections(), 0U);
}

// So that a number in a message that is late does not name somebody else.
TEST(Endings, ASlotIsUsedAgainAfterAllOthers) {
  SimHosts hosts(kProtocol, {.delay = 5ms}, 1,
                 with([](ServerOptions& options) { options.capacity = 4; }));
  const auto join = [&] {
    hosts.join();
    hosts.run(200ms);
    return hosts.server().slot(hosts.server().peers().back());
  };
  const auto leave = [&](std::size_t client) {
    hosts.client(client).close("");
    hosts.run(200ms);
  };
  EXPECT_EQ(join(), 1U);
  EXPECT_EQ(join(), 2U);
  EXPECT_EQ(join(), 3U);
  leave(1);
  leave(0);
  EXPECT_EQ(join(), 4U);
  EXPECT_EQ(join(), 2U) << "free the longest";
  EXPECT_EQ(join(), 1U);
}

TEST(Endings, RequestsWhoseHandlersThrowAreNoLongerOpen) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1,
                 with([](ServerOptions& options) { options.max_faults = 0; }));
  Client& client = hosts.join();
  bool wrong = true;
  hosts.server().on_request<TakeTow>(
      [&](Peer, const TakeTow&, route::Responder<TakeTow> responder) {
        if (wrong) throw std::runtime_error("the harbour office is closed");
        (void)responder.reply({.line = 2});
      });
  hosts.run(200ms);
  int abandoned = 0;
  int replied = 0;
  const auto note = [&](const Outcome<TakeTow>& outcome) {
    abandoned += outcome.ending == Ending::abandoned ? 1 : 0;
    replied += outcome ? 1 : 0;
  };
  const int many = 3 * static_cast<int>(ServerOptions{}.open_requests);
  for (int i = 0; i < many; ++i) {
    ASSERT_EQ(client.request(TakeTow{1}, 1s, note), Errc::none);
    hosts.run(100ms);
  }
  EXPECT_EQ(abandoned, many);
  wrong = false;
  ASSERT_EQ(client.request(TakeTow{1}, 1s, note), Errc::none);
  hosts.run(200ms);
  EXPECT_EQ(replied, 1);
}

TEST(Endings, AnAnswerFromBeforeTheBreakAnswersNoLaterQuestion) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1,
                 with([](ServerOptions& options) { options.resume = 60s; }));
  Client& first = hosts.join();
  std::vector<route::Responder<TakeTow>> kept;
  hosts.server().on_request<TakeTow>(
      [&](Peer, const TakeTow&, route::Responder<TakeTow> responder) {
        kept.push_back(std::move(responder));
      });
  hosts.run(300ms);
  ASSERT_EQ(first.request(TakeTow{1}, 60s, [](const Outcome<TakeTow>&) {}), Errc::none);
  hosts.run(200ms);
  ClientOptions again;
  again.resume = first.resume()->secret;
  hosts.kill(0);
  Client& second = hosts.join(again);
  hosts.run(300ms);
  ASSERT_TRUE(second.resumed());
  std::string end;
  ASSERT_EQ(second.request(TakeTow{2}, 60s,
                           [&](const Outcome<TakeTow>& outcome) {
                             end = "line " + std::to_string(outcome.reply.line);
                           }),
            Errc::none);
  hosts.run(200ms);
  ASSERT_EQ(kept.size(), 2U);
  EXPECT_EQ(kept[0].reply({.line = 4}), Errc::stray_answer) << "who asked that is gone";
  kept.erase(kept.begin());  // unused: that abandons no question of the new connection
  hosts.run(200ms);
  EXPECT_EQ(end, "");
  EXPECT_EQ(kept[0].reply({.line = 1}), Errc::none);
  hosts.run(200ms);
  EXPECT_EQ(end, "line 1");
}

TEST(Endings, RepliesThatWaitInTheSocketAreInTime) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  hosts.server().on_request<TakeTow>(
      [&](Peer, const TakeTow&, route::Responder<TakeTow> responder) {
        (void)responder.reply({.line = 2});
      });
  hosts.run(300ms);
  int replied = 0;
  int late = 0;
  for (int i = 0; i < 3; ++i) {
    ASSERT_EQ(
        client.request(TakeTow{i}, 1s,
                       [&](const Outcome<TakeTow>& outcome) { ++(outcome ? replied : late); }),
        Errc::none);
    hosts.run(5ms);  // each in a datagram of its own
  }
  Time now = hosts.now();
  for (const Time end = now + 1500ms; now < end; now += 5ms) {  // the client's loop hangs
    hosts.server().receive(now);
    hosts.server().flush(now);
  }
  client.receive(now);
  EXPECT_EQ(replied, 3);
  EXPECT_EQ(late, 0);
}

TEST(Endings, APauseOfTheGameClosesNoHonestClient) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  int heard = 0;
  hosts.server().on<Order>([&](Peer, const Order& order) { EXPECT_EQ(order.number, heard++); });
  hosts.run(300ms);
  int sent = 0;
  const auto order = [&] {
    if (client.send(Order{sent}) == Errc::none) ++sent;  // at most 20/s
  };
  hosts.server().pause(true);
  hosts.run(15s, order);
  EXPECT_EQ(heard, 0);
  hosts.server().pause(false);
  hosts.run(1s, order);
  EXPECT_TRUE(client.connected());
  hosts.run(8s);
  EXPECT_GT(sent, 300);
  EXPECT_EQ(heard, sent);
}

TEST(Endings, MessagesThatWaitForTheBudgetComeBeforeTheEnd) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1, with([](ServerOptions& options) {
                   options.tick_budget = {20, 0};
                 }));
  Client& client = hosts.join();
  int heard = 0;
  hosts.server().on<Hail>([&](Peer, const Hail& hail) {
    EXPECT_EQ(hail.number, heard++);
    EXPECT_EQ(hosts.log().size(), 1U) << "the end comes last";
  });
  hosts.run(300ms);
  for (int i = 0; i < 400; ++i) ASSERT_EQ(client.send(Hail{i, ""}), Errc::none);
  client.close("done");
  hosts.run(5s);
  EXPECT_EQ(heard, 400);
  ASSERT_EQ(hosts.log().size(), 2U);
  EXPECT_EQ(hosts.log()[1], "out 1 closed_by_peer done");
  EXPECT_EQ(hosts.server().connections(), 0U);
}

TEST(Endings, OnlyMessagesThatWereSentCountAsSent) {
  ClientOptions narrow;
  narrow.queues = {{"sure", 4, 1 << 20, link::AtLimit::refuse}};
  SimHosts hosts(kProtocol);
  Client& client = hosts.join(narrow);
  hosts.run(300ms);
  Errc error = Errc::none;
  while ((error = client.send(Hail{0, "full"})) == Errc::none) {
  }
  ASSERT_EQ(error, Errc::queue_full);
  for (int i = 0; i < 50; ++i) EXPECT_EQ(client.send(Order{i}), Errc::queue_full);
  hosts.run(200ms);
  EXPECT_EQ(client.send(Order{1}), Errc::none);
}

TEST(Endings, AFullServerTakesItsOwnClientBack) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1, with([](ServerOptions& options) {
                   options.resume = 60s;
                   options.capacity = 1;
                 }));
  Client& first = hosts.join();
  hosts.run(300ms);
  ClientOptions again;
  again.resume = first.resume()->secret;
  hosts.kill(0);
  hosts.run(1s);  // the server has not noticed
  Client& second = hosts.join(again);
  Client& stranger = hosts.join();
  hosts.run(1s);
  EXPECT_TRUE(second.connected());
  EXPECT_TRUE(second.resumed());
  EXPECT_FALSE(stranger.connected()) << "the place is taken all the same";
  EXPECT_EQ(hosts.server().peers().size(), 1U);
}

}  // namespace endings_test
}  // namespace kwind::host
