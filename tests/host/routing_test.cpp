// Dispatch, checks, authority and limits of what comes in, through Server and Client on the
// simulated network.
#include <gtest/gtest.h>

#include <map>
#include <optional>

#include "host/routing_kit.h"
#include "kwind/schema/sample.h"

namespace kwind::host {
namespace routing_test {

using namespace std::chrono_literals;
using namespace routing;
using kit::SimHosts;
using route::CheckResult;
using route::Outcome;
using route::RawMessage;

// ---- handlers ----

TEST(Routing, HandlersRunInOrderAndMaySubscribeAndUnsubscribeWhileTheyRun) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  std::string log;
  std::optional<Subscription> second;
  std::optional<Subscription> late;
  hosts.server().on<Hail>([&](Peer, const Hail& hail) {
    log += "a" + std::to_string(hail.number);
    if (hail.number == 1) second.reset();
    if (hail.number == 1) {
      late = hosts.server().subscribe<Hail>([&](Peer, const Hail&) {
        log += "late ";
        late.reset();  // from within itself
      });
    }
  });
  second = hosts.server().subscribe<Hail>([&](Peer, const Hail&) { log += "b "; });
  hosts.server().on<Hail>([&](Peer, const Hail&) { log += "c "; });
  hosts.run(200ms);
  for (int i = 0; i < 4; ++i) (void)client.send(Hail{i, ""});
  hosts.run(200ms);
  EXPECT_EQ(log, "a0b c a1c a2c late a3c ");
}

struct Office {
  std::string log;
  void on_message(Peer, const Hail& hail) { log += "hail " + hail.words + "; "; }
  void on_message(Peer peer, const Flash&) {
    log += "flash from " + std::to_string(unsigned(peer));
  }
};

TEST(Routing, AnObjectBringsHandlersForAllItsKindsAndTakesThemAway) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  Office office;
  {
    const auto handles = hosts.server().subscribe_group<tables::Messages>(office);
    EXPECT_EQ(handles.size(), 2U);
    hosts.run(200ms);
    (void)client.send(Hail{1, "ahoy"});
    hosts.run(100ms);
    (void)client.send(Flash{2});
    hosts.run(200ms);
  }
  EXPECT_EQ(office.log, "hail ahoy; flash from 1");
  (void)client.send(Hail{3, "gone"});
  hosts.run(200ms);
  EXPECT_EQ(office.log, "hail ahoy; flash from 1");
  EXPECT_EQ(hosts.server().counts().route.unhandled, 1U);
}

TEST(Routing, WhatHasNoHandlerGoesToTheCatchAllOrIsCounted) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  hosts.run(200ms);
  (void)client.send(Flash{1});
  hosts.run(100ms);
  EXPECT_EQ(hosts.server().counts().route.unhandled, 1U);
  std::string log;
  hosts.server().on_unhandled([&](Peer, const RawMessage& message) { log += message.info.name; });
  hosts.server().on<Hail>([](Peer, const Hail&) {});
  (void)client.send(Flash{1});
  (void)client.send(Hail{1, ""});
  hosts.run(100ms);
  EXPECT_EQ(log, "Flash");
  EXPECT_EQ(hosts.server().counts().route.unhandled, 1U);
  // What only an owner may send gets past no handler that cannot tell who owns it.
  (void)client.send(Helm{schema::Ref<Tug>{1, 0}, 0.5});
  hosts.run(100ms);
  EXPECT_EQ(log, "Flash");
  EXPECT_EQ(hosts.server().counts().drops.of(Errc::not_owner), 1U);
  hosts.server().unhandled_checks_owners();
  (void)client.send(Helm{schema::Ref<Tug>{1, 0}, 0.5});
  hosts.run(100ms);
  EXPECT_EQ(log, "FlashHelm");
}

TEST(Routing, AHandlerThatThrowsCostsOneMessageAndIsReportedWithIt) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1,
                 with([](ServerOptions& options) { options.max_faults = 3; }));
  Client& client = hosts.join();
  Client& other = hosts.join();
  int calm = 0;
  std::string report;
  hosts.server().on<Hail>([](Peer, const Hail& hail) {
    if (hail.number < 10) throw std::runtime_error("the rope snapped");
  });
  hosts.server().on<Hail>([&](Peer, const Hail&) { ++calm; });
  hosts.server().on_fault([&](const route::HandlerException<Peer>& fault) {
    Hail hail;
    schema::Layout layout;
    ASSERT_NE(fault.message, nullptr);
    ASSERT_EQ(schema::decode_message(fault.message->fields, hail, layout), Errc::none);
    report += std::to_string(unsigned(fault.peer)) + " " + std::string(fault.message->info.name) +
              " " + hail.words + ": " + std::string(fault.what) + "; ";
  });
  hosts.run(200ms);
  (void)client.send(Hail{1, "ahoy"});
  (void)client.send(Hail{2, "again"});
  hosts.run(100ms);
  EXPECT_EQ(calm, 2) << "the next handler hears the message all the same";
  EXPECT_EQ(report, "1 Hail ahoy: the rope snapped; 1 Hail again: the rope snapped; ");
  EXPECT_TRUE(client.connected());
  (void)client.send(Hail{3, "once more"});
  (void)client.send(Hail{11, "too late"});
  hosts.run(500ms);
  EXPECT_EQ(hosts.server().counts().route.handler_faults, 3U);
  EXPECT_EQ(calm, 3) << "what came behind the last fault is not heard any more";
  EXPECT_TRUE(client.ended());
  EXPECT_EQ(hosts.log().back(), "out 1 too_many_faults its messages made too many handlers fail");
  EXPECT_TRUE(other.connected());
}

TEST(Routing, ConnectAndDisconnectHandlersMayThrowToo) {
  SimHosts hosts(kProtocol);
  int here = 0;
  hosts.server().on_connect([&](Peer) {
    ++here;
    throw 7;  // NOLINT: game code may throw anything
  });
  hosts.join();
  hosts.join();
  hosts.run(300ms);
  EXPECT_EQ(here, 2);
  EXPECT_EQ(hosts.server().counts().route.handler_faults, 2U);
}

// ---- checks and authority ----

TEST(Routing, ChecksOfTheGameComeBeforeHandlers) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1,
                 with([](ServerOptions& options) { options.max_faults = 2; }));
  Client& client = hosts.join();
  Client& rude = hosts.join();
  std::vector<int> heard;
  hosts.server().check<Hail>([](Peer, const Hail& hail) {
    if (hail.words == "psst") return CheckResult::drop;
    if (hail.words == "bad") return CheckResult::penalize;
    return hail.words == "worst" ? CheckResult::disconnect : CheckResult::accept;
  });
  hosts.server().check_all([](Peer, const RawMessage& message) {
    return message.info.name == "Flash" ? CheckResult::drop : CheckResult::accept;
  });
  hosts.server().on<Hail>([&](Peer, const Hail& hail) { heard.push_back(hail.number); });
  hosts.server().on<Flash>([&](Peer, const Flash&) { heard.push_back(-1); });
  hosts.run(200ms);
  (void)client.send(Hail{1, "ahoy"});
  (void)client.send(Hail{2, "psst"});
  (void)client.send(Hail{3, "bad"});
  (void)client.send(Flash{4});
  (void)rude.send(Hail{5, "worst"});
  hosts.run(300ms);
  EXPECT_EQ(heard, std::vector<int>{1});
  EXPECT_EQ(hosts.server().counts().drops.of(Errc::not_allowed), 4U);
  EXPECT_EQ(hosts.server().counts().route.penalized, 1U);
  EXPECT_TRUE(client.connected());
  EXPECT_FALSE(rude.connected());
  (void)client.send(Hail{6, "bad"});
  hosts.run(300ms);
  EXPECT_FALSE(client.connected()) << "the second message it was penalized for";
}

TEST(Routing, OnlyTheOwnerMaySteer) {
  SimHosts hosts(kProtocol);
  Client& owner = hosts.join();
  Client& other = hosts.join();
  std::vector<unsigned> heard;
  hosts.server().on<Helm>([&](Peer peer, const Helm&) { heard.push_back(unsigned(peer)); });
  hosts.run(200ms);
  const schema::Ref<Tug> tug{7, 2};
  (void)owner.send(Helm{tug, 0.5});
  hosts.run(100ms);
  EXPECT_TRUE(heard.empty()) << "nobody owns it yet";
  hosts.server().owners().give(tug, Peer{1});
  (void)owner.send(Helm{tug, 0.5});
  (void)other.send(Helm{tug, 0.5});
  hosts.run(100ms);
  (void)owner.send(Helm{{7, 3}, 0.5});  // another user of the same id
  hosts.run(100ms);
  (void)owner.send(Helm{{}, 0.5});
  hosts.run(100ms);
  EXPECT_EQ(heard, std::vector<unsigned>{1});
  EXPECT_EQ(hosts.server().counts().drops.of(Errc::not_owner), 4U);
  owner.close("");
  hosts.run(500ms);
  EXPECT_FALSE(hosts.server().owners().owns(Peer{1}, tug)) << "who is gone owns nothing";
}

// ---- limits of what comes in ----

TEST(Routing, ATickTakesSoManyMessagesOfOneConnectionAndNoMore) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1, with([](ServerOptions& options) {
                   options.tick_budget = {10, 0};
                 }));
  Client& client = hosts.join();
  std::vector<int> sure;
  int flashes = 0;
  hosts.server().on<Hail>([&](Peer, const Hail& hail) { sure.push_back(hail.number); });
  hosts.server().on<Flash>([&](Peer, const Flash&) { ++flashes; });
  hosts.run(200ms);
  for (int i = 0; i < 100; ++i) (void)client.send(Flash{i});
  hosts.run(300ms);
  EXPECT_LT(flashes, 40);
  EXPECT_EQ(flashes + static_cast<int>(hosts.server().counts().drops.of(Errc::over_budget)), 100);
  for (int i = 0; i < 100; ++i) (void)client.send(Hail{i, ""});
  hosts.run(5ms);
  hosts.run(2s);
  ASSERT_EQ(sure.size(), 100U) << "reliable ones wait for another tick";
  for (int i = 0; i < 100; ++i) EXPECT_EQ(sure[static_cast<std::size_t>(i)], i);
}

TEST(Routing, WhatIsHeldBackStaysInTheWindowOfItsChannel) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1,
                 with([](ServerOptions& options) { options.hold_until_ready = true; }));
  Client& client = hosts.join();
  std::size_t heard = 0;
  hosts.server().on<Hail>([&](Peer, const Hail& hail) {
    EXPECT_EQ(hail.number, static_cast<int>(heard));
    ++heard;
  });
  hosts.run(200ms);
  int sent = 0;
  const std::string words(60, 'x');
  hosts.run(20s, [&] {
    while (client.send(Hail{sent, words}) == Errc::none) ++sent;
  });
  EXPECT_EQ(heard, 0U);
  EXPECT_TRUE(client.connected()) << "waiting is no fault of the peer";
  const auto waiting = hosts.server().stats(Peer{1})->messages_received;
  EXPECT_LE(waiting * (32 + 61), (std::size_t{1} << 20) + 65536 + 65536) << "the window bounds it";
  EXPECT_GT(waiting, 1000U);
  EXPECT_GT(sent, static_cast<int>(waiting) + 3000) << "the rest waits at the sender";
  hosts.server().ready(Peer{1});
  hosts.run(60s);
  EXPECT_EQ(heard, static_cast<std::size_t>(sent));
}

TEST(Routing, NothingReachesTheGameBeforeItIsReadyThenAllInOrder) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1,
                 with([](ServerOptions& options) { options.hold_until_ready = true; }));
  Client& client = hosts.join();
  std::string log;
  hosts.server().on<Hail>(
      [&](Peer, const Hail& hail) { log += std::to_string(hail.number) + " "; });
  int flashes = 0;
  hosts.server().on<Flash>([&](Peer, const Flash& flash) {
    ++flashes;
    EXPECT_GE(flash.number, 100 - static_cast<int>(kMaxHeldState)) << "the newest are kept";
  });
  hosts.run(200ms);
  for (int i = 0; i < 5; ++i) (void)client.send(Hail{i, ""});
  hosts.run(300ms);
  for (int i = 0; i < 100; ++i) (void)client.send(Flash{i});
  hosts.run(300ms);
  EXPECT_EQ(log, "");
  hosts.server().ready(Peer{1});
  (void)client.send(Hail{5, ""});
  hosts.run(100ms);
  EXPECT_EQ(log, "0 1 2 3 4 5 ");
  EXPECT_EQ(flashes, static_cast<int>(kMaxHeldState));
}

TEST(Routing, WhoNeverSlowsDownOnAReliableChannelIsClosedWithTheCode) {
  ServerOptions options;
  options.timeouts.max_throttle_delay = 2s;
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1, options);
  // A client whose own limit was taken away: the same protocol, but for the table's `at most`.
  std::vector<schema::MessageInfo> messages(kProtocol.messages.begin(), kProtocol.messages.end());
  for (schema::MessageInfo& message : messages) message.at_most_per_second = 0;
  schema::ProtocolInfo lawless = kProtocol;
  lawless.messages = messages;
  Client& client = hosts.join(lawless);
  int heard = 0;
  hosts.server().on<Order>([&](Peer, const Order& order) { EXPECT_EQ(order.number, heard++); });
  hosts.run(200ms);
  int sent = 0;
  hosts.run(10s, [&] {
    for (int i = 0; i < 5; ++i) {
      if (client.send(Order{sent}) == Errc::none) ++sent;
    }
  });
  EXPECT_TRUE(client.ended());
  ASSERT_GE(hosts.log().size(), 2U);
  EXPECT_EQ(hosts.log()[1], "out 1 rate_limited Order came faster than its `at most`");
  EXPECT_GT(heard, 30);
}

// ---- a client that leaves in the middle of everything ----

TEST(Routing, AnybodyMayBeClosedFromAnyCallback) {
  for (std::uint64_t seed = 1; seed <= 30; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    SimHosts hosts(kProtocol, {.delay = 20ms, .jitter = 10ms, .loss = 0.05}, seed,
                   with([](ServerOptions& options) { options.capacity = 16; }));
    Server& server = hosts.server();
    schema::SampleNumbers dice(seed);
    const auto somebody = [&] { return Peer{static_cast<std::uint32_t>(1 + dice.up_to(15))}; };
    const auto whim = [&] {
      switch (dice.up_to(9)) {
        case 0: server.close(somebody(), "whim"); break;
        case 1: server.rooms().leave_all(somebody()); break;
        case 2: server.rooms().enter(somebody(), static_cast<int>(dice.up_to(3))); break;
        case 3:
          (void)server.request(somebody(), AskName{1}, 200ms, [](const Outcome<AskName>&) {});
          break;
        case 4: throw std::runtime_error("whim");
        default: server.send_to_room(static_cast<int>(dice.up_to(3)), Flash{1}); break;
      }
    };
    int connects = 0;
    int leaves = 0;
    server.on_connect([&](Peer peer) {
      ++connects;
      server.rooms().enter(peer, static_cast<int>(dice.up_to(3)));
      whim();
    });
    server.on_disconnect([&](Peer, Errc, std::string_view) {
      ++leaves;
      whim();
    });
    server.rooms().on_enter([&](Peer, const route::RoomKey&) {
      if (dice.up_to(20) == 0) server.close(somebody(), "whim");
    });
    server.rooms().on_leave([&](Peer, const route::RoomKey&) { whim(); });
    server.on<Hail>([&](Peer, const Hail&) { whim(); });
    server.on<Flash>([&](Peer peer, const Flash&) { server.close(peer, "flash"); });
    server.on_request<TakeTow>([&](Peer peer, const TakeTow&, route::Responder<TakeTow> responder) {
      server.close(peer, "asked");
      (void)responder.reply({.line = 1});
    });
    int outcomes = 0;
    int asked = 0;
    for (int i = 0; i < 16; ++i) hosts.join();
    hosts.run(8s, [&] {
      for (std::size_t i = 0; i < 16; ++i) {
        Client& client = hosts.client(i);
        switch (dice.up_to(30)) {
          case 0: client.close("tired"); break;
          case 1: (void)client.send(Flash{1}); break;
          case 2:
            if (client.request(TakeTow{1}, 1s, [&](const Outcome<TakeTow>&) { ++outcomes; }) ==
                Errc::none) {
              ++asked;
            }
            break;
          default: (void)client.send(Hail{1, "ahoy"}); break;
        }
      }
    });
    hosts.run(3s);
    EXPECT_EQ(outcomes, asked);
    EXPECT_EQ(connects - leaves, static_cast<int>(server.peers().size()));
    server.rooms().for_each([&](const route::RoomKey&, std::span<const Peer> members) {
      for (const Peer peer : members) EXPECT_NE(server.version(peer), 0) << unsigned(peer);
    });
  }
}

}  // namespace routing_test
}  // namespace kwind::host
