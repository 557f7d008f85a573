// System calls of a server that fail, each kind with each error that a network or a system without
// memory causes. Real sockets on loopback.
#include <gtest/gtest.h>

#include <cerrno>

#include "host_test.h"
#include "kit/failing_calls.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/clock.h"
#include "kwind/io/tcp_transport.h"
#include "kwind/io/udp_transport.h"

namespace kwind {
namespace faults_test {

using namespace io;
using namespace std::chrono_literals;

struct Failing {
  const char* name;
  kit::SystemCall call;
  int error;
};
void PrintTo(const Failing& failing, std::ostream* out) {
  *out << failing.name;
}

class Faults : public testing::TestWithParam<std::tuple<Failing, bool>> {};

// Orders both ways for as long as the calls fail, and after: each arrives once and in turn, within
// a second of the end of the fault, and the process has not been busy meanwhile.
TEST_P(Faults, LoseNoOrderAndAreOverWithinASecond) {
  const auto& [failing, over_tcp] = GetParam();
  auto udp = UdpTransport::open(Endpoint::loopback(0));
  auto tcp = TcpTransport::listen(Endpoint::loopback(0));
  ASSERT_TRUE(udp);
  ASSERT_TRUE(tcp);
  host::ServerOptions options;
  options.key = link::KeyPair::from_secret(random_secret());
  host::Server server(**udp, host_test::kProtocol, options);
  server.listen_on(**tcp);
  host::ClientOptions who;
  who.server_key = options.key->public_key;
  std::unique_ptr<PollableTransport> transport;
  if (over_tcp) {
    auto made = TcpTransport::connect((*tcp)->local());
    ASSERT_TRUE(made);
    transport = std::move(*made);
  } else {
    auto made = UdpTransport::open(Endpoint::loopback(0));
    ASSERT_TRUE(made);
    transport = std::move(*made);
  }
  host::Client client(*transport, over_tcp ? (*tcp)->local() : (*udp)->local(),
                      host_test::kProtocol, now(), who);
  std::int32_t heard = 0;
  std::int32_t answered = 0;
  server.on<host_test::Say>([&](host::Peer peer, const host_test::Say& say) {
    EXPECT_EQ(say.number, heard++);
    EXPECT_EQ(server.send(peer, host_test::Said{1, say.number, "aye"}), Errc::none);
  });
  client.on<host_test::Said>(
      [&](const host_test::Said& said) { EXPECT_EQ(said.number, answered++); });
  const std::array<PollableTransport*, 2> doors{udp->get(), tcp->get()};
  const auto turn = [&](bool server_suffers) {
    kit::let_calls_fail(server_suffers);
    wait_for_any(doors, now() + 2ms);
    server.receive(now());
    server.flush(now());
    kit::let_calls_fail(false);
    client.receive(now());
    client.flush(now());
  };
  for (const Time until = now() + 3s; !client.connected() && now() < until;) turn(false);
  ASSERT_TRUE(client.connected());
  std::int32_t sent = 0;
  const std::uint64_t failed_before = kit::failed_calls();
  kit::fail_calls(failing.call, failing.error);
  Time next = now();
  for (const Time until = now() + 300ms; now() < until;) {
    if (now() >= next) {
      next += 20ms;
      EXPECT_EQ(client.send(host_test::Say{sent++, "ahoy"}), Errc::none);
    }
    turn(true);
  }
  kit::fail_calls(kit::SystemCall::none, 0);
  if (failing.call != kit::SystemCall::accept) {
    EXPECT_GT(kit::failed_calls(), failed_before) << "the fault was there";
  }
  for (const Time until = now() + 1s; answered < sent && now() < until;) turn(true);
  EXPECT_EQ(heard, sent);
  EXPECT_EQ(answered, sent);
  EXPECT_TRUE(client.connected());
}

constexpr std::array kFailing{
    Failing{"SendENOBUFS", kit::SystemCall::send, ENOBUFS},
    Failing{"SendEPERM", kit::SystemCall::send, EPERM},
    Failing{"SendENETDOWN", kit::SystemCall::send, ENETDOWN},
    Failing{"ReceiveENOBUFS", kit::SystemCall::receive, ENOBUFS},
    Failing{"ReceiveENOMEM", kit::SystemCall::receive, ENOMEM},
    Failing{"ReceiveENETDOWN", kit::SystemCall::receive, ENETDOWN},
    Failing{"WaitENOMEM", kit::SystemCall::wait, ENOMEM},
    Failing{"AcceptEMFILE", kit::SystemCall::accept, EMFILE},
};
INSTANTIATE_TEST_SUITE_P(OfEachCall, Faults,
                         testing::Combine(testing::ValuesIn(kFailing), testing::Bool()),
                         [](const auto& instance) {
                           return std::string(std::get<0>(instance.param).name) +
                                  (std::get<1>(instance.param) ? "OverTcp" : "OverUdp");
                         });

}  // namespace faults_test
}  // namespace kwind
