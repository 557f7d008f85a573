// A tug that sails for a while and prints where the other tug is.
// Usage: first_light_client HOST:PORT KEY [SECONDS]; the server prints the first two.
#include <fmt/format.h>

#include <cstdlib>

#include "first_light.h"
#include "kwind/io/clock.h"
#include "kwind/kwind.h"

using namespace std::chrono_literals;

int main(int argc, char** argv) {
  if (argc < 3) {
    fmt::print(stderr, "usage: first_light_client HOST:PORT KEY [SECONDS]\n");
    return 2;
  }
  auto opened = kwind::Client::open(first_light::kProtocol,
                                    {.server = argv[1], .server_key = argv[2], .reconnect = false});
  if (!opened) {
    fmt::print(stderr, "{}\n", opened.error().text);
    return 1;
  }
  kwind::Client& client = **opened;
  client.on_connect([&] { fmt::print("connected, encrypted with {}\n", client.protection()); });
  client.on_disconnect([&](kwind::Errc code, std::string_view reason) {
    if (code == kwind::Errc::closed_here) return;
    fmt::print(stderr, "{}: {}\n", argv[1], kwind::host::explain_end(code, reason));
    std::exit(1);
  });
  client.on<first_light::Moved>([](const first_light::Moved& moved) {
    fmt::print("tug {} is at {:.2f}, {:.2f}\n", moved.tug, moved.x, moved.y);
  });

  // Sends where the tug is ten times a second, until the time is over.
  const kwind::Time start = kwind::io::now();
  const auto seconds = std::chrono::seconds(argc > 3 ? std::atoi(argv[3]) : 5);  // NOLINT
  kwind::host::TickClock ticks(10, start);
  while (!client.ended()) {
    const kwind::Time now = kwind::io::now();
    for (unsigned due = ticks.due(now); due > 0 && client.connected(); --due) {
      const first_light::Move move{.x = 10 + 0.5 * double(ticks.ticks()), .y = 20};
      const kwind::Errc sent = client.send(move);
      if (sent != kwind::Errc::none) fmt::print(stderr, "not sent: {}\n", error_info(sent).text);
    }
    if (now >= start + seconds && client.connected()) client.close("the tour is over");
    client.step(now);
    client.wait(20ms);
  }
}
