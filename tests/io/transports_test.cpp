// The same connections over TCP, IPv6, and several transports of one server, on real loopback
// sockets.
#include <arpa/inet.h>
#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <unistd.h>

#include <thread>

#include "host_test.h"
#include "kit/sim_pair.h"
#include "kit/sweep.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/capturing_transport.h"
#include "kwind/io/clock.h"
#include "kwind/io/tcp_transport.h"
#include "kwind/io/udp_transport.h"

namespace kwind::io {
namespace transports_test {

using namespace std::chrono_literals;
using namespace host_test;

std::unique_ptr<TcpTransport> listen(const TcpLimits& limits = {}) {
  auto port = TcpTransport::listen(Endpoint::loopback(0), limits);
  EXPECT_TRUE(port);
  return std::move(*port);
}

std::vector<std::byte> bytes_of(std::size_t size, int value) {
  return std::vector<std::byte>(size, static_cast<std::byte>(value));
}

// Runs `turn` until it says true; false after two seconds.
bool run_until(const std::function<bool()>& turn) {
  for (const Time end = now() + 2s; now() < end;) {
    if (turn()) return true;
    std::this_thread::sleep_for(200us);
  }
  return false;
}

TEST(TcpTransport, CarriesDatagramsBothWaysAndTellsOfTheEnd) {
  const auto server = listen();
  auto client = TcpTransport::connect(server->local());
  ASSERT_TRUE(client);
  for (std::size_t size = 1; size <= 1472; ++size) {
    (*client)->send(now(), server->local(), bytes_of(size, static_cast<int>(size % 251)));
    (*client)->flush(now());
  }
  std::size_t next = 1;
  Endpoint from;
  ASSERT_TRUE(run_until([&] {
    (*client)->flush(now());
    (void)(*client)->receive(now());
    while (const auto got = server->receive(now())) {
      EXPECT_EQ(got->bytes.size(), next);
      EXPECT_EQ(std::to_integer<std::size_t>(got->bytes.back()), next % 251);
      from = got->from;
      ++next;
    }
    return next == 1473;
  }));
  EXPECT_EQ(from, (*client)->local());
  server->send(now(), from, bytes_of(3, 9));
  server->flush(now());
  EXPECT_TRUE(run_until([&] { return (*client)->receive(now()).has_value(); }));
  client->reset();
  std::optional<Endpoint> ended;
  EXPECT_TRUE(run_until([&] {
    (void)server->receive(now());
    ended = server->take_ended();
    return ended.has_value();
  }));
  EXPECT_EQ(ended, from);
  EXPECT_EQ(server->streams(), 0U);
}

// A stream of the system's own, from a transport of its choice.
int raw_stream(const Endpoint& to, std::uint16_t from_port) {
  const int fd = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  const int on = 1;
  (void)::setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  const linger at_once{1, 0};  // close() resets
  (void)::setsockopt(fd, SOL_SOCKET, SO_LINGER, &at_once, sizeof at_once);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  address.sin_port = htons(from_port);
  if (::bind(fd, reinterpret_cast<const sockaddr*>(&address), sizeof address) != 0) return -1;
  address.sin_port = htons(to.port);
  if (::connect(fd, reinterpret_cast<const sockaddr*>(&address), sizeof address) != 0) return -1;
  return fd;
}

// The second stream comes from the same address before the end of the first was seen: it is the
// one that counts, and nothing of the first is left behind.
TEST(TcpTransport, AStreamThatBrokeAndCameBackFromItsPortReplacesItself) {
  const auto server = listen();
  int fd = raw_stream(server->local(), 0);
  ASSERT_GE(fd, 0);
  sockaddr_in own{};
  socklen_t size = sizeof own;
  ASSERT_EQ(::getsockname(fd, reinterpret_cast<sockaddr*>(&own), &size), 0);
  const std::uint16_t port = ntohs(own.sin_port);
  for (int i = 0; i < 20 && !server->receive(now()) && server->streams() == 0; ++i) {
    server->wait(now() + 50ms);
  }
  ASSERT_EQ(server->streams(), 1U);
  ::close(fd);
  fd = raw_stream(server->local(), port);
  ASSERT_GE(fd, 0);
  const std::array<std::byte, 3> datagram{std::byte{1}, std::byte{0}, std::byte{42}};
  ASSERT_EQ(::send(fd, datagram.data(), datagram.size(), 0), 3);
  std::optional<ReceivedDatagram> got;
  for (int i = 0; i < 40 && !got; ++i) {
    server->wait(now() + 50ms);
    got = server->receive(now());
  }
  ASSERT_TRUE(got);
  EXPECT_EQ(got->bytes[0], std::byte{42});
  EXPECT_EQ(server->streams(), 1U);
  EXPECT_TRUE(server->take_ended()) << "the first has ended";
  EXPECT_FALSE(server->receive(now()));
  // A descriptor that is left behind would keep this from waiting.
  const Time before = now();
  server->wait(before + 100ms);
  EXPECT_GE(now() - before, 80ms);
  ::close(fd);
}

TEST(TcpTransport, TellsWhenNobodyListens) {
  Endpoint nobody;
  { nobody = listen()->local(); }
  auto client = TcpTransport::connect(nobody);
  ASSERT_TRUE(client);
  EXPECT_TRUE(run_until([&] {
    (void)(*client)->receive(now());
    return (*client)->take_ended().has_value();
  }));
}

TEST(TcpTransport, EndsStreamsThatBreakItsLimits) {
  const auto server = listen({.streams = 6, .handshake = 300ms});
  const auto talk = [&](std::span<const std::byte> raw) {
    // Bytes that TcpTransport itself would never send.
    auto socket = TcpTransport::connect(server->local(), {.datagram_bytes = 60000});
    EXPECT_TRUE(socket);
    (*socket)->send(now(), server->local(), raw);
    (*socket)->flush(now());
    return std::move(*socket);
  };
  const auto wrong = talk(bytes_of(2000, 1));  // longer than this transport takes
  EXPECT_TRUE(run_until([&] {
    wrong->flush(now());
    (void)server->receive(now());
    return server->tcp_counts().bad_streams == 1;
  }));
  EXPECT_TRUE(run_until([&] {
    (void)wrong->receive(now());
    return wrong->take_ended().has_value();
  }));

  std::vector<std::unique_ptr<TcpTransport>> many;
  for (int i = 0; i < 5; ++i) many.push_back(talk(bytes_of(4, 2)));
  EXPECT_TRUE(run_until([&] {
    for (const auto& each : many) each->flush(now());
    while (server->receive(now())) {
    }
    return server->tcp_counts().turned_away == 2;
  }));
  EXPECT_EQ(server->streams(), 3U) << "strangers have half of the places";
  EXPECT_TRUE(run_until([&] {
    for (const auto& each : many) {  // they go on talking, which changes nothing
      each->send(now(), server->local(), bytes_of(3, 2));
      each->flush(now());
    }
    (void)server->receive(now());
    return server->tcp_counts().strangers == 3;
  })) << "a second after they came";
  EXPECT_EQ(server->streams(), 0U);
}

// Thousands of streams that come, or whose time is over, at once: each look takes some of them, so
// that no call takes long, and the wait that follows returns at once.
TEST(TcpTransport, ManyStreamsComeAndEndSomeAtATime) {
  constexpr std::size_t kMany = 300;
  constexpr std::size_t kPerCall = 64;
  const auto server = listen({.streams = 1000, .streams_per_address = 1000, .handshake = 300ms});
  std::vector<std::unique_ptr<TcpTransport>> many;
  for (std::size_t i = 0; i < kMany; ++i) {
    auto client = TcpTransport::connect(server->local());
    ASSERT_TRUE(client);
    many.push_back(std::move(*client));
  }
  std::size_t before = 0;
  ASSERT_TRUE(run_until([&] {
    (void)server->receive(now());
    EXPECT_LE(server->streams() - before, kPerCall);
    before = server->streams();
    return before == kMany;
  }));
  std::size_t calls = 0;
  ASSERT_TRUE(run_until([&] {
    const Time begun = now();
    server->wait(begun + (calls == 0 ? 5ms : 1s));
    EXPECT_LT(now() - begun, 500ms) << "more streams are to be ended";
    (void)server->receive(now());
    EXPECT_LE(before - server->streams(), kPerCall);
    if (server->streams() < before) ++calls;
    before = server->streams();
    return before == 0;
  }));
  EXPECT_GE(calls, kMany / kPerCall);
  EXPECT_EQ(server->tcp_counts().strangers, kMany);
}

// Strangers have half of the places; streams of connections are none.
TEST(TcpTransport, StreamsThatAreKeptLeaveTheirPlaceToStrangers) {
  const auto server = listen({.streams = 4});
  std::vector<std::unique_ptr<TcpTransport>> clients;
  for (std::size_t i = 1; i <= 4; ++i) {
    auto client = TcpTransport::connect(server->local());
    ASSERT_TRUE(client);
    clients.push_back(std::move(*client));
    std::optional<ReceivedDatagram> received;
    ASSERT_TRUE(run_until([&] {
      clients.back()->send(now(), server->local(), bytes_of(4, 2));
      clients.back()->flush(now());
      received = server->receive(now());
      return server->streams() == i && received.has_value();
    })) << "stream "
        << i;
    server->keep(received->from);
    while (server->receive(now())) {
    }
  }
  EXPECT_EQ(server->tcp_counts().turned_away, 0U);
}

TEST(TcpTransport, AStreamThatIsKeptLastsUntilItIsEnded) {
  const auto server = listen({.streams = 2, .handshake = 100ms});
  const auto kept = TcpTransport::connect(server->local());
  ASSERT_TRUE(kept);
  Endpoint peer;
  ASSERT_TRUE(run_until([&] {
    (*kept)->send(now(), server->local(), bytes_of(4, 2));
    (*kept)->flush(now());
    const auto received = server->receive(now());
    if (received) peer = received->from;
    return received.has_value();
  }));
  server->keep(peer);
  const Time silent_until = now() + 1200ms;  // longer than a stranger has
  while (now() < silent_until) {
    while (server->receive(now())) {
    }
    std::this_thread::sleep_for(5ms);
  }
  EXPECT_EQ(server->streams(), 1U);
  server->send(now(), peer, bytes_of(5, 7));
  server->end(peer);
  EXPECT_EQ(server->streams(), 1U) << "until flush()";
  server->flush(now());
  EXPECT_EQ(server->streams(), 0U);
  std::size_t heard = 0;
  EXPECT_TRUE(run_until([&] {
    while (const auto received = (*kept)->receive(now())) heard += received->bytes.size();
    return (*kept)->take_ended().has_value();
  }));
  EXPECT_EQ(heard, 5U) << "what waited for it arrived";
}

// In a process of its own: descriptors are the whole process's. A stream of the smallest datagrams
// takes thousands of them out of one read; others have their turns meanwhile, also those whose
// datagrams come only now.
TEST(TcpTransport, StreamsTakeTurns) {
  const auto server = listen();
  auto flood = TcpTransport::connect(server->local());
  auto honest = TcpTransport::connect(server->local());
  ASSERT_TRUE(flood && honest);
  constexpr std::size_t kFlood = 5000;
  const auto small = bytes_of(1, 1);
  const auto good = bytes_of(50, 2);
  ASSERT_TRUE(run_until([&] {  // both are there
    (*flood)->flush(now());
    (*honest)->flush(now());
    (void)server->receive(now());
    return server->streams() == 2;
  }));
  for (std::size_t i = 0; i < kFlood; ++i) (*flood)->send(now(), server->local(), small);
  (*flood)->flush(now());
  std::size_t first = 0;
  ASSERT_TRUE(run_until([&] { return server->receive(now()).has_value(); }));
  (*honest)->send(now(), server->local(), good);
  (*honest)->flush(now());
  std::this_thread::sleep_for(20ms);  // until it is at the server's socket
  std::size_t received = 1;
  while (const auto got = server->receive(now())) {
    ++received;
    if (got->bytes.size() == good.size() && first == 0) first = received;
  }
  EXPECT_GT(first, 0U);
  EXPECT_LT(first, 300U) << "of " << received;
  EXPECT_GT(received, kFlood / 2) << "or it shows nothing";
}

// A received datagram stays readable although the answer to it ends the stream.
TEST(TcpTransport, AnswersThatASlowStreamDoesNotTakeEndItAtTheFlush) {
  TcpLimits limits;
  limits.unsent_to_strangers = 64;
  const auto server = listen(limits);
  auto client = TcpTransport::connect(server->local(), limits);
  ASSERT_TRUE(client);
  const auto asked = bytes_of(40, 7);
  (*client)->send(now(), server->local(), asked);
  std::optional<ReceivedDatagram> got;
  ASSERT_TRUE(run_until([&] {
    (*client)->flush(now());
    got = server->receive(now());
    return got.has_value();
  }));
  for (int i = 0; i < 3; ++i) server->send(now(), got->from, bytes_of(60, 8));
  EXPECT_EQ(std::vector<std::byte>(got->bytes.begin(), got->bytes.end()), asked);
  EXPECT_EQ(server->streams(), 1U);
  EXPECT_EQ(server->tcp_counts().too_slow, 1U) << "counted once";
  server->flush(now());
  EXPECT_EQ(server->streams(), 0U);
  EXPECT_EQ(server->take_ended(), got->from);
}

TEST(TcpTransport, PausesWhileTheSystemIsOutOfDescriptors) {
  // The sanitizers' own checks need descriptors.
  if (kit::kSanitized) GTEST_SKIP();
  const auto starve = [] {
    const auto server = listen();
    const auto waiting = TcpTransport::connect(server->local());
    if (!waiting) std::_Exit(2);
    std::vector<int> taken;
    rlimit limit{};
    ::getrlimit(RLIMIT_NOFILE, &limit);
    limit.rlim_cur = 64;
    ::setrlimit(RLIMIT_NOFILE, &limit);
    for (int fd = ::dup(0); fd >= 0; fd = ::dup(0)) taken.push_back(fd);
    std::size_t loops = 0;
    for (const Time end = now() + 1500ms; now() < end; ++loops) {
      (void)server->receive(now());
      server->wait(std::min(server->next_wakeup(), end));
    }
    if (server->tcp_counts().pauses < 1 || server->tcp_counts().pauses > 2) std::_Exit(3);
    if (loops > 50) std::_Exit(4);  // hundreds of thousands without a pause
    for (const int fd : taken) ::close(fd);
    const bool taken_in = run_until([&] {
      (void)server->receive(now());
      return server->streams() == 1;
    });
    std::_Exit(taken_in ? 0 : 5);
  };
  EXPECT_EXIT(starve(), testing::ExitedWithCode(0), "");
}

TEST(TcpTransport, APeerThatStopsReadingCostsItselfOnly) {
  const auto server = listen({.unsent_bytes = 65536});
  auto slow = TcpTransport::connect(server->local());
  auto quick = TcpTransport::connect(server->local());
  ASSERT_TRUE(slow && quick);
  std::vector<Endpoint> peers;
  for (const auto& client : {slow->get(), quick->get()}) {
    client->send(now(), server->local(), bytes_of(1, 1));
    ASSERT_TRUE(run_until([&] {
      client->flush(now());
      const auto got = server->receive(now());
      if (got) {
        peers.push_back(got->from);
        server->keep(got->from);
      }
      return got.has_value();
    }));
  }
  std::size_t heard = 0;
  for (int i = 0; i < 20000 && server->tcp_counts().too_slow == 0; ++i) {
    for (const Endpoint& peer : peers) server->send(now(), peer, bytes_of(1200, i));
    server->flush(now());
    (void)server->receive(now());
    while ((*quick)->receive(now())) ++heard;
  }
  EXPECT_EQ(server->tcp_counts().too_slow, 1U);
  EXPECT_EQ(server->streams(), 1U);
  EXPECT_EQ(server->take_ended(), peers[0]);
  EXPECT_GT(heard, 50U);
}

// ---- server and clients over them ----

// One server and a client that says a word to it, whatever carries them.
class Talk {
 public:
  explicit Talk(Transport& port) : server_(port, kProtocol, server_options()) {
    server_.on<Say>([this](host::Peer from, const Say& say) {
      heard_.push_back(say.number);
      (void)server_.send(from, Said{int(from), say.number, say.words});
    });
    server_.on_disconnect([this](host::Peer, Errc code, std::string_view) { left_ = code; });
  }
  host::Server& server() { return server_; }
  [[nodiscard]] const std::vector<std::int32_t>& heard() const { return heard_; }
  [[nodiscard]] Errc left() const { return left_; }

  static host::ClientOptions client_options() {
    host::ClientOptions options;
    options.server_key = kit::server_key().public_key;
    return options;
  }
  // Says `number` until its echo is there.
  bool exchange(host::Client& client, std::int32_t number) {
    // Handlers stay: each holds what it writes to.
    const auto echo = std::make_shared<std::int32_t>(-1);
    client.on<Said>([echo](const Said& said) { *echo = said.number; });
    bool asked = false;
    const bool done = run_until([&] {
      server_.receive(now());
      client.receive(now());
      if (client.connected() && !asked) {
        asked = client.send(Say{number, {}}) == Errc::none;
      }
      server_.flush(now());
      client.flush(now());
      return *echo == number;
    });
    return done;
  }

 private:
  static host::ServerOptions server_options() {
    host::ServerOptions options;
    options.key = kit::server_key();
    return options;
  }
  host::Server server_;
  std::vector<std::int32_t> heard_;
  Errc left_ = Errc::none;
};

TEST(TransportKinds, OneServerOverUdpAndTcpAtOnce) {
  auto udp = UdpTransport::open(Endpoint::loopback(0));
  const auto tcp = listen();
  Talk talk(**udp);
  talk.server().listen_on(*tcp);
  auto udp_end = UdpTransport::open(Endpoint::loopback(0));
  auto tcp_end = TcpTransport::connect(tcp->local());
  host::Client a(**udp_end, (*udp)->local(), kProtocol, now(), Talk::client_options());
  host::Client b(**tcp_end, tcp->local(), kProtocol, now(), Talk::client_options());
  EXPECT_TRUE(talk.exchange(a, 1));
  EXPECT_TRUE(talk.exchange(b, 2));
  EXPECT_TRUE(talk.exchange(a, 3));
  EXPECT_EQ(talk.heard(), (std::vector<std::int32_t>{1, 2, 3}));
  EXPECT_EQ(talk.server().peers().size(), 2U);
  EXPECT_NE(b.protection(), "plaintext") << "a stream is sealed as well";
  tcp_end->reset();  // the client's process ends
  EXPECT_TRUE(run_until([&] {
    talk.server().receive(now());
    talk.server().flush(now());
    return talk.left() == Errc::transport_ended;
  })) << "at once, not after a silence";
}

TEST(TransportKinds, AClientHearsThatItsStreamEnded) {
  auto tcp = listen();
  Talk talk(*tcp);
  auto end = TcpTransport::connect(tcp->local());
  host::Client client(**end, tcp->local(), kProtocol, now(), Talk::client_options());
  Errc why = Errc::none;
  client.on_disconnect([&](Errc code, std::string_view) { why = code; });
  ASSERT_TRUE(talk.exchange(client, 1));
  tcp->end(*talk.server().address(talk.server().peers().front()));
  EXPECT_TRUE(run_until([&] {
    talk.server().receive(now());
    talk.server().flush(now());
    client.receive(now());
    client.flush(now());
    return why != Errc::none && talk.left() != Errc::none;
  }));
  EXPECT_EQ(why, Errc::transport_ended);
  EXPECT_EQ(talk.left(), Errc::transport_ended);
}

TEST(TransportKinds, Ipv6AndIpv4ReachOneDualStackPort) {
  auto port = UdpTransport::open(Endpoint::any(0));
  ASSERT_TRUE(port);
  const std::uint16_t number = (*port)->local().port;
  const auto v6 = Endpoint::parse("[::1]:" + std::to_string(number));
  ASSERT_TRUE(v6);
  auto end4 = UdpTransport::open(Endpoint::loopback(0));
  auto end6 = UdpTransport::open(*Endpoint::parse("[::1]:0"));
  if (!end6) GTEST_SKIP() << "this machine has no IPv6";
  Talk talk(**port);
  host::Client a(**end4, Endpoint::loopback(number), kProtocol, now(), Talk::client_options());
  host::Client b(**end6, *v6, kProtocol, now(), Talk::client_options());
  EXPECT_TRUE(talk.exchange(a, 4));
  EXPECT_TRUE(talk.exchange(b, 6));
  EXPECT_FALSE((*end6)->local().is_v4());
}

TEST(TransportKinds, TcpTakesIpv6Too) {
  auto tcp = TcpTransport::listen(*Endpoint::parse("[::1]:0"));
  if (!tcp) GTEST_SKIP() << "this machine has no IPv6";
  Talk talk(**tcp);
  auto end = TcpTransport::connect((*tcp)->local());
  ASSERT_TRUE(end);
  host::Client client(**end, (*tcp)->local(), kProtocol, now(), Talk::client_options());
  EXPECT_TRUE(talk.exchange(client, 5));
}

TEST(TransportKinds, AWatchedPortShowsWhatPassesBothWays) {
  std::vector<std::pair<Endpoint, Endpoint>> seen;
  auto inner = UdpTransport::open(Endpoint::loopback(0));
  const Endpoint here = (*inner)->local();
  CapturingTransport watched(std::move(*inner), [&](Time, const Endpoint& from, const Endpoint& to,
                                                    std::span<const std::byte> datagram) {
    EXPECT_FALSE(datagram.empty());
    seen.emplace_back(from, to);
  });
  Talk talk(watched);
  auto end = UdpTransport::open(Endpoint::loopback(0));
  host::Client client(**end, here, kProtocol, now(), Talk::client_options());
  ASSERT_TRUE(talk.exchange(client, 1));
  const Endpoint there = (*end)->local();
  EXPECT_EQ(seen.size(), watched.counts().datagrams_sent + watched.counts().datagrams_received);
  EXPECT_EQ(seen.front(), std::pair(there, here));
  EXPECT_EQ(seen[1], std::pair(here, there));
}

TEST(TransportKinds, AWatchedStreamLastsAsLongAsItsConnection) {
  auto inner = listen({.handshake = 100ms});
  const Endpoint here = inner->local();
  CapturingTransport watched(
      std::move(inner), [](Time, const Endpoint&, const Endpoint&, std::span<const std::byte>) {});
  Talk talk(watched);
  auto end = TcpTransport::connect(here);
  host::Client client(**end, here, kProtocol, now(), Talk::client_options());
  ASSERT_TRUE(talk.exchange(client, 1));
  for (const Time until = now() + 1300ms; now() < until;) {  // a stranger's would have ended
    talk.server().receive(now());
    talk.server().flush(now());
    client.receive(now());
    client.flush(now());
    std::this_thread::sleep_for(5ms);
  }
  EXPECT_TRUE(client.connected());
}

TEST(UdpTransport, SendsRunsToOnePeerInOnePiece) {
  auto a = UdpTransport::open(Endpoint::loopback(0));
  auto b = UdpTransport::open(Endpoint::loopback(0));
  for (int i = 0; i < 20; ++i) {
    (*a)->send(now(), (*b)->local(), bytes_of(i < 19 ? 1000 : 300, i));
  }
  (*a)->flush(now());
  int got = 0;
  EXPECT_TRUE(run_until([&] {
    while (const auto datagram = (*b)->receive(now())) {
      EXPECT_EQ(datagram->bytes.size(), got < 19 ? 1000U : 300U);
      EXPECT_EQ(std::to_integer<int>(datagram->bytes.front()), got);
      ++got;
    }
    return got == 20;
  }));
  EXPECT_EQ((*a)->counts().segmented, 20U) << "loopback knows segmentation offload";
}

}  // namespace transports_test
}  // namespace kwind::io
