// Dispatch, checks, authority, requests, rooms and waiting messages, through Server and Client on
// the simulated network.
#include <gtest/gtest.h>

#include <map>
#include <optional>

#include "kit/sim_hosts.h"
#include "kwind/schema/sample.h"
#include "routing.h"

namespace kwind::host {
namespace routing_test {

using namespace std::chrono_literals;
using namespace routing;
using kit::SimHosts;
using route::CheckResult;
using route::Ending;
using route::Outcome;
using route::RawMessage;

ServerOptions with(const std::function<void(ServerOptions&)>& change) {
  ServerOptions options;
  change(options);
  return options;
}

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
  void hear(Peer, const Hail& hail) { log += "hail " + hail.words + "; "; }
  void hear(Peer peer, const Flash&) { log += "flash from " + std::to_string(unsigned(peer)); }
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

// ---- requests ----

TEST(Requests, HaveExactlyOneOutcome) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  std::optional<route::Responder<TakeTow>> later;
  std::vector<route::Responder<TakeTow>> kept;
  hosts.server().on_request<TakeTow>(
      [&](Peer, const TakeTow& ask, route::Responder<TakeTow> responder) {
        if (ask.barge == 1) {
          EXPECT_EQ(responder.reply({.line = 3}), Errc::none);
          EXPECT_EQ(responder.reply({.line = 4}), Errc::stray_answer) << "once";
        } else if (ask.barge == 2) {
          (void)responder.refuse(TakeTowRefusal::too_far, "come closer");
        } else if (ask.barge == 3) {
          later = std::move(responder);
        } else if (ask.barge < 6) {
          kept.push_back(std::move(responder));
        }  // the others are dropped
      });
  std::map<int, std::string> ends;
  const auto ask = [&](int barge, Duration timeout) {
    return client.request(TakeTow{barge}, timeout, [&ends, barge](const Outcome<TakeTow>& outcome) {
      switch (outcome.ending) {
        case Ending::replied: ends[barge] += "line " + std::to_string(outcome.reply.line); break;
        case Ending::refused:
          ends[barge] += std::string(name_of(outcome.refusal)) + ": " + outcome.words;
          break;
        case Ending::timed_out: ends[barge] += "late"; break;
        case Ending::abandoned: ends[barge] += "abandoned"; break;
        case Ending::disconnected: ends[barge] += "gone"; break;
        case Ending::not_sent: ends[barge] += "unsent"; break;
      }
    });
  };
  EXPECT_EQ(ask(0, 1s), Errc::closed) << "not connected yet";
  hosts.run(200ms);
  for (int barge = 1; barge <= 3; ++barge) EXPECT_EQ(ask(barge, 1s), Errc::none);
  EXPECT_EQ(ask(4, 500ms), Errc::none);
  EXPECT_EQ(ask(5, 60s), Errc::none);
  EXPECT_EQ(ask(6, 60s), Errc::none);
  hosts.run(400ms);
  EXPECT_EQ(ends[1], "line 3");
  EXPECT_EQ(ends[2], "too_far: come closer");
  EXPECT_EQ(ends[3], "") << "not answered so far";
  EXPECT_EQ(ends[6], "abandoned") << "its Answer was dropped";
  ASSERT_TRUE(later);
  (void)later->reply({.line = 1});
  hosts.run(400ms);
  EXPECT_EQ(ends[3], "line 1");
  EXPECT_EQ(ends[4], "late");
  client.close("");
  hosts.run(300ms);
  EXPECT_EQ(ends[5], "gone");
  EXPECT_EQ(ends.count(0), 0U);
}

TEST(Requests, LateAnswersAreDroppedAndCounted) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  std::optional<route::Responder<TakeTow>> later;
  hosts.server().on_request<TakeTow>(
      [&](Peer, const TakeTow&, route::Responder<TakeTow> responder) {
        later = std::move(responder);
      });
  hosts.run(200ms);
  int ends = 0;
  (void)client.request(TakeTow{1}, 300ms, [&](const Outcome<TakeTow>& outcome) {
    ++ends;
    EXPECT_EQ(outcome.ending, Ending::timed_out);
  });
  hosts.run(500ms);
  ASSERT_TRUE(later);
  EXPECT_EQ(later->reply({.line = 2}), Errc::none) << "the server cannot know";
  hosts.run(300ms);
  EXPECT_EQ(ends, 1);
  EXPECT_EQ(client.counts().drops.of(Errc::stray_answer), 1U);
}

TEST(Requests, ManyOfThemAreKeptApart) {
  for (std::uint64_t seed = 1; seed <= 20; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    SimHosts hosts(kProtocol, {.delay = 30ms, .jitter = 20ms, .loss = 0.1}, seed);
    Client& client = hosts.join();
    std::vector<std::pair<int, route::Responder<TakeTow>>> open;
    hosts.server().on_request<TakeTow>(
        [&](Peer, const TakeTow& ask, route::Responder<TakeTow> responder) {
          open.emplace_back(ask.barge, std::move(responder));
        });
    hosts.run(500ms);
    std::map<int, int> lines;
    int asked = 0;
    hosts.run(10s, [&] {
      while (asked < 100) {
        const int barge = asked;
        if (client.request(TakeTow{barge}, 30s, [&lines, barge](const Outcome<TakeTow>& outcome) {
              lines[barge] += outcome ? outcome.reply.line : 100;
            }) != Errc::none) {
          break;
        }
        ++asked;
      }
      while (open.size() > 3) {
        (void)  // the newest first
            open.back()
                .second.reply({.line = 1 + open.back().first % 4});
        open.pop_back();
      }
    });
    for (auto& [barge, responder] : open) (void)responder.reply({.line = 1 + barge % 4});
    hosts.run(2s);
    ASSERT_EQ(lines.size(), 100U);
    for (const auto& [barge, line] : lines) EXPECT_EQ(line, 1 + barge % 4) << barge;
  }
}

TEST(Requests, OnlySoManyMayBeOpen) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1,
                 with([](ServerOptions& options) { options.open_requests = 4; }));
  ClientOptions eager;
  eager.open_requests = 10;
  Client& client = hosts.join(eager);
  int asked = 0;
  std::vector<route::Responder<TakeTow>> kept;
  hosts.server().on_request<TakeTow>(
      [&](Peer, const TakeTow&, route::Responder<TakeTow> responder) {
        ++asked;
        kept.push_back(std::move(responder));
      });
  hosts.run(200ms);
  int late = 0;
  const auto note = [&](const Outcome<TakeTow>& outcome) {
    late += outcome.ending == Ending::timed_out ? 1 : 0;
  };
  for (int i = 0; i < 10; ++i) EXPECT_EQ(client.request(TakeTow{i}, 1s, note), Errc::none);
  EXPECT_EQ(client.request(TakeTow{10}, 1s, note), Errc::too_many_requests);
  hosts.run(2s);
  EXPECT_EQ(asked, 4) << "the server holds to its own limit";
  EXPECT_EQ(hosts.server().counts().drops.of(Errc::too_many_requests), 6U);
  EXPECT_EQ(late, 10);
}

TEST(Requests, GoBothWaysAndEndWithTheServer) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  std::vector<route::Responder<AskName>> kept;
  client.on_request<AskName>([&](const AskName& ask, route::Responder<AskName> responder) {
    if (ask.tug == 7) (void)responder.reply({.name = "Tern"});
    kept.push_back(std::move(responder));
  });
  hosts.run(200ms);
  std::string names;
  const auto note = [&](const Outcome<AskName>& outcome) {
    names += outcome                                  ? outcome.reply.name
             : outcome.ending == Ending::disconnected ? " gone"
                                                      : " other";
  };
  EXPECT_EQ(hosts.server().request(Peer{1}, AskName{7}, 1s, note), Errc::none);
  EXPECT_EQ(hosts.server().request(Peer{9}, AskName{7}, 1s, note), Errc::no_such_peer);
  hosts.run(200ms);
  EXPECT_EQ(names, "Tern");
  EXPECT_EQ(hosts.server().request(Peer{1}, AskName{8}, 60s, note), Errc::none);
  hosts.run(200ms);
  hosts.end_server();
  EXPECT_EQ(names, "Tern gone");
}

route::Task dock(Client& client, std::string& log) {
  const auto far = co_await client.request(TakeTow{2}, 1s);
  log += far.ending == Ending::refused ? "refused, " : "?, ";
  const auto near = co_await client.request(TakeTow{1}, 1s);
  log += "line " + std::to_string(near.reply.line);
  if (near.reply.line == 3) throw std::runtime_error("the line parted");
}

TEST(Requests, CanBeAwaited) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  hosts.server().on_request<TakeTow>(
      [&](Peer, const TakeTow& ask, route::Responder<TakeTow> responder) {
        if (ask.barge == 1) (void)responder.reply({.line = 3});
        if (ask.barge == 2) (void)responder.refuse(TakeTowRefusal::in_use);
      });
  hosts.run(200ms);
  std::string log;
  client.start(dock(client, log));
  EXPECT_EQ(log, "");
  hosts.run(500ms);
  EXPECT_EQ(log, "refused, line 3");
  EXPECT_EQ(client.counts().route.handler_faults, 1U) << "what a task throws is caught";
  log.clear();
  client.start(dock(client, log));
  hosts.run(10ms);
  hosts.kill(0);
  EXPECT_EQ(log, "?, line 1") << "its waits end with the client, in no reply";
}

// A Task that asks again whatever happens ends with its host all the same.
route::Task ask_for_ever(Client& client, int& asked) {
  for (Errc error = Errc::none; error != Errc::closed;) {
    ++asked;
    error = (co_await client.request(TakeTow{1}, 1s)).error;
    if (error == Errc::closed) error = (co_await client.request(TakeTow{1}, 1s)).error;
  }
}

TEST(Requests, ATaskThatAsksAgainDoesNotOutliveItsHost) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  hosts.run(200ms);
  int asked = 0;
  client.start(ask_for_ever(client, asked));
  hosts.run(10ms);
  hosts.kill(0);
  EXPECT_EQ(asked, 1) << "the second question was refused with closed";
}

TEST(Requests, AnAnswerThatCouldNotBeSentCanBeGivenAgain) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  std::optional<route::Responder<TakeTow>> kept;
  hosts.server().on_request<TakeTow>(
      [&](Peer, const TakeTow&, route::Responder<TakeTow> responder) {
        kept = std::move(responder);
      });
  hosts.run(200ms);
  std::string end;
  EXPECT_EQ(client.request(TakeTow{1}, 5s,
                           [&](const Outcome<TakeTow>& outcome) {
                             end = outcome ? "line " + std::to_string(outcome.reply.line) : "none";
                           }),
            Errc::none);
  hosts.run(200ms);
  ASSERT_TRUE(kept);
  // The answer's channel is filled until it takes no more.
  Errc error = Errc::none;
  while (error == Errc::none) {
    error = hosts.server().send(Peer{1}, Hail{0, "full"});
  }
  ASSERT_EQ(error, Errc::queue_full);
  EXPECT_EQ(kept->reply({.line = 2}), Errc::queue_full);
  hosts.run(4s);
  EXPECT_EQ(kept->reply({.line = 3}), Errc::none);
  hosts.run(500ms);
  EXPECT_EQ(end, "line 3");
}

// ---- rooms and fan-out ----

TEST(Rooms, SendToThoseWhoAreInThem) {
  SimHosts hosts(kProtocol);
  std::map<int, std::string> heard;
  for (int i = 1; i <= 4; ++i) {
    hosts.join().on<Hail>([&heard, i](const Hail& hail) { heard[i] += hail.words; });
  }
  hosts.run(300ms);
  Server& server = hosts.server();
  server.rooms().enter(Peer{1}, "quay");
  server.rooms().enter(Peer{2}, "quay");
  server.rooms().enter(Peer{2}, 7);
  server.rooms().enter(Peer{3}, 7);
  EXPECT_EQ(server.send_to_room("quay", Hail{0, "q"}), 2U);
  EXPECT_EQ(server.send_to_room_but(7, Peer{3}, Hail{0, "7"}), 1U);
  EXPECT_EQ(server.send_to_room("nowhere", Hail{0, "n"}), 0U);
  const std::vector<Peer> some{Peer{4}, Peer{1}, Peer{99}};
  EXPECT_EQ(server.send_to(some, Hail{0, "s"}), 2U);
  EXPECT_EQ(server.send_to_all(Hail{0, "!"}), 4U);
  hosts.run(100ms);
  EXPECT_EQ(heard[1], "qs!");
  EXPECT_EQ(heard[2], "q7!");
  EXPECT_EQ(heard[3], "!");
  EXPECT_EQ(heard[4], "s!");
}

TEST(Rooms, AMoveLosesAndDoublesNothingAndSnapshotsComeFirst) {
  SimHosts hosts(kProtocol, {.delay = 30ms, .jitter = 20ms, .loss = 0.1}, 5);
  std::vector<std::string> heard;
  hosts.join().on<Hail>([&](const Hail& hail) { heard.push_back(hail.words); });
  hosts.run(500ms);
  Server& server = hosts.server();
  server.rooms().on_enter([&](Peer peer, const route::RoomKey& room) {
    (void)server.send(peer, Hail{0, "this is " + room.text()});
  });
  server.rooms().enter(Peer{1}, "north");
  int number = 0;
  std::vector<std::string> expected{"this is north"};
  std::string here = "north";
  hosts.run(5s, [&] {
    ++number;
    for (const char* room : {"north", "south"}) {
      server.send_to_room(room, Hail{0, room + std::to_string(number)});
    }
    expected.push_back(here + std::to_string(number));
    const std::string there = here == "north" ? "south" : "north";
    server.rooms().move(Peer{1}, here, there);
    expected.push_back("this is " + there);
    here = there;
    for (const char* room : {"north", "south"}) {
      server.send_to_room(room, Hail{0, std::string(room) + "'" + std::to_string(number)});
    }
    expected.push_back(here + "'" + std::to_string(number));
  });
  hosts.run(3s);
  EXPECT_EQ(heard, expected);
}

TEST(Rooms, AMoveLeavesBeforeItEnters) {
  SimHosts hosts(kProtocol);
  hosts.join();
  hosts.run(200ms);
  auto& rooms = hosts.server().rooms();
  std::string steps;
  rooms.on_leave([&](Peer peer, const route::RoomKey& room) {
    steps += "left " + room.text() + (rooms.contains("south", peer) ? ", in both; " : "; ");
  });
  rooms.on_enter([&](Peer peer, const route::RoomKey& room) {
    steps += "entered " + room.text() + (rooms.contains("north", peer) ? ", in north; " : "; ");
  });
  rooms.enter(Peer{1}, "north");
  rooms.move(Peer{1}, "north", "south");
  rooms.move(Peer{1}, "south", "south");
  EXPECT_EQ(steps, "entered north, in north; left north; entered south; ");
}

TEST(Rooms, AMoveMayNameTheRoomsByTheListThatItChanges) {
  SimHosts hosts(kProtocol);
  hosts.join();
  hosts.run(200ms);
  auto& rooms = hosts.server().rooms();
  for (const bool strings : {false, true}) {
    const route::RoomKey quay = strings ? route::RoomKey("the quay of the salt barges") : 1U;
    const route::RoomKey pier = strings ? route::RoomKey("the pier of the ferry to town") : 2U;
    rooms.enter(Peer{1}, quay);
    rooms.enter(Peer{1}, pier);
    rooms.move(Peer{1}, rooms.rooms_of(Peer{1})[0], rooms.rooms_of(Peer{1})[1]);
    EXPECT_FALSE(rooms.contains(quay, Peer{1}));
    EXPECT_TRUE(rooms.contains(pier, Peer{1}));
    rooms.leave_all(Peer{1});
  }
}

TEST(Rooms, AreLeftByWhoIsGoneAfterTheGameHasHeardOfIt) {
  SimHosts hosts(kProtocol);
  Client& client = hosts.join();
  hosts.join();
  hosts.run(300ms);
  Server& server = hosts.server();
  std::string log;
  server.rooms().on_leave([&](Peer peer, const route::RoomKey& room) {
    log += std::to_string(unsigned(peer)) + " left " + room.text() + "; ";
  });
  server.on_disconnect([&](Peer peer, Errc, std::string_view) {
    EXPECT_EQ(server.rooms().rooms_of(peer).size(), 2U) << "it can still be seen where it was";
    log += "gone; ";
  });
  for (const unsigned peer : {1U, 2U}) {
    server.rooms().enter(Peer{peer}, "quay");
    server.rooms().enter(Peer{peer}, 3);
  }
  client.close("");
  hosts.run(500ms);
  EXPECT_EQ(log, "gone; 1 left 3; 1 left quay; ");
  EXPECT_EQ(server.rooms().members("quay").size(), 1U);
}

TEST(FanOut, EncodesOnceHoweverManyThereAre) {
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1,
                 with([](ServerOptions& options) { options.capacity = 200; }));
  std::size_t heard = 0;
  for (int i = 0; i < 200; ++i) {
    hosts.join().on<Hail>([&](const Hail& hail) { heard += hail.words == "ahoy" ? 1 : 0; });
  }
  hosts.run(1s);
  for (const Peer peer : hosts.server().peers()) hosts.server().rooms().enter(peer, "all");
  const auto before = hosts.server().counts().encoded;
  EXPECT_EQ(hosts.server().send_to_room("all", Hail{1, "ahoy"}), 200U);
  EXPECT_EQ(hosts.server().counts().encoded, before + 1);
  hosts.run(300ms);
  EXPECT_EQ(heard, 200U);
}

TEST(FanOut, ASlowReaderCostsOthersNothing) {
  ServerOptions options;
  options.queues.push_back({"sure", 50, 1 << 20, link::AtLimit::close});
  SimHosts hosts(kProtocol, {.delay = 20ms}, 1, options);
  std::size_t heard = 0;
  hosts.join().on<Hail>([&](const Hail&) { ++heard; });
  ClientOptions dozing;
  dozing.hold_until_ready = true;  // takes nothing in
  Client& slow = hosts.join(dozing);
  hosts.run(300ms);
  const std::string words(60, 'x');
  std::size_t sent = 0;
  hosts.run(60s, [&] {
    for (int i = 0; i < 20; ++i, ++sent) hosts.server().send_to_all(Hail{i, words});
  });
  hosts.run(1s);
  EXPECT_EQ(heard, sent) << "nothing lost by who reads";
  EXPECT_TRUE(slow.ended());
  EXPECT_EQ(hosts.log().back().substr(0, 16), "out 2 queue_full");
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
