// A tug that sails along for a while and tells what it sees.
// Usage: first_light_client HOST:PORT KEY [SECONDS]; the server prints the first two.
#include <fmt/format.h>

#include <cstdlib>

#include "first_light.h"
#include "kwind/host/client.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

using namespace std::chrono_literals;

int main(int argc, char** argv) {
  if (argc < 3) {
    fmt::print(stderr, "usage: first_light_client HOST:PORT KEY [SECONDS]\n");
    return 2;
  }
  const char* const address = argv[1];
  const auto server = kwind::io::resolve(address);
  const auto key = kwind::link::parse_public_key(argv[2]);
  if (!server) fmt::print(stderr, "{}: not HOST:PORT\n", address);
  if (!key) fmt::print(stderr, "{}: {}\n", argv[2], error_info(key.error()).text);
  if (!server || !key) return 1;
  auto transport = kwind::io::UdpTransport::open(kwind::Endpoint::any(0));
  if (!transport) return 1;
  const kwind::Time start = kwind::io::now();
  kwind::host::ClientOptions options;
  options.server_key = *key;
  kwind::host::Client client(**transport, *server, first_light::kProtocol, start, options);

  bool failed = false;
  client.on_connect([&] { fmt::print("connected, sealed with {}\n", client.protection()); });
  client.on_disconnect([&](kwind::Errc code, std::string_view reason) {
    failed = code != kwind::Errc::closed_here;
    if (failed) fmt::print(stderr, "{}: {}\n", address, kwind::host::explain_end(code, reason));
  });
  client.on<first_light::Moved>([](const first_light::Moved& seen) {
    fmt::print("tug {} is at {:.2f}, {:.2f}\n", seen.tug, seen.x, seen.y);
  });

  const auto seconds = std::chrono::seconds(argc > 3 ? std::atoi(argv[3]) : 5);  // NOLINT
  kwind::host::TickClock ticks(10, start);
  while (!client.ended()) {
    const kwind::Time now = kwind::io::now();
    client.receive(now);
    for (unsigned due = ticks.due(now); due > 0 && client.connected(); --due) {
      const first_light::Move move{.x = 10 + 0.5 * double(ticks.ticks()), .y = 20};
      const kwind::Errc sent = client.send(move);
      if (sent != kwind::Errc::none) fmt::print(stderr, "not sent: {}\n", error_info(sent).text);
    }
    if (now >= start + seconds && client.connected()) client.close("the tour is over");
    client.send(now);
    (*transport)->wait(std::min(client.next_wakeup(), ticks.next()));
  }
  return failed ? 1 : 0;
}
