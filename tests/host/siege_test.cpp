// What strangers can do to a server: they cost it a bounded part of each turn, and keep nobody out.
// On the simulated network, in virtual time.
#include <gtest/gtest.h>

#include <map>
#include <numeric>
#include <set>
#include <string>

#include "host_test.h"
#include "kit/sim_hosts.h"
#include "kit/sweep.h"
#include "kwind/link/listener.h"
#include "link/handshake/handshake.h"
#include "walk.h"

namespace kwind::host {
namespace siege_test {

using namespace std::chrono_literals;
using kit::at;
using kit::SimHosts;

// A stranger at an address: says hello, gets its cookie, makes an offer, and never goes on.
class Stranger {
 public:
  Stranger(Transport& transport, std::uint64_t seed, Time now) : transport_(transport) {
    link::ConnectOptions who{identity(), kit::secret_of(seed)};
    who.server_key = kit::server_key().public_key;
    link::LinkOptions options;
    options.channels = {{Delivery::ordered}};
    options.secret = kit::secret_of(seed + 1);
    link_.emplace(link::Link::connect(who, options, now));
    say(now);
  }
  static link::Identity identity() {
    link::Identity made;
    made.name = host_test::kProtocol.name;
    made.payload_version = schema::kStateVersion;
    for (const auto& version : host_test::kProtocol.versions) {
      made.versions.push_back({version.version, version.digest});
    }
    return made;
  }
  // The datagram that it sends next; empty if none.
  std::vector<std::byte> next(Time now) {
    std::vector<std::byte> bytes(link::kMaxDatagramBytes);
    bytes.resize(link_->poll_datagram(now, bytes));
    return bytes;
  }
  void say(Time now) {
    const auto bytes = next(now);
    if (!bytes.empty()) transport_.send(now, SimHosts::kServer, bytes);
  }
  // What came for its address; true once it has its answer.
  bool hear(Time now, std::span<const std::byte> bytes) {
    if (answered_ || link_->receive(now, bytes) != Errc::none) return answered_;
    answered_ = link_->state() == link::State::open;
    if (!answered_) say(now);
    return answered_;
  }
  [[nodiscard]] bool answered() const { return answered_; }

 private:
  Transport& transport_;
  std::optional<link::Link> link_;
  bool answered_ = false;
};

// Always has one more datagram, as a sender that is faster than the server does.
class Endless final : public Transport {
 public:
  explicit Endless(Transport& inner) : inner_(inner) {}
  [[nodiscard]] Endpoint local() const override { return inner_.local(); }
  std::optional<ReceivedDatagram> receive(Time now) override {
    if (const auto received = inner_.receive(now)) return received;
    if (flood.empty()) return std::nullopt;
    ++taken;
    return ReceivedDatagram{from, flood};
  }
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override {
    if (to == from) return;
    inner_.send(now, to, bytes);
  }
  void flush(Time now) override { inner_.flush(now); }
  [[nodiscard]] const TransportCounts& counts() const override { return inner_.counts(); }

  std::vector<std::byte> flood;
  Endpoint from = Endpoint::v4(127, 9, 9, 9, 9);
  std::size_t taken = 0;

 private:
  Transport& inner_;
};

TEST(Siege, ATurnEndsHoweverFastAStrangerSends) {
  io::sim::Network network({.delay = 10ms}, 1);
  Endless transport(network.open(SimHosts::kServer));
  ServerOptions options;
  options.key = kit::server_key();
  options.entropy = kit::entropy(1);
  options.receive_datagrams = 500;
  Server server(transport, host_test::kProtocol, options);
  io::sim::SimTransport& client_port = network.open(Endpoint::v4(127, 0, 1, 1, 5000));
  ClientOptions who;
  who.server_key = kit::server_key().public_key;
  Client client(client_port, SimHosts::kServer, host_test::kProtocol, at(0s), who);

  transport.flood = std::vector<std::byte>(link::kBaseDatagramBytes);
  link::write_hello({link::kLinkVersion, 7}, transport.flood);
  std::size_t turns = 0;
  std::size_t max = 0;
  for (Time now = at(0s); now < at(1s); now += 5ms, ++turns) {
    const std::size_t before = transport.taken;
    server.receive(now);
    max = std::max(max, transport.taken - before);
    server.flush(now);
    client.receive(now);
    client.flush(now);
  }
  EXPECT_EQ(turns, 200U);
  EXPECT_LE(max, 500U);
  EXPECT_TRUE(client.connected()) << "somebody honest comes in all the same";
}

TEST(Siege, AClockBoundsATurnAsWell) {
  io::sim::Network network({}, 1);
  Endless transport(network.open(SimHosts::kServer));
  transport.flood = {std::byte{1}, std::byte{2}, std::byte{3}, std::byte{4}};
  ServerOptions options;
  options.key = kit::server_key();
  Time clock = at(0s);
  options.clock = [&] { return clock += 1ms; };
  options.receive_time = 5ms;
  options.receive_datagrams = 1000000;
  Server server(transport, host_test::kProtocol, options);
  server.receive(at(0s));
  EXPECT_LE(transport.taken, 6U * 16);
}

// 4 addresses, or 64, or one IPv6 /64, that make offers and never go on: an honest client gets in.
TEST(Siege, AttemptsThatNeverFinishKeepNobodyOut) {
  for (const unsigned addresses : {1U, 4U, 64U}) {
    SCOPED_TRACE(addresses);
    ServerOptions options;
    options.capacity = 16;
    SimHosts hosts(host_test::kProtocol, {.delay = 20ms}, addresses, options);
    std::vector<io::sim::SimTransport*> transports;
    for (unsigned i = 0; i < addresses; ++i) {
      transports.push_back(
          &hosts.network().open(Endpoint::v4(127, 7, 0, static_cast<std::uint8_t>(i + 1), 5000)));
    }
    std::vector<std::vector<std::unique_ptr<Stranger>>> strangers(addresses);
    std::uint64_t seed = 5000;
    std::size_t answered = 0;
    const auto besiege = [&] {  // 20 times a second
      for (unsigned i = 0; i < addresses; ++i) {
        while (const auto received = transports[i]->receive(hosts.now())) {
          for (const auto& each : strangers[i]) {
            if (!each->answered() && each->hear(hosts.now(), received->bytes)) break;
          }
        }
        if (strangers[i].size() < 200) {
          strangers[i].push_back(
              std::make_unique<Stranger>(*transports[i], seed += 2, hosts.now()));
        }
      }
    };
    hosts.run(3s, besiege);
    for (const auto& each : strangers) {
      for (const auto& stranger : each) answered += stranger->answered() ? 1U : 0U;
    }
    EXPECT_GT(answered, 16U) << "more attempts than the server has places";
    EXPECT_TRUE(hosts.server().peers().empty());
    Client& honest = hosts.join();
    hosts.run(2s, besiege);
    EXPECT_TRUE(honest.connected());
    EXPECT_EQ(hosts.server().peers().size(), 1U);
  }
}

// Which numbers a server leaves out for one client says nothing of another's.
TEST(Siege, EachConnectionHasSecretsOfItsOwn) {
  class Watching final : public Transport {
   public:
    explicit Watching(Transport& inner) : inner_(inner) {}
    [[nodiscard]] Endpoint local() const override { return inner_.local(); }
    std::optional<ReceivedDatagram> receive(Time now) override {
      const auto received = inner_.receive(now);
      // Of what the server sends: flags, four bits, then the low bits of the packet number.
      if (received && received->bytes.size() > 3 &&
          (received->bytes[0] & std::byte{1}) != std::byte{0}) {
        bits::Reader in(received->bytes, received->bytes.size() * 8);
        in.get(3);
        const bool wide = in.get_bool();
        in.get(4);
        const auto low = static_cast<std::uint8_t>(in.get(wide ? 16 : 8));
        const auto step = static_cast<std::uint8_t>(low - last_);
        if (count_ > 0 && step != 1) skipped.insert(count_);
        count_ += step;
        last_ = low;
      }
      return received;
    }
    void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override {
      inner_.send(now, to, bytes);
    }
    void flush(Time now) override { inner_.flush(now); }
    [[nodiscard]] const TransportCounts& counts() const override { return inner_.counts(); }
    std::set<std::uint64_t> skipped;

   private:
    Transport& inner_;
    std::uint64_t count_ = 0;
    std::uint8_t last_ = 0;
  };
  SimHosts hosts(host_test::kProtocol, {.delay = 5ms});
  Watching one(hosts.network().open(Endpoint::v4(127, 8, 0, 1, 5000)));
  Watching two(hosts.network().open(Endpoint::v4(127, 8, 0, 2, 5000)));
  ClientOptions who;
  who.server_key = kit::server_key().public_key;
  Client a(one, SimHosts::kServer, host_test::kProtocol, hosts.now(), who);
  Client b(two, SimHosts::kServer, host_test::kProtocol, hosts.now(), who);
  for (int i = 0; i < 6000; ++i) {
    hosts.run(5ms);
    hosts.server().send_to_all(host_test::Place{});
    for (Client* client : {&a, &b}) {
      client->receive(hosts.now());
      client->flush(hosts.now());
    }
  }
  EXPECT_GE(one.skipped.size(), 2U);
  EXPECT_GE(two.skipped.size(), 2U);
  EXPECT_NE(one.skipped, two.skipped);
}

// Clients that break rules acknowledge nothing afterwards. Their places are free at once, and what
// they still send is heard by nobody.
TEST(Siege, WhoBreaksRulesKeepsNoPlace) {
  ServerOptions options;
  options.capacity = 3;
  options.max_faults = 1;
  SimHosts hosts(host_test::kProtocol, {.delay = 20ms}, 1, options);
  std::vector<int> said;
  hosts.server().on<host_test::Say>([&](Peer, const host_test::Say& say) {
    said.push_back(static_cast<int>(say.number));
    if (say.words == "rude") throw std::runtime_error("the rope snapped");
  });
  Client& honest = hosts.join();
  Client& one = hosts.join();
  Client& two = hosts.join();
  hosts.run(300ms);
  ASSERT_EQ(hosts.server().peers().size(), 3U);
  // A message to each of them that is never acknowledged would delay an ordinary close.
  for (const Peer peer : hosts.server().peers()) {
    (void)hosts.server().send(peer, host_test::Said{1, 9, "welcome"});
  }
  for (Client* rude : {&one, &two}) {
    (void)rude->send(host_test::Say{1, "rude"});
    (void)rude->send(host_test::Say{2, "and more"});
    rude->flush(hosts.now());
  }
  hosts.kill(1);
  hosts.kill(2);
  hosts.run(60ms);
  EXPECT_EQ(hosts.log().back(), "out 3 too_many_faults its messages made too many handlers fail");
  EXPECT_EQ(said, (std::vector<int>{1, 1}));
  EXPECT_EQ(hosts.server().peers().size(), 1U);
  // The two connections still drain; two newcomers have their places already.
  Client& third = hosts.join();
  Client& fourth = hosts.join();
  hosts.run(200ms);
  EXPECT_EQ(hosts.server().connections(), 5U);
  EXPECT_TRUE(third.connected());
  EXPECT_TRUE(fourth.connected());
  EXPECT_TRUE(honest.connected());
  EXPECT_EQ(hosts.server().counts().drops.of(Errc::server_full), 0U);
  EXPECT_NE(hosts.server().slot(hosts.server().peers()[1]), 0U);
  hosts.join();
  hosts.run(200ms);
  EXPECT_EQ(hosts.server().counts().drops.of(Errc::server_full), 1U) << "and no more than that";
  hosts.run(2s);
  EXPECT_EQ(hosts.server().connections(), 3U);
}

// More of them than connections may drain at once: the oldest ends, and a newcomer is let in.
TEST(Siege, ManyWhoBreakRulesAtOnceKeepNoPlaceEither) {
  ServerOptions options;
  options.capacity = 3;
  options.max_faults = 1;
  SimHosts hosts(host_test::kProtocol, {.delay = 2ms}, 1, options);
  hosts.server().on<host_test::Say>([](Peer, const host_test::Say& say) {
    if (say.words == "rude") throw std::runtime_error("the rope snapped");
  });
  Client& honest = hosts.join();
  hosts.run(100ms);
  for (std::size_t i = 1; i <= 12; ++i) {
    Client& rude = hosts.join();
    hosts.run(60ms);
    ASSERT_TRUE(rude.connected()) << i;
    (void)rude.send(host_test::Say{1, "rude"});
    rude.flush(hosts.now());
    hosts.kill(i);
    hosts.run(30ms);
    EXPECT_LE(hosts.server().connections(), 6U) << i;
  }
  EXPECT_EQ(hosts.server().counts().drops.of(Errc::server_full), 0U);
  EXPECT_TRUE(honest.connected());
  hosts.run(2s);
  EXPECT_EQ(hosts.server().connections(), 1U);
}

// A client that keeps to the protocol mostly hears why it was expelled, on a path that loses three
// in ten datagrams; and always that its connection is over.
TEST(Siege, WhoIsExpelledHearsWhy) {
  int expelled = 0;
  int told = 0;
  for (std::uint64_t seed = 1; seed <= 40; ++seed) {
    SCOPED_TRACE(seed);
    ServerOptions options;
    options.max_faults = 1;
    SimHosts hosts(host_test::kProtocol, {.delay = 20ms, .loss = 0.3}, seed, options);
    hosts.server().on<host_test::Say>(
        [](Peer, const host_test::Say&) { throw std::runtime_error("the rope snapped"); });
    Client& client = hosts.join();
    hosts.run(3s);
    if (!client.connected()) continue;
    ++expelled;
    (void)client.send(host_test::Say{1, "rude"});
    hosts.run(11s);
    EXPECT_TRUE(client.ended());
    EXPECT_TRUE(hosts.server().peers().empty());
    told += hosts.ended(0) == "closed_by_peer its messages made too many handlers fail" ? 1 : 0;
  }
  EXPECT_GT(expelled, 30);
  EXPECT_GE(told, expelled * 9 / 10) << "of " << expelled;
}

// Opaque payload is charged as messages are.
TEST(Siege, PayloadTakesOfTheTicksBudget) {
  class Chatter final : public link::PayloadSource {
   public:
    std::optional<std::uint64_t> fill(Time, bits::Writer& out) override {
      out.put(1, 8);
      return ++frames_;
    }
    std::uint64_t frames_ = 0;
  };
  ServerOptions options;
  options.tick_budget = {8, 4000, 50ms};
  SimHosts hosts(host_test::kProtocol, {.delay = 20ms}, 1, options);
  std::map<std::int64_t, int> heard;  // by tick
  hosts.server().on_payload([&](Peer, std::span<const std::byte>, std::size_t) {
    ++heard[(hosts.now() - at(0s)) / 50ms];
    return Errc::none;
  });
  Client& client = hosts.join();
  hosts.run(300ms);
  Chatter chatter;
  for (int i = 0; i < 400; ++i) {
    client.schedule_payload(&chatter, 20);
    hosts.run(5ms);
  }
  EXPECT_GT(chatter.frames_, 1000U);
  EXPECT_GT(hosts.server().counts().drops.of(Errc::over_budget), 100U);
  for (const auto& [tick, count] : heard) EXPECT_LE(count, 16) << "two budgets may meet in a tick";
  EXPECT_TRUE(client.connected());
}

// Datagrams are charged before they are decrypted: pings and acks cost a server as much as messages
// do. Promises are kept all the same, and the next tick begins a new budget.
TEST(Siege, DatagramsTakeOfTheTicksBudgetWhateverTheyHold) {
  constexpr std::uint64_t kBudget = 20;
  ServerOptions options;
  options.tick_budget = {0, 0, 50ms, kBudget};
  SimHosts hosts(host_test::kProtocol, {.delay = 20ms}, 1, options);
  std::map<std::int64_t, int> heard;  // by tick
  hosts.server().on<host_test::Both>(
      [&](Peer, const host_test::Both&) { ++heard[(hosts.now() - at(0s)) / 50ms]; });
  std::vector<int> said;
  hosts.server().on<host_test::Say>(
      [&](Peer, const host_test::Say& say) { said.push_back(static_cast<int>(say.number)); });
  Client& flood = hosts.join();
  Client& honest = hosts.join();
  hosts.run(300ms);
  int sent = 0;
  std::uint64_t flushes = 0;
  for (int i = 0; i < 400; ++i) {
    for (int k = 0; k < 20; ++k, ++flushes) {  // a datagram each
      (void)flood.send(host_test::Both{});
      flood.flush(hosts.now());
    }
    if (i % 10 == 0) (void)honest.send(host_test::Say{++sent, "still here"});
    hosts.run(5ms);
  }
  hosts.run(500ms);  // until the last of the flood has arrived
  const std::uint64_t dropped = hosts.server().counts().drops.of(Errc::over_budget);
  EXPECT_GT(dropped, flushes / 2);
  for (const auto& [tick, count] : heard) {
    EXPECT_LE(count, 2 * static_cast<int>(kBudget)) << "two budgets may meet in a tick";
  }
  EXPECT_GT(heard.size(), 35U) << "of 40: each tick begins anew";
  EXPECT_TRUE(flood.connected());
  // A reliable message whose datagram was dropped comes again.
  (void)flood.send(host_test::Say{++sent, "and I"});
  hosts.run(2s);
  std::vector<int> all(static_cast<std::size_t>(sent));
  std::iota(all.begin(), all.end(), 1);
  EXPECT_EQ(said, all);
  EXPECT_EQ(hosts.server().counts().drops.of(Errc::over_budget), dropped) << "the flood is over";
}

// A loop that waits for datagrams flushes after each of them. The usual budget is by time, so that
// this gives a client no more.
TEST(Siege, TheUsualBudgetHoldsHoweverOftenTheServerFlushes) {
  const auto usual = static_cast<int>(ServerOptions().tick_budget.messages);
  SimHosts hosts(host_test::kProtocol, {.delay = 2ms});
  std::map<std::int64_t, int> heard;  // by 50 ms
  hosts.server().on<host_test::Both>(
      [&](Peer, const host_test::Both&) { ++heard[(hosts.now() - at(0s)) / 50ms]; });
  Client& flood = hosts.join();
  hosts.run(300ms);
  for (int i = 0; i < 100; ++i) {
    for (int k = 0; k < 200; ++k) (void)flood.send(host_test::Both{});
    flood.flush(hosts.now());
    hosts.run(5ms);
  }
  int all = 0;
  for (const auto& [tick, count] : heard) {
    EXPECT_LE(count, 2 * usual) << "two budgets may meet in a tick";
    all += count;
  }
  EXPECT_GE(all, 8 * usual) << "in half a second";
  EXPECT_LE(all, 12 * usual);
  EXPECT_GT(hosts.server().counts().drops.of(Errc::over_budget), 1000U);
}

// Of a server that closes hears also who has just been answered, and is no connection yet.
// What waits for the game is bounded for each channel, in bytes. Nothing is lost by that.
TEST(Siege, MessagesThatWaitTakeNoMoreThanTheReceiveWindow) {
  constexpr std::int32_t kMessages = 200;
  for (const std::size_t window : {std::size_t{65536}, std::size_t{256} * 1024}) {
    ServerOptions options;
    options.hold_until_ready = true;
    options.receive_window = window;
    SimHosts hosts(walk::kProtocol, {.delay = 5ms}, 3, options);
    Peer who{};
    std::int32_t heard = 0;
    hosts.server().on_connect([&](Peer peer) { who = peer; });
    hosts.server().on<walk::Sure>(
        [&](Peer, const walk::Sure& sure) { EXPECT_EQ(sure.number, heard++); });
    Client& client = hosts.join();
    hosts.run(300ms);
    for (std::int32_t i = 0; i < kMessages; ++i) {
      ASSERT_EQ(client.send(walk::Sure{i, std::string(6000, 'x')}), Errc::none);
    }
    hosts.run(5s);
    EXPECT_EQ(heard, 0);
    const std::uint64_t held = hosts.server_port().counts().bytes_received;
    EXPECT_GT(held, window * 9 / 10);
    EXPECT_LT(held, window + 6000 + 20000) << "headers and handshake are in it";
    hosts.server().ready(who);
    hosts.run(5s);
    EXPECT_EQ(heard, kMessages);
  }
}

// The server's process stands still for a minute, and its clients go on. Where timeouts are longer
// than that nothing is lost, and orders are on time again a second later.
void pause_a_minute(std::uint64_t seed) {
  SCOPED_TRACE("seed " + std::to_string(seed));
  ServerOptions options;
  options.timeouts.idle_timeout = 90s;
  SimHosts hosts(host_test::kProtocol, {.delay = 20ms, .loss = 0.01}, seed, options);
  ClientOptions who;
  who.timeouts.idle_timeout = 90s;
  std::map<Peer, std::int32_t> next;
  std::int32_t newest = 0;
  hosts.server().on<host_test::Say>([&](Peer peer, const host_test::Say& say) {
    EXPECT_EQ(say.number, next[peer]++) << "in turn";
  });
  for (int i = 0; i < 4; ++i) hosts.join(who);
  hosts.run(1s);
  const auto game = [&] {
    for (std::size_t i = 0; i < 4; ++i) {
      EXPECT_EQ(hosts.client(i).send(host_test::Say{newest, "ahoy"}), Errc::none);
    }
    ++newest;
  };
  hosts.run(2s, game);
  hosts.rest_server_until(hosts.now() + 60s);
  hosts.run(61s, game);
  ASSERT_EQ(next.size(), 4U);
  for (const auto& [peer, number] : next) {
    EXPECT_GE(number, newest - 6) << "all but those of the last 300 ms";
  }
  EXPECT_EQ(hosts.log().size(), 4U) << "nobody left";
}

TEST(Siege, AfterAPauseOfAMinuteConnectionsThatLastGoOnWithinASecond) {
  for (const std::uint64_t seed : kit::seeds(12, 100)) pause_a_minute(seed);
}

// With the usual timeouts the clients have timed out when the server wakes. They resume at once,
// even where the server has no place beside theirs: what they said in the first seconds of the
// pause lay in its socket, so that it takes them for alive.
TEST(Siege, AfterAPauseOfAMinuteClientsThatLeftComeBackWithinASecond) {
  ServerOptions options;
  options.capacity = 4;
  options.resume = 100s;
  SimHosts hosts(host_test::kProtocol, {.delay = 20ms}, 3, options);
  for (int i = 0; i < 4; ++i) hosts.join();
  hosts.run(1s);
  hosts.rest_server_until(hosts.now() + 60s);
  hosts.run(60s);
  for (std::size_t i = 0; i < 4; ++i) EXPECT_TRUE(hosts.client(i).ended());
  for (std::size_t i = 0; i < 4; ++i) hosts.reconnect(i, hosts.client(i).resume()->secret);
  hosts.run(1s);
  for (std::size_t i = 0; i < 4; ++i) {
    EXPECT_TRUE(hosts.client(i).connected()) << i << ": " << hosts.ended(i);
  }
  EXPECT_EQ(hosts.log().size(), 4U) << "as the same peers";
}

TEST(Siege, CloseAllReachesHandshakesThatAreUnderWay) {
  for (const Duration after : {30ms, 60ms, 80ms, 90ms, 100ms, 120ms, 140ms}) {
    SCOPED_TRACE(std::to_string(after / 1ms));
    SimHosts hosts(host_test::kProtocol, {.delay = 20ms});
    hosts.join();
    hosts.run(after);
    hosts.server().close_all("the harbour closes");
    hosts.run(1s);
    if (after < Duration(80ms)) continue;  // its offer came later: it is welcome
    EXPECT_FALSE(hosts.client(0).connected());
    EXPECT_EQ(hosts.ended(0), "closed_by_peer the harbour closes");
  }
}

// Who was sent away while it was away does not come back.
TEST(Siege, AClientThatIsClosedWhileItIsAwayIsGoneForGood) {
  ServerOptions options;
  options.resume = 60s;
  SimHosts hosts(host_test::kProtocol, {.delay = 20ms}, 1, options);
  Client& client = hosts.join();
  hosts.run(300ms);
  const auto right = client.resume();
  ASSERT_TRUE(right);
  const Peer peer = hosts.server().peers().front();
  hosts.kill(0);
  hosts.run(15s);
  ASSERT_EQ(hosts.server().peers().size(), 1U) << "away, not gone";
  hosts.server().close(peer, "banned");
  EXPECT_TRUE(hosts.server().peers().empty());
  EXPECT_EQ(hosts.log().back(), "out 1 closed_here banned");
  ClientOptions again;
  again.resume = right->secret;
  Client& back = hosts.join(again);
  hosts.run(1s);
  EXPECT_FALSE(back.connected());
  EXPECT_EQ(hosts.ended(1).substr(0, 14), "resume_unknown");
}

}  // namespace siege_test
}  // namespace kwind::host
