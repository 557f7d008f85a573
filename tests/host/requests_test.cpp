// Requests through Server and Client on the simulated network: each has one outcome.
#include <gtest/gtest.h>

#include <map>
#include <optional>
#include "host/routing_kit.h"

namespace kwind::host {
namespace requests_test {

using namespace std::chrono_literals;
using namespace routing;
using kit::SimHosts;
using route::Ending;
using route::Outcome;

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

}  // namespace requests_test
}  // namespace kwind::host
