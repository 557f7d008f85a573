// A server in two halves, on real loopback sockets and two threads.
#include "kwind/host/threaded.h"

#include <gtest/gtest.h>

#include <chrono>
#include <deque>
#include <functional>
#include <thread>

#include "host_test.h"
#include "kwind/host/client.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

namespace kwind::host {
namespace threaded_test {

using namespace std::chrono_literals;
using namespace host_test;

struct Caller {
  std::unique_ptr<io::UdpTransport> transport;
  std::unique_ptr<Client> client;
};

class Threaded : public testing::Test {
 protected:
  void start(const ThreadedOptions& queues = {}) {
    auto transport = io::UdpTransport::open(Endpoint::loopback(0));
    ASSERT_TRUE(transport);
    address_ = (*transport)->local();
    ServerOptions options;
    options.key = link::KeyPair::from_secret(io::random_secret());
    options.timeouts.linger = 300ms;
    key_ = options.key->public_key;
    server_ = std::make_unique<ThreadedServer>(std::move(*transport), kProtocol, options, queues);
  }
  Caller call() {
    Caller made{std::move(*io::UdpTransport::open(Endpoint::loopback(0))), nullptr};
    ClientOptions options;
    options.server_key = key_;
    made.client =
        std::make_unique<Client>(*made.transport, address_, kProtocol, io::now(), options);
    return made;
  }
  // The clients' turns and the game's, until `done` or ten seconds are over.
  bool run_until(std::vector<Caller*> callers, const std::function<bool()>& done,
                 bool with_game = true) {
    for (const Time end = io::now() + 10s; io::now() < end;) {
      for (Caller* caller : callers) {
        caller->client->receive(io::now());
        caller->client->flush(io::now());
      }
      if (with_game) {
        server_->receive();
        server_->flush();
      }
      if (done()) return true;
      std::this_thread::sleep_for(200us);
    }
    return false;
  }

  Endpoint address_;
  link::PublicKey key_{};
  std::unique_ptr<ThreadedServer> server_;
};

TEST_F(Threaded, AsksForNothingThatItCannotDo) {
  testing::FLAGS_gtest_death_test_style = "threadsafe";
  const auto make = [](auto&& change) {
    ServerOptions options;
    options.plaintext = Plaintext::loopback_only;
    change(options);
    auto transport = io::UdpTransport::open(Endpoint::loopback(0));
    const ThreadedServer server(std::move(*transport), host_test::kProtocol, options);
  };
  EXPECT_DEATH(make([](ServerOptions& options) { options.hold_until_ready = true; }), "");
  EXPECT_DEATH(make([](ServerOptions& options) { options.max_faults = 3; }), "");
}

TEST_F(Threaded, LosesNoCloseWhenItsQueueIsFull) {
  start(ThreadedOptions{.outbound = 4});
  std::vector<Peer> here;
  server_->on_connect([&](Peer peer) { here.push_back(peer); });
  std::deque<Caller> callers;
  for (int i = 0; i < 12; ++i) callers.push_back(call());  // at most 16 handshakes an address
  std::vector<Caller*> all;
  for (Caller& caller : callers) all.push_back(&caller);
  ASSERT_TRUE(run_until(all, [&] { return here.size() == callers.size(); }));
  // More at once than the queue holds.
  for (int i = 0; i < 50; ++i) (void)server_->send_to_all(Said{1, i, "before the end"});
  for (const Peer peer : here) server_->close(peer, "the pier closes");
  EXPECT_TRUE(run_until(all, [&] {
    server_->flush();
    return std::all_of(callers.begin(), callers.end(),
                       [](const Caller& caller) { return caller.client->ended(); });
  }));
}

TEST_F(Threaded, CarriesMessagesBothWaysInOrderOnTheGamesThread) {
  start();
  const auto game_thread = std::this_thread::get_id();
  std::vector<Peer> here;
  std::map<Peer, int> next;
  bool in_order = true;
  bool on_thread = true;
  server_->on_connect([&](Peer peer) {
    here.push_back(peer);
    server_->rooms().enter(peer, "pier");
    on_thread = on_thread && std::this_thread::get_id() == game_thread;
  });
  server_->on<Say>([&](Peer peer, const Say& say) {
    in_order = in_order && say.number == next[peer]++;
    on_thread = on_thread && std::this_thread::get_id() == game_thread;
    server_->send_to_room("pier", Said{static_cast<int>(peer), say.number, say.words});
  });
  std::vector<Peer> gone;
  server_->on_disconnect([&](Peer peer, Errc, std::string_view) { gone.push_back(peer); });
  Caller a = call();
  Caller b = call();
  int heard = 0;
  for (Caller* caller : {&a, &b}) caller->client->on<Said>([&](const Said&) { ++heard; });
  ASSERT_TRUE(run_until({&a, &b}, [&] { return here.size() == 2; }));
  constexpr int kMany = 300;
  int sent = 0;
  EXPECT_TRUE(run_until({&a, &b}, [&] {
    for (int i = 0; i < 5 && sent < kMany; ++i, ++sent) {
      (void)a.client->send(Say{sent, "ahoy"});
      (void)b.client->send(Say{sent, "ahoy"});
    }
    return heard == 4 * kMany;
  }));
  EXPECT_EQ(heard, 4 * kMany);
  EXPECT_TRUE(in_order);
  EXPECT_TRUE(on_thread);
  a.client->close("home");
  EXPECT_TRUE(run_until({&a, &b}, [&] { return gone.size() == 1; }));
  EXPECT_EQ(server_->rooms().members("pier").size(), 1U);
  EXPECT_EQ(server_->send(gone[0], Said{1, 1, "late"}), Errc::no_such_peer);
  server_->close(here[0] == gone[0] ? here[1] : here[0], "the pier closes");
  EXPECT_TRUE(run_until({&b}, [&] { return b.client->ended(); }));
}

TEST_F(Threaded, AGameThatDoesNotComeLosesNothingReliable) {
  ThreadedOptions small;
  small.inbound = 32;
  start(small);
  std::vector<int> got;
  server_->on<Say>([&](Peer, const Say& say) { got.push_back(say.number); });
  Caller a = call();
  ASSERT_TRUE(run_until({&a}, [&] { return a.client->connected(); }));
  constexpr int kMany = 2000;
  int sent = 0;
  // The game takes nothing for a second: the queue is full, the rest waits in the window.
  const Time stuck = io::now() + 1s;
  ASSERT_TRUE(run_until(
      {&a},
      [&] {
        while (sent < kMany && a.client->send(Say{sent, "waits"}) == Errc::none) ++sent;
        return io::now() >= stuck;
      },
      false));
  EXPECT_TRUE(a.client->connected()) << "the network half goes on by itself";
  EXPECT_TRUE(got.empty());
  EXPECT_TRUE(run_until({&a}, [&] {
    while (sent < kMany && a.client->send(Say{sent, "waits"}) == Errc::none) ++sent;
    return got.size() == kMany;
  }));
  ASSERT_EQ(got.size(), static_cast<std::size_t>(kMany));
  for (int i = 0; i < kMany; ++i) ASSERT_EQ(got[static_cast<std::size_t>(i)], i);
}

TEST_F(Threaded, HandlersThatThrowAreCountedAndTheLoopGoesOn) {
  start();
  int heard = 0;
  server_->on<Say>([&](Peer, const Say& say) {
    ++heard;
    if (say.number == 1) throw std::runtime_error("a reef");
  });
  std::string fault;
  server_->on_fault([&](const route::HandlerException<Peer>& each) { fault = each.what; });
  Caller a = call();
  ASSERT_TRUE(run_until({&a}, [&] { return a.client->connected(); }));
  (void)a.client->send(Say{1, "x"});
  (void)a.client->send(Say{2, "y"});
  EXPECT_TRUE(run_until({&a}, [&] { return heard == 2; }));
  EXPECT_EQ(fault, "a reef");
  EXPECT_EQ(server_->counts().route.handler_faults, 1U);
}

TEST_F(Threaded, ItsEndClosesConnectionsWithAReason) {
  start();
  Caller a = call();
  ASSERT_TRUE(run_until({&a}, [&] { return a.client->connected(); }));
  std::string reason;
  a.client->on_disconnect([&](Errc, std::string_view text) { reason = text; });
  std::thread end([&] { server_.reset(); });
  EXPECT_TRUE(run_until(
      {&a}, [&] { return a.client->ended(); }, false));
  end.join();
  EXPECT_EQ(reason, "the server ends");
}

}  // namespace threaded_test
}  // namespace kwind::host
