// Handlers add up, and whatever one throws costs nobody anything: the server's and the client's
// on_*, the tap.
#include <gtest/gtest.h>

#include <stdexcept>

#include "host_test.h"
#include "kit/sim_hosts.h"

namespace kwind {
namespace observers_test {

using namespace std::chrono_literals;
using host::Client;
using host::Peer;
using host::Server;

// Writes one byte of opaque payload into each datagram that it is offered.
class OneByte final : public link::PayloadSource {
 public:
  std::optional<std::uint64_t> fill(Time, bits::Writer& out) override {
    out.put(7, 8);
    return ++tokens_;
  }

 private:
  std::uint64_t tokens_ = 0;
};

TEST(Observers, ThatThrowKeepNobodyFromBeingCalled) {
  kit::SimHosts hosts(host_test::kProtocol);
  Server& server = hosts.server();
  std::vector<std::string> called;
  const auto fails = [&](const char* name) {
    called.emplace_back(name);
    throw std::runtime_error(name);
  };
  std::size_t faults = 0;
  std::size_t faults_of_second_sink = 0;
  server.on_fault([&](const route::HandlerException<Peer>&) { ++faults; });
  server.on_fault([&](const route::HandlerException<Peer>&) { ++faults_of_second_sink; });
  server.on_connect([&](Peer) { fails("first on_connect"); });
  server.on_connect([&](Peer) { fails("second on_connect"); });
  server.on_disconnect([&](Peer, Errc, std::string_view) { fails("first on_disconnect"); });
  server.on_disconnect([&](Peer, Errc, std::string_view) { fails("second on_disconnect"); });
  server.on_payload([&](Peer, std::span<const std::byte>, std::size_t) -> Errc {
    fails("server's on_payload");
    return Errc::none;
  });
  server.set_tap([&](const host::Tapped&) { fails("tap"); });
  Client& client = hosts.join();
  client.on_connect([&] { fails("client's on_connect"); });
  client.on_payload([&](std::span<const std::byte>, std::size_t) -> Errc {
    fails("client's on_payload");
    return Errc::none;
  });
  client.set_tap([&](const host::Tapped&) { fails("client's tap"); });
  OneByte from_server;
  OneByte from_client;
  hosts.run(500ms);
  ASSERT_EQ(server.peers().size(), 1U);
  server.schedule_payload(server.peers()[0], &from_server, 1);
  client.schedule_payload(&from_client, 1);
  EXPECT_EQ(server.send(server.peers()[0], host_test::Place{}), Errc::none);
  hosts.run(500ms);
  client.close("done");
  hosts.run(3s);
  for (const char* name : {"first on_connect", "second on_connect", "first on_disconnect",
                           "second on_disconnect", "server's on_payload", "tap",
                           "client's on_connect", "client's on_payload", "client's tap"}) {
    EXPECT_TRUE(std::find(called.begin(), called.end(), name) != called.end()) << name;
  }
  EXPECT_EQ(faults, faults_of_second_sink);
  EXPECT_EQ(faults, server.counts().route.handler_faults);
  EXPECT_GE(faults, 6U);
  EXPECT_GE(client.counts().route.handler_faults, 3U);
  EXPECT_EQ(server.counts().drops.of(Errc::payload_not_taken), 1U);
  EXPECT_EQ(client.counts().drops.of(Errc::payload_not_taken), 1U);
}

// An address that a player typed is no fault of the program's.
TEST(Clear, AClientForAnotherMachineEndsWithAReason) {
  io::sim::Network network({}, 1);
  io::sim::SimTransport& transport = network.open(Endpoint::loopback(5000));
  host::ClientOptions options;
  options.plaintext = host::Plaintext::loopback_only;
  Client client(transport, Endpoint::v4(192, 0, 2, 7, 4000), host_test::kProtocol, kit::at(0ms),
                options);
  Errc end = Errc::none;
  client.on_disconnect([&](Errc code, std::string_view) { end = code; });
  client.receive(kit::at(5ms));
  client.flush(kit::at(5ms));
  EXPECT_EQ(end, Errc::not_loopback);
  EXPECT_TRUE(client.ended());
  EXPECT_EQ(transport.counts().datagrams_sent, 0U) << "nothing left in plaintext";
}

TEST(Observers, OfPayloadAreOneAndReplacedOnlyOnPurpose) {
  kit::SimHosts hosts(host_test::kProtocol);
  Client& client = hosts.join();
  const auto take = [](std::span<const std::byte>, std::size_t) { return Errc::none; };
  client.on_payload(take);
  client.on_payload(nullptr);
  client.on_payload(take);
  EXPECT_DEATH(client.on_payload(take), "");
  const auto hear = [](Peer, std::span<const std::byte>, std::size_t) { return Errc::none; };
  hosts.server().on_payload(hear);
  EXPECT_DEATH(hosts.server().on_payload(hear), "");
}

TEST(Observers, PayloadWaitsForReadyAsMessagesDo) {
  host::ServerOptions options;
  kit::SimHosts hosts(host_test::kProtocol, {.delay = 20ms}, 1, options);
  host::ClientOptions held;
  held.hold_until_ready = true;
  Client& client = hosts.join(held);
  std::size_t came = 0;
  client.on_payload([&](std::span<const std::byte>, std::size_t) {
    ++came;
    return Errc::none;
  });
  OneByte payload_source;
  hosts.run(200ms);
  for (int i = 0; i < 100; ++i) {
    hosts.server().schedule_payload(hosts.server().peers()[0], &payload_source, 1);
    hosts.run(50ms);
  }
  EXPECT_EQ(came, 0U);
  client.ready();
  hosts.run(100ms);
  EXPECT_EQ(came, host::kMaxHeldState) << "the newest";
  EXPECT_EQ(client.counts().drops.of(Errc::payload_not_taken), 100 - host::kMaxHeldState);
}

}  // namespace observers_test
}  // namespace kwind
