// A lookout who says what comes into view and goes, and once a second what that costs.
// Usage: lookout_client HOST:PORT KEY [X Y [SECONDS]]; the server prints the first two.
#include <fmt/format.h>

#include <cstdlib>

#include "kwind/host/client.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_port.h"
#include "kwind/replica/inputs.h"
#include "kwind/replica/mirror.h"
#include "lookout.h"

using namespace std::chrono_literals;

namespace {

void tell(const kwind::replica::Mirror& mirror, const kwind::replica::Happening& happening) {
  using Kind = kwind::replica::Happening::Kind;
  if (happening.kind == Kind::changed) return;
  const std::string_view what = happening.kind == Kind::appeared ? "comes into view" : "is gone";
  const auto [id, generation] = happening.entity;
  if (happening.of_kind == lookout::Gull::entity_info().kind) {
    const auto gull = mirror.get(kwind::schema::Ref<lookout::Gull>{id, generation});
    const std::string at = gull ? fmt::format(" at {:.1f}, {:.1f}", gull->at[0], gull->at[1]) : "";
    fmt::print("tick {}: gull {} {}{}\n", mirror.tick(), id, what, at);
  } else {
    fmt::print("tick {}: crate {} {}\n", mirror.tick(), id, what);
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
  auto port = kwind::io::UdpPort::open(kwind::Endpoint::any(0));
  if (!port) return 1;
  const kwind::Time start = kwind::io::now();
  kwind::host::ClientOptions options;
  options.server_key = *key;
  kwind::host::Client client(**port, *server, lookout::kProtocol, start, options);
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
  kwind::replica::Mirror mirror(lookout::kEntities, 20);
  std::size_t bits_heard = 0;
  client.on_fill([&](std::span<const std::byte> payload, std::size_t bits) {
    bits_heard += bits;
    return mirror.receive(payload, bits);
  });

  // Tells the server of frames that could not be read, and of values that differ from its own. A
  // client with inputs puts them in here, too.
  kwind::replica::InputSender reports(mirror);

  const auto seconds = std::chrono::seconds(argc > 5 ? std::atoi(argv[5]) : 10);  // NOLINT
  kwind::Time next_report = start + 1s;
  while (!client.ended()) {
    const kwind::Time now = kwind::io::now();
    client.receive(now);
    for (const auto& happening : mirror.take_happenings()) tell(mirror, happening);
    if (now >= next_report) {
      next_report += 1s;
      fmt::print("tick {}: {} entities in view, {:.1f} bytes of state a tick in the last second\n",
                 mirror.tick(), mirror.size(), static_cast<double>(bits_heard) / 8 / 20);
      bits_heard = 0;
    }
    if (now >= start + seconds && client.connected()) client.close("enough seen");
    client.offer_fill(&reports, 1);
    client.send(now);
    (*port)->wait(std::min(client.next_wakeup(), now + 50ms));
  }
  return failed ? 1 : 0;
}
