// A lookout who says what comes into view and goes, and once a second what that costs.
// Usage: lookout_client HOST:PORT KEY [X Y [SECONDS]]; the server prints the first two.
#include <fmt/format.h>

#include <cstdlib>

#include "kwind/host/client.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/inputs.h"
#include "lookout.h"

using namespace std::chrono_literals;

namespace {

void tell(const kwind::replica::ClientWorld& client_world,
          const kwind::replica::EntityEvent& entity_event) {
  using Kind = kwind::replica::EntityEvent::Kind;
  if (entity_event.kind == Kind::changed) return;
  const std::string_view what = entity_event.kind == Kind::spawned ? "comes into view" : "is gone";
  const auto [id, generation] = entity_event.entity;
  if (entity_event.entity_type == lookout::Gull::entity_info().kind) {
    const auto gull = client_world.get(kwind::schema::Ref<lookout::Gull>{id, generation});
    const std::string at = gull ? fmt::format(" at {:.1f}, {:.1f}", gull->at[0], gull->at[1]) : "";
    fmt::print("tick {}: gull {} {}{}\n", client_world.tick(), id, what, at);
  } else {
    fmt::print("tick {}: crate {} {}\n", client_world.tick(), id, what);
  }
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 3 || argc == 4) {
    fmt::print(stderr, "usage: lookout_client HOST:PORT KEY [X Y [SECONDS]]\n");
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
  kwind::host::Client client(**transport, *server, lookout::kProtocol, start, options);
  lookout::StandAt place;
  if (argc > 4) place.at = {std::atof(argv[3]), std::atof(argv[4])};  // NOLINT: 0 will do

  bool failed = false;
  client.on_connect([&] {
    if (client.send(place) != kwind::Errc::none) client.close("the order to stand was not sent");
  });
  client.on_disconnect([&](kwind::Errc code, std::string_view reason) {
    failed = code != kwind::Errc::closed_here;
    if (failed) fmt::print(stderr, "{}: {}\n", address, kwind::host::explain_end(code, reason));
  });
  kwind::replica::ClientWorld client_world(lookout::kEntities, 20);
  std::size_t bits_heard = 0;
  client.on_payload([&](std::span<const std::byte> payload, std::size_t bits) {
    bits_heard += bits;
    return client_world.receive(payload, bits);
  });

  // Tells the server of frames that could not be read, and of values that differ from its own. A
  // client with inputs puts them in here, too.
  kwind::replica::InputSender reports(client_world);

  const auto seconds = std::chrono::seconds(argc > 5 ? std::atoi(argv[5]) : 10);  // NOLINT
  kwind::Time next_report = start + 1s;
  while (!client.ended()) {
    const kwind::Time now = kwind::io::now();
    client.receive(now);
    for (const auto& entity_event : client_world.take_events()) tell(client_world, entity_event);
    if (now >= next_report) {
      next_report += 1s;
      fmt::print("tick {}: {} entities in view, {:.1f} bytes of state a tick in the last second\n",
                 client_world.tick(), client_world.size(),
                 static_cast<double>(bits_heard) / 8 / 20);
      bits_heard = 0;
    }
    if (now >= start + seconds && client.connected()) client.close("enough seen");
    client.schedule_payload(&reports, 1);
    client.send(now);
    (*transport)->wait(std::min(client.next_wakeup(), now + 50ms));
  }
  return failed ? 1 : 0;
}
