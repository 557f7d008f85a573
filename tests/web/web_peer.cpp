// A server for tests of clients in other languages: returns messages, asks and answers requests,
// and replicates a world with a type of each kind. Usage: web_peer [--port N] [--key FILE]
// [--speculative] [--resume SECONDS] [--tick-rate N]
//                 [--udp] [--certificate FILE --private-key FILE] [--origin ORIGIN] [--entities N]
//                 [--loss PERCENT] [--delay MS] [--web-transport-port N]
// --loss and --delay make the path of WebTransport worse, each way. It prints a line of JSON: the
// URL and the public key, and where WebTransport is built in its URL and the hash of its
// certificate.
#include <fmt/format.h>

#include <charconv>
#include <cmath>
#include <deque>
#include <functional>
#include <numbers>
#include <random>
#include <set>
#include <thread>
#include <utility>

#include "kwind/io/clock.h"
#include "kwind/kwind.h"
#include "kwind/web/web_socket_transport.h"
#ifdef KWIND_WEB_TRANSPORT
#include "kwind/io/impaired_transport.h"
#include "kwind/io/udp_transport.h"
#include "kwind/web_transport/web_transport_server.h"
#endif
#include "quay.h"

namespace {

using namespace std::chrono_literals;

struct Settings {
  std::uint16_t port = 0;
  std::string key_file;
  bool speculative = false;
  bool udp = false;
  int resume = 0;
  unsigned tick_rate = 20;
  int entities = 60;
  double loss = 0;
  int delay_ms = 0;
  std::uint16_t web_transport_port = 0;
  kwind::web::WebSocketOptions web{.connections_per_address = 1000};
};

int number_of(std::string_view text) {
  int value = 0;
  std::from_chars(text.data(), text.data() + text.size(), value);
  return value;
}

Settings read_settings(int argc, char** argv) {
  Settings made;
  for (int i = 1; i < argc; ++i) {
    const std::string_view word = argv[i];
    const auto next = [&]() -> std::string { return i + 1 < argc ? argv[++i] : ""; };
    if (word == "--port") made.port = static_cast<std::uint16_t>(number_of(next()));
    if (word == "--key") made.key_file = next();
    if (word == "--speculative") made.speculative = true;
    if (word == "--udp") made.udp = true;
    if (word == "--resume") made.resume = number_of(next());
    if (word == "--tick-rate") made.tick_rate = static_cast<unsigned>(number_of(next()));
    if (word == "--entities") made.entities = number_of(next());
    if (word == "--loss") made.loss = number_of(next()) / 100.0;
    if (word == "--delay") made.delay_ms = number_of(next());
    if (word == "--web-transport-port") {
      made.web_transport_port = static_cast<std::uint16_t>(number_of(next()));
    }
    if (word == "--certificate") made.web.certificate_file = next();
    if (word == "--private-key") made.web.private_key_file = next();
    if (word == "--origin") made.web.origins.push_back(next());
  }
  return made;
}

// Changes a bit of everything in each tick.
class Quay {
 public:
  Quay(kwind::Replication& state, int entities) : state_(state) {
    for (int i = 0; i < entities; ++i) spawn_one(i);
    for (int i = 0; i < 2; ++i) charts_.push_back(*state.spawn(quay::Chart{}));
    for (int i = 0; i < 3; ++i) {
      gusts_.push_back(*state.spawn(quay::Gust{{4, -3, 1}, {0, 0, 50}}));
      swifts_.push_back(*state.spawn(quay::Swift{{1, 0, 0}, 9, {0, 0, 50}}));
      (void)state.spawn(quay::Pennant{gusts_.back().ref(), {0.5, 0, -2}});
    }
  }

  void tick(std::uint32_t tick) {
    for (auto& entity : gulls_) {
      quay::Gull gull = entity.get();
      gull.bearing = std::fmod(gull.bearing + even(-3, 4) + 360, 360);
      const double angle = gull.bearing * std::numbers::pi / 180;
      gull.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * gull.speed / 20;
      if (gull.at.cwiseAbs().maxCoeff() > 300) gull.at = {0, 0};
      if (chance(0.02)) gull.hungry = !gull.hungry;
      entity.set(gull);
    }
    for (auto& entity : rafts_) {
      quay::Raft raft = entity.get();
      if (chance(0.05)) raft.bearing = std::fmod(raft.bearing + even(-30, 30) + 360, 360);
      const double angle = raft.bearing * std::numbers::pi / 180;
      raft.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * raft.speed / 20;
      if (raft.at.cwiseAbs().maxCoeff() > 300) raft.at = {0, 0};
      entity.set(raft);
    }
    for (auto& entity : kites_) {
      quay::Kite kite = entity.get();
      for (int axis = 0; axis < 3; ++axis)
        kite.at[axis] = std::clamp(kite.at[axis] + even(-1, 1), -200.0, 200.0);
      const Eigen::Vector3d turn(even(-0.1, 0.1), even(-0.1, 0.1), even(-0.1, 0.1));
      kite.attitude =
          (kite.attitude * Eigen::Quaterniond(1, turn[0], turn[1], turn[2])).normalized();
      kite.toward = (kite.toward + turn).normalized();
      if (chance(0.1)) kite.heading = Eigen::Vector2d(even(-1, 1), even(-1, 1)).normalized();
      entity.set(kite);
    }
    for (auto& entity : gusts_) {
      quay::Gust gust = entity.get();
      if (chance(0.2)) gust.drift += Eigen::Vector3d(even(-1, 1), even(-1, 1), even(-1, 1));
      gust.drift = gust.drift.cwiseMax(-12).cwiseMin(12);
      gust.at += gust.drift / 20;
      if (gust.at.cwiseAbs().maxCoeff() > 200) gust.at = {0, 0, 0};
      entity.set(gust);
    }
    for (auto& entity : swifts_) {
      quay::Swift swift = entity.get();
      swift.heading += Eigen::Vector3d(even(-0.1, 0.1), even(-0.1, 0.1), even(-0.1, 0.1));
      swift.heading.normalize();
      swift.at += swift.heading * swift.speed / 20;
      if (swift.at.cwiseAbs().maxCoeff() > 200) swift.at = {0, 0, 0};
      entity.set(swift);
    }
    for (auto& entity : barges_) {
      if (!chance(0.3)) continue;
      quay::Barge barge = entity.get();
      change(barge, tick);
      entity.set(barge);
    }
    if (chance(0.5)) {
      auto& entity = charts_[random_() % charts_.size()];
      quay::Chart chart = entity.get();
      for (int i = 0; i < 3; ++i) {
        chart.ink.cells()[random_() % 4096] = static_cast<quay::Chart::Ink>(random_() % 3);
        chart.depths.cells()[random_() % 256] = static_cast<std::int32_t>(random_() % 61);
      }
      entity.set(chart);
    }
    if (chance(0.2) && gulls_.size() > 3) {
      const std::size_t which = random_() % gulls_.size();
      gulls_[which].despawn();
      gulls_.erase(gulls_.begin() + static_cast<std::ptrdiff_t>(which));
    }
    if (chance(0.2)) spawn_one(0);
  }

  kwind::Entity<quay::Tug> board(std::uint32_t index) {
    return *state_.spawn(quay::Tug{fmt::format("tug {}", index), {0, 0}, 500});
  }

 private:
  double even(double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random_);
  }
  bool chance(double share) { return even(0, 1) < share; }

  void spawn_one(int i) {
    const Eigen::Vector2d at(even(-300, 300), even(-300, 300));
    switch (i % 4) {
      case 0:
        if (auto made = state_.spawn(quay::Gull{even(0, 360), even(0, 20), at, false})) {
          gulls_.push_back(*made);
        }
        return;
      case 1: rafts_.push_back(*state_.spawn(quay::Raft{even(0, 10), even(0, 360), at})); return;
      case 2: {
        quay::Kite kite;
        kite.at = {at[0] / 2, at[1] / 2, 0};
        kites_.push_back(*state_.spawn(kite));
        return;
      }
      default: {
        quay::Barge barge;
        barge.at = at;
        barges_.push_back(*state_.spawn(barge));
        return;
      }
    }
  }

  void change(quay::Barge& barge, std::uint32_t tick) {
    switch (random_() % 12) {
      case 0: barge.at[0] = even(-300, 300); return;
      case 1: barge.load.push_back(static_cast<quay::Cargo>(random_() % 4)); break;
      case 2:
        if (!barge.load.empty()) barge.load.erase(barge.load.begin());
        break;
      case 3: barge.words = fmt::format("at tick {}, salt", tick); break;
      case 4:
        barge.by = random_() % 2 == 0 ? std::optional<std::uint32_t>(random_() % 64) : std::nullopt;
        break;
      case 5: barge.mass = static_cast<float>(even(-10, 1e6)); break;
      case 6: barge.exact = even(-1e9, 1e9); break;
      case 7: barge.total = static_cast<std::uint32_t>(random_() % 100001); break;
      case 8: barge.since = tick; break;
      case 9: barge.lamps.port = !barge.lamps.port; break;
      case 10: barge.words += "."; break;
      default: barge.at[1] += even(-1, 1); break;
    }
    if (barge.load.size() > 20) barge.load.clear();
    if (barge.words.size() > 40) barge.words.clear();
    barge.at = barge.at.cwiseMin(300).cwiseMax(-300);
  }

  kwind::Replication& state_;
  std::mt19937_64 random_{7};
  std::vector<kwind::Entity<quay::Gull>> gulls_;
  std::vector<kwind::Entity<quay::Raft>> rafts_;
  std::vector<kwind::Entity<quay::Kite>> kites_;
  std::vector<kwind::Entity<quay::Barge>> barges_;
  std::vector<kwind::Entity<quay::Gust>> gusts_;
  std::vector<kwind::Entity<quay::Swift>> swifts_;
  std::vector<kwind::Entity<quay::Chart>> charts_;
};

// Returns messages to their senders, in the order in which they came. What comes in one go after a
// stall is more than may be sent in one go: the rest is returned as fast as `at most` permits.
class Returns {
 public:
  explicit Returns(kwind::Server& server) : server_(server) {}

  template <class T>
  void add() {
    server_.on<T>([this](kwind::Peer peer, const T& message) {
      waiting_.push_back({{peer, &T::info()}, [this, peer, message] {
                            return server_.send(peer, message) != kwind::Errc::rate_limited;
                          }});
      send();
    });
  }
  /// Sends what may go now.
  void send() {
    std::set<Key> held;
    std::deque<Waiting> left;
    for (Waiting& each : std::exchange(waiting_, {})) {
      if (!held.contains(each.key) && each.send()) continue;
      held.insert(each.key);
      left.push_back(std::move(each));
    }
    waiting_ = std::move(left);
  }

 private:
  using Key = std::pair<kwind::Peer, const kwind::schema::MessageInfo*>;
  struct Waiting {
    Key key;
    std::function<bool()> send;
  };
  kwind::Server& server_;
  std::deque<Waiting> waiting_;
};

#ifdef KWIND_WEB_TRANSPORT
// Opens WebTransport over a path with losses. Returns the members that the line of JSON gets for
// URL and hash.
kwind::Result<std::string> add_web_transport(kwind::Server& server, const Settings& settings) {
  auto udp =
      kwind::io::UdpTransport::open(kwind::Endpoint::v4(127, 0, 0, 1, settings.web_transport_port));
  if (!udp) return kwind::fail(udp.error());
  kwind::io::sim::Conditions path;
  path.delay = std::chrono::milliseconds(settings.delay_ms);
  path.loss = settings.loss;
  auto made = kwind::web::WebTransportServer::listen_over(
      std::make_unique<kwind::io::ImpairedTransport>(std::move(*udp), path, path, 1),
      {.origins = settings.web.origins, .connections_per_address = 1000});
  if (!made) return kwind::fail(made.error());
  std::string hash;
  for (const std::byte each : (*made)->certificate_hash()) {
    hash += fmt::format("{:02x}", std::to_integer<unsigned>(each));
  }
  const std::uint16_t port = (*made)->local().port;
  server.add_transport(std::move(*made));
  return fmt::format(",\"webTransport\":\"https://127.0.0.1:{}/kwind\",\"certificateHash\":\"{}\"",
                     port, hash);
}
#else
kwind::Result<std::string> add_web_transport(kwind::Server&, const Settings&) {
  return std::string();
}
#endif

}  // namespace

int main(int argc, char** argv) {
  Settings settings = read_settings(argc, argv);
  kwind::ServerOptions options;
  options.listen = {"127.0.0.1:0"};
  options.secret_key_file = settings.key_file;
  options.capacity = 200;
  options.host.resume = std::chrono::seconds(settings.resume);
  auto opened = kwind::Server::open(quay::kProtocol, options);
  auto web = kwind::web::WebSocketTransport::listen(
      kwind::Endpoint::v4(127, 0, 0, 1, settings.port), settings.web);
  if (!opened || !web) {
    fmt::print(stderr, "cannot listen: {}\n",
               opened ? kwind::error_info(web.error()).text : opened.error().text);
    return 1;
  }
  kwind::Server& server = **opened;
  const auto* transport = web->get();
  server.add_transport(std::move(*web));
  kwind::Replication state(server, quay::kEntities,
                           {.tick_rate = settings.tick_rate,
                            .view = {.enter = 400, .leave = 420},
                            .datagrams_per_tick = 4,
                            .speculative_baselines = settings.speculative});
  Quay quay_world(state, settings.entities);
  std::map<kwind::Peer, kwind::Entity<quay::Tug>> tugs;
  state.on_client([&](kwind::ClientView& view) {
    auto tug = quay_world.board(static_cast<std::uint32_t>(view.peer()));
    view.follow(tug);
    tugs.emplace(view.peer(), tug);
  });
  server.on_disconnect([&](kwind::Peer peer, kwind::Errc, std::string_view) {
    if (const auto tug = tugs.find(peer); tug != tugs.end()) {
      tug->second.despawn();
      tugs.erase(tug);
    }
  });
  state.on_input<quay::Steer>([&](kwind::ClientView& view, const quay::Steer& steer) {
    const auto found = tugs.find(view.peer());
    if (found == tugs.end()) return;
    quay::Tug tug = found->second.get();
    tug.at += Eigen::Vector2d(steer.east, steer.north) / 16;
    tug.at = tug.at.cwiseMin(300).cwiseMax(-300);
    tug.fuel = std::max(0, tug.fuel - 1);
    found->second.set(tug);
  });
  Returns returns(server);
  state.on_tick([&](std::uint32_t tick) {
    quay_world.tick(tick);
    returns.send();
  });

  returns.add<quay::Helm>();
  returns.add<quay::Spark>();
  returns.add<quay::News>();
  returns.add<quay::Hail>();
  returns.add<quay::Sheet>();
  returns.add<quay::Log>();
  server.on_request<quay::AskBerth>([](kwind::Peer, const quay::AskBerth& asked, auto answer) {
    if (asked.length == 13) return;  // dropped: the client must hear that
    if (asked.length > 50) {
      (void)answer.refuse(quay::AskBerthRefusal::too_long, "50 at most");
    } else {
      (void)answer.reply({asked.length});
    }
  });
  server.on<quay::Order>([&](kwind::Peer peer, const quay::Order& order) {
    if (order.what == 0) {
      (void)server.request(peer, quay::AskBerth{7}, 5s, [&server, peer](const auto& outcome) {
        quay::Told told{0, "no reply"};
        if (outcome) told = {outcome.reply.line, "reply"};
        (void)server.send(peer, told);
      });
    }
    if (order.what == 1) server.close(peer, "the order was to end");
    if (order.what == 2) std::this_thread::sleep_for(2s);
    if (order.what == 3) {
      const auto& counts = transport->web_socket_counts();
      (void)server.send(peer,
                        quay::Told{static_cast<std::int32_t>(transport->connections()),
                                   fmt::format("{} {}", counts.bad_requests, counts.bad_frames)});
    }
  });
  const auto web_transport = add_web_transport(server, settings);
  if (!web_transport) {
    fmt::print(stderr, "no WebTransport: {}\n", kwind::error_info(web_transport.error()).text);
    return 1;
  }
  fmt::print("{{\"url\":\"{}://127.0.0.1:{}/kwind\",\"key\":\"{}\",\"udp\":\"{}\"{}}}\n",
             settings.web.certificate_file.empty() ? "ws" : "wss", server.address(1).port,
             server.public_key(), server.address(0).text(), *web_transport);
  std::fflush(stdout);
  server.run();
}
