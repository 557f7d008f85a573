// Serves the page of the harbour and its web socket on one port.
#include "shore/shore_server.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>
#include <set>
#include <variant>

#include "harbour/motion.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/kwind.h"
#include "shore.h"
#ifdef KWIND_HAS_WEB_TRANSPORT
#include "kwind/web_transport/web_transport_server.h"
#endif

namespace kwind::shore {
namespace {

using namespace std::chrono_literals;
using ::shore::Barge;
using ::shore::Chart;
using ::shore::Crate;
using ::shore::Gull;
using ::shore::Helm;
using ::shore::Post;
using ::shore::Tug;

constexpr unsigned kTickRate = 20;
constexpr Duration kBetweenNotices = 12s;
constexpr const char* kOfficeNotices[] = {
    "Tide turns within the hour; mind the crates off the north quay.",
    "Salt barges have right of way in the channel.",
    "Gulls took the harbour master's lunch again.",
    "Whoever pencilled on the chart: thank you.",
};

// The game: entities that move by themselves, visitors who steer tugs, and the shared chart.
class Harbour {
 public:
  Harbour(Server& server, Replication& state, std::uint64_t seed)
      : server_(server), state_(state), motion_(seed) {
    int tugs = 0;
    motion_.populate<Post, Crate, Gull, Barge, Tug>([&]<class T>(T value) {
      if constexpr (std::is_same_v<T, Tug>) value.name = fmt::format("Harbour tug {}", ++tugs);
      add(value);
    });
    chart_ = *state_.spawn(Chart{});
  }

  // The view of a visitor follows the tug. Without one the visitor looks at a place of their
  // choice, the harbour's middle at first.
  void enter(Peer peer, const ::shore::Enter& enter) {
    if (visitors_.contains(peer)) return;
    Visitor visitor{enter.name.empty() ? "A visitor" : enter.name, std::nullopt};
    if (enter.tug) visitor.tug = take_tug(visitor.name);
    if (visitor.tug) {
      state_.view(peer)->follow(*visitor.tug);
    } else {
      state_.view(peer)->set_origin(0, 0);
    }
    visitors_[peer] = visitor;
    say("Harbour office",
        fmt::format("{} {}", visitor.name, visitor.tug ? "is aboard a tug" : "keeps a lookout"));
  }
  // The tug stays, and moves by itself again.
  void leave(Peer peer) {
    const auto found = visitors_.find(peer);
    if (found == visitors_.end()) return;
    if (found->second.tug) steered_.erase(found->second.tug->id);
    visitors_.erase(found);
  }
  // Only a lookout may choose a place to look at.
  void stand_at(Peer peer, const ::shore::StandAt& order) {
    const auto found = visitors_.find(peer);
    if (found == visitors_.end() || found->second.tug) return;
    state_.view(peer)->set_origin(order.at[0], order.at[1]);
  }
  // A steered tug moves once for each input: then the page predicts what happens here.
  void steer(Peer peer, const Helm& helm) {
    const auto found = visitors_.find(peer);
    if (found == visitors_.end() || !found->second.tug) return;
    const auto actor = actors_.find(found->second.tug->id);
    if (actor == actors_.end()) return;
    auto& entity = std::get<Entity<Tug>>(actor->second);
    Tug tug = entity.get();
    // The page has the same steps: web/page/steer.ts.
    tug.speed += std::clamp(helm.throttle / 100.0 * 9 - tug.speed, -0.15, 0.15);
    tug.bearing += 30 * helm.rudder / kTickRate;
    harbour_motion::move_on(tug);
    entity.set(tug);
  }
  // Notices of visitors bear the name with which they entered.
  void hail(Peer peer, const ::shore::Hail& hail) {
    const auto found = visitors_.find(peer);
    if (found != visitors_.end()) say(found->second.name, hail.words);
  }
  // The ranges of the description hold: a stroke is on the chart, and its ink exists.
  void draw(const ::shore::Stroke& stroke) {
    Chart chart = chart_->get();
    chart.ink.at(static_cast<std::uint32_t>(stroke.x), static_cast<std::uint32_t>(stroke.y)) =
        static_cast<Chart::Ink>(stroke.ink);
    chart_->set(chart);
  }

  // Posts stand; everything else moves by its own rules, unless a visitor steers it.
  void tick(Time now) {
    for (auto& [id, actor] : actors_) {
      std::visit(
          [&, id = id]<class T>(Entity<T>& entity) {
            T value = entity.get();
            if constexpr (std::is_same_v<T, Post>) return;
            if constexpr (std::is_same_v<T, Crate>) motion_.crate(value);
            if constexpr (std::is_same_v<T, Gull>) motion_.gull(value, drives_[id]);
            if constexpr (std::is_same_v<T, Barge>) motion_.barge(value, drives_[id]);
            if constexpr (std::is_same_v<T, Tug>) move(id, value);
            entity.set(value);
          },
          actor);
    }
    if (now < next_notice_) return;
    next_notice_ = now + kBetweenNotices;
    say("Harbour office", kOfficeNotices[notices_++ % std::size(kOfficeNotices)]);
  }

 private:
  using Actor = std::variant<Entity<Post>, Entity<Crate>, Entity<Gull>, Entity<Barge>, Entity<Tug>>;
  struct Visitor {
    std::string name;
    std::optional<schema::AnyRef> tug;
  };

  template <class T>
  std::optional<schema::AnyRef> add(const T& value) {
    const auto made = state_.spawn(value);
    if (!made) return std::nullopt;
    const schema::AnyRef ref = *made;
    actors_.insert_or_assign(ref.id, *made);
    return ref;
  }
  // The name travels once, when a tug appears: so another one appears in the place of a free one.
  std::optional<schema::AnyRef> take_tug(const std::string& name) {
    for (auto& [id, actor] : actors_) {
      auto* const entity = std::get_if<Entity<Tug>>(&actor);
      if (entity == nullptr || steered_.contains(id)) continue;
      Tug tug = entity->get();
      tug.name = name;
      tug.at /= 3;  // not far from the pier head
      entity->despawn();
      actors_.erase(id);
      const auto made = add(tug);
      if (made) steered_.insert(made->id);
      return made;
    }
    return std::nullopt;
  }
  // A steered tug moves with its inputs alone, in steer().
  void move(std::uint32_t id, Tug& tug) {
    if (!steered_.contains(id)) motion_.tug(tug, drives_[id]);
  }
  // Cut to what the fields of a notice hold.
  void say(const std::string& from, const std::string& words) {
    server_.send_to_all(::shore::Notice{from.substr(0, 24), words.substr(0, 80)});
  }

  Server& server_;
  Replication& state_;
  harbour_motion::Motion motion_;
  std::map<std::uint32_t, Actor> actors_;  // by id
  std::map<std::uint32_t, harbour_motion::Drive> drives_;
  std::set<std::uint32_t> steered_;
  std::map<Peer, Visitor> visitors_;
  std::optional<Entity<Chart>> chart_;
  Time next_notice_{};
  std::size_t notices_ = 0;
};

#ifdef KWIND_HAS_WEB_TRANSPORT
// Datagrams for pages, at the UDP port with the number of the web socket's. The page learns the
// certificate's hash from `GET /web-transport`.
class Datagrams {
 public:
  // Returns a sentence if it cannot listen.
  std::string open(Server& server, const Settings& settings, const Endpoint& local) {
    web::WebTransportOptions options;
    options.origins = settings.origins;
    options.certificate_file = settings.certificate_file;
    options.private_key_file = settings.private_key_file;
    auto made = web::WebTransportServer::listen(local, options);
    if (!made) {
      return fmt::format("cannot listen for WebTransport on UDP `{}`: {}; choose another port",
                         local.text(), error_info(made.error()).text);
    }
    transport_ = made->get();
    has_own_certificate_ = settings.certificate_file.empty();
    server.add_transport(std::move(*made));
    return {};
  }
  // Hashes are told only of a certificate that the server made for itself: browsers check others by
  // their names.
  [[nodiscard]] std::optional<web::Page> page() const {
    if (transport_ == nullptr) return std::nullopt;
    std::string hash;
    if (has_own_certificate_) {
      for (const std::byte each : transport_->certificate_hash()) {
        hash += fmt::format("{:02x}", std::to_integer<unsigned>(each));
      }
    }
    return web::Page{
        "application/json",
        fmt::format("{{\"port\":{},\"path\":\"/kwind\",\"certificateHashes\":[{}]}}",
                    transport_->local().port, hash.empty() ? hash : fmt::format("\"{}\"", hash))};
  }
  // A certificate lasts for 13 days: a server that runs for longer makes another one in time.
  void renew() {
    if (!has_own_certificate_ ||
        io::unix_now() + kRenewBefore < transport_->certificate_expires()) {
      return;
    }
    (void)transport_->reload_certificate();  // it is tried again in the next turn
  }

 private:
  static constexpr std::int64_t kRenewBefore = std::int64_t{24} * 3600;
  web::WebTransportServer* transport_ = nullptr;  // the server owns it
  bool has_own_certificate_ = false;
};
#else
class Datagrams {
 public:
  static std::string open(Server&, const Settings&, const Endpoint&) { return {}; }
  static std::optional<web::Page> page() { return std::nullopt; }
  static void renew() {}
};
#endif

// The page, and what it asks for before it connects, beside the web socket on one port. Returns a
// sentence if it cannot listen.
std::string open_web_socket(Server& server, const Datagrams& datagrams, const Settings& settings,
                            const Endpoint& local) {
  web::WebSocketOptions web;
  web.origins = settings.origins;
  web.certificate_file = settings.certificate_file;
  web.private_key_file = settings.private_key_file;
  web.pages = [&server, &datagrams](std::string_view path) -> std::optional<web::Page> {
    if (path == "/") return web::Page{"text/html; charset=utf-8", std::string(page_text())};
    if (path == "/key") return web::Page{"text/plain", server.public_key()};
    if (path == "/web-transport") return datagrams.page();
    return std::nullopt;
  };
  auto transport = web::WebSocketTransport::listen(local, web);
  if (!transport) {
    return transport.error() == Errc::bad_key
               ? fmt::format("certificate `{}` or key `{}` cannot be read; both are PEM files",
                             settings.certificate_file, settings.private_key_file)
               : fmt::format("cannot listen on `{}`: {}; choose another port with --web PORT",
                             settings.address, error_info(transport.error()).text);
  }
  server.add_transport(std::move(*transport));
  return {};
}

// Messages, inputs and ticks to the game.
void connect_game(Server& server, Replication& state, Harbour& harbour) {
  server.on<::shore::Enter>([&](Peer peer, const ::shore::Enter& m) { harbour.enter(peer, m); });
  server.on<::shore::StandAt>(
      [&](Peer peer, const ::shore::StandAt& m) { harbour.stand_at(peer, m); });
  server.on<::shore::Hail>([&](Peer peer, const ::shore::Hail& m) { harbour.hail(peer, m); });
  server.on<::shore::Stroke>([&](Peer, const ::shore::Stroke& m) { harbour.draw(m); });
  server.on_disconnect([&](Peer peer, Errc, std::string_view) { harbour.leave(peer); });
  state.on_input<Helm>(
      [&](ClientView& view, const Helm& helm) { harbour.steer(view.peer(), helm); });
  state.on_tick([&](std::uint32_t) { harbour.tick(io::now()); });
}

}  // namespace

std::string serve(const Settings& settings,
                  const std::function<void(const std::string& url)>& ready,
                  const std::function<bool()>& interrupted) {
  const auto local = io::resolve(settings.address);
  if (!local) {
    return fmt::format("address `{}`: {}; write HOST:PORT", settings.address,
                       error_info(local.error()).text);
  }
  // UDP on loopback for native clients; its port does not matter to pages.
  ServerOptions options;
  options.listen = {"127.0.0.1:0"};
  options.secret_key_file = settings.secret_key_file;
  options.host.resume = 60s;
  auto opened = Server::open(::shore::kProtocol, options);
  if (!opened) return opened.error().text;
  Server& server = **opened;

  Datagrams datagrams;
  std::string problem = open_web_socket(server, datagrams, settings, *local);
  if (!problem.empty()) return problem;
  problem = datagrams.open(server, settings, server.address(1));
  if (!problem.empty()) return problem;

  ReplicationOptions replication;
  replication.tick_rate = kTickRate;
  replication.view.enter = harbour_motion::kInterest;
  replication.view.leave = harbour_motion::kInterest + 16;
  Replication state(server, ::shore::kEntities, replication);
  Harbour harbour(server, state, settings.seed);
  connect_game(server, state, harbour);

  ready(fmt::format("{}://{}/", settings.certificate_file.empty() ? "http" : "https",
                    server.address(1).text()));
  while (!interrupted()) {
    server.step(io::now());
    datagrams.renew();
    server.wait(100ms);
  }
  server.close_all("the harbour closes for the night");
  const Time close_by = io::now() + 2s;
  while (server.connections() > 0 && io::now() < close_by) {
    server.step(io::now());
    server.wait(5ms);
  }
  return {};
}

}  // namespace kwind::shore
