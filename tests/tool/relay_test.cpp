// The relay itself on the simulated network: what takes a process and a minute in
// cli/relay_test.cpp.
#include "relay/relay.h"

#include <gtest/gtest.h>

#include "kit/sim_pair.h"
#include "kwind/host/client.h"
#include "kwind/io/sim/network.h"
#include "kwind/language/compile.h"

namespace kwind {
namespace relay_test {

using namespace std::chrono_literals;
using kit::at;

constexpr Endpoint kRelay = Endpoint::v4(127, 0, 0, 1, 4000);

// A relay of opaque bytes and one client, at 127.0.1.1, whose server gives it up after a second.
class RelayOnTheSim : public testing::Test {
 protected:
  RelayOnTheSim()
      : source_(language::compile(relay::kOpaqueDescription, "opaque.kw")),
        tables_(source_.protocol),
        network_({.delay = 20ms}, 1),
        relay_transport_(network_.open(kRelay)) {
    relay::Settings settings;
    EXPECT_TRUE(relay::read_rules("", "", source_.protocol, settings).empty());
    settings_ = settings;
    host::ServerOptions options;
    options.key = kit::server_key();
    options.resume = 60s;
    options.timeouts.idle_timeout = 1s;
    options.timeouts.keepalive = 200ms;
    relay_.emplace(tables_, relay_transport_, settings, options,
                   relay::Relay::Operator{[this](const std::string& line) { said_ += line + "\n"; },
                                          [](const std::string&) {}});
    client_.emplace(network_.open(Endpoint::v4(127, 0, 1, 1, 5000)), kRelay, tables_.info(), now_,
                    options_of_client());
    client_->on_disconnect([this](Errc code, std::string_view reason) {
      ended_ = std::string(error_info(code).name) + " " + std::string(reason);
    });
    run(500ms);
    EXPECT_TRUE(client_->connected());
  }
  static host::ClientOptions options_of_client() {
    host::ClientOptions options;
    options.server_key = kit::server_key().public_key;
    options.timeouts.idle_timeout = 1s;
    options.timeouts.keepalive = 200ms;
    return options;
  }
  void run(Duration time, bool with_relay = true, bool with_client = true) {
    for (const Time end = now_ + time; now_ < end; now_ += 5ms) {
      if (with_relay) relay_->receive(now_);
      if (with_client) client_->receive(now_);
      if (with_relay) relay_->flush(now_);
      if (with_client) client_->flush(now_);
    }
  }
  // Each end hears nothing of the other until it has noticed; then the client comes back.
  void break_and_come_back(const std::function<void()>& meanwhile) {
    run(2s, true, false);
    meanwhile();
    run(2s, false, true);
    ASSERT_TRUE(client_->ended());
    ended_.clear();
    host::ClientOptions again = options_of_client();
    const auto token = client_->resume();
    ASSERT_TRUE(token);
    again.resume = token->secret;
    client_->reconnect(network_.open(Endpoint::v4(127, 0, 1, 1, 5001)), kRelay, now_, again);
    run(1s);
  }

  language::Compiled source_;
  schema::Tables tables_;
  io::sim::Network network_;
  io::sim::SimTransport& relay_transport_;
  Time now_ = at(0s);
  relay::Settings settings_;
  std::optional<relay::Relay> relay_;
  std::optional<host::Client> client_;
  std::string said_;
  std::string ended_;
};

TEST_F(RelayOnTheSim, AClientComesBackAsWhoItWas) {
  break_and_come_back([] {});
  EXPECT_TRUE(client_->connected());
  EXPECT_NE(said_.find("client 1 is back"), std::string::npos) << said_;
}

TEST_F(RelayOnTheSim, WhoWasBannedByTheSettingsWhileAwayDoesNot) {
  break_and_come_back([this] {
    relay::Settings fresh = settings_;
    fresh.banned = {"127.0.1.1"};
    relay_->set_rules(fresh);
  });
  EXPECT_EQ(ended_, "closed_by_peer banned");
  EXPECT_EQ(said_.find("is back"), std::string::npos) << said_;
  EXPECT_NE(said_.find("wanted to come back, and is banned"), std::string::npos) << said_;
}

TEST_F(RelayOnTheSim, WhoWasBannedByHandWhileAwayDoesNot) {
  break_and_come_back([this] { EXPECT_EQ(relay_->command("ban 1 for now"), ""); });
  EXPECT_FALSE(client_->connected());
  EXPECT_EQ(said_.find("is back"), std::string::npos) << said_;
}

// A line for the operator is one line, whatever a client calls its reason.
TEST_F(RelayOnTheSim, AReasonCannotForgeALine) {
  client_->close("bye\n12:00:00  client 2 Tern is here\x1b[2J");
  run(500ms);
  EXPECT_NE(said_.find("is gone"), std::string::npos);
  EXPECT_EQ(said_.find('\x1b'), std::string::npos);
  EXPECT_EQ(said_.find("\n12:00:00"), std::string::npos);
}

}  // namespace relay_test
}  // namespace kwind
