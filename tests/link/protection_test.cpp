// Encrypted connections and addresses that change: keys that follow each other, challenges, copies
// from elsewhere, a server that was restarted.
#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>

#include "kit/promises.h"
#include "link/datagram/aead.h"
#include "link/handshake/handshake.h"

namespace kwind {
namespace protection_test {

using namespace std::chrono_literals;
using kit::at;
using kit::SimPair;

// ---- encrypted connections ----

TEST(Sealed, KeysChangeWhileDatagramsAreLostAndReordered) {
  for (std::uint64_t seed = 1; seed <= 30; ++seed) {
    SimPair pair(
        {.seed = seed,
         .conditions =
             {.delay = 40ms, .jitter = 30ms, .loss = 0.1, .reorder = 0.3, .reorder_delay = 80ms},
         .adjust = [](link::LinkOptions& options) { options.key_datagrams = 20; }});
    kit::Promises promises(pair, seed);
    kit::expect_kept(pair, promises, 20s, 33ms, 26s);
    EXPECT_GT(pair.client().stats().key_changes, 10U) << seed;
    EXPECT_GT(pair.server().stats().key_changes, 10U) << seed;
    EXPECT_LT(pair.server().stats().drops.of(Errc::bad_check), 10U) << seed;
  }
}

TEST(Sealed, TheKeyAlsoChangesByTime) {
  SimPair pair({.conditions = {.delay = 10ms},
                .adjust = [](link::LinkOptions& options) { options.key_time = 30s; }});
  pair.run_until(at(120s));
  EXPECT_GE(pair.client().stats().key_changes, 2U);
  EXPECT_EQ(pair.client().state(), link::State::open);
}

TEST(Sealed, AesIsUsedOnlyWhereBothEndsWantIt) {
  if (!link::has_aes_hardware()) GTEST_SKIP() << "no AES hardware here";
  for (int which = 0; which < 4; ++which) {
    SimPair pair({.conditions = {.delay = 10ms},
                  .adjust_door = [&](link::ListenerOptions& door) { door.aes = which % 2 == 1; },
                  .adjust_client = [&](link::ConnectOptions& who) { who.aes = which / 2 == 1; }});
    pair.run_until(at(1s));
    const std::string_view expected = which == 3 ? "AES-256-GCM" : "ChaCha20-Poly1305";
    EXPECT_EQ(pair.client().protection(), expected);
    EXPECT_EQ(pair.server().protection(), expected);
  }
}

TEST(Sealed, TheKeyLogHoldsTheKeysAndOnlyWhenItIsAskedFor) {
  std::map<std::pair<bool, std::uint64_t>, std::string> logged;
  SimPair pair({.conditions = {.delay = 10ms}, .adjust = [&](link::LinkOptions& options) {
                  options.key_datagrams = 10;
                  options.key_log = [&](const link::KeyNote& note) {
                    const auto [place, fresh] = logged.try_emplace(
                        {note.up, note.phase}, to_hex(note.key, note.key.size()));
                    EXPECT_EQ(place->second, to_hex(note.key, note.key.size()))
                        << "both ends must log the same keys";
                  };
                }});
  for (int i = 0; i < 100; ++i) {
    pair.run_until(at(50ms * i));
    if (pair.client().state() == link::State::open) {
      ASSERT_EQ(pair.client().send(2, 0, std::array<std::byte, 4>{}, 32), Errc::none);
    }
  }
  EXPECT_GT(logged.size(), 10U);
}

// ---- addresses ----

TEST(Addresses, AClientThatMovesIsFollowedOnceItHasAnsweredTheChallenge) {
  SimPair pair({.conditions = {.delay = 30ms}});
  kit::Promises promises(pair, 3);
  const auto hear = [&](bool at_server, const link::Event& event) {
    promises.hear(at_server, event);
    ASSERT_NE(event.kind, link::Event::Kind::closed) << event.text;
  };
  const Endpoint cafe = Endpoint::v4(10, 9, 8, 7, 6);
  for (int tick = 0; tick < 100; ++tick) {
    pair.run_until(at(50ms * tick), hear);
    if (tick == 40) pair.move_client(cafe);
    promises.send_tick(false);
    promises.send_tick(true);
  }
  pair.run_until(at(8s), hear);
  promises.expect_complete();
  EXPECT_EQ(pair.server().peer(), cafe);
  EXPECT_EQ(pair.server().stats().path_changes, 1U);
}

// RFC 9000, 8.2.1: what comes back shows as well that full datagrams pass.
TEST(Addresses, AChallengeIsAsLargeAsADatagramWhereTheAddressHasSentAsMuch) {
  for (const bool is_large : {false, true}) {
    SimPair pair({.conditions = {.delay = 30ms}});
    pair.run_until(at(1s));
    std::array<std::byte, link::kMaxDatagramBytes> datagram{};
    const std::vector<std::byte> message(is_large ? 4000 : 100);
    ASSERT_EQ(pair.client().send(2, 0, message, message.size() * 8), Errc::none);
    const std::size_t sent = pair.client().poll_datagram(pair.now(), datagram);
    const Endpoint cafe = Endpoint::v4(10, 9, 8, 7, 6);
    link::Link& server = pair.server();
    ASSERT_EQ(server.receive_from(pair.now(), cafe, std::span(datagram).first(sent)), Errc::none);
    const std::size_t answer = server.poll_datagram(pair.now(), datagram);
    EXPECT_EQ(server.destination(), cafe);
    EXPECT_EQ(answer, std::min(sent, link::kBaseDatagramBytes));
    EXPECT_EQ(answer > 1000, is_large);
  }
}

TEST(Addresses, ACopiedDatagramFromElsewhereMovesNothingAndGetsLessThanItSent) {
  SimPair pair({.conditions = {.delay = 30ms}});
  pair.run_until(at(1s));
  link::Link& server = pair.server();
  const Endpoint thief = Endpoint::v4(10, 6, 6, 6, 6);
  std::array<std::byte, link::kMaxDatagramBytes> copy{};
  ASSERT_EQ(pair.client().send(0, 0, std::array<std::byte, 100>{}, 800), Errc::none);
  const std::size_t size = pair.client().poll_datagram(pair.now(), copy);
  // The thief is faster than the client: its copy comes first.
  EXPECT_EQ(server.receive_from(pair.now(), thief, std::span(copy).first(size)), Errc::none);
  EXPECT_EQ(server.receive(pair.now(), std::span(copy).first(size)), Errc::replayed);
  std::size_t to_thief = 0;
  std::array<std::byte, link::kMaxDatagramBytes> out{};
  for (int i = 0; i < 1000; ++i) {
    const Time now = pair.now() + 10ms * i;
    ASSERT_EQ(server.send(0, 0, std::array<std::byte, 100>{}, 800), Errc::none);
    server.wake(now);
    while (const std::size_t sent = server.poll_datagram(now, out)) {
      if (server.destination() == thief) to_thief += sent;
    }
    if (server.state() != link::State::open) break;
  }
  EXPECT_GT(to_thief, 0U);
  EXPECT_LE(to_thief, size);
  EXPECT_EQ(server.peer(), SimPair::client_address());
}

// The client of a server that was restarted asks by a number that its welcome told it; nobody else
// gets the answer that ends its connection.
TEST(Addresses, ARestartedServerSaysSoToTheClientThatAsks) {
  SimPair pair({.conditions = {.delay = 20ms}});
  pair.run_until(at(1s));
  // Another listener with the same key knows no connections.
  link::ListenerOptions options{kit::test_identity(), kit::secret_of(1234), 4, 0};
  options.key = kit::server_key();
  const link::Listener restarted(options);
  std::array<std::byte, link::kMaxDatagramBytes> out{};
  std::array<std::byte, 32> reply{};
  ASSERT_EQ(pair.client().send(0, 0, std::array<std::byte, 1>{}, 8), Errc::none);
  std::size_t asked = 0;
  std::size_t said = 0;
  Time now = pair.now();
  for (; asked < 1 && now < at(5s); now += 10ms) {
    if (now >= pair.client().next_wakeup()) pair.client().wake(now);
    while (const std::size_t size = pair.client().poll_datagram(now, out)) {
      const auto datagram = std::span(out).first(size);
      if (!link::Listener::is_lost(datagram)) {
        EXPECT_EQ(restarted.reply_to_lost(datagram, reply), 0U) << "data is not answered";
        continue;
      }
      ++asked;
      EXPECT_EQ(*link::Listener::lost_connection(datagram), pair.client().id());
      // Who does not know the number hears a token that means nothing to this client.
      for (const std::size_t byte : {6U, 12U}) {
        datagram[byte] ^= std::byte{1};
        const std::size_t other = restarted.reply_to_lost(datagram, reply);
        EXPECT_EQ(pair.client().receive(now, std::span(reply).first(other)), Errc::bad_check);
        datagram[byte] ^= std::byte{1};
      }
      said = restarted.reply_to_lost(datagram, reply);
      ASSERT_GT(said, 0U);
      EXPECT_LT(said, size) << "no amplification";
    }
  }
  ASSERT_EQ(asked, 1U);
  EXPECT_LE(now, at(2500ms)) << "after a few probes without an answer";
  auto forged = reply;
  forged[5] ^= std::byte{1};
  EXPECT_EQ(pair.client().receive(now, std::span(forged).first(said)), Errc::bad_check);
  EXPECT_EQ(pair.client().receive(now, std::span(reply).first(said)), Errc::none);
  const auto event = pair.client().poll_event();
  ASSERT_TRUE(event);
  EXPECT_EQ(event->code, Errc::server_restarted);
  EXPECT_EQ(restarted.reply_to_lost(std::span(reply).first(said), out), 0U)
      << "two servers do not answer each other for ever";
}

}  // namespace protection_test
}  // namespace kwind
