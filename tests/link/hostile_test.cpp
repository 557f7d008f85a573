// Links in virtual time that are sent what breaks the rules.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "kit/forge.h"
#include "kit/promises.h"
#include "link/handshake/handshake.h"
#include "link/link_log.h"

namespace kwind {
namespace hostile_test {

using namespace std::chrono_literals;
using kit::at;
using kit::delay;
using kit::Log;
using kit::SimPair;

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

// A reason may end in a log: escapes, C1 controls and bytes that are no UTF-8 do not reach a
// handler.
TEST_F(RuleBreaker, GivesAReasonThatCannotMoveACursor) {
  constexpr std::string_view kReason =
      "gone\x1b[2J \xc2\x9b"
      "1A \xff \xe6\xb8\xaf";
  EXPECT_EQ(send([&](bits::Writer& out) {
              out.put(3 << 1 | 1 << 3, 6);
              out.put(0, 8);
              out.put(kReason.size(), 7);
              for (const char c : kReason) out.put(static_cast<unsigned char>(c), 8);
            }),
            Errc::none);
  pair_.run_until(pair_.now() + 3s, log_.hook());
  ASSERT_EQ(log_.server.size(), 2U);
  EXPECT_EQ(log_.server[1],
            "closed_by_peer: gone\xef\xbf\xbd[2J \xef\xbf\xbd"
            "1A \xef\xbf\xbd \xe6\xb8\xaf");
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

}  // namespace hostile_test
}  // namespace kwind
