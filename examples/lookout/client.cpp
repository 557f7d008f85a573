// A lookout: prints what comes into view and what leaves it, and the bytes of state once a second.
// Usage: lookout_client HOST:PORT KEY [X Y [SECONDS]]; the server prints the first two.
#include <fmt/format.h>

#include <cstdlib>

#include "kwind/io/clock.h"
#include "kwind/kwind.h"
#include "lookout.h"

using namespace std::chrono_literals;

int main(int argc, char** argv) {
  if (argc < 3 || argc == 4) {
    fmt::print(stderr, "usage: lookout_client HOST:PORT KEY [X Y [SECONDS]]\n");
    return 2;
  }
  auto client = kwind::Client::open(lookout::kProtocol, {.server = argv[1], .server_key = argv[2]});
  if (!client) {
    fmt::print(stderr, "{}\n", client.error().text);
    return 1;
  }
  // Handlers run in step(): an entity is there from on_spawn to on_despawn.
  kwind::ReplicatedWorld world(**client, lookout::kEntities);
  world.on_spawn<lookout::Gull>([&](auto ref, const lookout::Gull& gull) {
    fmt::print("tick {}: gull {} comes into view at {:.1f}, {:.1f}\n", world.tick(), ref.id,
               gull.at[0], gull.at[1]);
  });
  world.on_despawn<lookout::Gull>(
      [&](auto ref) { fmt::print("tick {}: gull {} is gone\n", world.tick(), ref.id); });
  world.on_spawn<lookout::Crate>([&](auto ref, const lookout::Crate&) {
    fmt::print("tick {}: crate {} comes into view\n", world.tick(), ref.id);
  });
  world.on_despawn<lookout::Crate>(
      [&](auto ref) { fmt::print("tick {}: crate {} is gone\n", world.tick(), ref.id); });

  // Each new connection, also one after a break, tells the server anew where the lookout stands.
  bool failed = false;
  lookout::StandAt place;
  if (argc > 4) place.at = {std::atof(argv[3]), std::atof(argv[4])};  // NOLINT: 0 will do
  (*client)->on_state([&](kwind::ConnectionState state, kwind::Errc code, std::string_view reason) {
    if (state == kwind::ConnectionState::connected && (*client)->send(place) != kwind::Errc::none) {
      (*client)->close("the order to stand was not sent");
    }
    if (code == kwind::Errc::none || code == kwind::Errc::closed_here) return;
    fmt::print(stderr, "{}: {}\n", argv[1], kwind::host::explain_end(code, reason));
    failed = state == kwind::ConnectionState::closed;
  });

  const kwind::Time start = kwind::io::now();
  const auto seconds = std::chrono::seconds(argc > 5 ? std::atoi(argv[5]) : 10);  // NOLINT
  kwind::Time next_report = start + 1s;
  std::uint64_t bits_before = 0;
  while ((*client)->connection_state() != kwind::ConnectionState::closed) {
    const kwind::Time now = kwind::io::now();
    (*client)->step(now);
    if (now >= next_report) {
      next_report += 1s;
      const std::uint64_t bits = world.bits_received();
      fmt::print(
          "tick {}: {} entities in view, {:.1f} bytes of state per tick in the last second\n",
          world.tick(), world.size(), static_cast<double>(bits - bits_before) / 8 / 20);
      bits_before = bits;
    }
    if (now >= start + seconds) (*client)->close("enough seen");
    (*client)->wait(50ms);
  }
  return failed ? 1 : 0;
}
