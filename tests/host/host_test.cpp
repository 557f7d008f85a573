// Server and Client through their public interface, on the simulated network in virtual time.
#include <gtest/gtest.h>

#include <map>
#include <random>

#include "host_test.h"
#include "kit/sim_hosts.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/sim/network.h"

namespace kwind::host {
namespace hosts_test {

using namespace std::chrono_literals;
using namespace host_test;
using kit::at;

using kit::entropy;

struct Harbour : kit::SimHosts {
  explicit Harbour(const io::sim::Conditions& conditions = {.delay = 20ms}, std::uint64_t seed = 1,
                   std::size_t capacity = 8, const Timeouts& timeouts = {})
      : SimHosts(kProtocol, conditions, seed, options(capacity, timeouts)) {}
  static ServerOptions options(std::size_t capacity, const Timeouts& timeouts) {
    ServerOptions made;
    made.capacity = capacity;
    made.timeouts = timeouts;
    return made;
  }
  using SimHosts::join;
  Client& join(const schema::ProtocolInfo& protocol, const Timeouts& timeouts) {
    ClientOptions made;
    made.timeouts = timeouts;
    return SimHosts::join(protocol, made);
  }
};

// ---- coming back, and a server that starts anew ----

TEST(Host, AClientThatComesBackIsThePeerThatItWas) {
  io::sim::Network network({.delay = 20ms}, 3);
  const Endpoint at_server = Endpoint::v4(127, 0, 0, 1, 4000);
  io::sim::SimTransport& server_port = network.open(at_server);
  ServerOptions options;
  options.key = kit::server_key();
  options.entropy = entropy(8);
  options.resume = 60s;
  Server server(server_port, kProtocol, options);
  std::vector<std::string> log;
  const auto note = [&](const char* what) {
    return [&log, what](Peer peer) { log.push_back(what + std::to_string(unsigned(peer))); };
  };
  server.on_connect(note("in "));
  server.on_resume(note("back "));
  server.on_disconnect([&](Peer peer, Errc, std::string_view) {
    log.push_back("out " + std::to_string(unsigned(peer)));
  });
  Time now = at(0s);
  const auto connect = [&](std::uint8_t number, std::optional<Secret32> resume) {
    ClientOptions who;
    who.server_key = kit::server_key().public_key;
    who.entropy = entropy(number * 100U);
    who.resume = std::move(resume);
    return std::make_unique<Client>(network.open(Endpoint::v4(127, 0, 1, number, 5000)), at_server,
                                    kProtocol, now, who);
  };
  const auto run = [&](Client* client, Duration time) {
    for (const Time end = now + time; now < end; now += 5ms) {
      server.receive(now);
      if (client != nullptr) client->receive(now);
      server.flush(now);
      if (client != nullptr) client->flush(now);
    }
  };
  auto first = connect(1, {});
  run(first.get(), 1s);
  ASSERT_TRUE(first->resume());
  const auto resume = *first->resume();
  EXPECT_EQ(resume.good_for, Duration(60s));
  first.reset();      // the cable is pulled
  run(nullptr, 15s);  // past the timeout
  EXPECT_EQ(log, (std::vector<std::string>{"in 1"})) << "it may still come back";
  auto second = connect(2, resume.secret);
  run(second.get(), 1s);
  EXPECT_TRUE(second->connected());
  EXPECT_TRUE(second->resumed());
  EXPECT_EQ(log, (std::vector<std::string>{"in 1", "back 1"}));
  EXPECT_EQ(server.send(Peer{1}, Said{1, 7, "welcome back"}), Errc::none);

  auto thief = connect(3, resume.secret);
  run(thief.get(), 1s);
  EXPECT_TRUE(thief->ended()) << "the right is good once";
  second.reset();
  run(nullptr, 80s);
  EXPECT_EQ(log.back(), "out 1") << "its time was up";
}

TEST(Host, ClientsOfARestartedServerHearOfItWithinASecond) {
  io::sim::Network network({.delay = 20ms}, 3);
  const Endpoint at_server = Endpoint::v4(127, 0, 0, 1, 4000);
  io::sim::SimTransport& server_port = network.open(at_server);
  ServerOptions options;
  options.key = kit::server_key();
  options.entropy = entropy(8);
  auto server = std::make_unique<Server>(server_port, kProtocol, options);
  ClientOptions who;
  who.server_key = kit::server_key().public_key;
  who.entropy = entropy(9);
  Time now = at(0s);
  Client client(network.open(Endpoint::v4(127, 0, 1, 1, 5000)), at_server, kProtocol, now, who);
  Errc why = Errc::none;
  client.on_disconnect([&](Errc code, std::string_view) { why = code; });
  const auto run = [&](Duration time) {
    for (const Time end = now + time; now < end && why == Errc::none; now += 5ms) {
      server->receive(now);
      client.receive(now);
      if (client.connected()) (void)client.send(Steer{0.5});
      server->flush(now);
      client.flush(now);
    }
  };
  run(1s);
  ASSERT_TRUE(client.connected());
  options.entropy = entropy(10);  // another process, with the same key
  server = std::make_unique<Server>(server_port, kProtocol, options);
  const Time before = now;
  run(5s);
  EXPECT_EQ(why, Errc::server_restarted);
  EXPECT_LT(now - before, Duration(1s));
}

Said said(Peer who, const Say& say) {
  return {static_cast<std::int32_t>(who), say.number, say.words};
}

TEST(Host, TellsGameCodeWhoComesAndGoes) {
  Harbour harbour;
  Client& a = harbour.join();
  harbour.join();
  harbour.run(500ms);
  EXPECT_EQ(harbour.log(), (std::vector<std::string>{"in 1", "in 2"}));
  a.close("supper");
  harbour.run(1s);
  ASSERT_EQ(harbour.log().size(), 3U);
  EXPECT_EQ(harbour.log()[2], "out 1 closed_by_peer supper");
  EXPECT_EQ(harbour.ended(0), "closed_here supper");
  EXPECT_EQ(harbour.server().peers(), std::vector<Peer>{Peer{2}});
  EXPECT_EQ(harbour.server().connections(), 1U);
  harbour.server().close_all("night falls");
  harbour.run(1s);
  EXPECT_EQ(harbour.ended(1), "closed_by_peer night falls");
  EXPECT_EQ(harbour.log().back(), "out 2 closed_here night falls");
  EXPECT_EQ(harbour.server().connections(), 0U);
}

TEST(Host, StampsIdentityAndSendsToOneToAllAndToAllButOne) {
  Harbour harbour;
  std::map<int, std::vector<std::string>> heard;
  Client* clients[3];
  for (int i = 0; i < 3; ++i) {
    clients[i] = &harbour.join();
    clients[i]->on<Said>(
        [&heard, i](const Said& s) { heard[i].push_back(std::to_string(s.who) + ":" + s.words); });
  }
  harbour.server().on<Say>([&](Peer from, const Say& say) {
    if (say.words == "one") (void)harbour.server().send(from, said(from, say));
    if (say.words == "all") {
      EXPECT_EQ(harbour.server().send_to_all(said(from, say)), 3U);
    }
    if (say.words == "others") {
      EXPECT_EQ(harbour.server().send_to_all_but(from, said(from, say)), 2U);
    }
  });
  harbour.run(500ms);
  for (const char* words : {"one", "all", "others"}) {
    EXPECT_EQ(clients[1]->send(Say{1, words}), Errc::none);
  }
  harbour.run(500ms);
  EXPECT_EQ(heard[0], (std::vector<std::string>{"2:all", "2:others"}));
  EXPECT_EQ(heard[1], (std::vector<std::string>{"2:one", "2:all"}));
  EXPECT_EQ(heard[2], (std::vector<std::string>{"2:all", "2:others"}));
  EXPECT_EQ(harbour.server().send(Peer{9}, Said{}), Errc::no_such_peer);
}

TEST(Host, EveryOrderedMessageReachesEveryoneOnABadNetwork) {
  for (std::uint64_t seed = 1; seed <= 20; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    Harbour harbour({.delay = 40ms, .jitter = 20ms, .loss = 0.1, .duplicate = 0.1, .reorder = 0.3},
                    seed);
    std::map<int, std::map<int, int>> heard;  // by client, then speaker: the last number
    std::vector<Client*> clients;
    for (int i = 0; i < 4; ++i) {
      clients.push_back(&harbour.join());
      clients.back()->on<Said>([&heard, i](const Said& s) {
        EXPECT_EQ(s.number, heard[i][s.who] + 1) << "client " << i << " speaker " << s.who;
        heard[i][s.who] = s.number;
      });
    }
    harbour.server().on<Say>(
        [&](Peer from, const Say& say) { harbour.server().send_to_all(said(from, say)); });
    harbour.run(5s);
    int number = 0;
    harbour.run(5s, [&] {
      ++number;
      for (Client* client : clients) ASSERT_EQ(client->send(Say{number, "steady"}), Errc::none);
    });
    harbour.run(5s);
    for (int i = 0; i < 4; ++i) {
      ASSERT_EQ(heard[i].size(), 4U);
      for (const auto& [who, last] : heard[i]) EXPECT_EQ(last, number);
    }
    const Counts counts = harbour.server().counts();
    EXPECT_EQ(counts.drops.of(Errc::bad_check), 0U);
    EXPECT_EQ(counts.drops.total(), counts.drops.of(Errc::replayed));
  }
}

TEST(Host, AFullServerRefusesInOneSentence) {
  Harbour harbour({.delay = 20ms}, 1, 2);
  for (int i = 0; i < 3; ++i) {
    harbour.join();
    harbour.run(300ms);
  }
  EXPECT_EQ(harbour.ended(2), "server_full 2 of 2 places are taken");
  EXPECT_EQ(
      explain_end(Errc::server_full, "2 of 2 places are taken"),
      "the server has no free place (2 of 2 places are taken); try again when somebody has left");
  EXPECT_EQ(harbour.log(), (std::vector<std::string>{"in 1", "in 2"}));
  EXPECT_EQ(harbour.server().counts().drops.of(Errc::server_full), 1U);
}

TEST(Host, PeersBuiltFromOtherDescriptionsAreRefused) {
  Harbour harbour;
  std::vector<schema::VersionInfo> versions(kProtocol.versions.begin(), kProtocol.versions.end());
  for (schema::VersionInfo& entry : versions) entry.digest[0] ^= std::byte{1};
  schema::ProtocolInfo other = kProtocol;
  other.versions = versions;
  harbour.join(other);
  harbour.run(500ms);
  EXPECT_EQ(harbour.ended(0).substr(0, 15), "schema_mismatch");
  EXPECT_TRUE(harbour.log().empty());
}

TEST(Host, AnUnreachableServerIsReportedOnce) {
  Harbour harbour({.loss = 1.0});
  harbour.join();
  harbour.run(10s);
  EXPECT_EQ(harbour.ended(0), "handshake_timeout no answer to the hello");
}

TEST(Host, AVanishedClientIsGoneAfterTheTimeout) {
  Harbour harbour;
  harbour.join();
  harbour.run(500ms);
  harbour.network().set_conditions(Endpoint::v4(127, 0, 1, 1, 5000), Harbour::kServer,
                                   {.loss = 1.0});
  harbour.run(11s);
  ASSERT_EQ(harbour.log().size(), 2U);
  EXPECT_EQ(harbour.log()[1], "out 1 timeout nothing came from the peer");
}

TEST(Host, HoldsSendersToTheirRate) {
  Harbour harbour;
  Client& client = harbour.join();
  int steered = 0;
  harbour.server().on<Steer>([&](Peer, const Steer&) { ++steered; });
  harbour.run(500ms);
  int refused = 0;
  int sent = 0;
  harbour.run(5s, [&] {
    for (int i = 0; i < 10; ++i) {  // 200 a second where 60 are allowed
      (client.send(Steer{0.5}) == Errc::none ? sent : refused) += 1;
    }
  });
  harbour.run(500ms);
  EXPECT_NEAR(sent, 300, 10);
  EXPECT_GT(refused, 600);
  EXPECT_EQ(steered, sent) << "what the sender lets out, the receiver takes";
  EXPECT_EQ(harbour.server().counts().drops.of(Errc::rate_limited), 0U);
  EXPECT_EQ(client.counts().sends_refused, static_cast<std::uint64_t>(refused));
}

// A client that ignores the rates of the description: same digest, no limits.
struct Lawless {
  std::vector<schema::MessageInfo> messages{kProtocol.messages.begin(), kProtocol.messages.end()};
  schema::ProtocolInfo info = kProtocol;
  Lawless() {
    for (schema::MessageInfo& message : messages) message.at_most_per_second = 0;
    info.messages = messages;
  }
};

TEST(Host, DropsSequencedAndHoldsOrderedMessagesThatComeTooFast) {
  const Lawless lawless;
  Harbour harbour;
  Client& client = harbour.join(lawless.info);
  int steered = 0;
  std::vector<int> orders;
  harbour.server().on<Steer>([&](Peer, const Steer&) { ++steered; });
  harbour.server().on<Order>([&](Peer, const Order& order) { orders.push_back(order.number); });
  harbour.run(500ms);
  int number = 0;
  harbour.run(2s, [&] {
    for (int i = 0; i < 10; ++i) EXPECT_EQ(client.send(Steer{0.5}), Errc::none);
    EXPECT_EQ(client.send(Order{++number}), Errc::none);
    EXPECT_EQ(client.send(Order{++number}), Errc::none);  // 40 a second where 20 are allowed
  });
  EXPECT_LE(steered, 2 * 60 + 25);
  EXPECT_GT(harbour.server().counts().drops.of(Errc::rate_limited), 200U);
  EXPECT_LT(orders.size(), 55U) << "the excess waits";
  harbour.run(4s);
  ASSERT_EQ(orders.size(), 80U) << "and then arrives, complete and in order";
  for (std::size_t i = 0; i < orders.size(); ++i) EXPECT_EQ(orders[i], static_cast<int>(i) + 1);
  EXPECT_TRUE(harbour.server().stats(Peer{1}) != nullptr);
}

TEST(Host, ClosesAPeerThatFloodsAnOrderedChannel) {
  const Lawless lawless;
  Harbour harbour;
  Client& client = harbour.join(lawless.info);
  harbour.run(500ms);
  harbour.run(12s, [&] {
    for (int i = 0; i < 20; ++i) (void)client.send(Order{1});
  });
  ASSERT_EQ(harbour.log().size(), 2U);
  EXPECT_EQ(harbour.log()[1], "out 1 rate_limited Order came faster than its `at most`");
  EXPECT_EQ(harbour.ended(0), "closed_by_peer Order came faster than its `at most`");
}

// Bits that no honest encoder writes, under the kind of an honest message.
template <class T>
struct Forged {
  std::uint64_t bits_value = 0;
  unsigned bits = 0;
  static const schema::MessageInfo& info() { return T::info(); }
  friend void encode(schema::Encoder& out, const Forged& from) {
    out.write(schema::Piece{from.bits_value, from.bits, 0});
  }
  friend void decode(schema::Decoder&, Forged&) {}
};

TEST(Host, DropsForgedFieldsByCauseBeforeAnyHandler) {
  Harbour harbour;
  Client& client = harbour.join();
  int heard = 0;
  harbour.server().on<Steer>([&](Peer, const Steer&) { ++heard; });
  harbour.server().on<Say>([&](Peer, const Say&) { ++heard; });
  harbour.server().on<Both>([&](Peer, const Both&) { ++heard; });
  harbour.run(500ms);
  const auto caused = [&](const auto& forged) {
    EXPECT_EQ(client.send(forged), Errc::none);
    const CauseCounts before = harbour.server().counts().drops;
    harbour.run(200ms);
    const CauseCounts after = harbour.server().counts().drops;
    EXPECT_EQ(after.total(), before.total() + 1);
    for (const ErrorInfo& info : kErrorList) {
      if (after.of(info.code) != before.of(info.code)) return info.code;
    }
    return Errc::none;
  };
  EXPECT_EQ(caused(Forged<Steer>{129, 8}), Errc::value_range) << "129 steps, so 0 to 128";
  EXPECT_EQ(caused(Forged<Both>{1001, 10}), Errc::value_range);
  EXPECT_EQ(caused(Forged<Steer>{1, 7}), Errc::truncated);
  EXPECT_EQ(caused(Forged<Steer>{1, 9}), Errc::trailing_bits);
  EXPECT_EQ(caused(Forged<Say>{std::uint64_t{63} << 20, 40}), Errc::too_long) << "63 of 40 bytes";
  EXPECT_EQ(caused(Forged<Say>{std::uint64_t{0xff} << 26 | 1 << 20, 34}), Errc::text_encoding);
  EXPECT_EQ(heard, 0);
  EXPECT_EQ(harbour.server().peers().size(), 1U) << "the connection lives on";
}

TEST(Host, CountsMessagesThatNobodyHandlesAndValuesOutOfRange) {
  Harbour harbour;
  Client& client = harbour.join();
  harbour.run(500ms);
  EXPECT_EQ(client.send(Steer{7.0}), Errc::none) << "clamped";
  EXPECT_EQ(client.counts().values_out_of_range, 1U);
  harbour.run(200ms);
  EXPECT_EQ(harbour.server().counts().route.unhandled, 1U);
}

TEST(Host, DatagramsOfStrangersHarmNobody) {
  Harbour harbour;
  Client& client = harbour.join();
  int heard = 0;
  harbour.server().on<Say>([&](Peer, const Say&) { ++heard; });
  harbour.run(500ms);
  io::sim::SimTransport& near = harbour.network().open(Endpoint::v4(127, 6, 6, 6, 66));
  io::sim::SimTransport& far = harbour.network().open(Endpoint::v4(10, 6, 6, 6, 66));
  std::mt19937_64 random(8);
  std::vector<std::byte> bytes;
  harbour.run(2s, [&] {
    EXPECT_EQ(client.send(Say{heard, "calm"}), Errc::none);
    for (int i = 0; i < 500; ++i) {
      bytes.resize(random() % 100);
      for (std::byte& byte : bytes) byte = static_cast<std::byte>(random());
      if (bytes.size() > 8) {  // all ids that the one place may have: one of them lives
        bytes[0] = std::byte{1};
        bytes[1] = std::byte{0};
        bytes[2] = static_cast<std::byte>((i & 15) << 4);
        bytes[3] = static_cast<std::byte>((i >> 4) & 15);
      }
      (i % 4 == 0 ? far : near).send(harbour.now(), Harbour::kServer, bytes);
    }
  });
  harbour.run(200ms);
  EXPECT_EQ(heard, 40);
  const Counts counts = harbour.server().counts();
  EXPECT_GE(counts.drops.of(Errc::unknown_connection), 10000U);
  EXPECT_GE(counts.drops.of(Errc::bad_check), 30U) << "seals cannot be guessed";
  EXPECT_EQ(harbour.server().connections(), 1U);
}

TEST(Host, SurvivesClosesAndSendsFromInsideHandlers) {
  Harbour harbour;
  Client& a = harbour.join();
  Client& b = harbour.join();
  harbour.server().on<Say>([&](Peer from, const Say& say) {
    harbour.server().close(from, "enough");
    harbour.server().close(Peer{2}, "you too");
    harbour.server().send_to_all(said(from, say));
  });
  harbour.server().on_disconnect([&](Peer, Errc, std::string_view) {
    harbour.server().send_to_all(Said{});
    harbour.server().close_all("all of you");
  });
  harbour.run(500ms);
  for (int i = 0; i < 5; ++i) {
    (void)a.send(Say{i, "hello"});
    (void)b.send(Say{i, "hello"});
  }
  harbour.run(2s);
  EXPECT_EQ(harbour.server().connections(), 0U);
  EXPECT_EQ(harbour.ended(0), "closed_by_peer enough");
  EXPECT_EQ(harbour.ended(1), "closed_by_peer you too");
}

TEST(Host, AccountsEveryByteToAMessageKindOrOverhead) {
  Harbour harbour({.delay = 20ms, .loss = 0.1});
  Client& client = harbour.join();
  harbour.run(3s);
  harbour.run(3s, [&] {
    (void)client.send(Steer{0.1});
    (void)client.send(Say{1, "accounting"});
  });
  const Traffic traffic = client.traffic();
  std::uint64_t bits = traffic.overhead_bits_sent;
  for (const std::uint64_t type_bits : traffic.bits_sent_by_type) bits += type_bits;
  EXPECT_EQ(bits, traffic.bytes_sent * 8);
  EXPECT_GT(traffic.bits_sent_by_type[Say::info().type],
            traffic.bits_sent_by_type[Steer::info().type]);
  EXPECT_EQ(traffic.bits_sent_by_type[Place::info().type], 0U);
  const Traffic down = harbour.server().traffic();  // the door's cookies and welcomes included
  EXPECT_EQ(down.bytes_sent, harbour.server_port().counts().bytes_sent);
  EXPECT_EQ(down.datagrams_sent, harbour.server_port().counts().datagrams_sent);
}

// ---- the tick ----

TEST(TickClock, DoesNotDrift) {
  for (const unsigned rate : {20U, 30U, 60U, 7U}) {
    TickClock clock(rate, at(0s));
    std::mt19937_64 random(rate);
    std::uint64_t run = 0;
    Time now = at(0s);
    while (now < at(3600s)) {
      run += clock.due(now);
      now += std::chrono::microseconds(random() % 9000);
    }
    run += clock.due(at(3600s));
    EXPECT_EQ(run, std::uint64_t{rate} * 3600 + 1) << rate;
    EXPECT_EQ(clock.skipped(), 0U);
    EXPECT_EQ(clock.next() - at(3600s), clock.period());
  }
}

TEST(TickClock, DoesNotSpiralAfterAStall) {
  TickClock clock(20, at(0s), 4);
  EXPECT_EQ(clock.due(at(0s)), 1U);
  EXPECT_EQ(clock.due(at(0s)), 0U);
  EXPECT_EQ(clock.due(at(10s)), 4U) << "catches up by a few";
  EXPECT_EQ(clock.due(at(10s)), 0U) << "and lets the rest go";
  EXPECT_EQ(clock.skipped(), 196U);
  EXPECT_EQ(clock.next(), at(10050ms)) << "back on its old beat";
  EXPECT_EQ(clock.ticks(), 5U);
}

}  // namespace hosts_test
}  // namespace kwind::host
