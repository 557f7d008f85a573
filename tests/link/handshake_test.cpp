// The listener as clients meet it: keys, cookies, attempts, refusals, rations of key exchanges.
#include <gtest/gtest.h>

#include <map>
#include <set>

#include "link/datagram/aead.h"
#include "link/door.h"
#include "link/handshake/handshake.h"

namespace kwind {
namespace handshake_test {

using namespace std::chrono_literals;
using kit::at;
using kit::Door;

TEST(Keys, ComeBackFromTheirTextAndRefuseAnyOther) {
  const link::KeyPair key = kit::server_key();
  const std::string text = link::key_text(key.public_key);
  EXPECT_EQ(text.size(), 43U);
  ASSERT_TRUE(link::parse_public_key(text));
  EXPECT_EQ(*link::parse_public_key(text), key.public_key);
  EXPECT_FALSE(link::parse_public_key(text + "="));
  EXPECT_FALSE(link::parse_public_key(text.substr(1)));
  EXPECT_FALSE(link::parse_public_key("!" + text.substr(1)));
  std::string odd = text;
  odd.back() = odd.back() == '_' ? '-' : '_';  // the last character holds four bits
  EXPECT_FALSE(link::parse_public_key(odd)) << "one key has one text";
}

TEST_F(Door, KeepsNothingForAnAddressWithoutACookie) {
  for (std::uint64_t n = 0; n < 1000; ++n) {
    link::Link who = client(n);
    const auto outcome =
        knock(who, at(0s), Endpoint::v4(127, 1, 0, 1, static_cast<std::uint16_t>(n)));
    EXPECT_EQ(outcome.error, Errc::none);
  }
  EXPECT_EQ(listener_.attempts(), 0U);
  EXPECT_EQ(listener_.connections(), 0U);
}

TEST_F(Door, TakesACookieOnlyFromItsAddressNonceAndTime) {
  link::Link who = client(7);
  ASSERT_EQ(who.receive(at(0s), reply(knock(who, at(0s), a_))), Errc::none);
  const std::size_t size = who.poll_datagram(at(0s), datagram_);
  const auto connect = std::span(datagram_).first(size);
  EXPECT_EQ(listener_.receive(at(0s), b_, connect, reply_).error, Errc::bad_cookie);
  EXPECT_EQ(listener_.receive(at(21s), a_, connect, reply_).error, Errc::bad_cookie) << "expired";
  connect[3] ^= std::byte{1};
  EXPECT_EQ(listener_.receive(at(0s), a_, connect, reply_).error, Errc::bad_cookie) << "nonce";
  connect[3] ^= std::byte{1};
  EXPECT_EQ(listener_.connections(), 0U);
  EXPECT_FALSE(listener_.exchange(at(9s), reply_)) << "no offer was let through so far";
  EXPECT_EQ(listener_.receive(at(9s), a_, connect, reply_).error, Errc::none);
  EXPECT_TRUE(listener_.exchange(at(9s), reply_)->attempt);
}

TEST_F(Door, GivesACopyOfAnConnectTheSameAcceptUntilTheConnectionExists) {
  link::Link who = client(7);
  const auto first = enter(who, at(0s), a_);
  ASSERT_TRUE(first.attempt);
  const auto accept = reply_;
  const auto connect = std::span(datagram_).first(size_);
  const auto copy = listener_.receive(at(1s), a_, connect, reply_);
  EXPECT_EQ(copy.reply_bytes, first.reply_bytes);
  EXPECT_EQ(reply_, accept);
  EXPECT_FALSE(listener_.exchange(at(1s), reply_)) << "a copy costs no exchange";
  EXPECT_EQ(listener_.attempts(), 1U);
  EXPECT_EQ(listener_.connections(), 0U) << "an attempt is no client";
  ASSERT_TRUE(go_on(who, at(2s)));
  EXPECT_EQ(listener_.connections(), 1U);
  const auto late = listener_.receive(at(3s), a_, connect, reply_);
  EXPECT_EQ(late.reply_bytes, 0U);
  EXPECT_FALSE(listener_.exchange(at(3s), reply_));
  EXPECT_EQ(listener_.connections(), 1U) << "a late copy makes no second connection";
}

TEST_F(Door, RefusesWhenFullAndTakesAgainWhenSomebodyLeft) {
  link::Link late = client(9);
  ASSERT_TRUE(enter(late, at(0s), a_).attempt) << "there is room so far";
  std::vector<link::Admission> in;
  for (std::uint64_t n = 1; n <= 2; ++n) {
    link::Link who = client(n);
    const auto admitted = connect(who, at(0s), a_);
    ASSERT_EQ(admitted.error, Errc::none);
    in.push_back(admitted.admission);
  }
  EXPECT_EQ(enter_and_tell(3, "", at(0s)), "server_full: 2 of 2 places are taken");
  EXPECT_EQ(go_on(late, at(0s))->error, Errc::server_full) << "decided when a connection opens";
  listener_.forget(at(0s), in[0]);
  std::set<link::ConnectionId> ids;
  for (std::uint64_t n = 4; n < 20; ++n) {
    link::Link who = client(100 + n);
    const auto admitted = connect(who, at(0s) + 1s * n, a_);
    ASSERT_EQ(admitted.error, Errc::none);
    EXPECT_TRUE(ids.insert(admitted.admission.id).second) << "free the longest first";
    EXPECT_NE(admitted.admission.id, in[0].id);
    EXPECT_GT(admitted.admission.serial, in[1].serial);
    listener_.forget(at(0s) + 1s * n, admitted.admission);
  }
}

TEST_F(Door, AServerThatClosesBeforeItHeardTheClientSaysSo) {
  link::Link who = client(1);
  const auto admitted = connect(who, at(0s), a_);
  ASSERT_EQ(admitted.error, Errc::none);
  link::LinkOptions link_options;
  link_options.channels = {{Delivery::ordered}};
  link::Link server = link::Link::accept(admitted.admission, a_, link_options, at(0s));
  EXPECT_EQ(server.state(), link::State::opening);
  server.close(at(1ms), "not today");
  std::array<std::byte, link::kMaxDatagramBytes> out{};
  const std::size_t size = server.poll_datagram(at(1ms), out);
  ASSERT_GT(size, 0U);
  EXPECT_EQ(who.receive(at(2ms), std::span(out).first(size)), Errc::none);
  EXPECT_EQ(end_of(who), "opened closed_by_peer: not today");
}

TEST_F(Door, RefusesAnotherProtocolAndAnotherDigestByName) {
  link::Identity quay = kit::test_identity();
  quay.name = "quay";
  link::Link other = client(1, "", quay);
  EXPECT_EQ(enter(other, at(0s), a_).error, Errc::protocol_name);
  EXPECT_EQ(end_of(other), "protocol_name: this server speaks `test`");
  link::Identity other_state = kit::test_identity();
  other_state.payload_version = static_cast<std::uint8_t>(other_state.payload_version + 1);
  link::Link older = client(4, "", other_state);
  EXPECT_EQ(enter(older, at(0s), a_).error, Errc::state_version);
  EXPECT_EQ(end_of(older).substr(0, 13), "state_version");
  link::Identity changed = kit::test_identity();
  changed.versions[0].digest[3] ^= std::byte{1};
  link::Link differs = client(2, "", changed);
  EXPECT_EQ(enter(differs, at(0s), a_).error, Errc::schema_mismatch);
  EXPECT_NE(end_of(differs).find("in version 1"), std::string::npos);
  link::Identity newer = kit::test_identity();
  newer.versions.insert(newer.versions.begin(), {2, {}});
  link::Link able = client(3, "", newer);
  const auto admitted = connect(able, at(0s), a_);
  ASSERT_EQ(admitted.error, Errc::none) << "an older common version will do";
  EXPECT_EQ(admitted.admission.version, 1);
}

TEST_F(Door, AnswersAnUnknownLinkVersionWithTheKnownOnes) {
  std::array<std::byte, link::kBaseDatagramBytes> hello{};
  link::write_hello({9, 7}, hello);
  const auto outcome = listener_.receive(at(0s), a_, hello, reply_);
  EXPECT_EQ(outcome.error, Errc::link_version);
  const auto versions = link::read_versions(reply(outcome));
  ASSERT_TRUE(versions);
  EXPECT_EQ(versions->known, std::vector<std::uint16_t>{link::kLinkVersion});
  EXPECT_EQ(versions->client_nonce, 7U);
}

TEST_F(Door, TakesNoShortHelloOrConnect) {
  link::Link who = client(7);
  for (int stage = 0; stage < 2; ++stage) {
    const std::size_t size = who.poll_datagram(at(0s), datagram_);
    for (std::size_t cut = 0; cut < size; ++cut) {
      const auto outcome = listener_.receive(at(0s), a_, std::span(datagram_).first(cut), reply_);
      EXPECT_NE(outcome.error, Errc::none);
      EXPECT_EQ(outcome.reply_bytes, 0U);
    }
    const auto whole = listener_.receive(at(0s), a_, std::span(datagram_).first(size), reply_);
    EXPECT_EQ(whole.error, Errc::none);
    (void)who.receive(at(0s), reply(whole));
  }
}

TEST_F(Door, TellsAClientThatHoldsAnotherKey) {
  link::ConnectOptions who{kit::test_identity(), kit::secret_of(1)};
  who.server_key = link::KeyPair::from_secret(kit::secret_of(4)).public_key;
  link::LinkOptions link_options;
  link_options.channels = {{Delivery::ordered}};
  link::Link wrong = link::Link::connect(who, link_options, at(0s));
  EXPECT_EQ(enter(wrong, at(0s), a_).error, Errc::wrong_key);
  EXPECT_EQ(end_of(wrong).substr(0, 9), "wrong_key");
  EXPECT_TRUE(wrong.cookie_echoed());
}

TEST_F(Door, TakesNoPlaintextClientWhenItEncryptsAndTheOtherWayRound) {
  link::ConnectOptions who{kit::test_identity(), kit::secret_of(1)};
  link::LinkOptions link_options;
  link_options.channels = {{Delivery::ordered}};
  link::Link plain = link::Link::connect(who, link_options, at(0s));
  const auto refused = knock(plain, at(0s), a_);
  EXPECT_EQ(refused.error, Errc::mode_differs);
  EXPECT_EQ(plain.receive(at(0s), reply(refused)), Errc::none);
  EXPECT_EQ(end_of(plain).substr(0, 12), "mode_differs");
  link::ListenerOptions open = options();
  open.key.reset();
  link::Listener plaintext(open);
  link::Link sealed = client(2);
  const std::size_t size = sealed.poll_datagram(at(0s), datagram_);
  EXPECT_EQ(plaintext.receive(at(0s), a_, std::span(datagram_).first(size), reply_).error,
            Errc::mode_differs);
}

TEST_F(Door, ManyAttemptsOfOneAddressWaitForEachOther) {
  link::ListenerOptions roomy = options();
  roomy.capacity = 200;
  roomy.exchanges.burst = 1000;
  listener_ = link::Listener(roomy);
  std::map<Errc, int> outcomes;
  for (std::uint64_t n = 0; n < 100; ++n) {
    link::Link who = client(n);
    ++outcomes[enter(who, at(0s), a_).error];
  }
  EXPECT_EQ(outcomes[Errc::none], 64);
  EXPECT_EQ(outcomes[Errc::server_busy], 36);
  link::Link elsewhere = client(199);
  EXPECT_TRUE(enter(elsewhere, at(0s), b_).attempt) << "others are not kept out";
  // Connections that opened were not asked for in vain: fifty players come from one address at
  // once.
  listener_ = link::Listener(roomy);
  for (std::uint64_t n = 0; n < 150; ++n) {
    link::Link who = client(n);
    EXPECT_EQ(connect(who, at(0s) + n * 10ms, a_).error, Errc::none) << n;
  }
  EXPECT_EQ(listener_.connections(), 150U);
}

TEST_F(Door, AHouseholdsIPv6AddressesAreOneNetwork) {
  link::ListenerOptions roomy = options();
  roomy.exchanges.burst = 1000;
  listener_ = link::Listener(roomy);
  std::map<Errc, int> outcomes;
  for (std::uint64_t n = 0; n < 100; ++n) {
    Endpoint from{{0x20, 1, 0xd, 0xb8, 0, 0, 0, 1}, 5000};
    from.ip[15] = static_cast<std::uint8_t>(n);
    from.ip[8] = static_cast<std::uint8_t>(n * 7);
    link::Link who = client(n);
    ++outcomes[enter(who, at(0s), from).error];
  }
  EXPECT_EQ(outcomes[Errc::none], 64);
  EXPECT_EQ(outcomes[Errc::server_busy], 36);
}

// 1,000 networks ask for exchanges as fast as they can; somebody who asks once goes before them.
TEST_F(Door, ExchangesAreRationedAndWhoAsksForLittleComesFirst) {
  std::vector<Endpoint> crowd;
  for (unsigned n = 0; n < 1000; ++n) {
    crowd.push_back(Endpoint::v4(10, 1, static_cast<std::uint8_t>(n / 250),
                                 static_cast<std::uint8_t>(n % 250), 4000));
  }
  std::uint64_t seed = 100;
  std::uint64_t before = 0;
  std::size_t at_once = 0;
  Duration longest{0};
  std::size_t honest = 0;
  for (int tick = 0; tick < 100; ++tick) {  // of 50 ms
    const Time now = at(0s) + tick * 50ms;
    for (std::size_t i = 0; i < 60; ++i) {
      const Endpoint& from = crowd[(static_cast<std::size_t>(tick) * 60 + i) % crowd.size()];
      // A good cookie, and then nothing but random bytes.
      link::Link who = client(++seed);
      ASSERT_EQ(who.receive(now, reply(knock(who, now, from))), Errc::none);
      size_ = who.poll_datagram(now, datagram_);
      for (std::size_t b = link::kConnectHeadBytes; b < size_; ++b) {
        datagram_[b] = static_cast<std::byte>(seed * b >> 3);
      }
      (void)listener_.receive(now, from, std::span(datagram_).first(size_), reply_);
    }
    if (tick >= 60 && tick % 8 == 0) {
      const Endpoint from = Endpoint::v4(192, 0, 2, static_cast<std::uint8_t>(tick), 5000);
      link::Link who = client(++seed);
      ASSERT_EQ(who.receive(now, reply(knock(who, now, from))), Errc::none);
      (void)knock(who, now, from);
      Time then = now;
      std::optional<link::Listener::Exchanged> mine;
      while (!mine && then < now + 2s) {
        while (const auto done = listener_.exchange(then, reply_)) {
          if (done->to == from) mine = done;
        }
        if (!mine) then += 5ms;
      }
      ASSERT_TRUE(mine && mine->attempt) << tick;
      longest = std::max(longest, then - now);
      ++honest;
    }
    before = listener_.counts().exchanges;
    while (listener_.exchange(now, reply_)) {
    }
    at_once = std::max<std::size_t>(at_once, listener_.counts().exchanges - before);
  }
  EXPECT_EQ(honest, 5U);
  EXPECT_LE(longest, Duration(50ms));
  EXPECT_LE(at_once, 20U) << "no more at once than ExchangeLimits::burst";
  EXPECT_LE(listener_.counts().exchanges, 5U * 400 + 20 + 40);
  EXPECT_GE(listener_.counts().exchanges_failed, 1000U);
}

TEST_F(Door, ACookieIsGoodForOneExchange) {
  link::Link who = client(7);
  ASSERT_EQ(who.receive(at(0s), reply(knock(who, at(0s), a_))), Errc::none);
  size_ = who.poll_datagram(at(0s), datagram_);
  const auto connect = std::span(datagram_).first(size_);
  connect[link::kConnectHeadBytes + 40] ^= std::byte{1};  // it does not open: costs an exchange
  EXPECT_EQ(listener_.receive(at(0s), a_, connect, reply_).error, Errc::none);
  EXPECT_EQ(listener_.exchange(at(0s), reply_)->error, Errc::wrong_key);
  // The same again gets the same word, without another exchange.
  const auto again = listener_.receive(at(1s), a_, connect, reply_);
  EXPECT_GT(again.reply_bytes, 0U);
  for (unsigned n = 0; n < 50; ++n) {
    connect[link::kConnectHeadBytes + n % 32] ^= std::byte{0x11};
    const auto outcome = listener_.receive(at(1s), a_, connect, reply_);
    EXPECT_EQ(outcome.error, Errc::bad_cookie);
    EXPECT_EQ(outcome.reply_bytes, 0U);
  }
  EXPECT_FALSE(listener_.exchange(at(1s), reply_));
  EXPECT_EQ(listener_.counts().exchanges, 1U);
}

TEST_F(Door, AttemptsThatNeverGoOnTakeNoPlace) {
  link::ListenerOptions small = options();
  small.attempts = 32;
  small.exchanges.burst = 1000;
  listener_ = link::Listener(small);
  const std::size_t at_start = listener_.attempts();
  for (std::uint64_t n = 0; n < 200; ++n) {
    link::Link who = client(1000 + n);
    const Endpoint from = Endpoint::v4(10, 2, 0, static_cast<std::uint8_t>(n % 8), 4000);
    (void)enter(who, at(0s) + n * 20ms, from);
    EXPECT_LE(listener_.attempts(), 32U);
  }
  EXPECT_GT(listener_.counts().attempts_evicted, 0U);
  EXPECT_EQ(listener_.connections(), 0U);
  link::Link honest = client(7);
  EXPECT_EQ(connect(honest, at(4s), b_).error, Errc::none);
  link::Link never = client(8);
  ASSERT_TRUE(enter(never, at(5s), b_).attempt);
  EXPECT_FALSE(go_on(never, at(11s))) << "its time is over";
  EXPECT_EQ(listener_.attempts(), at_start);
  EXPECT_GT(listener_.counts().attempts_expired, 0U);
}

TEST_F(Door, OnlyItsClientGoesOnWithAnAttempt) {
  link::Link who = client(7);
  const auto done = enter(who, at(0s), a_);
  ASSERT_TRUE(done.attempt);
  std::array<std::byte, link::kMaxDatagramBytes> data{};
  const auto first = std::span(data).first(who.poll_datagram(at(0s), data));
  for (std::size_t bit = 0; bit < first.size() * 8; ++bit) {
    first[bit / 8] ^= std::byte{1} << (bit % 8);
    EXPECT_FALSE(listener_.admit(at(0s), 0, first)) << bit;
    first[bit / 8] ^= std::byte{1} << (bit % 8);
  }
  EXPECT_FALSE(listener_.admit(at(0s), 1, first)) << "by another port";
  const auto admitted = listener_.admit(at(0s), 0, first);
  ASSERT_TRUE(admitted);
  EXPECT_EQ(admitted->admission.id, *done.attempt);
  EXPECT_FALSE(listener_.admit(at(0s), 0, first)) << "once";
}

// ---- tickets ----

// As many as there are places may drain beside those that are connected, and no more.
TEST_F(Door, AVacatedPlaceIsFreeAndTheirNumberIsBounded) {
  std::uint64_t seed = 300;
  std::vector<link::Admission> leaving;
  for (int i = 0; i < 4; ++i) {
    link::Link who = client(++seed);
    auto admitted = connect(who, at(1000s), a_);
    ASSERT_EQ(admitted.error, Errc::none) << i;
    EXPECT_EQ(listener_.vacate(admitted.admission), i < 2) << i;
    EXPECT_EQ(listener_.vacate(admitted.admission), i < 2) << "the second time changes nothing";
    EXPECT_EQ(admitted.admission.vacated, i < 2) << i;
    EXPECT_EQ(listener_.connections(), i < 2 ? 0U : static_cast<std::size_t>(i) - 1) << i;
    leaving.push_back(admitted.admission);
  }
  link::Link early = client(++seed);
  EXPECT_EQ(connect(early, at(1000s), a_).error, Errc::server_full);
  for (const link::Admission& each : leaving) listener_.forget(at(1001s), each);
  EXPECT_EQ(listener_.connections(), 0U);
  for (int i = 0; i < 2; ++i) {
    link::Link who = client(++seed);
    EXPECT_EQ(connect(who, at(1001s), a_).error, Errc::none);
  }
  link::Link late = client(++seed);
  EXPECT_EQ(connect(late, at(1001s), a_).error, Errc::server_full);
}

}  // namespace handshake_test
}  // namespace kwind
