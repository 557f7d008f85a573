// Whole links in virtual time: handshake, ends, single faults, hostile datagrams.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "kit/promises.h"
#include "link/handshake.h"

namespace kwind {
namespace {

using namespace std::chrono_literals;
using kit::at;
using kit::SimPair;

struct Log {
  std::vector<std::string> client;
  std::vector<std::string> server;
  int messages_at_server = 0;

  SimPair::OnEvent hook() {
    return [this](bool at_server, const link::Event& event) {
      auto& log = at_server ? server : client;
      switch (event.kind) {
        case link::Event::Kind::opened: log.emplace_back("opened"); break;
        case link::Event::Kind::message: messages_at_server += at_server ? 1 : 0; break;
        case link::Event::Kind::closed:
          log.push_back(std::string(error_info(event.code).name) + ": " + std::string(event.text));
          break;
      }
    };
  }
};

io::sim::Conditions delay(Duration one_way) {
  return {.delay = one_way};
}

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
  EXPECT_LE(pair.last(false).size(), 18U);
}

TEST(Link, ASilentPeerIsGoneAfterTheTimeout) {
  SimPair pair(
      {.conditions = delay(10ms), .alter = [](std::size_t n, std::vector<std::byte>& bytes) {
         if (n > 20) bytes.assign(3, std::byte{0});  // from now on only noise arrives
       }});
  Log log;
  pair.run_until(at(60s), log.hook());
  ASSERT_EQ(log.client.size(), 2U);
  EXPECT_EQ(log.client[1], "timeout: nothing was heard from the peer");
  EXPECT_EQ(log.server[1], "timeout: nothing was heard from the peer");
  EXPECT_EQ(pair.client().next_wakeup(), kNever);
}

TEST(Link, AServerThatNeverAnswersIsReportedOnce) {
  SimPair pair({.conditions = {.loss = 1.0}});
  Log log;
  pair.run_until(at(60s), log.hook());
  EXPECT_EQ(log.client, std::vector<std::string>{"handshake_timeout: no answer to the hello"});
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
    EXPECT_EQ(log.server[1], "closed_by_peer: home for?tea") << "seed " << seed;
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
    EXPECT_EQ(pair.server().stats().messages_doubled, 0U);
  }
}

TEST(Link, RefusesWhatCannotBeSent) {
  SimPair pair({.conditions = delay(1ms)});
  const std::vector<std::byte> payload(link::kMaxMessageBytes + 1);
  EXPECT_EQ(pair.client().send(0, 0, payload, 8), Errc::closed) << "not open yet";
  pair.run_until(at(1s));
  EXPECT_EQ(pair.client().send(0, 0, payload, payload.size() * 8), Errc::message_too_large);
  EXPECT_EQ(pair.client().send(0, 0, payload, link::kMaxMessageBytes * 8), Errc::none);
  std::size_t queued = 0;
  while (pair.client().send(2, 0, payload, 32) == Errc::none) ++queued;
  EXPECT_EQ(queued, 4096U);
  EXPECT_EQ(pair.client().send(2, 0, payload, 32), Errc::queue_full);
}

// ---- single faults: the 1st, 2nd, ... datagram is hit until a run ends without meeting the fault
// ----

void expect_promises(const kit::SimPairOptions& options, std::size_t& datagrams) {
  SimPair pair(options);
  kit::Promises promises(pair, 9);
  const auto hear = [&](bool at_server, const link::Event& event) {
    promises.hear(at_server, event);
  };
  for (Duration t{0}; t < 2s; t += 50ms) {
    pair.run_until(at(t), hear);
    promises.send_tick(false);
    promises.send_tick(true);
  }
  pair.run_until(at(5s), hear);
  promises.expect_complete();
  EXPECT_EQ(promises.opened(), 2);
  datagrams = pair.datagrams();
}

TEST(SingleFaults, LosingAnyOneDatagramLosesNoPromise) {
  for (std::size_t hit = 0, sent = 1; hit < std::min<std::size_t>(sent, 120); ++hit) {
    SCOPED_TRACE("datagram " + std::to_string(hit));
    expect_promises({.conditions = delay(30ms), .lose = {hit}}, sent);
  }
}

TEST(SingleFaults, DoublingOrDelayingAnyOneDatagramLosesNoPromise) {
  for (std::size_t hit = 0, sent = 1; hit < std::min<std::size_t>(sent, 120); ++hit) {
    SCOPED_TRACE("datagram " + std::to_string(hit));
    expect_promises({.conditions = delay(30ms), .repeat = {hit}}, sent);
    expect_promises({.conditions = delay(30ms), .delay = {hit}}, sent);
  }
}

TEST(SingleFaults, FlippingAnyBitOfAnyDatagramOnlyLosesIt) {
  for (std::size_t hit = 0; hit < 40; ++hit) {
    for (const std::size_t bit : {0U, 3U, 9U, 21U, 40U, 55U, 70U, 100U}) {
      SCOPED_TRACE("datagram " + std::to_string(hit) + " bit " + std::to_string(bit));
      std::size_t sent = 0;
      expect_promises({.conditions = delay(30ms),
                       .alter =
                           [&](std::size_t n, std::vector<std::byte>& bytes) {
                             const std::size_t place = bit % (bytes.size() * 8);
                             if (n == hit) bytes[place / 8] ^= std::byte{1} << (place % 8);
                           }},
                      sent);
    }
  }
}

// ---- hostile input ----

TEST(Hostile, WrongDatagramsAreDroppedByCauseAndReachNoHandler) {
  SimPair pair({.conditions = delay(10ms)});
  Log log;
  pair.run_until(at(1s), log.hook());
  std::array<std::byte, 4> payload{};
  ASSERT_EQ(pair.client().send(0, 0, payload, 32), Errc::none);
  pair.run_until(at(1100ms), log.hook());
  ASSERT_EQ(log.messages_at_server, 1);
  std::array<std::byte, link::kMaxDatagramBytes> memory{};
  ASSERT_EQ(pair.client().send(0, 0, payload, 32), Errc::none);
  const std::size_t size = pair.client().poll_datagram(pair.now(), memory);
  ASSERT_GT(size, 0U);
  const std::vector<std::byte> good(memory.begin(),
                                    memory.begin() + static_cast<std::ptrdiff_t>(size));

  link::Link& server = pair.server();
  const CauseCounts before = server.stats().drops;
  const auto caused = [&](Errc code) { return server.stats().drops.of(code) - before.of(code); };
  for (std::size_t cut = 0; cut < good.size(); ++cut) {
    EXPECT_NE(server.receive(pair.now(), std::span(good).first(cut)), Errc::none) << cut;
  }
  EXPECT_EQ(caused(Errc::truncated), 11U) << "shorter than header and check";
  EXPECT_EQ(caused(Errc::bad_check), good.size() - 11);
  for (std::size_t bit = 0; bit < good.size() * 8; ++bit) {
    std::vector<std::byte> flipped = good;
    flipped[bit / 8] ^= std::byte{1} << (bit % 8);
    EXPECT_NE(server.receive(pair.now(), flipped), Errc::none) << bit;
  }
  EXPECT_EQ(caused(Errc::unknown_connection), 32U) << "a flipped bit of the connection id";
  std::vector<std::byte> longer = good;
  longer.resize(1300);
  EXPECT_EQ(server.receive(pair.now(), longer), Errc::too_long);
  EXPECT_FALSE(server.poll_event()) << "nothing of these reached the game";

  EXPECT_EQ(server.receive(pair.now(), good), Errc::none) << "the window is unharmed";
  EXPECT_EQ(server.receive(pair.now(), good), Errc::replayed);
  EXPECT_EQ(server.state(), link::State::open);
}

// A client that passed the handshake by the rules and then breaks one.
class RuleBreaker : public testing::Test {
 protected:
  // Three of four channel numbers are known.
  RuleBreaker()
      : pair_({.conditions = delay(10ms),
               .channels = {{Delivery::unreliable}, {Delivery::reliable}, {Delivery::ordered}}}) {
    pair_.run_until(at(1s), log_.hook());
  }
  // Sends the frames in `body` as the client's next datagram.
  Errc send(const std::function<void(bits::Writer&)>& body, bool acks = false) {
    std::array<std::byte, link::kMaxDatagramBytes> memory{};
    bits::Writer out(memory);
    out.put(acks ? 0x11 : 1, 8);
    out.put(0x00010000, 32);
    out.put(100 + sent_, 16);
    body(out);
    const std::size_t size = out.finish();
    const auto keys = link::make_check_keys(1 * 77 + 5, nonce(), link::ConnectionId{0x00010000});
    bits::Writer check{std::span(memory).subspan(size)};
    check.put(bits::keyed_check(keys.up, std::span(memory).first(size), 100 + sent_), 32);
    check.finish();
    ++sent_;
    return pair_.server().receive(pair_.now(), std::span(memory).first(size + 4));
  }
  // The server's nonce, from a copy of the welcome.
  std::uint64_t nonce() {
    std::array<std::byte, link::kMaxDatagramBytes> reply{};
    std::array<std::byte, link::kMaxDatagramBytes> knock{};
    link::Hello hello{link::kLinkVersion, 1 * 77 + 5, std::nullopt, kit::test_identity()};
    const auto ask = [&] {
      const std::size_t size = link::write(hello, knock);
      return std::span(reply).first(
          pair_.listener()
              .receive(pair_.now(), SimPair::client_address(), std::span(knock).first(size), reply)
              .reply_bytes);
    };
    hello.cookie = link::read_cookie(ask())->cookie;
    return link::read_welcome(ask())->server_nonce;
  }
  void expect_closed(Errc code) {
    pair_.run_until(pair_.now() + 3s, log_.hook());
    ASSERT_EQ(log_.server.size(), 2U);
    EXPECT_EQ(log_.server[1].substr(0, log_.server[1].find(':')), error_info(code).name);
    ASSERT_EQ(log_.client.size(), 2U) << "the peer is told";
    EXPECT_EQ(log_.client[1], "closed_by_peer: " + std::string(error_info(code).text));
    EXPECT_EQ(pair_.server().state(), link::State::closed);
  }

  SimPair pair_;
  Log log_;
  std::uint64_t sent_ = 0;
};

TEST_F(RuleBreaker, IsHeardWhileItKeepsTheRules) {
  EXPECT_EQ(send([](bits::Writer& out) { out.put(2, 3); }), Errc::none);
  EXPECT_EQ(pair_.server().state(), link::State::open);
}

TEST_F(RuleBreaker, IsClosedForAcksOfPacketsNeverSent) {
  EXPECT_EQ(send(
                [](bits::Writer& out) {
                  out.put(5000, 16);
                  out.put(0, 14);
                  out.put_count(0, 2);
                },
                true),
            Errc::bad_ack);
  expect_closed(Errc::bad_ack);
}

TEST_F(RuleBreaker, IsClosedForUnknownFramesAndChannels) {
  EXPECT_EQ(send([](bits::Writer& out) { out.put(6, 3); }), Errc::unknown_frame);
  expect_closed(Errc::unknown_frame);
}

TEST_F(RuleBreaker, IsClosedForAnUnknownChannel) {
  EXPECT_EQ(send([](bits::Writer& out) { out.put(1 | 3 << 3, 5); }), Errc::unknown_channel);
  expect_closed(Errc::unknown_channel);
}

class WindowBreaker : public RuleBreaker, public testing::WithParamInterface<unsigned> {};
TEST_P(WindowBreaker, IsClosed) {
  EXPECT_EQ(send([](bits::Writer& out) {
              out.put(1 | GetParam() << 3, 5);
              out.put(512, 16);
              out.put_count(0, 6);
            }),
            Errc::window_exceeded);
  expect_closed(Errc::window_exceeded);
}
INSTANTIATE_TEST_SUITE_P(ReliableAndOrdered, WindowBreaker, testing::Values(1, 2));

TEST_F(RuleBreaker, OnlyLosesADatagramThatIsMalformed) {
  EXPECT_EQ(send([](bits::Writer& out) {
              out.put(1 | 1 << 3, 5);
              out.put(9, 16);
              out.put_count(4000, 6);
            }),
            Errc::truncated);
  EXPECT_EQ(send([](bits::Writer& out) { out.put(0, 30); }), Errc::trailing_bits);
  EXPECT_EQ(pair_.server().state(), link::State::open);
}

TEST(Hostile, RandomDatagramsChangeNothing) {
  SimPair pair({.conditions = delay(10ms)});
  pair.run_until(at(1s));
  std::mt19937_64 random(5);
  std::vector<std::byte> bytes;
  std::array<std::byte, link::kMaxDatagramBytes> reply{};
  std::uint64_t replied = 0;
  for (int i = 0; i < 100000; ++i) {
    bytes.resize(random() % 64);
    if (i % 50 == 0) bytes.resize(link::kMaxDatagramBytes);
    for (std::byte& byte : bytes) byte = static_cast<std::byte>(random());
    if (!bytes.empty() && i % 2 == 0) bytes[0] = static_cast<std::byte>(random() % 8);
    EXPECT_NE(pair.server().receive(pair.now(), bytes), Errc::none);
    EXPECT_NE(pair.client().receive(pair.now(), bytes), Errc::none);
    const auto outcome =
        pair.listener().receive(pair.now(), SimPair::client_address(), bytes, reply);
    replied += outcome.reply_bytes;
    EXPECT_FALSE(outcome.admission);
    EXPECT_LE(outcome.reply_bytes, bytes.size());
  }
  EXPECT_EQ(pair.client().state(), link::State::open);
  EXPECT_EQ(pair.server().state(), link::State::open);
  EXPECT_LT(replied, 100000U);
}

class Door : public testing::Test {
 protected:
  static link::Hello hello(std::uint64_t nonce) {
    return {link::kLinkVersion, nonce, std::nullopt, kit::test_identity()};
  }
  link::Listener::Outcome knock(const link::Hello& hello, const Endpoint& from, Time now) {
    const std::size_t size = link::write(hello, datagram_);
    return listener_.receive(now, from, std::span(datagram_).first(size), reply_);
  }
  link::Cookie cookie_for(const link::Hello& hello, const Endpoint& from, Time now) {
    const auto outcome = knock(hello, from, now);
    EXPECT_LT(outcome.reply_bytes, 64U);
    const auto reply = link::read_cookie(std::span(reply_).first(outcome.reply_bytes));
    EXPECT_TRUE(reply);
    return reply->cookie;
  }
  std::string refusal(const link::Listener::Outcome& outcome, Errc code) {
    EXPECT_EQ(outcome.error, code);
    EXPECT_FALSE(outcome.admission);
    const auto read = link::read_refusal(std::span(reply_).first(outcome.reply_bytes));
    EXPECT_TRUE(read);
    if (!read) return "";
    EXPECT_EQ(read->code, code);
    return read->text;
  }

  link::Listener listener_{{kit::test_identity(), {}, 2, 0}};
  const Endpoint a_ = Endpoint::v4(127, 0, 0, 1, 1000);
  const Endpoint b_ = Endpoint::v4(127, 0, 0, 1, 1001);
  std::array<std::byte, link::kMaxDatagramBytes> datagram_{};
  std::array<std::byte, link::kMaxDatagramBytes> reply_{};
};

TEST_F(Door, KeepsNothingForAnAddressWithoutACookie) {
  for (std::uint64_t n = 0; n < 1000; ++n) {
    const auto outcome =
        knock(hello(n), Endpoint::v4(127, 1, 0, 1, static_cast<std::uint16_t>(n)), at(0s));
    EXPECT_FALSE(outcome.admission);
  }
  EXPECT_EQ(listener_.connections(), 0U);
}

TEST_F(Door, TakesACookieOnlyFromItsAddressNonceAndTime) {
  link::Hello knocking = hello(7);
  knocking.cookie = cookie_for(knocking, a_, at(0s));
  EXPECT_EQ(knock(knocking, b_, at(0s)).error, Errc::bad_cookie);
  EXPECT_EQ(knock(knocking, a_, at(21s)).error, Errc::bad_cookie) << "expired";
  link::Hello other = hello(8);
  other.cookie = knocking.cookie;
  EXPECT_EQ(knock(other, a_, at(0s)).error, Errc::bad_cookie);
  EXPECT_EQ(listener_.connections(), 0U);
  EXPECT_TRUE(knock(knocking, a_, at(9s)).admission);
}

TEST_F(Door, GivesACopyOfAHelloTheSameWelcome) {
  link::Hello knocking = hello(7);
  knocking.cookie = cookie_for(knocking, a_, at(0s));
  const auto first = knock(knocking, a_, at(0s));
  ASSERT_TRUE(first.admission);
  const auto welcome = reply_;
  const auto copy = knock(knocking, a_, at(1s));
  EXPECT_FALSE(copy.admission);
  EXPECT_EQ(reply_, welcome);
  EXPECT_EQ(listener_.connections(), 1U);
}

TEST_F(Door, RefusesWhenFullAndTakesAgainWhenSomebodyLeft) {
  std::optional<link::Admission> first;
  for (std::uint64_t n = 1; n <= 2; ++n) {
    link::Hello knocking = hello(n);
    knocking.cookie = cookie_for(knocking, a_, at(0s));
    const auto outcome = knock(knocking, a_, at(0s));
    ASSERT_TRUE(outcome.admission);
    if (n == 1) first = outcome.admission;
  }
  link::Hello third = hello(3);
  third.cookie = cookie_for(third, a_, at(0s));
  EXPECT_EQ(refusal(knock(third, a_, at(0s)), Errc::server_full), "2 of 2 places are taken");
  listener_.forget(first->id);
  const auto outcome = knock(third, a_, at(0s));
  ASSERT_TRUE(outcome.admission);
  EXPECT_NE(outcome.admission->id, first->id) << "a place has a new id for each tenant";
}

TEST_F(Door, RefusesAnotherProtocolAndAnotherDigestByName) {
  link::Hello knocking = hello(7);
  knocking.cookie = cookie_for(knocking, a_, at(0s));
  knocking.identity.name = "quay";
  EXPECT_EQ(refusal(knock(knocking, a_, at(0s)), Errc::protocol_name), "this server speaks `test`");
  knocking.identity = kit::test_identity();
  knocking.identity.versions[0].digest[3] ^= std::byte{1};
  EXPECT_EQ(refusal(knock(knocking, a_, at(0s)), Errc::schema_mismatch), "")
      << "what differs is told in digests, see mismatch_test.cpp";
  knocking.identity = kit::test_identity();
  knocking.identity.versions.insert(knocking.identity.versions.begin(), {2, {}});
  const auto outcome = knock(knocking, a_, at(0s));
  ASSERT_TRUE(outcome.admission) << "an older common version will do";
  EXPECT_EQ(outcome.admission->version, 1);
}

TEST_F(Door, AnswersAnUnknownLinkVersionWithTheKnownOnes) {
  link::Hello future = hello(7);
  future.link_version = 9;
  const auto outcome = knock(future, a_, at(0s));
  EXPECT_EQ(outcome.error, Errc::link_version);
  const auto versions = link::read_versions(std::span(reply_).first(outcome.reply_bytes));
  ASSERT_TRUE(versions);
  EXPECT_EQ(versions->known, std::vector<std::uint16_t>{link::kLinkVersion});
  EXPECT_EQ(versions->client_nonce, 7U);
}

TEST_F(Door, TakesNoShortHello) {
  const std::size_t size = link::write(hello(7), datagram_);
  ASSERT_EQ(size, link::kMaxDatagramBytes);
  for (std::size_t cut = 0; cut < size; ++cut) {
    const auto outcome = listener_.receive(at(0s), a_, std::span(datagram_).first(cut), reply_);
    EXPECT_NE(outcome.error, Errc::none);
    EXPECT_EQ(outcome.reply_bytes, 0U);
  }
}

}  // namespace
}  // namespace kwind
