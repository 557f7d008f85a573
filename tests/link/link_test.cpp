// Whole links in virtual time: handshake, ends, streams, hostile datagrams.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "kit/forge.h"
#include "kit/promises.h"
#include "link/handshake/handshake.h"

namespace kwind {
namespace link_test {

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
        case link::Event::Kind::payload: break;
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
    const auto hear = [&](bool at_server, const link::Event& event) {
      promises.hear(at_server, event);
      ASSERT_NE(event.kind, link::Event::Kind::closed) << event.text;
    };
    for (Duration t{0}; t < 20s; t += 50ms) {
      pair.run_until(at(t), hear);
      promises.send_tick(false);
      promises.send_tick(true);
    }
    pair.run_until(at(60s), hear);
    promises.expect_complete();
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
  EXPECT_EQ(log.server.back(), "timeout: nothing was heard from the peer");
  EXPECT_EQ(pair.server().state(), link::State::closed);
}

// ---- over a stream ----

kit::SimPairOptions stream(const io::sim::Conditions& conditions) {
  kit::SimPairOptions options{.seed = 5, .conditions = conditions};
  options.transport_kind = link::TransportKind::stream;
  return options;
}

TEST(Stream, KeepsThePromisesAndSendsNothingTwice) {
  SimPair pair(stream({.delay = 40ms, .rate = 100000, .queue_bytes = 4 << 20}));
  kit::Promises promises(pair, 4);
  const auto hear = [&](bool at_server, const link::Event& event) {
    promises.hear(at_server, event);
    ASSERT_NE(event.kind, link::Event::Kind::closed) << event.text;
  };
  for (Duration t{0}; t < 20s; t += 50ms) {
    pair.run_until(at(t), hear);
    promises.send_tick(false);
    promises.send_tick(true);
  }
  pair.run_until(at(30s), hear);
  promises.expect_complete();
  for (link::Link* link : {&pair.client(), &pair.server()}) {
    const link::Stats& stats = link->stats();
    EXPECT_EQ(stats.messages_repeated + stats.redundant_copies, 0U);
    EXPECT_EQ(stats.packets_lost, 0U);
    EXPECT_EQ(stats.messages_stale + stats.duplicates_received, 0U);
    EXPECT_GE(stats.smoothed_rtt, Duration(80ms));
    EXPECT_NE(link->protection(), "plaintext");
  }
}

TEST(Stream, StartsWithTheConnectAndNeedsNoCookie) {
  kit::SimPairOptions options = stream({.delay = 10ms});
  std::vector<std::byte> forms;
  options.alter = [&](std::size_t, std::vector<std::byte>& bytes) { forms.push_back(bytes[0]); };
  SimPair pair(options);
  pair.run_until(at(1s));
  EXPECT_EQ(pair.client().state(), link::State::open);
  EXPECT_EQ(pair.server().state(), link::State::open);
  ASSERT_GE(forms.size(), 2U);
  EXPECT_EQ(forms[0], static_cast<std::byte>(link::Form::connect));
  EXPECT_EQ(forms[1], static_cast<std::byte>(link::Form::accept));
}

TEST(Stream, AnConnectOverUdpThatClaimsToHaveComeByOneIsDropped) {
  SimPair pair(stream({.delay = 10ms}));
  std::array<std::byte, link::kMaxDatagramBytes> connect{};
  std::array<std::byte, link::kBaseDatagramBytes> reply{};
  const std::size_t size = pair.client().poll_datagram(pair.now(), connect);
  const auto outcome = pair.listener().receive(pair.now(), SimPair::client_address(),
                                               std::span(connect).first(size), reply);
  EXPECT_EQ(outcome.error, Errc::unexpected);
  EXPECT_EQ(outcome.reply_bytes, 0U);
}

TEST(Stream, AnotherStreamHasNoBusinessWithAConnection) {
  SimPair pair(stream({.delay = 10ms}));
  pair.run_until(at(1s));
  ASSERT_EQ(pair.client().send(2, 0, std::array<std::byte, 4>{}, 32), Errc::none);
  std::array<std::byte, link::kMaxDatagramBytes> data{};
  const std::size_t size = pair.client().poll_datagram(pair.now(), data);
  EXPECT_EQ(pair.server().receive_from(pair.now(), Endpoint::v4(10, 0, 0, 9, 9),
                                       std::span(data).first(size)),
            Errc::unknown_connection);
}

TEST(Stream, WatchesTheBacklogInsteadOfThePath) {
  SimPair pair(stream({.delay = 10ms, .rate = 20000, .queue_bytes = 4 << 20}));
  pair.run_until(at(1s));
  const std::vector<std::byte> large(link::kMaxMessageBytes);
  ASSERT_EQ(pair.client().send(2, 0, large, large.size() * 8), Errc::none);
  pair.run_until(at(2s));
  EXPECT_EQ(pair.client().budget(pair.now()), 0U) << "more would only wait";
  EXPECT_LT(pair.client().stats().in_flight, std::size_t{140} * 1024);
  std::size_t arrived = 0;
  pair.run_until(at(70s), [&](bool at_server, const link::Event& event) {
    if (at_server && event.kind == link::Event::Kind::message) arrived = event.payload.size();
  });
  EXPECT_EQ(arrived, large.size());
}

TEST(Stream, ItsEndIsTheConnectionsEnd) {
  SimPair pair(stream({.delay = 10ms}));
  Log log;
  pair.run_until(at(1s), log.hook());
  pair.server().transport_ended(pair.now());
  pair.run_until(at(1s), log.hook());
  EXPECT_EQ(log.server.back(), "transport_ended: the stream that carried the connection ended");
  EXPECT_EQ(pair.server().state(), link::State::closed);
}

TEST(Stream, AConnectionThatIsBeingClosedEndsAsClosedWhenItsStreamEnds) {
  SimPair pair(stream({.delay = 10ms}));
  Log log;
  pair.run_until(at(1s), log.hook());
  pair.server().close(pair.now(), "enough");
  pair.server().transport_ended(pair.now());
  pair.run_until(at(2s), log.hook());
  EXPECT_EQ(log.server.back(), "closed_here: enough");
  EXPECT_EQ(pair.server().state(), link::State::closed);
}

// ---- hostile input ----

TEST(Hostile, WrongDatagramsAreDroppedByCauseAndReachNoHandler) {
  for (const link::Mode mode : {link::Mode::encrypted, link::Mode::plaintext}) {
    SimPair pair({.conditions = delay(10ms), .mode = mode});
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
    const std::size_t min = 5 + (mode == link::Mode::encrypted ? 16 : 4);
    for (std::size_t cut = 0; cut < good.size(); ++cut) {
      EXPECT_NE(server.receive(pair.now(), std::span(good).first(cut)), Errc::none) << cut;
    }
    EXPECT_EQ(caused(Errc::truncated), min) << "shorter than header and tag";
    EXPECT_EQ(caused(Errc::bad_check), good.size() - min);
    for (std::size_t bit = 0; bit < good.size() * 8; ++bit) {
      std::vector<std::byte> flipped = good;
      flipped[bit / 8] ^= std::byte{1} << (bit % 8);
      EXPECT_NE(server.receive(pair.now(), flipped), Errc::none) << bit;
    }
    EXPECT_EQ(caused(Errc::unknown_connection), 28U) << "a flipped bit of the connection id";
    std::vector<std::byte> longer = good;
    longer.resize(1500);
    EXPECT_EQ(server.receive(pair.now(), longer), Errc::too_long);
    EXPECT_NE(pair.client().receive(pair.now(), good), Errc::none) << "reflected";
    EXPECT_FALSE(server.poll_event()) << "nothing of these reached the game";

    EXPECT_EQ(server.receive(pair.now(), good), Errc::none) << "the window is unharmed";
    EXPECT_EQ(server.receive(pair.now(), good), Errc::replayed);
    EXPECT_EQ(server.state(), link::State::open);
  }
}

// A client that passed the handshake by the rules, in plaintext mode, and then breaks one.
class RuleBreaker : public testing::Test {
 protected:
  // Five channel numbers of eight are known.
  RuleBreaker() : pair_(options()) { pair_.run_until(at(1s), log_.hook()); }
  kit::SimPairOptions options() {
    kit::SimPairOptions options{.conditions = delay(10ms),
                                .channels = {{Delivery::unreliable},
                                             {Delivery::reliable},
                                             {Delivery::ordered},
                                             {Delivery::sequenced},
                                             {Delivery::unreliable}},
                                .mode = link::Mode::plaintext};
    options.channels[4].split = true;
    options.alter = [this](std::size_t, std::vector<std::byte>& bytes) {
      if (bytes[0] == std::byte(link::Form::connect)) connect_ = bytes;
      if (bytes[0] == std::byte(link::Form::accept)) accept_ = bytes;
    };
    return options;
  }
  // Sends the frames in `body` as the client's next datagram.
  Errc send(const std::function<void(bits::Writer&)>& body, bool acks = false) {
    const link::ConnectionId id = pair_.client().id();
    const auto mine = std::span(connect_).subspan(link::kConnectHeadBytes, 32);
    const auto theirs = std::span(accept_).subspan(link::kAcceptHeadBytes, 32);
    const link::CheckKeys keys{link::plaintext_key("clear up", mine, theirs, id), {}};
    return pair_.server().receive(pair_.now(),
                                  kit::forged_datagram(keys, id, 100 + sent_++, true, acks, body));
  }
  // `told`: the real client gets no ack of a packet that was sent in its name.
  void expect_closed(Errc code, bool peer_notified = true) {
    pair_.run_until(pair_.now() + 3s, log_.hook());
    ASSERT_EQ(log_.server.size(), 2U);
    EXPECT_EQ(log_.server[1].substr(0, log_.server[1].find(':')), error_info(code).name);
    ASSERT_EQ(log_.client.size(), 2U) << "the peer is told";
    if (peer_notified) {
      EXPECT_EQ(log_.client[1], "closed_by_peer: " + std::string(error_info(code).text));
    }
    EXPECT_EQ(pair_.server().state(), link::State::closed);
  }
  // A piece on channel `channel`: name, total bits, first chunk, chunks less one, and its bytes.
  static void put_piece(bits::Writer& out, unsigned channel, bool reliable, std::uint64_t total,
                        std::uint64_t first, std::uint64_t more, std::size_t bytes) {
    out.put(1 << 1, 3);
    out.put(channel, 3);
    if (reliable) {
      out.put(0, 16);
    } else {
      out.put_count(0, 1);
      out.put_count(0, 0);
    }
    out.put_count(total, 10);
    out.put_count(first, 4);
    out.put_count(more, 3);
    for (std::size_t i = 0; i < bytes; ++i) out.put(0, 8);
  }

  std::vector<std::byte> connect_;
  std::vector<std::byte> accept_;
  SimPair pair_;
  Log log_;
  std::uint64_t sent_ = 0;
};

TEST_F(RuleBreaker, IsHeardWhileItKeepsTheRules) {
  EXPECT_EQ(send([](bits::Writer& out) { out.put(3 << 1, 6); }), Errc::none) << "a ping";
  EXPECT_EQ(pair_.server().state(), link::State::open);
}

TEST_F(RuleBreaker, IsClosedForAcksOfPacketsNeverSent) {
  EXPECT_EQ(send(
                [](bits::Writer& out) {
                  out.put(5000, 16);
                  out.put(0, 12);
                  out.put_count(0, 2);
                },
                true),
            Errc::bad_ack);
  expect_closed(Errc::bad_ack);
}

TEST_F(RuleBreaker, IsClosedForAnUnknownFrame) {
  EXPECT_EQ(send([](bits::Writer& out) { out.put(3 << 1 | 7 << 3, 6); }), Errc::unknown_frame);
  expect_closed(Errc::unknown_frame);
}

TEST_F(RuleBreaker, IsClosedForAnUnknownChannel) {
  EXPECT_EQ(send([](bits::Writer& out) { out.put(1 | 5 << 1, 4); }), Errc::unknown_channel);
  expect_closed(Errc::unknown_channel);
}

TEST_F(RuleBreaker, IsClosedForAWindowOfAChannelThatHasNone) {
  EXPECT_EQ(send([](bits::Writer& out) {
              out.put(3 << 1 | 2 << 3, 6);
              out.put(0, 3);
              out.put(99, 32);
            }),
            Errc::unknown_channel);
  expect_closed(Errc::unknown_channel);
}

class WindowBreaker : public RuleBreaker, public testing::WithParamInterface<unsigned> {};
TEST_P(WindowBreaker, IsClosedForANumberTooFarAhead) {
  EXPECT_EQ(send([](bits::Writer& out) {
              out.put(1 | GetParam() << 1, 4);
              out.put(512 << 1, 17);
              out.put_count(0, 6);
            }),
            Errc::window_exceeded);
  expect_closed(Errc::window_exceeded);
}
TEST_P(WindowBreaker, IsClosedForMoreBytesThanTheWindow) {
  Errc error = Errc::none;
  std::size_t bytes = 0;
  for (std::uint64_t i = 0; error == Errc::none && i < 3000; ++i) {
    error = send([&](bits::Writer& out) {
      out.put(1 | GetParam() << 1, 4);
      out.put((i + 1) << 1,
              17);  // the first is missing: nothing of an ordered channel is delivered
      out.put_count(8000, 6);
      for (int k = 0; k < 1000; ++k) out.put(0, 8);
    });
    bytes += error == Errc::none ? 1000 : 0;
  }
  // 511 numbers fit between the missing one and the window's end: less than its bytes.
  EXPECT_EQ(error, Errc::window_exceeded);
  EXPECT_LE(bytes, 511U * 1000);
}
TEST_P(WindowBreaker, IsClosedForStartingMoreThanTheWindowHolds) {
  // Each split message counts whole from its first piece on: three of 512 KiB do not fit.
  Errc error = Errc::none;
  int started = 0;
  for (std::uint64_t i = 1; error == Errc::none && i < 10; ++i) {
    error = send([&](bits::Writer& out) {
      out.put(1 << 1, 3);
      out.put(GetParam(), 3);
      out.put(i, 16);
      out.put_count(512 * 1024 * 8, 10);
      out.put_count(0, 4);
      out.put_count(0, 3);
      for (int k = 0; k < 64; ++k) out.put(0, 8);
    });
    started += error == Errc::none ? 1 : 0;
  }
  EXPECT_EQ(error, Errc::window_exceeded);
  EXPECT_EQ(started, 2);
}
INSTANTIATE_TEST_SUITE_P(ReliableAndOrdered, WindowBreaker, testing::Values(1, 2));

TEST_F(RuleBreaker, IsClosedForPiecesThatContradictEachOther) {
  EXPECT_EQ(send([](bits::Writer& out) { put_piece(out, 2, true, 16000, 0, 0, 64); }), Errc::none);
  EXPECT_EQ(send([](bits::Writer& out) { put_piece(out, 2, true, 16000, 0, 1, 128); }), Errc::none)
      << "an overlap is no contradiction";
  EXPECT_EQ(send([](bits::Writer& out) { put_piece(out, 2, true, 24000, 1, 0, 64); }),
            Errc::bad_piece);
  expect_closed(Errc::bad_piece, false);
}

TEST_F(RuleBreaker, IsClosedForPiecesWhereNothingMayBeSplit) {
  EXPECT_EQ(send([](bits::Writer& out) { put_piece(out, 0, false, 16000, 0, 0, 64); }),
            Errc::bad_piece);
  expect_closed(Errc::bad_piece);
}

TEST_F(RuleBreaker, IsClosedForAMessageBeyondTheLimit) {
  EXPECT_EQ(send([](bits::Writer& out) {
              put_piece(out, 4, false, (link::kMaxMessageBytes + 1) * 8, 0, 0, 64);
            }),
            Errc::split_too_large);
  expect_closed(Errc::split_too_large);
}

TEST_F(RuleBreaker, PiecesThatNeverCompleteTakeBoundedMemory) {
  for (int i = 0; i < 200; ++i) {
    ASSERT_EQ(send([](bits::Writer& out) { put_piece(out, 4, false, 200000 * 8, 7, 0, 64); }),
              Errc::none);
  }
  EXPECT_EQ(pair_.server().stats().messages_incomplete, 195U) << "1 MiB holds five of them";
  EXPECT_EQ(pair_.server().state(), link::State::open);
}

TEST_F(RuleBreaker, OnlyLosesADatagramThatIsMalformed) {
  EXPECT_EQ(send([](bits::Writer& out) {
              out.put(1 | 1 << 1, 4);
              out.put(9 << 1, 17);
              out.put_count(4000, 6);
            }),
            Errc::truncated);
  EXPECT_EQ(send([](bits::Writer& out) { out.put(0, 30); }), Errc::trailing_bits);
  EXPECT_EQ(send([](bits::Writer& out) { out.put(1 | 1 << 1 | 1 << 4, 5); }), Errc::value_range)
      << "it follows on nothing";
  EXPECT_EQ(pair_.server().state(), link::State::open);
}

TEST(Hostile, RandomDatagramsChangeNothing) {
  SimPair pair({.conditions = delay(10ms)});
  pair.run_until(at(1s));
  std::mt19937_64 random(5);
  std::vector<std::byte> bytes;
  std::array<std::byte, link::kBaseDatagramBytes> reply{};
  std::uint64_t replied = 0;
  for (int i = 0; i < 100000; ++i) {
    bytes.resize(random() % 64);
    if (i % 50 == 0) bytes.resize(link::kBaseDatagramBytes);
    for (std::byte& byte : bytes) byte = static_cast<std::byte>(random());
    if (!bytes.empty() && i % 2 == 0) bytes[0] = static_cast<std::byte>(random() % 16);
    EXPECT_NE(pair.server().receive(pair.now(), bytes), Errc::none);
    EXPECT_NE(pair.client().receive(pair.now(), bytes), Errc::none);
    const auto outcome =
        pair.listener().receive(pair.now(), SimPair::client_address(), bytes, reply);
    replied += outcome.reply_bytes;
    EXPECT_FALSE(pair.listener().exchange(pair.now(), reply));
    EXPECT_LE(outcome.reply_bytes, bytes.size());
  }
  EXPECT_EQ(pair.client().state(), link::State::open);
  EXPECT_EQ(pair.server().state(), link::State::open);
  EXPECT_LT(replied, 100000U);
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

// What waits for the other end's look is no queue: a path carries as much to an end that looks a few
// times a second as to one that always does.
struct Looks {
  Duration pause;
  double rate;  // of the path, bytes a second
};
class SeldomLooks : public testing::TestWithParam<Looks> {};
TEST_P(SeldomLooks, FillThePath) {
  const auto [pause, rate] = GetParam();
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
