// A server that keeps a bay of gulls and crates in step for lookouts, each of whom sees 200 m far.
// Usage: lookout_server [PORT]
#include <fmt/format.h>

#include <cmath>
#include <cstdlib>
#include <map>
#include <memory>
#include <numbers>
#include <random>

#include "kwind/host/server.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/inputs.h"
#include "kwind/replica/interest.h"
#include "kwind/replica/world.h"
#include "lookout.h"

namespace {

using namespace std::chrono_literals;
using kwind::host::Peer;

constexpr int kTicksPerSecond = 20;
constexpr double kInterest = 200;

// The game: gulls that circle, crates that drift now and then.
class Bay {
 public:
  explicit Bay(kwind::replica::World& world) : world_(world) {
    for (int i = 0; i < 60; ++i) {
      lookout::Gull gull{even(0, 360), even(6, 12), {even(-500, 500), even(-500, 500)}};
      gulls_.emplace_back(*world.spawn(gull), gull);
    }
    for (int i = 0; i < 40; ++i) {
      const auto cargo = static_cast<lookout::Cargo>(random_() % 3);
      lookout::Crate crate{{even(-500, 500), even(-500, 500)}, cargo};
      crates_.emplace_back(*world.spawn(crate), crate);
    }
  }

  void tick() {
    for (auto& [ref, gull] : gulls_) {
      gull.bearing = std::fmod(gull.bearing + even(-3, 4) + 360, 360);
      const double angle = gull.bearing * std::numbers::pi / 180;
      gull.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * gull.speed / kTicksPerSecond;
      if (gull.at.cwiseAbs().maxCoeff() > 500) gull.bearing += 180;
      world_.put(ref, gull);
    }
    auto& [ref, crate] = crates_[random_() % crates_.size()];
    crate.at += Eigen::Vector2d{even(-1, 1), even(-1, 1)};
    world_.put(ref, crate);
    world_.end_tick();
  }

 private:
  double even(double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random_);
  }

  kwind::replica::World& world_;
  std::mt19937_64 random_{7};
  std::vector<std::pair<kwind::schema::Ref<lookout::Gull>, lookout::Gull>> gulls_;
  std::vector<std::pair<kwind::schema::Ref<lookout::Crate>, lookout::Crate>> crates_;
};

struct Lookout {
  Lookout(const kwind::replica::World& world, kwind::replica::Interest& interest)
      : replicator(world), query(interest) {
    query.set_origin(0, 0);
    replicator.bind(&query);
  }
  kwind::replica::ClientReplicator replicator;
  kwind::replica::InterestQuery query;
  kwind::replica::InputReceiver reports;
};

}  // namespace

int main(int argc, char** argv) {
  const int number = argc > 1 ? std::atoi(argv[1]) : 4000;  // NOLINT: 0 lets the system choose
  const auto address = kwind::Endpoint::loopback(static_cast<std::uint16_t>(number));
  auto transport = kwind::io::UdpTransport::open(address);
  if (!transport) {
    fmt::print(stderr, "cannot listen on {}: {}\n", address.text(),
               error_info(transport.error()).text);
    return 1;
  }
  kwind::host::ServerOptions options;
  options.key = kwind::link::KeyPair::from_secret(kwind::io::random_secret());
  kwind::host::Server server(**transport, lookout::kProtocol, options);

  kwind::replica::World world(lookout::kEntities, {.ticks_per_second = kTicksPerSecond});
  Bay bay(world);
  kwind::replica::Interest interest(world, {.enter = kInterest, .leave = kInterest + 20});
  std::map<Peer, std::unique_ptr<Lookout>> lookouts;
  server.on_connect(
      [&](Peer peer) { lookouts[peer] = std::make_unique<Lookout>(world, interest); });
  server.on_disconnect([&](Peer peer, kwind::Errc, std::string_view) { lookouts.erase(peer); });
  server.on<lookout::StandAt>([&](Peer peer, const lookout::StandAt& order) {
    lookouts.at(peer)->query.set_origin(order.at[0], order.at[1]);
  });

  // What a client could not read, or holds otherwise than it was told: the viewer tells it anew.
  server.on_payload([&](Peer peer, std::span<const std::byte> payload, std::size_t bits) {
    Lookout& lookout = *lookouts.at(peer);
    return lookout.reports.receive(payload, bits, &lookout.replicator);
  });

  fmt::print("listening: lookout_client {} {}\n", (*transport)->local().text(),
             kwind::link::key_text(options.key->public_key));
  std::fflush(stdout);
  kwind::host::TickClock ticks(kTicksPerSecond, kwind::io::now());
  for (;;) {
    const kwind::Time now = kwind::io::now();
    server.receive(now);
    for (unsigned due = ticks.due(now); due > 0; --due) {
      bay.tick();
      for (const auto& [peer, lookout] : lookouts)
        server.schedule_payload(peer, &lookout->replicator, 2);
    }
    server.send(now);
    (*transport)->wait(std::min(server.next_wakeup(), ticks.next()));
  }
}
