// Links over a stream, in virtual time: nothing is lost, and the backlog is watched instead of the
// path.
#include <gtest/gtest.h>

#include "kit/promises.h"
#include "link/handshake/handshake.h"
#include "link/link_log.h"

namespace kwind {
namespace stream_test {

using namespace std::chrono_literals;
using kit::at;
using kit::Log;
using kit::SimPair;

// ---- over a stream ----

kit::SimPairOptions stream(const io::sim::Conditions& conditions) {
  kit::SimPairOptions options{.seed = 5, .conditions = conditions};
  options.transport_kind = link::TransportKind::stream;
  return options;
}

TEST(Stream, KeepsThePromisesAndSendsNothingTwice) {
  SimPair pair(stream({.delay = 40ms, .rate = 100000, .queue_bytes = 4 << 20}));
  kit::Promises promises(pair, 4);
  kit::expect_kept(pair, promises, 20s, 50ms, 30s);
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

}  // namespace stream_test
}  // namespace kwind
