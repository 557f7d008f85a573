// A server for two tugs: what one tells it, it tells the other. Usage: first_light_server [PORT]
#include <fmt/format.h>

#include <cstdlib>

#include "first_light.h"
#include "kwind/host/server.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

using namespace std::chrono_literals;

int main(int argc, char** argv) {
  const int number = argc > 1 ? std::atoi(argv[1]) : 4000;  // NOLINT: 0 lets the system choose
  const auto address = kwind::Endpoint::loopback(static_cast<std::uint16_t>(number));
  auto transport = kwind::io::UdpTransport::open(address);
  if (!transport) {
    fmt::print(stderr, "cannot listen on {}: {}\n", address.text(),
               error_info(transport.error()).text);
    return 1;
  }
  kwind::host::ServerOptions options;
  options.capacity = 2;
  // A real server keeps its secret in a file (kwind keys), so that clients know it tomorrow too.
  options.key = kwind::link::KeyPair::from_secret(kwind::io::random_secret());
  kwind::host::Server server(**transport, first_light::kProtocol, options);

  server.on_connect([](kwind::host::Peer tug) { fmt::print("tug {} is here\n", unsigned(tug)); });
  server.on_disconnect([](kwind::host::Peer tug, kwind::Errc code, std::string_view reason) {
    fmt::print("tug {} is gone: {}\n", unsigned(tug), kwind::host::explain_end(code, reason));
  });
  server.on<first_light::Move>([&](kwind::host::Peer from, const first_light::Move& move) {
    // Who speaks is known from the connection, not from what is said.
    server.send_to_all_but(from, first_light::Moved{int(server.slot(from)), move.x, move.y});
  });

  fmt::print("listening: first_light_client {} {}\n", (*transport)->local().text(),
             kwind::link::key_text(options.key->public_key));
  std::fflush(stdout);
  for (;;) {
    server.receive(kwind::io::now());
    server.send(kwind::io::now());
    std::fflush(stdout);
    (*transport)->wait(std::min(server.next_wakeup(), kwind::io::now() + 100ms));
  }
}
