// Whole links in virtual time: handshake, ends, streams, hostile datagrams.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "kit/forge.h"
#include "kit/promises.h"
#include "link/handshake/handshake.h"
#include "link/link_log.h"

namespace kwind {
namespace link_test {

using namespace std::chrono_literals;
using kit::at;
using kit::delay;
using kit::Log;
using kit::SimPair;

TEST(Link, OpensOnBothEndsAndMeasuresTheRoundTrip) {
  SimPair pair({.conditions = delay(40ms)});
  Log log;
  pair.run_until(at(79ms), log.hook());
  EXPECT_TRUE(log.client.empty());
  pair.run_until(at(500ms), log.hook());
  EXPECT_EQ(log.client, std::vector<std::string>{"opened"});
  EXPECT_EQ(log.server, std::vector<std::string>{"opened"});
  EXPECT_EQ(pair.client().stats().smoothed_rtt, Duration(80ms));
  EXPECT_EQ(pair.client().version(), 1);
}

TEST(Link, AnIdleLinkCostsAPingAndAnAckEachFiveSeconds) {
  SimPair pair({.conditions = delay(40ms)});
  pair.run_until(at(2s));
  const std::size_t before = pair.datagrams();
  pair.run_until(at(62s));
  // Twelve keepalives of one end, each answered; the answer spares the other end its own.
  EXPECT_LE(pair.datagrams() - before, 26U);
  EXPECT_EQ(pair.client().state(), link::State::open);
  EXPECT_EQ(pair.server().state(), link::State::open);
  EXPECT_LE(pair.last(false).size(), 25U);
}

TEST(Link, ASilentPeerIsGoneAfterTheTimeout) {
  SimPair pair(
      {.conditions = delay(10ms), .alter = [](std::size_t n, std::vector<std::byte>& bytes) {
         if (n > 20) bytes.assign(3, std::byte{0});  // from now on only noise arrives
       }});
  Log log;
  pair.run_until(at(60s), log.hook());
  ASSERT_EQ(log.client.size(), 2U);
  EXPECT_EQ(log.client[1], "timeout: nothing came from the peer");
  EXPECT_EQ(log.server[1], "timeout: nothing came from the peer");
  EXPECT_EQ(pair.client().next_wakeup(), kNever);
}

TEST(Link, AServerThatNeverAnswersIsReportedOnce) {
  SimPair pair({.conditions = {.loss = 1.0}});
  Log log;
  pair.run_until(at(60s), log.hook());
  EXPECT_EQ(log.client, std::vector<std::string>{"handshake_timeout: no answer to the hello"});
}

TEST(Link, CloseSaysGoodbyeAlsoIfTheTimeOfItWasLongAgo) {
  // A loop that stood still for five seconds, and then closed with the time from before.
  for (const int queued : {0, 1}) {
    SimPair pair({.conditions = delay(40ms)});
    Log log;
    pair.run_until(at(3s), log.hook());
    const std::vector<std::byte> payload(500);
    if (queued > 0) {
      ASSERT_EQ(pair.client().send(2, 0, payload, 4000), Errc::none);
    }
    pair.client().close(pair.now(), "home");
    pair.client().wake(at(8s));
    pair.server().wake(at(8s));
    pair.run_until(at(12s), log.hook());
    EXPECT_EQ(log.messages_at_server, queued);
    ASSERT_EQ(log.server.size(), 2U) << queued;
    EXPECT_EQ(log.server[1], "closed_by_peer: home");
    EXPECT_EQ(log.client[1], "closed_here: home");
  }
}

TEST(Link, CloseDeliversWhatIsQueuedThenTheReason) {
  for (std::uint64_t seed = 1; seed <= 50; ++seed) {
    SimPair pair({.seed = seed, .conditions = {.delay = 30ms, .jitter = 20ms, .loss = 0.1}});
    Log log;
    pair.run_until(at(3s), log.hook());
    ASSERT_EQ(pair.client().state(), link::State::open) << seed;
    const std::vector<std::byte> payload(500);
    for (int i = 0; i < 20; ++i) ASSERT_EQ(pair.client().send(2, 0, payload, 4000), Errc::none);
    pair.client().close(pair.now(), "home for\x01tea");
    EXPECT_EQ(pair.client().send(2, 0, payload, 8), Errc::closed);
    pair.run_until(at(8s), log.hook());
    EXPECT_EQ(log.messages_at_server, 20) << "seed " << seed;
    ASSERT_EQ(log.server.size(), 2U) << "seed " << seed;
    EXPECT_EQ(log.server[1], "closed_by_peer: home for\xef\xbf\xbdtea") << "seed " << seed;
    ASSERT_EQ(log.client.size(), 2U);
    EXPECT_EQ(log.client[1], "closed_here: home for\x01tea");
    EXPECT_EQ(pair.client().state(), link::State::closed);
    EXPECT_EQ(pair.server().state(), link::State::closed);
  }
}

TEST(Link, ReliableDoesNotWaitForWhatIsLostAndOrderedDoes) {
  std::size_t before = 0;
  for (const bool lossy : {false, true}) {
    kit::SimPairOptions options{.conditions = delay(10ms)};
    if (lossy) options.lose = {before};
    SimPair pair(options);
    pair.run_until(at(1s));
    before = pair.datagrams();
    std::vector<std::string> heard;
    const auto hear = [&](bool, const link::Event& event) {
      if (event.kind != link::Event::Kind::message) return;
      heard.push_back(fmt::format("{} {}", event.channel == 2 ? "ordered" : "reliable",
                                  static_cast<int>(event.payload[0])));
    };
    for (int i = 0; i < 2; ++i) {
      const std::array<std::byte, 1> payload{static_cast<std::byte>(i)};
      for (const std::size_t channel : {2U, 3U}) {
        ASSERT_EQ(pair.client().send(channel, 0, payload, 8), Errc::none);
      }
      pair.run_until(at(1s) + (i + 1) * 1ms, hear);
    }
    pair.run_until(at(1s) + 15ms, hear);
    using Words = std::vector<std::string>;
    const Words all = {"ordered 0", "reliable 0", "ordered 1", "reliable 1"};
    EXPECT_EQ(heard, lossy ? Words{"reliable 1"} : all);
    pair.run_until(at(3s), hear);
    EXPECT_EQ(heard, lossy ? (Words{"reliable 1", "ordered 0", "ordered 1", "reliable 0"}) : all);
  }
}

TEST(Link, RefusesWhatCannotBeSent) {
  SimPair pair({.conditions = delay(1ms)});
  const std::vector<std::byte> payload(link::kMaxMessageBytes + 1);
  EXPECT_EQ(pair.client().send(0, 0, payload, 8), Errc::closed) << "not open yet";
  pair.run_until(at(1s));
  EXPECT_EQ(pair.client().send(0, 0, payload, (link::kMaxWholeBytes + 1) * 8),
            Errc::message_too_large)
      << "the channel does not split";
  EXPECT_EQ(pair.client().send(5, 0, payload, payload.size() * 8), Errc::message_too_large);
  EXPECT_EQ(pair.client().send(2, 0, payload, payload.size() * 8), Errc::message_too_large);
  EXPECT_EQ(pair.client().send(0, 0, payload, link::kMaxWholeBytes * 8), Errc::none);
  std::size_t queued = 0;
  while (pair.client().send(2, 0, payload, 32) == Errc::none) ++queued;
  EXPECT_EQ(queued, 4096U);
  EXPECT_EQ(pair.client().send(2, 0, payload, 32), Errc::queue_full);
}

// ---- numbers at their wrap, clocks that jump ----

TEST(Wrap, PacketAndMessageNumbersGoRoundOnEveryChannel) {
  SimPair pair({.seed = 2, .conditions = {.delay = 20ms, .loss = 0.01}});
  kit::Promises promises(pair, 5);
  const auto hear = [&](bool at_server, const link::Event& event) {
    promises.hear(at_server, event);
    ASSERT_NE(event.kind, link::Event::Kind::closed) << event.text;
  };
  pair.run_until(at(1s), hear);
  // Small ones only, so that it is numbers that go round and not bytes.
  std::uint32_t sent = 0;
  for (Duration t{1s}; sent < 70000 && !testing::Test::HasFailure(); t += 1ms, ++sent) {
    promises.send_one_each(false);
    pair.run_until(at(t), hear);
  }
  pair.run_until(pair.now() + 5s, hear);
  for (const std::size_t channel : {2U, 3U, 6U}) EXPECT_EQ(promises.heard(true, channel), sent);
  EXPECT_GT(promises.heard(true, 1), sent * 9 / 10);
  EXPECT_GT(pair.client().stats().datagrams_sent, 66000U) << "packet numbers went round as well";
}

TEST(Clocks, ThatJumpLessThanTheTimeoutLoseNoPromise) {
  for (const std::uint64_t seed : {1U, 2U, 3U, 4U, 5U, 6U, 7U, 8U}) {
    SCOPED_TRACE(seed);
    kit::SimPairOptions options{.seed = seed, .conditions = {.delay = 30ms, .loss = 0.03}};
    // Another time each second, up to two seconds off either way, on each end for itself.
    options.skew = [seed](bool is_server, Time now) {
      const auto second = std::chrono::floor<std::chrono::seconds>(now.time_since_epoch()).count();
      std::mt19937_64 random(seed * 100000 + static_cast<std::uint64_t>(second) * 2 + is_server);
      return std::chrono::milliseconds(static_cast<std::int64_t>(random() % 4000)) - 2000ms;
    };
    SimPair pair(options);
    kit::Promises promises(pair, seed);
    kit::expect_kept(pair, promises, 20s, 50ms, 60s);
  }
}

TEST(Clocks, AJumpOfAnHourIsASilenceAndNothingWorse) {
  kit::SimPairOptions options{.conditions = {.delay = 30ms}};
  options.skew = [](bool is_server, Time now) {
    return is_server && now > at(2s) ? Duration(1h) : Duration(0);
  };
  SimPair pair(options);
  Log log;
  pair.run_until(at(20s), log.hook());
  EXPECT_EQ(log.server.back(), "timeout: nothing came from the peer");
  EXPECT_EQ(pair.server().state(), link::State::closed);
}

// An ack block reaches back over 64 packets: where more arrive between two looks of a host, several
// blocks tell of them, and none counts as lost.
TEST(Link, NothingIsLostOnAGoodPathWhereTheOtherEndLooksSeldom) {
  SimPair pair({.conditions = delay(50ms)});
  pair.run_until(at(1s));
  const std::vector<std::byte> message(1000);
  Time now = at(1s);
  std::size_t max_at_once = 0;
  for (; now < at(8s); now += 5ms) {
    for (int i = 0; i < 30; ++i) (void)pair.server().send(0, 0, message, message.size() * 8);
    // At first it looks all the time, so that the rate grows.
    if (now >= at(5s) && (now - at(5s)) % 200ms == 0ms) pair.rest_client_until(now + 150ms);
    const auto before = pair.client().stats().datagrams_received;
    pair.run_until(now);
    max_at_once =
        std::max<std::size_t>(max_at_once, pair.client().stats().datagrams_received - before);
  }
  EXPECT_GT(max_at_once, 2U * 64) << "or it shows nothing";
  EXPECT_EQ(pair.server().stats().packets_lost, 0U);
}

// A reason that no frame holds is cut between two characters.
TEST(Close, CutsALongReasonAtACharacter) {
  for (const std::size_t ahead : {0U, 1U, 2U}) {
    SimPair pair({.conditions = {.delay = 5ms}});
    pair.run_until(at(1s));
    std::string wharf;
    for (int i = 0; i < 40; ++i) wharf += "\xe6\xb8\xaf";  // three bytes each
    pair.client().close(pair.now(), std::string(ahead, 'x') + wharf);
    std::string reason;
    pair.run_until(at(4s), [&](bool at_server, const link::Event& event) {
      if (at_server && event.kind == link::Event::Kind::closed) reason = event.text;
    });
    const std::size_t characters = (96 - ahead) / 3;
    EXPECT_EQ(reason, std::string(ahead, 'x') + wharf.substr(0, characters * 3));
  }
}

// Datagrams that wait in the receiver's socket are no queue of the path: a receiver that polls a
// few times a second gets the same rate as one that polls all the time.
struct Looks {
  Duration pause;
  double rate;  // of the path, bytes a second
};
class SeldomLooks : public testing::TestWithParam<Looks> {};
TEST_P(SeldomLooks, FillThePath) {
  const Duration pause = GetParam().pause;
  const double rate = GetParam().rate;
  SimPair pair({.conditions = {.delay = 5ms,
                               .rate = rate,
                               .queue_bytes = static_cast<std::size_t>(std::max(rate / 5, 16e3))}});
  pair.run_until(at(1s));
  const std::vector<std::byte> message(1000);
  std::size_t arrived = 0;
  const auto hear = [&](bool at_server, const link::Event& event) {
    if (!at_server && event.kind == link::Event::Kind::message) arrived += event.bits / 8;
  };
  constexpr std::size_t kBulk = 6;
  Time next_look = at(1s);
  const auto run = [&](Time end) {
    for (Time now = pair.now(); now < end; now += 5ms) {
      for (int i = 0; i < 20; ++i) (void)pair.server().send(kBulk, 0, message, message.size() * 8);
      pair.run_until(now, hear);
      if (now < next_look) continue;
      next_look = now + pause;
      pair.rest_client_until(next_look);
    }
  };
  run(at(6s));
  arrived = 0;
  run(at(16s));
  EXPECT_GT(static_cast<double>(arrived), 0.9 * 10 * rate);
  EXPECT_LT(pair.server().stats().loss, 0.02);
}
INSTANTIATE_TEST_SUITE_P(Pauses, SeldomLooks,
                         testing::Values(Looks{5ms, 1e6}, Looks{50ms, 1e6}, Looks{70ms, 1e6},
                                         Looks{100ms, 1e6}, Looks{150ms, 1e6}, Looks{200ms, 1e6},
                                         Looks{5ms, 1e5}, Looks{100ms, 1e5}, Looks{150ms, 1e5},
                                         Looks{200ms, 1e5}, Looks{100ms, 2e4}));

TEST(Link, ALargeUnreliableMessageIsSentToItsEndOnASlowPath) {
  for (const std::size_t bytes : {20'000U, 100'000U, 400'000U}) {
    SimPair pair({.conditions = {.delay = 20ms, .rate = 100'000, .queue_bytes = 65536}});
    pair.run_until(at(1s));
    std::size_t whole = 0;
    const std::vector<std::byte> message(bytes);
    constexpr std::size_t kSplit = 5;
    for (int i = 0; i < 3; ++i) {
      ASSERT_EQ(pair.server().send(kSplit, 0, message, bytes * 8), Errc::none);
      pair.run_until(pair.now() + 10s, [&](bool at_server, const link::Event& event) {
        const bool here = !at_server && event.kind == link::Event::Kind::message;
        if (here && event.bits == bytes * 8) ++whole;
      });
    }
    EXPECT_GE(whole, 2U) << bytes << " bytes at 100 kB/s";
    EXPECT_EQ(pair.server().stats().messages_expired, 0U);
  }
}

TEST(Link, AChannelThatTheAgreedVersionLacksIsLeftAlone) {
  kit::SimPairOptions options{.seed = 21, .conditions = {.delay = 10ms}};
  options.channels = {{Delivery::ordered}, {Delivery::ordered}};
  options.channels[1].since = 2;  // the test identity speaks version 1 alone
  SimPair pair(options);
  pair.run_until(at(2s));
  const std::size_t before = pair.datagrams();
  pair.run_until(at(3s));
  EXPECT_LE(pair.datagrams() - before, 2U) << "nothing to say: keepalives at most";
}

}  // namespace link_test
}  // namespace kwind
