// kwind::simulation: the hosts that games test with, and the code of docs/guide/testing.md.
#include "kwind/simulation/simulated_hosts.h"

#include <gtest/gtest.h>

#include <fstream>
#include <iterator>
#include <sstream>

#include "kwind/host/replicated_world.h"
#include "kwind/host/replication.h"
#include "pilotage.h"
#include "routing.h"

namespace kwind::simulation {
namespace simulated_hosts_test {

using namespace std::chrono_literals;
using routing::Hail;
using routing::TakeTow;

TEST(SimulatedHosts, TheSameSeedGivesTheSameRun) {
  const auto run = [](std::uint64_t seed) {
    SimulatedHosts hosts(
        routing::kProtocol,
        {.conditions = {.delay = 40ms, .jitter = 10ms, .loss = 0.2}, .seed = seed});
    std::vector<std::int64_t> times;
    hosts.server().on<Hail>(
        [&](host::Peer, const Hail&) { times.push_back((hosts.now() - Time{}) / 1ms); });
    host::Client& client = hosts.connect();
    EXPECT_TRUE(hosts.run_until([&] { return client.connected(); }));
    for (int i = 0; i < 20; ++i) {
      EXPECT_EQ(client.send(Hail{i, "ahoy"}), Errc::none);
      hosts.run(50ms);
    }
    EXPECT_TRUE(hosts.run_until([&] { return times.size() == 20; }));
    return times;
  };
  EXPECT_EQ(run(1), run(1));
  EXPECT_NE(run(1), run(2));
}

TEST(SimulatedHosts, APathThatIsCutEndsTheConnectionAndTheClientComesBackAsTheSamePeer) {
  host::ServerOptions server;
  server.resume = 60s;
  server.timeouts.idle_timeout = 2s;
  SimulatedHosts hosts(routing::kProtocol, {.server = server});
  std::size_t resumes = 0;
  hosts.server().on_resume([&](host::Peer) { ++resumes; });
  host::ClientOptions options;
  options.timeouts.idle_timeout = 2s;
  host::Client& client = hosts.connect(options);
  host::Client& other = hosts.connect(options);
  ASSERT_TRUE(hosts.run_until([&] { return client.connected() && other.connected(); }));
  hosts.set_conditions(client, {.delay = 20ms, .loss = 1});
  ASSERT_TRUE(hosts.run_until([&] { return client.ended(); }));
  EXPECT_TRUE(other.connected()) << "the path of another one";
  options.resume = client.resume()->secret;
  hosts.reconnect(client, options);
  EXPECT_TRUE(hosts.run_until([&] { return resumes == 1; }));
  EXPECT_TRUE(client.resumed());
  EXPECT_EQ(hosts.server().peers().size(), 2U);
}

TEST(SimulatedHosts, ALostClientIsGoneForItsServerAfterTheTimeoutAlone) {
  host::ServerOptions server;
  server.timeouts.idle_timeout = 2s;
  SimulatedHosts hosts(routing::kProtocol, {.server = server});
  Errc why = Errc::none;
  hosts.server().on_disconnect([&](host::Peer, Errc code, std::string_view) { why = code; });
  host::Client& client = hosts.connect();
  ASSERT_TRUE(hosts.run_until([&] { return client.connected(); }));
  hosts.lose(client);
  hosts.run(1s);
  EXPECT_EQ(why, Errc::none);
  EXPECT_TRUE(hosts.run_until([&] { return why != Errc::none; }, 3s));
  EXPECT_EQ(why, Errc::timeout);
}

TEST(SimulatedHosts, RunUntilSaysWhenItWasInVain) {
  SimulatedHosts hosts(routing::kProtocol);
  const Time before = hosts.now();
  EXPECT_FALSE(hosts.run_until([] { return false; }, 123ms));
  EXPECT_EQ(hosts.now() - before, 123ms);
}

TEST(SimulatedHosts, HandlersMayAddClients) {
  SimulatedHosts hosts(routing::kProtocol);
  hosts.server().on<Hail>([&](host::Peer, const Hail& hail) {
    for (int i = 0; i < hail.number; ++i) hosts.connect();
  });
  host::Client& client = hosts.connect();
  client.on_connect([&] { (void)client.send(Hail{20, "come all"}); });
  EXPECT_TRUE(hosts.run_until([&] { return hosts.server().peers().size() == 21; }));
}

TEST(SimulatedHosts, PlaintextIsForBothEnds) {
  host::ServerOptions server;
  server.plaintext = host::Plaintext::loopback_only;
  SimulatedHosts hosts(routing::kProtocol, {.server = server});
  host::Client& client = hosts.connect();
  EXPECT_TRUE(hosts.run_until([&] { return client.connected(); }));
  EXPECT_EQ(client.protection(), "plaintext");
}

// guide begins
TEST(Towing, TheLineIsGivenOnceHoweverBadThePath) {
  for (std::uint64_t seed = 1; seed <= 50; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    kwind::simulation::SimulatedHosts hosts(
        routing::kProtocol,
        {.conditions = {.delay = 60ms, .jitter = 20ms, .loss = 0.1}, .seed = seed});
    int given = 0;
    hosts.server().on_request<TakeTow>(
        [&](host::Peer, const TakeTow&, route::Responder<TakeTow> responder) {
          ++given;
          (void)responder.reply({.line = 3});
        });
    host::Client& pilot = hosts.connect();
    ASSERT_TRUE(hosts.run_until([&] { return pilot.connected(); }));
    int line = 0;
    const auto note = [&](const route::Outcome<TakeTow>& outcome) { line = outcome.reply.line; };
    ASSERT_EQ(pilot.request(TakeTow{1}, 5s, note), Errc::none);
    ASSERT_TRUE(hosts.run_until([&] { return line != 0; }, 5s));
    hosts.run(1s);
    EXPECT_EQ(given, 1);
  }
}
// guide ends

// What a player sees of a path that is cut for two seconds.
// second begins
TEST(Sailing, ACutOfTwoSecondsIsOverAMomentAfterIt) {
  kwind::simulation::SimulatedHosts hosts(pilotage::kProtocol, {.conditions = {.delay = 50ms}});
  host::Replication state(hosts.server(), pilotage::kEntities, {.tick_rate = 20});
  auto buoy = *state.spawn(pilotage::Buoy{});
  state.on_client([](host::ClientView& view) { view.set_origin(0, 0); });
  state.on_tick([&](std::uint32_t tick) { buoy.set({.at = {tick % 64 / 4.0, 0}}); });
  host::Client& client = hosts.connect();
  host::ReplicatedWorld world(client, pilotage::kEntities);
  ASSERT_TRUE(hosts.run_until([&] { return world.tick() > 20; }));
  hosts.set_conditions(client, {.delay = 50ms, .loss = 1});
  hosts.run(2s);
  hosts.set_conditions(client, {.delay = 50ms});
  hosts.run(500ms);
  EXPECT_LE(state.tick() - world.tick(), 4U) << "ticks behind the server";
}
// second ends

TEST(GuideToTesting, ShowsThatCodeAsItIs) {
  const auto text_of = [](const std::string& file) {
    std::ifstream in(file, std::ios::binary);
    return std::string(std::istreambuf_iterator<char>(in), {});
  };
  const std::string page = text_of(KWIND_SOURCE_DIR "/docs/guide/testing.md");
  const std::string self = text_of(KWIND_SOURCE_DIR "/tests/host/simulated_hosts_test.cpp");
  for (const std::string part : {"guide", "second"}) {
    const std::string begins = "// " + part + " begins\n";
    const std::size_t begin = self.find(begins) + begins.size();
    const std::string shown = self.substr(begin, self.find("// " + part + " ends") - begin);
    EXPECT_NE(page.find("```cpp\n" + shown + "```"), std::string::npos) << shown;
  }
}

}  // namespace simulated_hosts_test
}  // namespace kwind::simulation
