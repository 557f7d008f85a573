// A pilot who steers a slow circle and tells where the tug is.
// Usage: harbour_pilot HOST:PORT NAME [SECONDS]
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "harbour.h"
#include "kwind/host/client.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

using namespace std::chrono_literals;

int main(int argc, char** argv) {
  if (argc < 3) {
    fmt::print(stderr, "usage: harbour_pilot HOST:PORT NAME [SECONDS]\n");
    return 2;
  }
  const auto server = kwind::io::resolve(argv[1]);
  auto transport = kwind::io::UdpTransport::open(kwind::Endpoint::loopback(0));
  if (!server || !transport) {
    fmt::print(stderr, "{}: not HOST:PORT\n", argv[1]);
    return 1;
  }
  const kwind::Time start = kwind::io::now();
  kwind::host::ClientOptions options;
  options.plaintext = kwind::host::Plaintext::loopback_only;
  options.timeouts.idle_timeout = 2s;
  kwind::host::Client client(**transport, *server, harbour::kProtocol, start, options);
  bool failed = false;
  // A message that cannot be sent is said, not silently dropped.
  const auto report = [](kwind::Errc sent) {
    if (sent != kwind::Errc::none) fmt::print(stderr, "not sent: {}\n", error_info(sent).text);
  };
  client.on_connect([&] { report(client.send(harbour::Enter{argv[2], harbour::Cargo::salt})); });
  client.on_disconnect([&](kwind::Errc code, std::string_view reason) {
    failed = code != kwind::Errc::closed_here;
    if (failed) fmt::print(stderr, "{}: {}\n", argv[1], kwind::host::explain_end(code, reason));
  });
  std::int32_t number = 0;  // of this pilot's tug; 0: not known yet
  client.on<harbour::Arrival>([&](const harbour::Arrival& arrival) {
    if (arrival.name == argv[2]) number = arrival.tug;
  });
  harbour::Fleet seen;
  client.on<harbour::Fleet>([&](const harbour::Fleet& fleet) { seen = fleet; });

  const auto seconds = std::chrono::seconds(argc > 3 ? std::atoi(argv[3]) : 5);  // NOLINT
  // Steers twenty times a second, and prints twice.
  kwind::host::TickClock ticks(20, start);
  kwind::host::TickClock tells(2, start);
  while (!client.ended()) {
    const kwind::Time now = kwind::io::now();
    client.receive(now);
    for (unsigned due = ticks.due(now); due > 0 && client.connected(); --due) {
      report(client.send(harbour::Helm{.rudder = 0.1, .throttle = 80}));
    }
    const auto mine = std::find_if(seen.tugs.begin(), seen.tugs.end(),
                                   [&](const harbour::Tug& tug) { return tug.number == number; });
    if (tells.due(now) > 0 && mine != seen.tugs.end()) {
      fmt::print("{} is at {:.1f}, {:.1f}\n", argv[2], mine->x, mine->y);
      std::fflush(stdout);
    }
    if (now >= start + seconds && client.connected()) client.close("in port");
    client.flush(now);
    (*transport)->wait(std::min(client.next_wakeup(), ticks.next()));
  }
  return failed ? 1 : 0;
}
