// Step 4, inputs and prediction: a passenger steers the ferry over a path of 150 ms, and sees it
// turn at once.
#include <fmt/format.h>

#include <cmath>
#include <numbers>

#include "ferry.h"
#include "kwind/io/clock.h"
#include "kwind/io/impaired_transport.h"
#include "kwind/io/udp_transport.h"
#include "kwind/kwind.h"

using namespace std::chrono_literals;
using ferry::Ferry;
using ferry::Helm;

// The rules of the game, which both ends know: what an input does in a tick.
Ferry sail(const Ferry& before, const Helm& helm) {
  Ferry ferry = before;
  ferry.speed = std::clamp(ferry.speed + (helm.throttle / 10.0 - ferry.speed) / 20, 0.0, 12.7);
  ferry.bearing = std::fmod(ferry.bearing + helm.rudder * ferry.speed / 20 + 360, 360);
  const double angle = ferry.bearing * std::numbers::pi / 180;
  ferry.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * ferry.speed / 20;
  return ferry;
}

// What travels is rounded, and what was predicted is not: this much is no mistake.
bool is_close(const Ferry& a, const Ferry& b) {
  return (a.at - b.at).norm() < 0.5;
}

// A path of 75 ms each way that loses a datagram in fifty, before the client's socket.
kwind::Result<std::unique_ptr<kwind::io::PollableTransport>> slow_path(
    const kwind::Endpoint& server) {
  auto socket = kwind::io::UdpTransport::open(kwind::io::local_for(server));
  if (!socket) return tl::unexpected(socket.error());
  const kwind::io::sim::Conditions path{.delay = 75ms, .loss = 0.02};
  return std::make_unique<kwind::io::ImpairedTransport>(std::move(*socket), path, path, 1);
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
  kwind::Entity<Ferry> ferry = *state.spawn(Ferry{});
  state.on_client([&](kwind::ClientView& view) { view.follow(ferry.ref()); });
  // At most one input for each client and tick, in the order in which the client made them.
  state.on_input<Helm>(
      [&](kwind::ClientView&, const Helm& helm) { ferry.set(sail(ferry.get(), helm)); });

  auto client = kwind::Client::open(ferry::kProtocol, {.server = server.address().text(),
                                                       .server_key = server.public_key(),
                                                       .open_transport = slow_path});
  if (!client) {
    fmt::print(stderr, "{}\n", client.error().text);
    return 1;
  }
  kwind::ReplicatedWorld world(**client, ferry::kEntities);
  kwind::Predicted<Ferry, Helm> mine(world, sail, is_close);

  double ahead = 0;  // how far the predicted ferry is ahead of the received one, at most
  const kwind::Time end = kwind::io::now() + 4s;
  kwind::host::TickClock ticks(20, kwind::io::now());
  while (kwind::io::now() < end) {
    const kwind::Time now = kwind::io::now();
    server.step(now);
    for (unsigned due = ticks.due(now); due > 0; --due) mine.apply(Helm{3, 100});
    (*client)->step(now);
    const auto received =
        world.get(kwind::schema::Ref<Ferry>{ferry.ref().id, ferry.ref().generation});
    if (const auto predicted = mine.state(); predicted && received) {
      ahead = std::max(ahead, (predicted->at - received->at).norm());
    }
    server.wait(5ms);
  }
  fmt::print("the predicted ferry was up to {:.1f} m ahead of the received one\n", ahead);
  fmt::print("the prediction was wrong {} times\n", mine.corrections());
  return ahead > 1 ? 0 : 1;
}
