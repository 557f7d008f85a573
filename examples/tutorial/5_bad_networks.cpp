// Step 5, bad networks: loss, a client that sleeps and resumes, and a network without UDP.
#include <fmt/format.h>

#include "ferry.h"
#include "kwind/io/clock.h"
#include "kwind/io/impaired_transport.h"
#include "kwind/io/udp_transport.h"
#include "kwind/kwind.h"

using namespace std::chrono_literals;

// One datagram in ten is lost, each way.
kwind::Result<std::unique_ptr<kwind::io::PollableTransport>> bad_path(
    const kwind::Endpoint& server) {
  auto socket = kwind::io::UdpTransport::open(kwind::io::local_for(server));
  if (!socket) return tl::unexpected(socket.error());
  const kwind::io::sim::Conditions path{.delay = 20ms, .jitter = 10ms, .loss = 0.1};
  return std::make_unique<kwind::io::ImpairedTransport>(std::move(*socket), path, path, 7);
}

// Lets both ends go on until `done`, for five seconds at most.
bool play(kwind::Server& server, kwind::Client& client, const std::function<bool()>& done) {
  for (const kwind::Time end = kwind::io::now() + 5s; !done() && kwind::io::now() < end;) {
    server.step(kwind::io::now());
    client.step(kwind::io::now());
    server.wait(5ms);
  }
  return done();
}

int main() {
  kwind::ServerOptions options{.listen = {"127.0.0.1:0", "tcp:127.0.0.1:0"}};
  options.host.resume = 30s;
  options.host.timeouts.idle_timeout = 1s;
  auto opened = kwind::Server::open(ferry::kProtocol, options);
  if (!opened) {
    fmt::print(stderr, "{}\n", opened.error().text);
    return 1;
  }
  kwind::Server& server = **opened;
  std::vector<std::string> hails;
  server.on<ferry::Hail>(
      [&](kwind::Peer, const ferry::Hail& hail) { hails.push_back(hail.words); });
  bool is_back = false;
  server.on_resume([&](kwind::Peer) { is_back = true; });

  // Loss: an ordered channel loses nothing and keeps the order.
  kwind::ClientOptions bad{.server = server.address().text(),
                           .server_key = server.public_key(),
                           .open_transport = bad_path};
  bad.host.timeouts.idle_timeout = 1s;
  auto client = kwind::Client::open(ferry::kProtocol, bad);
  if (!client || !play(server, **client, [&] { return (*client)->connected(); })) return 1;
  for (int i = 0; i < 10; ++i) {
    if ((*client)->send(ferry::Hail{fmt::format("wave {}", i)}) != kwind::Errc::none) break;
    play(server, **client, [until = kwind::io::now() + 250ms] { return kwind::io::now() > until; });
  }
  play(server, **client, [&] { return hails.size() == 10; });
  bool in_turn = hails.size() == 10;
  for (std::size_t i = 0; i < hails.size(); ++i)
    in_turn = in_turn && hails[i] == fmt::format("wave {}", i);
  fmt::print("10 hails over a path that loses one datagram in ten: {}\n",
             in_turn ? "all arrived, in turn" : "something is missing");

  // Sleep: the client stands still until its connection has ended, and resumes as the same peer.
  (*client)->on_state([](kwind::ConnectionState state, kwind::Errc, std::string_view) {
    if (state == kwind::ConnectionState::resuming) fmt::print("the connection broke; resuming\n");
  });
  for (const kwind::Time end = kwind::io::now() + 2s; kwind::io::now() < end;) {
    server.step(kwind::io::now());
    server.wait(20ms);
  }
  // The client finds out with its next step, and connects again.
  const bool resumed = play(server, **client, [&] { return is_back && (*client)->resumed(); });
  if (resumed) fmt::print("the passenger is back, as the same peer\n");

  // No UDP: nothing answers on that port, and the client goes on over TCP.
  auto blocked = kwind::Client::open(
      ferry::kProtocol,
      {.server = server.address(1).text(),
       .server_key = server.public_key(),
       .transports = {kwind::link::TransportKind::datagrams, kwind::link::TransportKind::stream},
       .next_transport_after = 300ms});
  if (!blocked || !play(server, **blocked, [&] { return (*blocked)->connected(); })) return 1;
  const bool over_tcp = (*blocked)->transport_kind() == kwind::link::TransportKind::stream;
  fmt::print("without UDP: connected over {}\n", over_tcp ? "TCP" : "UDP");
  return in_turn && resumed && over_tcp ? 0 : 1;
}
