// A pilot far away steers a tug. What they see of it as the server tells it comes a round trip
// late; with replica::Prediction their own inputs show at once, and the server still has the last
// word. Server and client run in this process, over a simulated path, in virtual time.
// Usage: helm [ROUND_TRIP_MS [LOSS_PERCENT]]
#include <fmt/format.h>

#include <cmath>
#include <cstdlib>
#include <numbers>

#include "helm.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/sim/network.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/inputs.h"

namespace {

using namespace std::chrono_literals;
using helm::Helm;
using helm::Tug;

constexpr kwind::Duration kTick = 50ms;
constexpr std::uint32_t kSeconds = 20;

// The rules of the game, which both ends know: what an input does in a tick.
Tug step(const Tug& before, const Helm& input) {
  Tug tug = before;
  const double wish = input.throttle / 10.0;
  tug.speed += std::clamp(wish - tug.speed, -0.3, 0.3);
  tug.bearing = std::fmod(tug.bearing + input.rudder * tug.speed / 10 + 360, 360);
  const double angle = tug.bearing * std::numbers::pi / 180;
  tug.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * tug.speed / 20;
  return tug;
}

// To the eye: what travels is rounded, and what was predicted is not.
bool same(const Tug& a, const Tug& b) {
  return (a.at - b.at).norm() < 0.5 && std::abs(std::remainder(a.bearing - b.bearing, 360)) < 2;
}

// The pilot weaves: hard over every two seconds.
Helm steer(std::uint32_t tick) {
  return {tick / 40 % 2 == 0 ? 6 : -6, 80};
}

// The server's end, wired by hand: world, replicator and inputs of one pilot. host::Replication
// does the same for many.
class Server {
 public:
  Server(kwind::Transport& transport, const kwind::host::ServerOptions& options)
      : server_(transport, helm::kProtocol, options), ref_(*world_.spawn(tug_)) {
    server_.on_payload(
        [this](kwind::host::Peer peer, std::span<const std::byte> payload, std::size_t bits) {
          peer_ = peer;
          return inputs_.receive(payload, bits, &replicator_);
        });
    server_.on<Helm>([this](kwind::host::Peer, const Helm& input) { tug_ = step(tug_, input); });
    server_.on_connect([this](kwind::host::Peer peer) { peer_ = peer; });
  }
  void receive(kwind::Time now) { server_.receive(now); }
  void tick(kwind::Time now, bool squall) {
    // One input a tick, however many came: who sends more is no faster.
    if (const auto input = inputs_.next()) {
      const kwind::Errc error = server_.take_input<Helm>(peer_, input->bytes, input->bits);
      if (error != kwind::Errc::none) fmt::print(stderr, "input: {}\n", error_info(error).text);
      replicator_.last_processed_input(input->number);
    }
    // Nobody's input: the pilot's end can know nothing of it.
    if (squall) tug_.at += Eigen::Vector2d(0, 4);
    world_.put(ref_, tug_);
    world_.end_tick();
    const std::array seen{kwind::replica::RelevantEntity{ref_.id, true}};
    replicator_.see(seen);
    if (peer_ != kwind::host::Peer{}) server_.schedule_payload(peer_, &replicator_, 1);
    server_.flush(now);
  }
  [[nodiscard]] const Tug& tug() const { return tug_; }

 private:
  kwind::host::Server server_;
  kwind::replica::World world_{helm::kEntities};
  Tug tug_{};
  kwind::schema::Ref<Tug> ref_;
  kwind::replica::ClientReplicator replicator_{world_};
  kwind::replica::InputReceiver inputs_;
  kwind::host::Peer peer_{};
};

// The table: the tug at the server, as the pilot received it, and as the pilot predicts it.
void print_head(int round_trip, double loss) {
  fmt::print("{} ms round trip, {:.0f} % loss; a squall after 10 s\n\n", round_trip, loss * 100);
  fmt::print("{:>5}  {:>17}  {:>17}  {:>17}\n", "", "at the server", "told to the pilot",
             "predicted");
}

void print_row(std::uint32_t tick, const Tug& there, const Tug& sent, const Tug& predicted,
               bool squall) {
  const auto place = [](const Tug& tug) {
    return fmt::format("{:>8.2f} {:>8.2f}", tug.at[0], tug.at[1]);
  };
  fmt::print("{:>4.1f}s  {}  {}  {}{}\n", tick / 20.0, place(there), place(sent), place(predicted),
             squall ? "  the squall" : "");
}

void print_end(double sent, double predicted, std::uint64_t corrections) {
  fmt::print(
      "\nwhat the pilot draws is off by {:.2f} m as told, by {:.2f} m as predicted (means); the "
      "server's word differed {} time(s)\n",
      sent, predicted, corrections);
}

}  // namespace

int main(int argc, char** argv) {
  const int round_trip = argc > 1 ? std::atoi(argv[1]) : 150;      // NOLINT: 0 will do
  const double loss = argc > 2 ? std::atof(argv[2]) / 100 : 0.03;  // NOLINT
  kwind::io::sim::Network network(
      {.delay = std::chrono::microseconds(round_trip * 500), .loss = loss}, 1);
  const kwind::Endpoint address = kwind::Endpoint::v4(127, 0, 0, 1, 4000);
  kwind::host::ServerOptions server_options;
  server_options.plaintext = kwind::host::Plaintext::loopback_only;
  Server server(network.open(address), server_options);

  kwind::Time now{1s};
  kwind::host::ClientOptions options;
  options.plaintext = kwind::host::Plaintext::loopback_only;
  kwind::host::Client client(network.open(kwind::Endpoint::v4(127, 0, 0, 2, 5000)), address,
                             helm::kProtocol, now, options);
  kwind::replica::ClientWorld client_world(helm::kEntities);
  kwind::replica::InputSender inputs(client_world);
  kwind::replica::Prediction<Tug, Helm> predicted({}, step, same);
  bool fresh = false;
  client.on_payload([&](std::span<const std::byte> payload, std::size_t bits) {
    fresh = true;
    return client_world.receive(payload, bits);
  });

  // How far what is drawn lies from what these inputs will have made of the tug at the server.
  double behind_sent = 0;
  double behind_predicted = 0;
  std::uint32_t ticks = 0;
  Tug intended;
  print_head(round_trip, loss);
  for (std::uint32_t tick = 0; tick < kSeconds * 20; ++tick, now += kTick) {
    const bool squall = tick == 200;
    server.receive(now);
    server.tick(now, squall);
    client.receive(now);
    if (squall) intended.at += Eigen::Vector2d(0, 4);
    if (client.connected()) {
      const Helm input = steer(tick);
      predicted.apply(inputs.put(input), input);
      intended = step(intended, input);
      client.schedule_payload(&inputs, 1);
    }
    client.flush(now);
    const auto refs = client_world.entities();
    if (refs.empty()) continue;
    const auto latest = client_world.get(kwind::schema::Ref<Tug>{refs[0].id, refs[0].generation});
    if (std::exchange(fresh, false) && inputs.used() > 0) predicted.correct(inputs.used(), *latest);
    ++ticks;
    behind_sent += (latest->at - intended.at).norm();
    behind_predicted += (predicted.now().at - intended.at).norm();
    if (tick % 40 == 0 || (tick > 198 && tick < 208 && tick % 2 == 0)) {
      print_row(tick, server.tug(), *latest, predicted.now(), squall);
    }
  }
  print_end(behind_sent / ticks, behind_predicted / ticks, predicted.corrections());
  return behind_predicted < behind_sent ? 0 : 1;
}
