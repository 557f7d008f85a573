// The handshake and what it protects: the door, tickets, keys, addresses, coming back.
#include <gtest/gtest.h>

#include <map>
#include <random>

#include "cli/process.h"
#include "kit/promises.h"
#include "link/handshake.h"
#include "link/noise.h"
#include "link/sealer.h"

namespace kwind {
namespace {

using namespace std::chrono_literals;
using kit::at;
using kit::SimPair;

// ---- Noise ----

std::string hex(std::span<const std::byte> bytes) {
  return bits::to_hex(bytes, bytes.size());
}
std::vector<std::byte> from_hex(const std::string& text) {
  std::vector<std::byte> bytes;
  for (std::size_t i = 0; i + 1 < text.size(); i += 2) {
    bytes.push_back(static_cast<std::byte>(std::stoi(text.substr(i, 2), nullptr, 16)));
  }
  return bytes;
}

// Each end once against an implementation that shares no code with this one.
TEST(Noise, ShakesHandsWithAnIndependentImplementationInBothRoles) {
  const link::KeyPair server = kit::server_key();
  const auto prologue = from_hex("00112233");
  const auto first = from_hex("aabbcc");
  const auto second = from_hex("0102030405");
  const std::string script = KWIND_SOURCE_DIR "/tests/link/noise_peer.py";

  link::NoiseNk client = link::NoiseNk::initiator(prologue, server.public_key, kit::secret_of(77));
  std::vector<std::byte> sent(first.size() + link::NoiseNk::kOverheadBytes);
  ASSERT_TRUE(client.write_first(first, sent));
  const auto as_server = kit::run({"/usr/bin/python3", script, "responder", hex(prologue),
                                   hex(server.secret.bytes()), hex(sent), hex(second)});
  ASSERT_EQ(as_server.code, 0) << as_server.err;
  // It prints the payload it read, its message, and the two keys.
  std::istringstream server_said(as_server.out);
  std::string read;
  std::string message;
  std::string up;
  std::string down;
  server_said >> read >> message >> up >> down;
  EXPECT_EQ(read, hex(first));
  std::vector<std::byte> heard(second.size());
  ASSERT_TRUE(client.read_second(from_hex(message), heard));
  EXPECT_EQ(heard, second);
  EXPECT_EQ(up, hex(client.split().up.bytes()));
  EXPECT_EQ(down, hex(client.split().down.bytes()));

  kit::Process peer(
      {"/usr/bin/python3", script, "initiator", hex(prologue), hex(server.public_key), hex(first)});
  const std::string opening = peer.read_line();
  link::NoiseNk host = link::NoiseNk::responder(prologue, server, kit::secret_of(78));
  std::vector<std::byte> heard_first(first.size());
  ASSERT_TRUE(host.read_first(from_hex(opening), heard_first)) << opening;
  EXPECT_EQ(heard_first, first);
  std::vector<std::byte> answer(second.size() + link::NoiseNk::kOverheadBytes);
  ASSERT_TRUE(host.write_second(second, answer));
  peer.write_line(hex(answer));
  EXPECT_EQ(peer.read_line(), hex(second));
  EXPECT_EQ(peer.read_line(), hex(host.split().up.bytes()));
  EXPECT_EQ(peer.read_line(), hex(host.split().down.bytes()));
}

TEST(Noise, OpensNothingThatWasChangedAndSurvivesForgedAnswers) {
  const auto prologue = from_hex("0011");
  std::array<std::byte, 20> payload{};
  const auto exchange = [&](std::size_t flip, bool first_message) {
    link::NoiseNk client =
        link::NoiseNk::initiator(prologue, kit::server_key().public_key, kit::secret_of(1));
    link::NoiseNk server = link::NoiseNk::responder(prologue, kit::server_key(), kit::secret_of(2));
    std::array<std::byte, 68> one{};
    std::array<std::byte, 68> two{};
    std::array<std::byte, 20> got{};
    EXPECT_TRUE(client.write_first(payload, one));
    if (first_message) one[flip / 8] ^= std::byte{1} << (flip % 8);
    if (!server.read_first(one, got)) return false;
    EXPECT_TRUE(server.write_second(payload, two));
    auto forged = two;
    forged[flip / 8] ^= std::byte{1} << (flip % 8);
    EXPECT_FALSE(client.read_second(forged, got));
    return client.read_second(two, got);
  };
  for (std::size_t bit = 0; bit < 68 * 8; bit += 3) {
    // X25519 ignores the highest bit of a public key; the hash over the message does not.
    EXPECT_FALSE(exchange(bit, true)) << bit;
    EXPECT_TRUE(exchange(bit, false)) << bit << ": a forged answer must not spoil the real one";
  }
  link::NoiseNk weak = link::NoiseNk::initiator(prologue, {}, kit::secret_of(1));
  std::array<std::byte, 68> one{};
  EXPECT_FALSE(weak.write_first(payload, one)) << "a key of small order";
}

TEST(Sealer, BothCiphersOpenWhatTheySealedAndNothingElse) {
  for (const auto cipher : {link::Cipher::chacha20_poly1305, link::Cipher::aes256_gcm}) {
    if (cipher == link::Cipher::aes256_gcm && !link::has_aes_hardware()) continue;
    const link::Sealer sealer(cipher, kit::secret_of(5));
    const std::array<std::byte, 3> head{std::byte{1}};
    std::array<std::byte, 30 + 16> datagram{};
    std::array<std::byte, 30> plain{};
    sealer.seal(7, head, std::span(datagram).first(30), std::span(datagram).last<16>());
    EXPECT_TRUE(sealer.open(7, head, datagram, plain));
    EXPECT_EQ(plain, (std::array<std::byte, 30>{}));
    EXPECT_FALSE(sealer.open(8, head, datagram, plain)) << "another number";
    EXPECT_FALSE(sealer.open(7, {}, datagram, plain)) << "another head";
    EXPECT_FALSE(sealer.next().open(7, head, datagram, plain)) << "another key";
    for (std::size_t bit = 0; bit < datagram.size() * 8; ++bit) {
      datagram[bit / 8] ^= std::byte{1} << (bit % 8);
      EXPECT_FALSE(sealer.open(7, head, datagram, plain));
      datagram[bit / 8] ^= std::byte{1} << (bit % 8);
    }
  }
}

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

// ---- the door ----

struct Gate final : link::TicketGate {
  Result<link::Claims> check(std::string_view ticket, std::int64_t now) const override {
    if (ticket == "forged") return fail(Errc::ticket_invalid);
    const std::int64_t expires = 1000000 + 60;
    if (now > expires) return fail(Errc::ticket_expired);
    return link::Claims{"pilot " + std::string(ticket), std::string(ticket), expires, "{}"};
  }
};

// A listener, and clients that talk to it by hand.
class Door : public testing::Test {
 protected:
  static inline Time clock_{};  // what tickets expire by
  static link::ListenerOptions options() {
    link::ListenerOptions options{kit::test_identity(), kit::secret_of(9), 2, 0};
    options.key = kit::server_key();
    options.unix_now = [] {  // at(1000s) is a million
      return std::int64_t{1000000 - 2000} +
             std::chrono::floor<std::chrono::seconds>(clock_.time_since_epoch()).count();
    };
    return options;
  }
  link::Link client(std::uint64_t seed, const std::string& ticket = {},
                    link::Identity identity = kit::test_identity()) {
    link::ConnectOptions who{std::move(identity), kit::secret_of(seed)};
    who.server_key = kit::server_key().public_key;
    who.ticket = ticket;
    who.comeback = comeback_;
    link::LinkOptions link_options;
    link_options.channels = {{Delivery::ordered}};
    link_options.tags = 1;
    return link::Link::connect(who, link_options, at(0s));
  }
  link::Listener::Outcome knock(link::Link& who, Time now, const Endpoint& from) {
    clock_ = now;
    size_ = who.poll_datagram(now, datagram_);
    EXPECT_EQ(size_, link::kBaseDatagramBytes);
    const auto outcome = listener_.receive(now, from, std::span(datagram_).first(size_), reply_);
    EXPECT_LE(outcome.reply_bytes, size_) << "amplification";
    return outcome;
  }
  std::span<const std::byte> reply(const link::Listener::Outcome& outcome) {
    return std::span(reply_).first(outcome.reply_bytes);
  }
  // Hello, cookie, offer; the answer is given to the client.
  link::Listener::Outcome enter(link::Link& who, Time now, const Endpoint& from) {
    const auto cookie = knock(who, now, from);
    EXPECT_EQ(cookie.error, Errc::none);
    EXPECT_EQ(cookie.reply_bytes, 27U);
    EXPECT_EQ(who.receive(now, reply(cookie)), Errc::none);
    auto outcome = knock(who, now, from);
    EXPECT_EQ(who.receive(now, reply(outcome)), Errc::none);
    return outcome;
  }
  static std::string end_of(link::Link& who) {
    std::string end;
    while (const auto event = who.poll_event()) {
      if (event->kind == link::Event::Kind::opened) end += "opened ";
      if (event->kind == link::Event::Kind::closed) {
        end += std::string(error_info(event->code).name) + ": " + std::string(event->text);
      }
    }
    return end;
  }
  std::string enter_and_tell(std::uint64_t seed, const std::string& ticket, Time now) {
    link::Link who = client(seed, ticket);
    const auto outcome = enter(who, now, a_);
    if (outcome.admission) last_ = *outcome.admission;
    return end_of(who);
  }

  Gate gate_;
  link::Listener listener_{options()};
  std::optional<bits::Secret32> comeback_;
  link::Admission last_;
  const Endpoint a_ = Endpoint::v4(127, 0, 0, 1, 1000);
  const Endpoint b_ = Endpoint::v4(127, 0, 0, 2, 1001);
  std::array<std::byte, link::kMaxDatagramBytes> datagram_{};
  std::array<std::byte, link::kBaseDatagramBytes> reply_{};
  std::size_t size_ = 0;
};

TEST_F(Door, KeepsNothingForAnAddressWithoutACookie) {
  for (std::uint64_t n = 0; n < 1000; ++n) {
    link::Link who = client(n);
    const auto outcome =
        knock(who, at(0s), Endpoint::v4(127, 1, 0, 1, static_cast<std::uint16_t>(n)));
    EXPECT_FALSE(outcome.admission);
  }
  EXPECT_EQ(listener_.connections(), 0U);
}

TEST_F(Door, TakesACookieOnlyFromItsAddressNonceAndTime) {
  link::Link who = client(7);
  ASSERT_EQ(who.receive(at(0s), reply(knock(who, at(0s), a_))), Errc::none);
  const std::size_t size = who.poll_datagram(at(0s), datagram_);
  const auto offer = std::span(datagram_).first(size);
  EXPECT_EQ(listener_.receive(at(0s), b_, offer, reply_).error, Errc::bad_cookie);
  EXPECT_EQ(listener_.receive(at(21s), a_, offer, reply_).error, Errc::bad_cookie) << "expired";
  offer[3] ^= std::byte{1};
  EXPECT_EQ(listener_.receive(at(0s), a_, offer, reply_).error, Errc::bad_cookie) << "nonce";
  offer[3] ^= std::byte{1};
  EXPECT_EQ(listener_.connections(), 0U);
  EXPECT_TRUE(listener_.receive(at(9s), a_, offer, reply_).admission);
}

TEST_F(Door, GivesACopyOfAnOfferTheSameAnswerUntilTheConnectionExists) {
  link::Link who = client(7);
  const auto first = enter(who, at(0s), a_);
  ASSERT_TRUE(first.admission);
  const auto answer = reply_;
  const auto offer = std::span(datagram_).first(size_);
  const auto copy = listener_.receive(at(1s), a_, offer, reply_);
  EXPECT_FALSE(copy.admission);
  EXPECT_EQ(reply_, answer);
  EXPECT_EQ(listener_.connections(), 1U);
  EXPECT_EQ(listener_.opened(at(2s), first.admission->id), Errc::none);
  const auto late = listener_.receive(at(3s), a_, offer, reply_);
  EXPECT_EQ(late.reply_bytes, 0U);
  EXPECT_EQ(listener_.connections(), 1U) << "a late copy makes no second connection";
}

TEST_F(Door, RefusesWhenFullAndTakesAgainWhenSomebodyLeft) {
  std::vector<link::ConnectionId> ids;
  for (std::uint64_t n = 1; n <= 2; ++n) {
    link::Link who = client(n);
    const auto outcome = enter(who, at(0s), a_);
    ASSERT_TRUE(outcome.admission);
    ids.push_back(outcome.admission->id);
  }
  EXPECT_EQ(enter_and_tell(3, "", at(0s)), "server_full: 2 of 2 places are taken");
  listener_.forget(at(0s), ids[0]);
  link::Link who = client(4);
  const auto outcome = enter(who, at(0s), a_);
  ASSERT_TRUE(outcome.admission);
  EXPECT_NE(outcome.admission->id, ids[0]) << "a place has a new id for each tenant";
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
  const auto outcome = enter(able, at(0s), a_);
  ASSERT_TRUE(outcome.admission) << "an older common version will do";
  EXPECT_EQ(outcome.admission->version, 1);
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

TEST_F(Door, TakesNoShortHelloOrOffer) {
  link::Link who = client(7);
  for (int stage = 0; stage < 2; ++stage) {
    const std::size_t size = who.poll_datagram(at(0s), datagram_);
    for (std::size_t cut = 0; cut < size; ++cut) {
      const auto outcome = listener_.receive(at(0s), a_, std::span(datagram_).first(cut), reply_);
      EXPECT_NE(outcome.error, Errc::none);
      EXPECT_EQ(outcome.reply_bytes, 0U);
    }
    const auto whole = listener_.receive(at(0s), a_, std::span(datagram_).first(size), reply_);
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
  EXPECT_TRUE(wrong.cookie_heard());
}

TEST_F(Door, TakesNoClearClientWhenItSealsAndTheOtherWayRound) {
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
  link::Listener clear(open);
  link::Link sealed = client(2);
  const std::size_t size = sealed.poll_datagram(at(0s), datagram_);
  EXPECT_EQ(clear.receive(at(0s), a_, std::span(datagram_).first(size), reply_).error,
            Errc::mode_differs);
}

TEST_F(Door, ManyAttemptsOfOneAddressWaitForEachOther) {
  link::ListenerOptions roomy = options();
  roomy.capacity = 100;
  listener_ = link::Listener(roomy);
  std::map<Errc, int> outcomes;
  for (std::uint64_t n = 0; n < 40; ++n) {
    link::Link who = client(n);
    ++outcomes[enter(who, at(0s), a_).error];
  }
  EXPECT_EQ(outcomes[Errc::none], 16);
  EXPECT_EQ(outcomes[Errc::server_busy], 24);
  link::Link elsewhere = client(99);
  EXPECT_TRUE(enter(elsewhere, at(0s), b_).admission) << "others are not kept out";
}

// ---- tickets ----

class Ticketed : public Door {
 protected:
  Ticketed() {
    link::ListenerOptions asking = options();
    asking.gate = &gate_;
    asking.capacity = 8;
    asking.used_tickets = 2;
    listener_ = link::Listener(asking);
  }
};

TEST_F(Ticketed, LetsInWhoHasOneAndSaysWhoItIs) {
  EXPECT_EQ(enter_and_tell(1, "one", at(1000s)), "opened ");
  ASSERT_TRUE(last_.claims);
  EXPECT_EQ(last_.claims->subject, "pilot one");
  EXPECT_EQ(enter_and_tell(2, "", at(1000s)), "ticket_missing: the server asks for a ticket");
  EXPECT_EQ(enter_and_tell(3, "forged", at(1000s)).substr(0, 14), "ticket_invalid");
  EXPECT_EQ(enter_and_tell(4, "two", at(1061s)).substr(0, 14), "ticket_expired");
}

TEST_F(Ticketed, ATicketCountsOnceFromWhenTheConnectionExists) {
  ASSERT_EQ(enter_and_tell(1, "one", at(1000s)), "opened ");
  const link::Admission first = last_;
  ASSERT_EQ(enter_and_tell(2, "one", at(1000s)), "opened ") << "the first may never come to be";
  EXPECT_EQ(listener_.opened(at(1000s), first.id), Errc::none);
  EXPECT_EQ(listener_.opened(at(1000s), last_.id), Errc::ticket_used);
  EXPECT_EQ(enter_and_tell(3, "one", at(1000s)).substr(0, 11), "ticket_used");
}

TEST_F(Ticketed, ThatWereUsedAreKeptUntilTheyExpireAndAFullTableRefuses) {
  std::uint64_t seed = 60;
  for (const std::string name : {"one", "two"}) {
    ASSERT_EQ(enter_and_tell(++seed, name, at(1000s)), "opened ");
    ASSERT_EQ(listener_.opened(at(1000s), last_.id), Errc::none);
  }
  ASSERT_EQ(enter_and_tell(50, "three", at(1000s)), "opened ");
  EXPECT_EQ(listener_.opened(at(1000s), last_.id), Errc::ticket_table_full);
  clock_ = at(1062s);
  EXPECT_EQ(listener_.opened(at(1062s), last_.id), Errc::none) << "by then both have expired";
}

// ---- coming back ----

TEST_F(Door, LetsAClientComeBackOnceWithinTheStatedTime) {
  link::ListenerOptions kind = options();
  kind.comeback = 30s;
  kind.gate = &gate_;
  kind.capacity = 8;
  listener_ = link::Listener(kind);
  link::Link who = client(1, "one");
  const auto first = enter(who, at(1000s), a_);
  ASSERT_TRUE(first.admission && who.comeback());
  EXPECT_EQ(who.comeback()->good_for, Duration(30s));
  ASSERT_EQ(listener_.opened(at(1000s), first.admission->id), Errc::none);
  comeback_ = who.comeback()->secret;

  // While the old connection stands, or has just ended: as the same pilot, without a ticket.
  listener_.forget(at(1010s), first.admission->id, true);
  link::Link again = client(2);
  const auto second = enter(again, at(1039s), b_);
  ASSERT_TRUE(second.admission);
  EXPECT_EQ(second.admission->replaces, first.admission->id);
  EXPECT_EQ(second.admission->claims->subject, "pilot one");
  EXPECT_TRUE(again.returned());
  ASSERT_EQ(listener_.opened(at(1039s), second.admission->id), Errc::none);
  EXPECT_EQ(enter_and_tell(3, "", at(1039s)).substr(0, 16), "comeback_unknown") << "good once";

  comeback_ = again.comeback()->secret;
  listener_.forget(at(1040s), second.admission->id, true);
  EXPECT_EQ(enter_and_tell(4, "", at(1071s)).substr(0, 16), "comeback_unknown") << "too late";
}

// ---- sealed connections ----

TEST(Sealed, KeysChangeWhileDatagramsAreLostAndReordered) {
  for (std::uint64_t seed = 1; seed <= 30; ++seed) {
    SimPair pair(
        {.seed = seed,
         .conditions =
             {.delay = 40ms, .jitter = 30ms, .loss = 0.1, .reorder = 0.3, .held_back = 80ms},
         .adjust = [](link::LinkOptions& options) { options.key_datagrams = 20; }});
    kit::Promises promises(pair, seed);
    const auto hear = [&](bool at_server, const link::Event& event) {
      promises.hear(at_server, event);
      ASSERT_NE(event.kind, link::Event::Kind::closed) << event.text;
    };
    for (Duration t{0}; t < 20s; t += 33ms) {
      pair.run_until(at(t), hear);
      promises.send_tick(false);
      promises.send_tick(true);
    }
    pair.run_until(at(26s), hear);
    promises.expect_complete();
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
  SimPair pair(
      {.conditions = {.delay = 10ms}, .adjust = [&](link::LinkOptions& options) {
         options.key_datagrams = 10;
         options.key_log = [&](const link::KeyNote& note) {
           const auto [place, fresh] = logged.try_emplace({note.up, note.phase}, hex(note.key));
           EXPECT_EQ(place->second, hex(note.key)) << "both ends must log the same keys";
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

TEST(Addresses, ARestartedServerSaysSoToWhoStillTalksToIt) {
  SimPair pair({.conditions = {.delay = 20ms}});
  pair.run_until(at(1s));
  // Another listener with the same key knows no connections.
  link::ListenerOptions options{kit::test_identity(), kit::secret_of(1234), 4, 0};
  options.key = kit::server_key();
  const link::Listener restarted(options);
  std::array<std::byte, link::kMaxDatagramBytes> out{};
  ASSERT_EQ(pair.client().send(0, 0, std::array<std::byte, 1>{}, 8), Errc::none);
  const std::size_t size = pair.client().poll_datagram(pair.now(), out);
  std::array<std::byte, 32> reply{};
  const std::size_t said = restarted.answer_unknown(std::span(out).first(size), reply);
  ASSERT_GT(said, 0U);
  EXPECT_LT(said, size) << "no amplification";
  auto forged = reply;
  forged[5] ^= std::byte{1};
  EXPECT_EQ(pair.client().receive(pair.now(), std::span(forged).first(said)), Errc::bad_check);
  EXPECT_EQ(pair.client().receive(pair.now(), std::span(reply).first(said)), Errc::none);
  const auto event = pair.client().poll_event();
  ASSERT_TRUE(event);
  EXPECT_EQ(event->code, Errc::server_restarted);
  EXPECT_EQ(restarted.answer_unknown(std::span(reply).first(said), out), 0U)
      << "two servers do not answer each other for ever";
}

}  // namespace
}  // namespace kwind
