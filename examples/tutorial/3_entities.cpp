// Step 3, entities: the server moves gulls, and a passenger sees those that are near.
#include <fmt/format.h>

#include <cmath>
#include <numbers>

#include "ferry.h"
#include "kwind/io/clock.h"
#include "kwind/kwind.h"

using namespace std::chrono_literals;
using ferry::Gull;

// A gull after a twentieth of a second.
Gull fly(const Gull& before) {
  Gull gull = before;
  gull.bearing = std::fmod(before.bearing + 2, 360);
  const double angle = gull.bearing * std::numbers::pi / 180;
  gull.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * gull.speed / 20;
  return gull;
}

int main() {
  auto opened = kwind::Server::open(ferry::kProtocol, {.listen = {"127.0.0.1:0"}});
  if (!opened) {
    fmt::print(stderr, "{}\n", opened.error().text);
    return 1;
  }
  kwind::Server& server = **opened;
  kwind::Replication state(server, ferry::kEntities,
                           {.tick_rate = 20, .view = {.enter = 60, .leave = 70}});
  std::vector<kwind::Entity<Gull>> gulls;
  for (const double north : {0.0, 20.0, 200.0}) {
    gulls.push_back(*state.spawn(Gull{.bearing = 0, .speed = 5, .at = {north, 0}}));
  }
  state.on_client([](kwind::ClientView& view) { view.set_origin(0, 0); });
  state.on_tick([&](std::uint32_t) {
    for (kwind::Entity<Gull>& gull : gulls) gull.set(fly(gull.get()));
  });

  auto client = kwind::Client::open(
      ferry::kProtocol, {.server = server.address().text(), .server_key = server.public_key()});
  if (!client) {
    fmt::print(stderr, "{}\n", client.error().text);
    return 1;
  }
  kwind::ReplicatedWorld world(**client, ferry::kEntities);
  world.on_spawn<Gull>([](kwind::schema::Ref<Gull> ref, const Gull&) {
    fmt::print("gull {} comes into view\n", ref.id);
  });

  const kwind::Time end = kwind::io::now() + 2s;
  while (kwind::io::now() < end) {
    const kwind::Time now = kwind::io::now();
    server.step(now);
    (*client)->step(now);
    // A frame of the game: values between two snapshots, not the newest ones.
    std::size_t drawn = 0;
    world.each<Gull>(now, [&](kwind::schema::Ref<Gull>, const Gull&) { ++drawn; });
    if (drawn > 2) return 1;
    server.wait(5ms);
  }
  fmt::print("{} of {} gulls are in view after two seconds\n", world.size(), gulls.size());
  return world.size() == 2 ? 0 : 1;
}
