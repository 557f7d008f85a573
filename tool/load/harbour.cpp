// The harbour as a server for bots, on a thread of its own; its ticks are measured in CPU time of
// that thread.
#include "load/harbour.h"

#include <time.h>

#include <map>
#include <random>
#include <utility>

#include "demo/harbour_motion.h"
#include "kwind/host/server.h"
#include "kwind/host/tick_clock.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/inputs.h"
#include "kwind/replica/interest.h"

namespace kwind::bots {
namespace {

using namespace std::chrono_literals;

double cpu_seconds() {
  timespec time{};
  ::clock_gettime(CLOCK_THREAD_CPUTIME_ID, &time);
  return static_cast<double>(time.tv_sec) + 1e-9 * static_cast<double>(time.tv_nsec);
}

}  // namespace

struct Harbour::State {
  struct Aboard {
    Aboard(replica::World& world, replica::Interest& interest)
        : replicator(world), query(interest) {
      replicator.bind(&query);
    }
    replica::ClientReplicator replicator;
    replica::InterestQuery query;
    replica::InputReceiver reports;  // bots steer nothing
  };

  // The thread of a harbour in this process.
  void run() {
    host::ServerOptions options;
    options.capacity = capacity;
    options.key = key;
    if (!key) options.plaintext = host::Plaintext::loopback_only;
    host::Server server(*transport, harbour_world::kProtocol, options);
    std::map<host::Peer, std::unique_ptr<Aboard>> aboard;
    server.on_connect([&](host::Peer peer) {
      auto made = std::make_unique<Aboard>(world, interest);
      std::uniform_real_distribution<double> anywhere(-harbour_motion::kSize,
                                                      harbour_motion::kSize);
      const double north = anywhere(random);
      made->query.set_origin(north, anywhere(random));
      aboard.emplace(peer, std::move(made));
    });
    server.on_disconnect([&](host::Peer peer, Errc, std::string_view) { aboard.erase(peer); });
    // Resync requests and desync reports.
    server.on_payload([&](host::Peer peer, std::span<const std::byte> payload, std::size_t bits) {
      const auto found = aboard.find(peer);
      if (found == aboard.end()) return Errc::payload_not_taken;
      Aboard& each = *found->second;
      return each.reports.receive(payload, bits, &each.replicator);
    });
    host::TickClock clock(demo::kTicksPerSecond, io::now(), 1);  // what it misses is counted
    std::uint64_t skipped = 0;
    while (!stopping) {
      const double begin = cpu_seconds();
      server.receive(io::now());
      if (clock.due(io::now()) > 0) {
        const double tick_begin = cpu_seconds();
        motion.fill_up_to(wanted);
        motion.step(false);
        world.end_tick();
        for (const auto& [peer, each] : aboard) server.schedule_payload(peer, &each->replicator, 2);
        server.flush(io::now());
        const std::lock_guard lock(mutex);
        load.ticks.add((cpu_seconds() - tick_begin) * 1000);
        load.skipped += clock.skipped() - std::exchange(skipped, clock.skipped());
        load.entities = world.size();
      }
      {
        const std::lock_guard lock(mutex);
        load.busy += cpu_seconds() - begin;
      }
      transport->wait(clock.next());
    }
    server.close_all("the harbour closes");
    server.flush(io::now());
  }

  std::unique_ptr<io::UdpTransport> transport;
  std::size_t capacity = 0;
  std::optional<link::KeyPair> key;
  replica::World world{harbour_world::kEntities};
  demo::HarbourMotion motion{world, 1};
  replica::Interest interest{
      world, {.enter = harbour_motion::kInterest, .leave = harbour_motion::kInterest + 16}};
  std::mt19937_64 random{7};
  std::atomic<bool> stopping = false;
  std::atomic<std::size_t> wanted = kMin;
  std::mutex mutex;  // guards the two below
  HarbourLoad load;
  Time since{};
  std::thread thread;
};

// Opens the server; a sentence in `why` if it cannot.
std::unique_ptr<Harbour> Harbour::open(std::size_t capacity, bool plaintext, std::string& why) {
  auto transport = io::UdpTransport::open(Endpoint::loopback(0));
  if (!transport) {
    why = std::string(error_info(transport.error()).text);
    return nullptr;
  }
  auto state = std::make_unique<State>();
  state->transport = std::move(*transport);
  state->capacity = capacity;
  if (!plaintext) state->key = link::KeyPair::from_secret(io::random_secret());
  state->since = io::now();
  return std::unique_ptr<Harbour>(new Harbour(std::move(state)));
}

Harbour::Harbour(std::unique_ptr<State> state) : state_(std::move(state)) {
  state_->thread = std::thread([s = state_.get()] { s->run(); });
}

Harbour::~Harbour() {
  state_->stopping = true;
  state_->thread.join();
}

Endpoint Harbour::address() const {
  return state_->transport->local();
}
std::optional<link::PublicKey> Harbour::key() const {
  return state_->key ? std::optional(state_->key->public_key) : std::nullopt;
}
void Harbour::fill_up_to(std::size_t entities) {
  state_->wanted = entities;
}

// CPU time of the server's ticks since the last call.
HarbourLoad Harbour::take() {
  const std::lock_guard lock(state_->mutex);
  const Time now = io::now();
  HarbourLoad taken = std::exchange(state_->load, {});
  taken.seconds = std::chrono::duration<double>(now - std::exchange(state_->since, now)).count();
  taken.busy /= taken.seconds > 0 ? taken.seconds : 1;
  if (taken.entities == 0) taken.entities = kMin;
  return taken;
}

}  // namespace kwind::bots
