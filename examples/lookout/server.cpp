// A server that replicates a bay of gulls and crates to lookouts; each of them sees 200 m far.
// Usage: lookout_server [HOST:PORT]
#include <fmt/format.h>

#include <cmath>
#include <numbers>
#include <random>

#include "kwind/kwind.h"
#include "lookout.h"

namespace {

constexpr unsigned kTicksPerSecond = 20;

// The game: gulls that circle, and crates that drift now and then.
class Bay {
 public:
  explicit Bay(kwind::Replication& state) {
    for (int i = 0; i < 60; ++i) {
      gulls_.push_back(*state.spawn(
          lookout::Gull{even(0, 360), even(6, 12), {even(-500, 500), even(-500, 500)}}));
    }
    for (int i = 0; i < 40; ++i) {
      const auto cargo = static_cast<lookout::Cargo>(random_() % 3);
      crates_.push_back(*state.spawn(lookout::Crate{{even(-500, 500), even(-500, 500)}, cargo}));
    }
  }

  // set() marks an entity as changed; one that nobody sets costs nothing.
  void tick() {
    for (auto& entity : gulls_) {
      lookout::Gull gull = entity.get();
      gull.bearing = std::fmod(gull.bearing + even(-3, 4) + 360, 360);
      const double angle = gull.bearing * std::numbers::pi / 180;
      gull.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * gull.speed / kTicksPerSecond;
      if (gull.at.cwiseAbs().maxCoeff() > 500) gull.bearing += 180;
      entity.set(gull);
    }
    auto& entity = crates_[random_() % crates_.size()];
    lookout::Crate crate = entity.get();
    crate.at += Eigen::Vector2d{even(-1, 1), even(-1, 1)};
    entity.set(crate);
  }

 private:
  double even(double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random_);
  }

  std::mt19937_64 random_{7};
  std::vector<kwind::Entity<lookout::Gull>> gulls_;
  std::vector<kwind::Entity<lookout::Crate>> crates_;
};

}  // namespace

int main(int argc, char** argv) {
  auto server =
      kwind::Server::open(lookout::kProtocol, {.listen = {argc > 1 ? argv[1] : "127.0.0.1:4000"}});
  if (!server) {
    fmt::print(stderr, "{}\n", server.error().text);
    return 1;
  }
  kwind::Replication state(**server, lookout::kEntities,
                           {.tick_rate = kTicksPerSecond, .view = {.enter = 200, .leave = 220}});
  Bay bay(state);
  state.on_client([](kwind::ClientView& view) { view.set_origin(0, 0); });
  state.on_tick([&](std::uint32_t) { bay.tick(); });
  (*server)->on<lookout::StandAt>([&](kwind::Peer peer, const lookout::StandAt& order) {
    state.view(peer)->set_origin(order.at[0], order.at[1]);
  });
  fmt::print("listening: lookout_client {} {}\n", (*server)->address().text(),
             (*server)->public_key());
  std::fflush(stdout);
  (*server)->run();
}
