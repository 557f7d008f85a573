// What a client may make of a server's trust: tickets that expired, inputs faster than the game's
// ticks.
#include <gtest/gtest.h>

#include <chrono>
#include <set>
#include <string>

#include "host_test.h"
#include "kit/sim_hosts.h"

namespace kwind {
namespace trust_test {

using namespace std::chrono_literals;
using host::Peer;

// Tickets are a number: the second at which they expire.
class ExpiryGate final : public link::TicketGate {
 public:
  [[nodiscard]] Result<link::Claims> check(std::string_view ticket,
                                           std::int64_t now) const override {
    if (now > std::stoll(std::string(ticket))) return fail(Errc::ticket_expired);
    link::Claims claims;
    claims.id = std::string(ticket);
    return claims;
  }
};

TEST(Tickets, ExpireByTheSystemsClockUnlessAnotherIsGiven) {
  const std::int64_t now =
      std::chrono::floor<std::chrono::seconds>(std::chrono::system_clock::now().time_since_epoch())
          .count();
  const ExpiryGate gate;
  host::ServerOptions options;
  options.gate = &gate;
  const auto end_of = [&](std::int64_t expires) {
    kit::SimHosts hosts(host_test::kProtocol, {.delay = 20ms}, 1, options);
    host::ClientOptions who;
    who.ticket = std::to_string(expires);
    hosts.join(who);
    hosts.run(500ms);
    return hosts.ended(0);
  };
  EXPECT_EQ(end_of(now - 60).substr(0, 14), "ticket_expired");
  EXPECT_EQ(end_of(now + 60), "");
  options.unix_now = [] { return std::int64_t{1000}; };
  EXPECT_EQ(end_of(999).substr(0, 14), "ticket_expired");
  EXPECT_EQ(end_of(1001), "");
}

// Several servers, or a server and its successor, ask one store whether a ticket was used.
TEST(Tickets, CountOnceForAllServersThatShareAStore) {
  class SharedGate final : public link::TicketGate {
   public:
    explicit SharedGate(std::set<std::string>& used) : used_(used) {}
    [[nodiscard]] Result<link::Claims> check(std::string_view ticket,
                                             std::int64_t now) const override {
      return link::Claims{"pilot", std::string(ticket), now + 60, "{}"};
    }
    [[nodiscard]] bool take(const link::Claims& claims) const override {
      return used_.insert(claims.id).second;
    }

   private:
    std::set<std::string>& used_;
  };
  std::set<std::string> used;
  const SharedGate gate(used);
  host::ServerOptions options;
  options.gate = &gate;
  const auto end_with = [&](const std::string& ticket) {
    kit::SimHosts hosts(host_test::kProtocol, {.delay = 20ms}, 1, options);
    host::ClientOptions who;
    who.ticket = ticket;
    hosts.join(who);
    hosts.run(500ms);
    return hosts.ended(0).substr(0, 11);
  };
  EXPECT_EQ(end_with("one"), "");
  EXPECT_EQ(end_with("one"), "ticket_used") << "by the server before";
  EXPECT_EQ(end_with("two"), "");
}

TEST(Inputs, AreHeldToTheRateAndTheChecksOfTheirMessageType) {
  kit::SimHosts hosts(host_test::kProtocol);
  hosts.join();
  host::Server& server = hosts.server();
  std::size_t handled = 0;
  std::size_t tapped = 0;
  server.check<host_test::Order>([&](Peer, const host_test::Order& order) {
    return order.number == 13 ? route::CheckResult::drop : route::CheckResult::accept;
  });
  server.on<host_test::Order>([&](Peer, const host_test::Order&) { ++handled; });
  server.set_tap([&](const host::Tapped&) { ++tapped; });
  hosts.run(200ms);
  const Peer peer = server.peers()[0];
  const auto give = [&](int number) {
    std::array<std::byte, 8> memory{};
    schema::Encoder out{bits::Writer(memory)};
    encode(out, host_test::Order{number});
    const std::size_t bits = out.bit_count();
    out.finish();
    return server.take_input<host_test::Order>(peer, memory, bits);
  };
  EXPECT_EQ(give(1), Errc::none);
  EXPECT_EQ(give(13), Errc::not_allowed);
  EXPECT_EQ(handled, 1U);
  EXPECT_EQ(tapped, 2U);
  std::size_t limited = 0;
  for (int i = 0; i < 100; ++i) limited += give(2) == Errc::rate_limited ? 1 : 0;
  EXPECT_GT(limited, 70U) << "20 a second, and a burst";
  std::array<std::byte, 1> cut{};
  hosts.run(1s);
  EXPECT_EQ(server.take_input<host_test::Order>(peer, cut, 3), Errc::truncated);
  EXPECT_EQ(server.take_input<host_test::Order>(Peer{99}, cut, 3), Errc::no_such_peer);
  hosts.client(0).close("done");
  hosts.run(2s);
  EXPECT_EQ(server.take_input<host_test::Order>(peer, cut, 3), Errc::no_such_peer);
}

}  // namespace trust_test
}  // namespace kwind
