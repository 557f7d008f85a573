// Step 7, measuring: what the traffic of the ferry's gulls costs, and what was dropped.
#include <fmt/format.h>

#include <cmath>
#include <numbers>

#include "ferry.h"
#include "kwind/io/clock.h"
#include "kwind/kwind.h"

using namespace std::chrono_literals;
using ferry::Gull;

int main() {
  auto opened = kwind::Server::open(ferry::kProtocol, {.listen = {"127.0.0.1:0"}});
  if (!opened) {
    fmt::print(stderr, "{}\n", opened.error().text);
    return 1;
  }
  kwind::Server& server = **opened;
  kwind::Replication state(server, ferry::kEntities,
                           {.tick_rate = 20, .view = {.enter = 200, .leave = 220}});
  std::vector<kwind::Entity<Gull>> gulls;
  gulls.reserve(20);
  for (int i = 0; i < 20; ++i) {
    gulls.push_back(*state.spawn(Gull{.bearing = 18.0 * i, .speed = 5, .at = {2.0 * i, 0}}));
  }
  state.on_client([](kwind::ClientView& view) { view.set_origin(0, 0); });
  // Each gull goes straight on, and one of them turns now and then.
  state.on_tick([&](std::uint32_t tick) {
    for (kwind::Entity<Gull>& each : gulls) {
      Gull gull = each.get();
      const double angle = gull.bearing * std::numbers::pi / 180;
      gull.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * gull.speed / 20;
      each.set(gull);
    }
    Gull turned = gulls[tick % gulls.size()].get();
    if (tick % 5 == 0) turned.bearing = std::fmod(turned.bearing + 90, 360);
    gulls[tick % gulls.size()].set(turned);
  });

  auto client = kwind::Client::open(
      ferry::kProtocol, {.server = server.address().text(), .server_key = server.public_key()});
  if (!client) {
    fmt::print(stderr, "{}\n", client.error().text);
    return 1;
  }
  kwind::ReplicatedWorld world(**client, ferry::kEntities);
  // Nothing is drawn: this client has no handler for what it hears.
  (void)server.send_to_all(ferry::Heard{1, "is anybody there?"});
  std::uint64_t first_tick_bits = 0;
  std::uint32_t first_tick = 0;
  for (const kwind::Time end = kwind::io::now() + 3s; kwind::io::now() < end;) {
    server.step(kwind::io::now());
    (*client)->step(kwind::io::now());
    // The first snapshots have everything; what follows is the steady cost.
    if (first_tick == 0 && world.size() == gulls.size()) {
      first_tick = world.tick();
      first_tick_bits = world.bits_received();
      server.send_to_all(ferry::Heard{1, "is anybody there?"});
    }
    server.wait(5ms);
  }
  const double ticks = std::max(1.0, static_cast<double>(world.tick() - first_tick));
  const double bytes = static_cast<double>(world.bits_received() - first_tick_bits) / 8 / ticks;
  fmt::print("20 gulls in view: {} bytes of state a tick\n",
             bytes < 20 ? "fewer than 20" : fmt::format("{:.0f}", bytes));
  // Nothing is dropped in silence: counters say what, and why.
  fmt::print("messages without a handler: {}\n", (*client)->counts().route.unhandled);
  const kwind::CauseCounts& drops = (*client)->counts().drops;
  for (const kwind::ErrorInfo& cause : kwind::kErrorList) {
    if (drops.of(cause.code) > 0) fmt::print("dropped: {} {}\n", drops.of(cause.code), cause.text);
  }
  return bytes < 20 && (*client)->counts().route.unhandled == 1 ? 0 : 1;
}
