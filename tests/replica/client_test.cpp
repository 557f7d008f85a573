// What a client does with what it is told: when it draws, what it draws, what it says itself.
#include <gtest/gtest.h>

#include <cmath>

#include "crossing.h"
#include "kwind/replica/inputs.h"
#include "kwind/replica/playout_clock.h"

namespace kwind {
namespace client_test {

using namespace std::chrono_literals;
using kit::Crossing;
using replica::ClientWorld;
using replica::InputReceiver;
using replica::InputSender;
using replica::PlayoutClock;

Time at_ms(double ms) {
  return Time{} +
         std::chrono::duration_cast<Duration>(std::chrono::duration<double, std::milli>(ms));
}

TEST(PlayoutClock, FollowsTheJitterOfThePathAndNeverGoesBack) {
  PlayoutClock play({.ticks_per_second = 20});
  EXPECT_FALSE(play.tick_at(at_ms(0)));
  std::mt19937_64 random(1);
  double last = 0;
  int too_early = 0;
  int draws = 0;
  // Ten seconds of a quiet path, twenty of one that is up to 120 ms late, thirty of a quiet one.
  std::uint32_t newest = 0;
  std::multimap<double, std::uint32_t> acked_snapshots;
  for (std::uint32_t tick = 1; tick <= 1200; ++tick) {
    const bool bad = tick > 200 && tick <= 600;
    const double late =
        bad ? static_cast<double>(random() % 120) : static_cast<double>(random() % 4);
    acked_snapshots.emplace(tick * 50 + 40 + late, tick);
  }
  double quiet = 0;
  double busy = 0;
  double quiet_again = 0;
  auto next = acked_snapshots.begin();
  for (double ms = 0; ms < 60000; ms += 16) {
    for (; next != acked_snapshots.end() && next->first <= ms; ++next) {
      if (next->second <= newest) continue;
      newest = next->second;
      play.on_snapshot(at_ms(next->first), newest);
    }
    const auto drawn = play.tick_at(at_ms(ms));
    if (!drawn) continue;
    EXPECT_GE(*drawn, last) << ms;
    last = *drawn;
    if (ms > 12000) {
      ++draws;
      too_early += *drawn > newest ? 1 : 0;
    }
    if (ms < 9000) quiet = play.delay_ticks();
    if (ms > 20000 && ms < 29000) busy = play.delay_ticks();
    quiet_again = play.delay_ticks();
  }
  EXPECT_LT(quiet, 1.2);
  EXPECT_GT(busy, 2.5) << "120 ms are 2.4 ticks, and one for drawing between states";
  EXPECT_LT(busy, 4);
  EXPECT_LT(quiet_again, 1.2) << "it comes back";
  EXPECT_LT(too_early, draws / 50) << "of " << draws;
}

// Draws every 16 ms while snapshots arrive; returns how far ahead of the newest snapshot it drew at
// most, and for how long it stood still.
struct Drawn {
  double max_ahead = 0;
  double longest_rest_ms = 0;
  double newest_in_the_end = 0;
  double last = 0;
};
Drawn draw(const std::multimap<double, std::uint32_t>& acked_snapshots, double ms_in_all) {
  PlayoutClock play({.ticks_per_second = 20});
  Drawn drawn;
  std::uint32_t newest = 0;
  double moved_at = 0;
  auto next = acked_snapshots.begin();
  for (double ms = 0; ms < ms_in_all; ms += 16) {
    for (; next != acked_snapshots.end() && next->first <= ms; ++next) {
      newest = std::max(newest, next->second);
      play.on_snapshot(at_ms(next->first), newest);
    }
    const auto tick = play.tick_at(at_ms(ms));
    if (!tick) continue;
    EXPECT_GE(*tick, drawn.last) << ms;
    if (*tick > drawn.last) moved_at = ms;
    drawn.last = *tick;
    drawn.longest_rest_ms = std::max(drawn.longest_rest_ms, ms - moved_at);
    drawn.max_ahead = std::max(drawn.max_ahead, *tick - newest);
  }
  drawn.newest_in_the_end = newest;
  return drawn;
}

TEST(PlayoutClock, AServerThatStoodStillIsFollowedAtOnce) {
  for (const double pause : {500.0, 1500.0, 3000.0, 3900.0, 10000.0}) {
    std::multimap<double, std::uint32_t> acked_snapshots;
    for (std::uint32_t tick = 1; tick <= 600; ++tick) {
      acked_snapshots.emplace(tick * 50 + 40 + (tick > 200 ? pause : 0), tick);
    }
    const Drawn drawn = draw(acked_snapshots, 30000 + pause);
    EXPECT_LE(drawn.max_ahead, ClientWorld::kMaxAhead) << pause;
    EXPECT_LE(drawn.longest_rest_ms, pause + 700) << pause;
    EXPECT_NEAR(drawn.newest_in_the_end - drawn.last, 1, 1) << pause;
  }
}

TEST(PlayoutClock, APathThatStoodStillTakesNothingBack) {
  for (const double stall : {1000.0, 3000.0, 5000.0, 20000.0}) {
    std::multimap<double, std::uint32_t> acked_snapshots;
    for (std::uint32_t tick = 1; tick <= 1200; ++tick) {
      const double sent = tick * 50;
      const bool held = sent >= 10000 && sent < 10000 + stall;
      acked_snapshots.emplace((held ? 10000 + stall : sent) + 40, tick);
    }
    const Drawn drawn = draw(acked_snapshots, 60000);
    EXPECT_LE(drawn.max_ahead, ClientWorld::kMaxAhead) << stall;
    EXPECT_LE(drawn.longest_rest_ms, stall + 100) << stall;
    EXPECT_NEAR(drawn.newest_in_the_end - drawn.last, 1, 1) << stall;
  }
}

TEST(Sample, MovesBetweenStatesTurnsTheShortWayAndStopsInTheEnd) {
  kit::MovingBay bay(1);
  const std::uint32_t id = bay.spawn(bay::Gull{350, 5, {0, 0}, false});
  const schema::Ref<bay::Gull> gull{id, bay.all().at(id).ref.generation};
  Crossing crossing(bay, {});
  crossing.see_all();
  const auto tick = [&](double bearing, const Eigen::Vector2d& at, bool hungry) {
    bay.put(id, bay::Gull{bearing, 5, at, hungry});
    bay.stand_still();
    crossing.tick();
  };
  for (int i = 0; i < 6; ++i) tick(350, {-1, -2}, false);
  tick(350, {0, 0}, false);  // 7
  tick(10, {1, 2}, true);
  tick(10, {2, 4}, true);
  for (int i = 0; i < 3; ++i) {
    bay.stand_still();
    crossing.tick();
  }
  const ClientWorld& client_world = crossing.client_world();
  const auto half = client_world.sample(gull, 7.5);
  ASSERT_TRUE(half);
  EXPECT_DOUBLE_EQ(half->at[0], 0.5);
  EXPECT_DOUBLE_EQ(half->at[1], 1);
  EXPECT_DOUBLE_EQ(half->bearing, 0) << "by way of north, not of south";
  EXPECT_FALSE(half->hungry) << "a switch is not drawn half";
  EXPECT_DOUBLE_EQ(client_world.sample(gull, 8)->at[1], 2);
  EXPECT_TRUE(client_world.sample(gull, 8.25)->hungry);
  // Beyond what is known it flies on along its bearing, but not for ever.
  const double known = client_world.state_tick(gull);
  const auto ahead = client_world.sample(gull, known + 2);
  const double radians = 10 * std::numbers::pi / 180;
  EXPECT_NEAR(ahead->at[0], 2 + std::cos(radians) * 5 * 2 / 20, 0.07);
  EXPECT_NEAR(ahead->at[1], 4 + std::sin(radians) * 5 * 2 / 20, 0.07);
  EXPECT_EQ(client_world.sample(gull, 100)->at, client_world.get(gull)->at)
      << "it stands, or we would have heard";
  EXPECT_GT(client_world.sample(gull, known + ClientWorld::kMaxAhead)->at[0], ahead->at[0]);
  EXPECT_FALSE(client_world.owns(gull));
  EXPECT_FALSE(client_world.sample(schema::Ref<bay::Gull>{99, 1}, 2));
}

TEST(Sample, ALeapIsNotDrawnAsMotionNorIsALongRest) {
  kit::MovingBay bay(2);
  const std::uint32_t id = bay.spawn(bay::Gull{0, 0, {-400, 0}, false});
  const schema::Ref<bay::Gull> gull{id, bay.all().at(id).ref.generation};
  Crossing crossing(bay, {});
  crossing.see_all();
  const auto wait = [&](int ticks) {
    for (int i = 0; i < ticks; ++i) {
      bay.stand_still();
      crossing.tick();
    }
  };
  wait(10);
  bay.put(id, bay::Gull{0, 0, {-399, 0}, false});  // tick 11
  wait(10);
  bay.put(id, bay::Gull{0, 0, {399, 0}, false});  // tick 21
  wait(5);
  const ClientWorld& client_world = crossing.client_world();
  EXPECT_DOUBLE_EQ(client_world.sample(gull, 6)->at[0], -400)
      << "it stood still until shortly before";
  EXPECT_DOUBLE_EQ(client_world.sample(gull, 9)->at[0], -399.5);
  EXPECT_DOUBLE_EQ(client_world.sample(gull, 20.9)->at[0], -399);
  EXPECT_DOUBLE_EQ(client_world.sample(gull, 21)->at[0], 399);
}

// Sender and receiver with a lossy path between them; the server uses what came, and says so.
struct InputPath {
  explicit InputPath(std::uint64_t seed, double loss_in)
      : bay(seed), crossing(bay, {}), loss(loss_in) {
    bay.populate(0, 0, 3, 0);
    crossing.see_all();
  }
  kit::MovingBay bay;
  Crossing crossing;
  double loss;
  InputSender sender{crossing.client_world(), 3};
  InputReceiver receiver;
  std::uint64_t bits = 0;

  // One tick of the client and one of the server.
  template <class T>
  void tick(const T& input, const std::function<void(std::uint32_t, const T&)>& take) {
    sender.put(input);
    std::vector<std::byte> memory(1200);
    bits::Writer out(memory);
    ASSERT_TRUE(sender.fill(Time{}, out));
    bits += out.bit_count();
    const std::size_t size = out.bit_count();
    out.finish();
    bits::Writer again(memory);
    ASSERT_FALSE(sender.fill(Time{}, again)) << "once a tick";
    if (!bay.chance(loss)) {
      const Errc error = receiver.receive(memory, size, nullptr);
      ASSERT_EQ(error, Errc::none) << error_info(error).name;
      while (const auto packed = receiver.next()) {
        const auto value = InputReceiver::unpack<T>(*packed);
        ASSERT_TRUE(value);
        take(packed->number, *value);
      }
    }
    if (receiver.newest() > 0) crossing.replicator().last_processed_input(receiver.newest());
    bay.step();
    crossing.tick();
  }
};

TEST(Inputs, AreHandedOutOneATickHoweverManyCome) {
  InputReceiver receiver;
  ClientWorld client_world(bay::kEntities);
  InputSender sender(client_world);
  std::vector<std::byte> memory(1200);
  const auto send = [&] {
    bits::Writer out(memory);
    ASSERT_TRUE(sender.fill(Time{}, out));
    const std::size_t size = out.bit_count();
    out.finish();
    ASSERT_EQ(receiver.receive(memory, size, nullptr), Errc::none);
  };
  // Four inputs for each tick of the server: no more than the buffer holds is ever behind.
  std::uint32_t last = 0;
  for (int tick = 0; tick < 50; ++tick) {
    for (int i = 0; i < 4; ++i) {
      sender.put(bay::Hail{std::to_string(tick)});
      send();
    }
    const auto input = receiver.next();
    ASSERT_TRUE(input);
    EXPECT_GT(input->number, last);
    last = input->number;
    EXPECT_LE(receiver.waiting(), InputReceiver::kMaxWaiting);
    EXPECT_GE(input->number + InputReceiver::kMaxWaiting, receiver.newest());
  }
  EXPECT_EQ(receiver.counts().handed_out, 50U);
  EXPECT_EQ(receiver.counts().received, 200U);
  EXPECT_EQ(receiver.counts().too_many, 200 - 50 - receiver.waiting());
}

TEST(Inputs, OfSeveralTicksBetweenTwoDatagramsAllComeAndAsOftenAsStated) {
  for (const unsigned redundancy : {1U, 3U, 8U}) {
    for (const unsigned puts : {1U, 2U, 4U, 8U}) {
      ClientWorld client_world(bay::kEntities);
      InputSender sender(client_world, redundancy);
      InputReceiver receiver;
      std::map<std::uint32_t, int> entities_known;
      for (int snapshot = 0; snapshot < 20; ++snapshot) {
        for (unsigned i = 0; i < puts; ++i) sender.put(bay::Hail{std::to_string(snapshot)});
        std::vector<std::byte> memory(1200);
        bits::Writer out(memory);
        ASSERT_TRUE(sender.fill(Time{}, out));
        const std::size_t size = out.bit_count();
        out.finish();
        // A receiver of its own shows all that the datagram holds.
        InputReceiver alone;
        ASSERT_EQ(alone.receive(memory, size, nullptr), Errc::none);
        while (const auto input = alone.next()) ++entities_known[input->number];
        ASSERT_EQ(receiver.receive(memory, size, nullptr), Errc::none);
        while (receiver.next()) {
        }
      }
      EXPECT_EQ(receiver.counts().received, 20U * puts) << redundancy << " times, " << puts;
      const int wanted =
          static_cast<int>(std::min(redundancy, std::max(1U, InputSender::kMaxInSnapshot / puts)));
      EXPECT_EQ(entities_known[puts], wanted) << redundancy << " times, " << puts;
    }
  }
}

TEST(Inputs, ComeOnceInOrderAndTakeFewBits) {
  for (const std::uint64_t seed : {1U, 2U, 3U, 4U, 5U}) {
    InputPath path(seed, 0.05);
    bay::Hail helm{"0"};
    std::map<std::uint32_t, std::string> sent;
    std::map<std::uint32_t, std::string> came;
    std::uint32_t last = 0;
    for (int i = 1; i <= 1000; ++i) {
      if (path.bay.chance(1.0 / 25)) helm.words = std::to_string(path.bay.random()() % 10);
      sent[static_cast<std::uint32_t>(i)] = helm.words;
      path.tick<bay::Hail>(helm, [&](std::uint32_t number, const bay::Hail& value) {
        EXPECT_GT(number, last);
        last = number;
        came[number] = value.words;
      });
      ASSERT_FALSE(HasFatalFailure());
    }
    for (const auto& [number, words] : came) EXPECT_EQ(words, sent[number]);
    // Three copies on a path that loses one in twenty: one in 8000 is missing.
    EXPECT_GE(came.size(), 997U);
    EXPECT_LT(static_cast<double>(path.bits) / 8 / 1000, 3);
    EXPECT_GT(path.sender.used(), 990U);
  }
}

TEST(Inputs, AnyBitsAreTakenOrRefusedAndHarmNobody) {
  std::mt19937_64 random(3);
  InputReceiver receiver;
  std::vector<std::byte> memory(40);
  for (int i = 0; i < 50000; ++i) {
    for (std::byte& byte : memory) byte = static_cast<std::byte>(random());
    (void)receiver.receive(memory, random() % (memory.size() * 8), nullptr);
    ASSERT_LE(receiver.waiting(), replica::InputReceiver::kMaxWaiting);
  }
}

TEST(Prediction, ShowsInputsAtOnceAndTakesTheServersWordInTheEnd) {
  // A tug on a line; the server knows of a wall at 10 of which the client knows nothing.
  const auto step = [](const double& x, const double& way) { return x + way; };
  replica::Prediction<double, double> tug(
      0, step, [](const double& a, const double& b) { return std::abs(a - b) < 0.01; });
  std::map<std::uint32_t, double> truth;
  double server = 0;
  constexpr std::uint32_t kTrip = 6;
  for (std::uint32_t n = 1; n <= 30; ++n) {
    tug.apply(n, 1);
    server = std::min(server + 1, 10.0);
    truth[n] = server;
    if (n > kTrip) tug.correct(n - kTrip, truth[n - kTrip]);
    if (n <= 10) {
      EXPECT_DOUBLE_EQ(tug.now(), n);
    }
    EXPECT_LE(tug.waiting(), std::size_t{kTrip});
  }
  EXPECT_DOUBLE_EQ(tug.now(), 10 + kTrip)
      << "what the server has not spoken of yet, on top of the wall";
  EXPECT_EQ(tug.corrections(), 14U) << "one for each tick at the wall";
}

TEST(Prediction, TheSameWordTwiceIsNoCorrection) {
  replica::Prediction<int, int> tug(
      0, [](const int& x, const int& way) { return x + way; },
      [](const int& a, const int& b) { return a == b; });
  for (std::uint32_t n = 1; n <= 5; ++n) tug.apply(n, 1);
  tug.correct(3, 3);
  tug.correct(3, 3);  // the server used no new input meanwhile
  EXPECT_EQ(tug.corrections(), 0U);
  EXPECT_EQ(tug.now(), 5);
  tug.correct(3, 10);  // and now something else moved it
  EXPECT_EQ(tug.corrections(), 1U);
  EXPECT_EQ(tug.now(), 12);
}

}  // namespace client_test
}  // namespace kwind
