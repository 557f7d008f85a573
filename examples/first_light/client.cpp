// A tug that sails along for a while and tells what it sees.
// Usage: first_light_client [HOST:PORT [SECONDS]]
#include <fmt/format.h>

#include <cstdlib>

#include "first_light.h"
#include "kwind/host/client.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_port.h"

using namespace std::chrono_literals;

int main(int argc, char** argv) {
  const char* const address = argc > 1 ? argv[1] : "127.0.0.1:4000";
  const auto server = kwind::io::resolve(address);
  if (!server || !server->is_loopback()) {
    fmt::print(stderr, "{}: not HOST:PORT of this machine; clear mode stays on loopback\n",
               address);
    return 1;
  }
  auto port = kwind::io::UdpPort::open(kwind::Endpoint::loopback(0));
  if (!port) return 1;
  const kwind::Time start = kwind::io::now();
  kwind::host::Client client(**port, *server, first_light::kProtocol, start);

  bool failed = false;
  client.on_connect([] { fmt::print("connected, CLEAR mode\n"); });
  client.on_disconnect([&](kwind::Errc code, std::string_view reason) {
    failed = code != kwind::Errc::closed_here;
    if (failed) fmt::print(stderr, "{}: {}\n", address, kwind::host::explain_end(code, reason));
  });
  client.on<first_light::Moved>([](const first_light::Moved& seen) {
    fmt::print("tug {} is at {:.2f}, {:.2f}\n", seen.tug, seen.x, seen.y);
  });

  const auto seconds = std::chrono::seconds(argc > 2 ? std::atoi(argv[2]) : 5);  // NOLINT
  kwind::host::TickClock ticks(10, start);
  while (!client.ended()) {
    const kwind::Time now = kwind::io::now();
    client.receive(now);
    for (unsigned due = ticks.due(now); due > 0 && client.connected(); --due) {
      client.send(first_light::Move{.x = 10 + 0.5 * double(ticks.ticks()), .y = 20});
    }
    if (now >= start + seconds && client.connected()) client.close("the tour is over");
    client.send(now);
    (*port)->wait(std::min(client.next_wakeup(), ticks.next()));
  }
  return failed ? 1 : 0;
}
