// kwind::Server and kwind::Client over real sockets: opening, transports in turn, resume, back-off.
#include <gtest/gtest.h>

#include <csignal>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <thread>

#include "host_test.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/kwind.h"

namespace kwind {
namespace front_test {

using namespace std::chrono_literals;
using host_test::kProtocol;

struct States {
  explicit States(Client& client) {
    client.on_state([this](ConnectionState state, Errc code, std::string_view) {
      seen.push_back(state);
      last = code;
    });
  }
  std::vector<ConnectionState> seen;
  Errc last = Errc::none;
};

// Steps all of them until `done` or the limit.
template <class Done>
bool run_until(Server* server, Client* client, Duration limit, const Done& done) {
  for (const Time end = io::now() + limit; io::now() < end;) {
    if (server != nullptr) server->step(io::now());
    if (client != nullptr) client->step(io::now());
    if (done()) return true;
    std::this_thread::sleep_for(1ms);
  }
  return false;
}

std::unique_ptr<Server> open_server(std::vector<std::string> listen, ServerOptions options = {}) {
  options.listen = std::move(listen);
  auto server = Server::open(kProtocol, options);
  EXPECT_TRUE(server) << (server ? "" : server.error().text);
  return server ? std::move(*server) : nullptr;
}

std::unique_ptr<Client> open_client(ClientOptions options) {
  auto client = Client::open(kProtocol, options);
  EXPECT_TRUE(client) << (client ? "" : client.error().text);
  return client ? std::move(*client) : nullptr;
}

std::string port_of(const Server& server) {
  const std::string text = server.address().text();
  return text.substr(text.rfind(':') + 1);
}

TEST(ServerOpen, SaysWhichAddressAndWhichKeyFileAreWrong) {
  const auto nowhere = Server::open(kProtocol, {.listen = {"nowhere"}});
  ASSERT_FALSE(nowhere);
  EXPECT_EQ(nowhere.error().code, Errc::bad_address);
  EXPECT_NE(nowhere.error().text.find("`nowhere`"), std::string::npos) << nowhere.error().text;
  const auto server = open_server({"127.0.0.1:0"});
  const auto again = Server::open(kProtocol, {.listen = {"127.0.0.1:" + port_of(*server)}});
  ASSERT_FALSE(again);
  EXPECT_EQ(again.error().code, Errc::address_in_use);
  const auto keyless =
      Server::open(kProtocol, {.listen = {"127.0.0.1:0"}, .secret_key_file = "/no/such.key"});
  ASSERT_FALSE(keyless);
  EXPECT_EQ(keyless.error().code, Errc::bad_key);
  EXPECT_NE(keyless.error().text.find("/no/such.key"), std::string::npos);
}

// A device without an end, a folder, a file of the wrong kind: an error at once.
TEST(ServerOpen, TakesNoKeyFromWhatIsNoKeyFile) {
  for (const char* file : {"/dev/zero", "/", "/proc/self/exe"}) {
    const auto server =
        Server::open(kProtocol, {.listen = {"127.0.0.1:0"}, .secret_key_file = file});
    ASSERT_FALSE(server) << file;
    EXPECT_EQ(server.error().code, Errc::bad_key) << file;
  }
  const auto client = Client::open(kProtocol, {.server = "127.0.0.1:9", .server_key = "/dev/zero"});
  ASSERT_FALSE(client);
  EXPECT_EQ(client.error().code, Errc::bad_key);
}

TEST(ServerOpen, TakesItsKeyFromAFileAndStaysTheSameServer) {
  const std::string file = testing::TempDir() + "kwind_front_test.key";
  std::ofstream(file) << link::key_text(io::random_secret().bytes()) << "\n";
  ServerOptions options;
  options.secret_key_file = file;
  const auto first = open_server({"127.0.0.1:0"}, options);
  const auto second = open_server({"127.0.0.1:0"}, options);
  EXPECT_EQ(first->public_key(), second->public_key());
  EXPECT_NE(open_server({"127.0.0.1:0"})->public_key(), first->public_key());
  std::filesystem::remove(file);
}

TEST(ServerRun, EndsWhenAnotherThreadStopsItAndRunsAgain) {
  const auto server = open_server({"127.0.0.1:0"});
  for (int round = 0; round < 2; ++round) {
    std::thread stopper([&] {
      std::this_thread::sleep_for(50ms);
      server->stop();
    });
    const Time begin = io::now();
    server->run();
    EXPECT_LT(io::now() - begin, 5s);
    stopper.join();
  }
}

TEST(ServerRun, AStopBeforeTheRunIsNotLost) {
  const auto server = open_server({"127.0.0.1:0"});
  std::thread runner([&] {
    std::this_thread::sleep_for(50ms);
    server->run();
  });
  server->stop();
  runner.join();  // hangs if the stop was forgotten
}

TEST(ClientOpen, SaysWhatIsWrongWithServerAndKey) {
  const auto nowhere = Client::open(kProtocol, {.server = "nowhere"});
  ASSERT_FALSE(nowhere);
  EXPECT_NE(nowhere.error().text.find("`nowhere`"), std::string::npos);
  const auto keyless = Client::open(kProtocol, {.server = "127.0.0.1:9", .server_key = "short"});
  ASSERT_FALSE(keyless);
  EXPECT_EQ(keyless.error().code, Errc::bad_key);
}

TEST(FrontClient, ConnectsAndClosesWithItsStates) {
  const auto server = open_server({"127.0.0.1:0"});
  const auto client =
      open_client({.server = server->address().text(), .server_key = server->public_key()});
  States states(*client);
  ASSERT_TRUE(run_until(server.get(), client.get(), 5s, [&] { return client->connected(); }));
  client->close("enough");
  ASSERT_TRUE(run_until(server.get(), client.get(), 5s,
                        [&] { return client->connection_state() == ConnectionState::closed; }));
  EXPECT_EQ(states.seen,
            (std::vector<ConnectionState>{ConnectionState::connected, ConnectionState::closed}));
  EXPECT_EQ(states.last, Errc::closed_here);
}

// Nobody answers over UDP: the client is connected over TCP soon after `next_transport_after`.
TEST(FrontClient, AHandlerOfStatesThatThrowsIsAFaultAndTheOthersHear) {
  ClientOptions who{.server = "127.0.0.1:9", .reconnect = false};
  who.host.plaintext = host::Plaintext::loopback_only;
  who.host.timeouts.handshake = 200ms;
  const auto client = open_client(who);
  std::size_t faults = 0;
  client->on_fault([&](std::string_view, const route::RawMessage*) { ++faults; });
  client->on_state([](ConnectionState, Errc, std::string_view) {
    throw std::runtime_error("a fault of the game");
  });
  const States states(*client);
  EXPECT_TRUE(run_until(nullptr, client.get(), 5s,
                        [&] { return client->connection_state() == ConnectionState::closed; }));
  EXPECT_EQ(states.seen, std::vector<ConnectionState>{ConnectionState::closed});
  EXPECT_EQ(faults, 1U);
}

TEST(FrontClient, TakesTheNextTransportWhereTheFirstIsSilent) {
  const auto server = open_server({"tcp:127.0.0.1:0"});
  auto silent = io::UdpTransport::open(server->address());  // takes hellos and answers none
  ASSERT_TRUE(silent);
  const auto client =
      open_client({.server = server->address().text(),
                   .server_key = server->public_key(),
                   .transports = {link::TransportKind::datagrams, link::TransportKind::stream},
                   .next_transport_after = 200ms});
  ASSERT_TRUE(run_until(server.get(), client.get(), 5s, [&] { return client->connected(); }));
  EXPECT_EQ(client->transport_kind(), link::TransportKind::stream);
  EXPECT_EQ(client->attempts(), 2U);
}

// A refusal that the next attempt would get as well ends the client.
TEST(FrontClient, AWrongKeyIsFinal) {
  const auto server = open_server({"127.0.0.1:0"});
  const auto other = open_server({"127.0.0.1:0"});
  const auto client =
      open_client({.server = server->address().text(), .server_key = other->public_key()});
  States states(*client);
  ASSERT_TRUE(run_until(server.get(), client.get(), 5s,
                        [&] { return client->connection_state() == ConnectionState::closed; }));
  EXPECT_EQ(states.last, Errc::wrong_key);
  EXPECT_EQ(client->attempts(), 1U);
}

// The server is started again on its port: the client, whose connection that server does not know,
// connects again, with its handlers.
TEST(FrontClient, ComesBackToARestartedServer) {
  const std::string file = testing::TempDir() + "kwind_front_restart.key";
  std::ofstream(file) << link::key_text(io::random_secret().bytes());
  ServerOptions options;
  options.secret_key_file = file;
  auto server = open_server({"127.0.0.1:0"}, options);
  const std::string address = server->address().text();
  ClientOptions who{.server = address, .server_key = server->public_key(), .first_retry = 50ms};
  who.host.timeouts.idle_timeout = 2s;
  who.host.timeouts.keepalive = 200ms;
  std::size_t tickets = 0;
  who.ticket = [&] {
    ++tickets;
    return std::string("pilot");
  };
  const auto client = open_client(who);
  States states(*client);
  std::size_t connects = 0;
  client->on_connect([&] { ++connects; });
  ASSERT_TRUE(run_until(server.get(), client.get(), 5s, [&] { return client->connected(); }));
  server.reset();
  server = open_server({address}, options);
  ASSERT_NE(server, nullptr);
  ASSERT_TRUE(run_until(server.get(), client.get(), 10s, [&] { return connects == 2; }));
  EXPECT_TRUE(client->connected());
  EXPECT_EQ(tickets, 2U) << "a fresh one for each connection";
  EXPECT_EQ(states.seen.back(), ConnectionState::connected);
  std::filesystem::remove(file);
}

// The path breaks for longer than the idle timeout: the server keeps the peer, and the client
// resumes as the same one.
TEST(FrontClient, ResumesAsTheSamePeer) {
  ServerOptions options;
  options.host.resume = 30s;
  options.host.timeouts.idle_timeout = 1s;
  options.host.timeouts.keepalive = 200ms;
  const auto server = open_server({"127.0.0.1:0"}, options);
  ClientOptions who{.server = server->address().text(), .server_key = server->public_key()};
  who.host.timeouts.idle_timeout = 1s;
  who.host.timeouts.keepalive = 200ms;
  const auto client = open_client(who);
  States states(*client);
  std::size_t resumes = 0;
  std::size_t connects = 0;
  server->on_connect([&](Peer) { ++connects; });
  server->on_resume([&](Peer) { ++resumes; });
  ASSERT_TRUE(run_until(server.get(), client.get(), 5s, [&] { return client->connected(); }));
  // Each end alone: neither gets anything from the other.
  run_until(server.get(), nullptr, 1500ms, [] { return false; });
  run_until(nullptr, client.get(), 1500ms,
            [&] { return client->connection_state() == ConnectionState::resuming; });
  EXPECT_TRUE(run_until(server.get(), client.get(), 8s,
                        [&] { return resumes == 1 && client->connected(); }));
  EXPECT_EQ(connects, 1U);
  EXPECT_EQ(client->connection_state(), ConnectionState::connected);
}

TEST(FrontClient, WaitsLongerAfterEachFailedAttemptAndEndsWhenItIsClosed) {
  ClientOptions who{
      .server = "127.0.0.1:9",
      .server_key = link::key_text(link::KeyPair::from_secret(io::random_secret()).public_key),
      .first_retry = 100ms,
      .longest_retry = 400ms};
  who.host.timeouts.handshake = 100ms;
  const auto client = open_client(who);
  run_until(nullptr, client.get(), 1500ms, [] { return false; });
  // Attempts of 100 ms with pauses of 100, 200, 400 ms between them: 4 or 5 of them, not 14.
  EXPECT_GE(client->attempts(), 3U);
  EXPECT_LE(client->attempts(), 6U);
  run_until(nullptr, client.get(), 3s,
            [&] { return client->connection_state() == ConnectionState::waiting; });
  client->close("no more");
  EXPECT_EQ(client->connection_state(), ConnectionState::closed);
}

}  // namespace front_test
}  // namespace kwind
