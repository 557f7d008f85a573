// The demo's verdict must notice whatever could go wrong between server and client.
#include <gtest/gtest.h>

#include "demo/verdict.h"
#include "kit/sim_pair.h"

namespace kwind::demo {
namespace verdict_test {

using namespace std::chrono_literals;
using kit::at;

// A gull and a tug that go north at 10 m/s and a post, 100 ticks; one bot that was told of all.
struct Voyage {
  ServerRecord server;
  BotRecord bot;

  Voyage() {
    for (std::uint32_t tick = 1; tick <= 100; ++tick) {
      for (const std::uint32_t id : {1U, 2U}) {
        server.truth[{id, 0}].push_back({tick, tick * 10 + id, tick * 0.5, id * 100.0});
        bot.values.push_back({id, 0, tick, tick * 10 + id});
        if (tick > 2) bot.drawn.push_back({id, 0, tick - 1.5, (tick - 1.5) * 0.5, id * 100.0});
      }
    }
    server.truth[{3, 1}].push_back({1, 77, 0, 0});
    bot.values.push_back({3, 1, 1, 77});
    bot.held = {{1, 0, 100, 1001}, {2, 0, 100, 1002}, {3, 1, 1, 77}};
    server.in_view = {{"Tern", 3}};
    server.hails = {{"Tern", 5}, {"Mudlark", 3}};
    bot.number = 1;
    bot.name = "Tern";
    bot.tug = {2, 0};
    bot.started = at(0s);
    bot.connected = at(100ms);
    bot.complete = at(400ms);
    bot.first_notice = {{"Tern", 1}, {"Mudlark", 1}};
    bot.last_notice = {{"Tern", 5}, {"Mudlark", 3}};
  }
  std::string complaint() {
    const Verdict verdict = judge(server, {bot});
    EXPECT_EQ(verdict.all_agree(), verdict.bots[0].why_not.empty());
    return verdict.bots[0].why_not;
  }
};

TEST(Verdict, AgreesWhenAllIsWell) {
  Voyage voyage;
  EXPECT_EQ(voyage.complaint(), "");
  const Verdict verdict = judge(voyage.server, {voyage.bot});
  EXPECT_EQ(verdict.values, 201U);
  EXPECT_NEAR(verdict.worst_error, 0, 1e-9) << "it drew what lay between two ticks";
}

TEST(Verdict, NoticesEverythingThatCanBeWrong) {
  const auto after = [](auto&& spoil) {
    Voyage voyage;
    spoil(voyage);
    return voyage.complaint();
  };
  EXPECT_EQ(after([](Voyage& v) { v.bot.ended = "timed out"; }), "timed out");
  EXPECT_EQ(after([](Voyage& v) { v.bot.connected.reset(); }), "never connected");
  EXPECT_EQ(after([](Voyage& v) { v.bot.snapshots_refused = 2; }), "refused 2 snapshots");
  EXPECT_EQ(after([](Voyage& v) { ++v.bot.values[40].print; }),
            "the value received of entity 1 for tick 21 is not the server's");
  EXPECT_EQ(after([](Voyage& v) { v.bot.values[40].id = 9; }),
            "the value received of entity 9 for tick 21 is not the server's");
  EXPECT_EQ(after([](Voyage& v) { v.bot.values[40].tick = 0; }),
            "the value received of entity 1 for tick 0 is not the server's");
  EXPECT_EQ(after([](Voyage& v) { v.bot.desyncs = 1; }),
            "differed from the server's digest 1 times");
  EXPECT_EQ(after([](Voyage& v) { v.bot.held[1].print = 992; }),
            "does not hold the last state of entity 2");
  EXPECT_EQ(after([](Voyage& v) { v.bot.held.pop_back(); }), "sees 2 entities where 3 are in view");
  EXPECT_EQ(after([](Voyage& v) { v.server.in_view.clear(); }),
            "sees 3 entities where 0 are in view");
  EXPECT_EQ(after([](Voyage& v) { v.bot.complete.reset(); }),
            "never saw its tug and what is around it");
  EXPECT_EQ(after([](Voyage& v) {
              v.bot.late = true;
              v.bot.complete = at(1200ms);
            }),
            "took over 1.0 s to see what is around its tug");
  EXPECT_EQ(after([](Voyage& v) { v.bot.notices_out_of_order = 1; }),
            "received notices out of order");
  EXPECT_EQ(after([](Voyage& v) { v.bot.last_notice["Mudlark"] = 2; }),
            "did not receive the last notice of Mudlark");
  EXPECT_EQ(after([](Voyage& v) { v.bot.first_notice["Mudlark"] = 2; }),
            "did not receive the first notice of Mudlark");
}

TEST(Verdict, MeasuresHowFarOffThingsAreDrawn) {
  Voyage voyage;
  for (Drawn& drawn : voyage.bot.drawn) drawn.north += drawn.id == 1 ? 0.3 : 0;
  voyage.bot.drawn.back().east += 4;
  const Verdict verdict = judge(voyage.server, {voyage.bot});
  EXPECT_NEAR(verdict.worst_error, 4, 1e-9);
  EXPECT_NEAR(verdict.mean_error, 0.15 + 4.0 / 196, 1e-9);
  EXPECT_EQ(verdict.worst_bot, 1U);
  EXPECT_NEAR(verdict.bots[0].p99_error, 0.3, 1e-9);
}

TEST(Verdict, PlacesBetweenTicksAreOnTheLineBetweenThem) {
  const Voyage voyage;
  const auto place = place_at(voyage.server, 1, 0, 10.25);
  ASSERT_TRUE(place);
  EXPECT_DOUBLE_EQ(place->north, 5.125);
  EXPECT_FALSE(place_at(voyage.server, 1, 1, 10)) << "another generation";
  EXPECT_FALSE(place_at(voyage.server, 1, 0, 0.5)) << "before its time";
}

}  // namespace verdict_test
}  // namespace kwind::demo
