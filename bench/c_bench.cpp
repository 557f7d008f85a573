// What the C interface costs: a client in C++ and one through kwind/c/kwind.h get the same
// snapshots, in which 50 entities changed, over loopback, and read all of them into structs.
#include <benchmark/benchmark.h>

#include <algorithm>
#include <cmath>
#include <ctime>
#include <memory>
#include <vector>

#include "kwind/c/kwind.h"
#include "kwind/io/clock.h"
#include "kwind/kwind.h"
#include "thing_world.h"
#include "thing_world_c.h"

namespace {

using namespace std::chrono_literals;
using kwind::Entity;

constexpr int kThingsRead = 50;
constexpr unsigned kReadTickRate = 240;

double thread_seconds() {
  timespec now{};
  ::clock_gettime(CLOCK_THREAD_CPUTIME_ID, &now);
  return static_cast<double>(now.tv_sec) + static_cast<double>(now.tv_nsec) / 1e9;
}

double middle_of(std::vector<double> all) {
  std::nth_element(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(all.size() / 2),
                   all.end());
  return all[all.size() / 2];
}

// A server, and both clients of it.
struct Ends {
  std::unique_ptr<kwind::Server> server;
  std::unique_ptr<kwind::Replication> state;
  std::vector<Entity<thing_world::Thing>> things;
  std::unique_ptr<kwind::Client> client;
  std::unique_ptr<kwind::ReplicatedWorld> world;
  kwind_protocol* protocol = nullptr;
  kwind_client* c_client = nullptr;
  double sum = 0;  // of what was read, so that it is read

  Ends() {
    server = std::move(*kwind::Server::open(thing_world::kProtocol, {.listen = {"127.0.0.1:0"}}));
    state = std::make_unique<kwind::Replication>(
        *server, thing_world::kEntities,
        kwind::ReplicationOptions{.tick_rate = kReadTickRate,
                                  .view = {.enter = 1e6, .leave = 1e6}});
    state->on_client([](kwind::ClientView& view) { view.set_origin(0, 0); });
    for (int i = 0; i < kThingsRead; ++i) {
      things.push_back(*state->spawn(thing_world::Thing{.at = {double(i), 0}}));
    }
    state->on_tick([this](std::uint32_t tick) {
      for (std::size_t i = 0; i < things.size(); ++i) {
        const double angle = tick / 20.0 + static_cast<double>(i);
        things[i].set({.at = {200 * std::cos(angle), 200 * std::sin(angle)},
                       .heading = std::fmod(tick * 3.0, 360),
                       .kind = int(tick % 8),
                       .health = int(tick % 2048)});
      }
    });
    const std::string address = server->address().text();
    const std::string key = server->public_key();
    client = std::move(
        *kwind::Client::open(thing_world::kProtocol, {.server = address, .server_key = key}));
    world = std::make_unique<kwind::ReplicatedWorld>(*client, thing_world::kEntities,
                                                     kwind::ReplicatedWorldOptions{});
    (void)kwind_protocol_compile(thing_world_sources, THING_WORLD_SOURCE_COUNT, &protocol);
    kwind_client_options options = KWIND_CLIENT_OPTIONS_INIT;
    options.server = address.c_str();
    options.server_key = key.c_str();
    options.tick_rate = kReadTickRate;
    (void)kwind_client_open(protocol, &options, &c_client);
  }
  Ends(const Ends&) = delete;
  Ends& operator=(const Ends&) = delete;
  ~Ends() {
    kwind_client_free(c_client);
    kwind_protocol_free(protocol);
  }

  // Until the next tick's datagrams lie at both clients.
  void next_tick() {
    const std::uint32_t tick = state->tick();
    while (state->tick() == tick) {
      server->step(kwind::io::now());
      server->wait(5ms);
    }
  }
  void read_cpp() {
    client->step(kwind::io::now());
    for (const kwind::schema::AnyRef& each : world->client_world().entities()) {
      const auto thing =
          world->get(kwind::schema::Ref<thing_world::Thing>{each.id, each.generation});
      if (thing) sum += thing->at[0] + thing->health;
    }
  }
  void read_c() {
    kwind_event event = KWIND_EVENT_INIT;
    (void)kwind_client_step(c_client, 0);
    while (kwind_client_next_event(c_client, &event) == KWIND_OK) {
    }
    std::array<kwind_ref, 64> all{};
    std::size_t count = 0;
    (void)kwind_client_entities(c_client, all.data(), all.size(), &count);
    for (std::size_t i = 0; i < count; ++i) {
      thing_world_thing thing{};
      (void)kwind_client_get_struct(c_client, all[i], &thing_world_thing_layout, &thing);
      sum += thing.at[0] + thing.health;
    }
  }
};

void client_reads_50(benchmark::State& state) {
  Ends ends;
  std::vector<double> cpp;
  std::vector<double> c;
  for (int i = 0; i < 200; ++i) {
    ends.next_tick();
    ends.read_cpp();
    ends.read_c();
  }
  if (ends.world->size() != kThingsRead) return state.SkipWithError("not all entities came");
  for (auto _ : state) {
    ends.next_tick();
    // In turn first, so that neither always finds the caches of the other's work.
    const bool c_first = c.size() % 2 == 0;
    const double start = thread_seconds();
    if (c_first) {
      ends.read_c();
    } else {
      ends.read_cpp();
    }
    const double between = thread_seconds();
    if (c_first) {
      ends.read_cpp();
    } else {
      ends.read_c();
    }
    const double end = thread_seconds();
    c.push_back(c_first ? between - start : end - between);
    cpp.push_back(c_first ? end - between : between - start);
    state.SetIterationTime(c.back());
  }
  benchmark::DoNotOptimize(ends.sum);
  state.counters["ratio"] = middle_of(c) / middle_of(cpp);
  state.counters["us_cpp"] = middle_of(cpp) * 1e6;
  state.counters["us_c"] = middle_of(c) * 1e6;
}
BENCHMARK(client_reads_50)->UseManualTime()->Iterations(800)->Unit(benchmark::kMicrosecond);

}  // namespace
