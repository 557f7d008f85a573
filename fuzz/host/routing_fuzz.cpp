// A client that sends whatever bits the input says on whatever channel, as messages, requests and
// answers that nobody asked for, to a server with handlers, rooms and requests of its own. Handlers
// see only what the description allows, each request of the server ends exactly once, and an honest
// client beside it misses nothing.
#include <cstdint>
#include <cstdlib>
#include <memory>

#include "host/session.h"
#include "kit/sim_pair.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/sim/network.h"
#include "routing.h"

using namespace kwind;
using namespace std::chrono_literals;

namespace {

void must(bool holds) {
  if (!holds) std::abort();
}

constexpr Endpoint kServer = Endpoint::v4(127, 0, 0, 1, 4000);

Key128 entropy(std::uint8_t seed) {
  Key128 made{};
  made[0] = std::byte{seed};
  return made;
}

// The hostile end: a link without the layers above, which would keep it to the rules.
class Raw {
 public:
  explicit Raw(io::sim::SimTransport& transport, Time now) : transport_(transport) {
    host::Options options;
    options.plaintext = host::Plaintext::loopback_only;
    options.entropy = entropy(3);
    const Secret32 seed = host::seed_of(options);
    link::LinkOptions made = host::link_options(
        routing::kProtocol, options, schema::Direction::from_server, seed, link::kFirstWindowBytes);
    made.take_in_by_hand = false;
    link_.emplace(
        link::Link::connect({host::identity_of(routing::kProtocol, options), seed}, made, now));
  }
  void turn(Time now) {
    while (const auto received = transport_.receive(now))
      (void)link_->receive(now, received->bytes);
    if (now >= link_->next_wakeup()) link_->wake(now);
    while (link_->poll_event()) {
    }
    std::array<std::byte, link::kMaxDatagramBytes> out{};
    while (const std::size_t size = link_->poll_datagram(now, out)) {
      transport_.send(now, kServer, std::span(out).first(size));
    }
  }
  void send(std::size_t channel, std::span<const std::byte> bytes, std::size_t bits) {
    (void)link_->send(channel, 0, bytes, bits);
  }

 private:
  io::sim::SimTransport& transport_;
  std::optional<link::Link> link_;
};

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  if (size < 2 || size > 4000) return 0;
  Time now = kit::at(1s);
  io::sim::Network network({.delay = 2ms}, 1);
  host::ServerOptions options;
  options.plaintext = host::Plaintext::loopback_only;
  options.entropy = entropy(1);
  options.open_requests = 4;
  options.tick_budget = {1U + data[0] % 16U, 2000};
  options.hold_until_ready = (data[0] & 16) != 0;
  options.max_faults = data[0] >> 5;
  auto server = std::make_unique<host::Server>(network.open(kServer), routing::kProtocol, options);
  int asked = 0;
  int outcomes = 0;
  int hailed = 0;
  std::vector<route::Responder<routing::TakeTow>> kept;
  server->on_connect([&](host::Peer peer) {
    server->rooms().enter(peer, "pier");
    server->ready(peer);
    server->owners().give(schema::AnyRef{1, 0}, peer);
  });
  server->check<routing::Hail>([](host::Peer, const routing::Hail& hail) {
    return hail.number % 7 == 6 ? route::CheckResult::penalize : route::CheckResult::accept;
  });
  server->on<routing::Hail>([&](host::Peer peer, const routing::Hail& hail) {
    must(hail.number >= 0 && hail.number <= 1000000 && hail.words.size() <= 60);
    ++hailed;
    server->rooms().move(peer, "pier", hail.number % 5);
    server->send_to_room(hail.number % 5, routing::Hail{hail.number, hail.words});
    if (asked < 40 && server->request(peer, routing::AskName{1}, 50ms,
                                      [&](const auto&) { ++outcomes; }) == Errc::none) {
      ++asked;
    }
    if (hail.number % 11 == 10) throw std::runtime_error("a reef");
  });
  server->on<routing::Helm>(
      [&](host::Peer, const routing::Helm& helm) { must(helm.rudder >= -1 && helm.rudder <= 1); });
  server->on_request<routing::TakeTow>(
      [&](host::Peer, const routing::TakeTow& ask, route::Responder<routing::TakeTow> responder) {
        must(ask.barge >= 0 && ask.barge <= 100);
        if (ask.barge % 2 == 0) {
          (void)responder.reply({.line = 1});
        } else if (kept.size() < 100) {
          kept.push_back(std::move(responder));
        }
      });

  host::ClientOptions honest_options;
  honest_options.plaintext = host::Plaintext::loopback_only;
  honest_options.entropy = entropy(2);
  host::Client honest(network.open(Endpoint::v4(127, 0, 0, 2, 5000)), kServer, routing::kProtocol,
                      now, honest_options);
  int replies = 0;
  int honest_asked = 0;
  Raw raw(network.open(Endpoint::v4(127, 0, 0, 3, 5000)), now);
  const auto turn = [&](Duration time) {
    for (const Time end = now + time; now < end; now += 2ms) {
      server->receive(now);
      honest.receive(now);
      raw.turn(now);
      server->flush(now);
      honest.flush(now);
    }
  };
  turn(20ms);
  const std::uint8_t* const end = data + size;
  for (const std::uint8_t* at = data + 1; at + 2 <= end;) {
    const std::uint8_t what = at[0];
    const std::size_t bytes =
        std::min<std::size_t>(at[1] % 90, static_cast<std::size_t>(end - at - 2));
    at += 2;
    std::vector<std::byte> payload(bytes + 8);
    for (std::size_t i = 0; i < bytes; ++i) payload[i] = static_cast<std::byte>(at[i]);
    at += bytes;
    raw.send(what % 3, payload, bytes * 8 + what / 32);
    if ((what & 4) != 0) turn(4ms);
    if ((what & 8) != 0 && honest_asked < 20 &&
        honest.request(routing::TakeTow{2}, 10s,
                       [&](const auto& outcome) { replies += outcome ? 1 : 0; }) == Errc::none) {
      ++honest_asked;
      turn(20ms);
    }
    if ((what & 16) != 0) {
      for (auto& responder : kept) (void)responder.reply({.line = 2});
    }
  }
  turn(400ms);
  must(replies == honest_asked);
  server.reset();
  must(outcomes == asked);
  return 0;
}
