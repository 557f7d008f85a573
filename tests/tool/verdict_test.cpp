// The demo's verdict must notice whatever the link could do wrong.
#include <gtest/gtest.h>

#include "demo/json_size.h"
#include "demo/verdict.h"
#include "kit/sim_pair.h"

namespace kwind::demo {
namespace {

using namespace std::chrono_literals;
using kit::at;

// Two tugs going east at 10 m/s, ticks 50 ms apart, one bot that receives each tick 40 ms later.
struct Voyage {
  ServerRecord server;
  BotRecord bot;

  Voyage() {
    for (int tick = 0; tick < 100; ++tick) {
      const double x = tick * 0.5;
      server.ticks.push_back({at(tick * 50ms), {{1, x, 0, 90, 20}, {2, x, 100, 90, 20}}});
      bot.fleets[tick] = {at(tick * 50ms + 40ms), server.ticks.back().tugs};
      bot.samples.push_back({at(tick * 50ms + 45ms), tick});
    }
    server.frozen_tick = 90;
    server.names = {{1, "Tern"}, {2, "Mudlark"}};
    server.hails = {{1, 5}, {2, 3}};
    bot.number = 1;
    bot.started = at(0s);
    bot.connected = at(100ms);
    bot.complete = at(400ms);
    bot.names = server.names;
    bot.first_notice = {{1, 1}, {2, 1}};
    bot.last_notice = {{1, 5}, {2, 3}};
  }
  std::string complaint() {
    const Verdict verdict = judge(server, {bot});
    EXPECT_EQ(verdict.all_agree(), verdict.bots[0].why_not.empty());
    return verdict.bots[0].why_not;
  }
};

TEST(Verdict, AgreesWhenAllIsWell) {
  EXPECT_EQ(Voyage().complaint(), "");
}

TEST(Verdict, NoticesEverythingThatCanBeWrong) {
  const auto after = [](auto&& spoil) {
    Voyage voyage;
    spoil(voyage);
    return voyage.complaint();
  };
  EXPECT_EQ(after([](Voyage& v) { v.bot.fleets[50].tugs[1].x += 0.0625; }),
            "its fleet of tick 50 differs from the server's");
  EXPECT_EQ(after([](Voyage& v) { v.bot.fleets.erase(v.bot.fleets.find(90), v.bot.fleets.end()); }),
            "does not hold the tugs' last positions");
  EXPECT_EQ(after([](Voyage& v) { v.bot.fleets_out_of_order = 1; }),
            "received an older fleet after a newer one");
  EXPECT_EQ(after([](Voyage& v) { v.bot.complete.reset(); }),
            "never held every tug's position and name");
  EXPECT_EQ(after([](Voyage& v) { v.bot.late = true, v.bot.complete = at(1001ms); }),
            "took over 1.0 s to hold every tug's position and name");
  EXPECT_EQ(after([](Voyage& v) { v.bot.names.erase(2); }), "knows 1 names for 2 tugs");
  EXPECT_EQ(after([](Voyage& v) { v.bot.names[2] = "Foghorn"; }), "knows tug 2 by a wrong name");
  EXPECT_EQ(after([](Voyage& v) { v.bot.notices_out_of_order = 1; }), "heard notices out of order");
  EXPECT_EQ(after([](Voyage& v) { v.bot.last_notice[2] = 2; }),
            "did not hear the last notice of tug 2");
  EXPECT_EQ(after([](Voyage& v) { v.bot.last_notice.erase(2); }),
            "did not hear the last notice of tug 2");
  EXPECT_EQ(after([](Voyage& v) { v.bot.first_notice[1] = 2; }),
            "did not hear the first notice of tug 1");
  EXPECT_EQ(after([](Voyage& v) { v.bot.late = true, v.bot.first_notice[1] = 2; }), "")
      << "a late joiner hears what comes after it";
  EXPECT_EQ(after([](Voyage& v) { v.bot.connected.reset(); }), "never connected");
  EXPECT_EQ(after([](Voyage& v) { v.bot.ended = "the server did not answer"; }),
            "the server did not answer");
  EXPECT_EQ(after([](Voyage& v) { v.bot.fleets.clear(); }), "never saw the fleet");
}

TEST(Verdict, SplitsThePositionErrorByCause) {
  Voyage voyage;
  // At 2.52 s the bot should hold tick 49 (sent 2.45, there 2.49) but tick 49 was lost: it
  // holds 48.
  const Sample sample{at(2520ms), 48};
  voyage.bot.fleets.erase(49);
  ErrorSplit split;
  ASSERT_TRUE(error_of(voyage.server, voyage.bot, sample, 1, split));
  EXPECT_NEAR(split.total, 1.2, 1e-9) << "25.2 m at 2.52 s, 24.0 m held";
  EXPECT_NEAR(split.path, 0.4, 1e-9) << "40 ms at 10 m/s";
  EXPECT_NEAR(split.interval, 0.3, 1e-9) << "tick 49 was sent 30 ms before 2.48 s";
  EXPECT_NEAR(split.loss, 0.5, 1e-9) << "a tick older";
}

TEST(JsonSize, CountsTheTextThatANaiveGameWouldSend) {
  const harbour::Helm helm{0.5, 80};
  EXPECT_EQ(json_bytes(helm), std::string(R"({"rudder":0.5,"throttle":80,"type":"Helm"})").size());
}

}  // namespace
}  // namespace kwind::demo
