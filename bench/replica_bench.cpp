// What keeping the reference world in step costs: a server's tick for a thousand clients beside the
// system calls and ciphers alone, and a client's.
#include <benchmark/benchmark.h>

#include <algorithm>
#include <memory>
#include <random>
#include <vector>

#include "bare_sender.h"
#include "crowd.h"
#include "demo/harbour_motion.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/interest.h"
#include "refit.h"

namespace {

using namespace std::chrono_literals;
using namespace kwind;
using namespace kwind::bench;

enum Views : int { spread, shared };

// The harbour with a replicator for each client.
class State {
 public:
  State(Views views, int more_posts) : views_(views) {
    everyones_.set_origin(60, 60);
    for (int i = 0; i < more_posts; ++i) {
      world_.spawn(harbour_world::Post{{even(), even()}});
    }
  }
  struct Eye {
    Eye(replica::World& world, replica::Interest& interest) : replicator(world), query(interest) {
      replicator.bind(&query);
    }
    replica::ClientReplicator replicator;
    replica::InterestQuery query;
  };
  Eye& add() {
    eyes_.push_back(std::make_unique<Eye>(world_, interest_));
    Eye& eye = *eyes_.back();
    const double north = even();
    const double east = even();
    eye.query.set_origin(north, east);
    if (views_ == shared) eye.replicator.bind(&everyones_);
    return eye;
  }
  void tick() {
    motion_.step(false);
    world_.end_tick();
  }
  [[nodiscard]] double shared_bits() const {
    const auto& counts = world_.shared_bits();
    return static_cast<double>(counts.shared) /
           static_cast<double>(std::max<std::uint64_t>(1, counts.shared + counts.written));
  }
  [[nodiscard]] double memory_of_replicators() const {
    double sum = 0;
    for (const auto& eye : eyes_) {
      sum += static_cast<double>(eye->replicator.memory() + eye->query.memory());
    }
    return sum / static_cast<double>(eyes_.size());
  }
  [[nodiscard]] const replica::World& world() const { return world_; }

 private:
  double even() { return std::uniform_real_distribution<double>(-880, 880)(random_); }

  Views views_;
  std::mt19937_64 random_{5};
  replica::World world_{harbour_world::kEntities};
  demo::HarbourMotion motion_{world_, 1};
  replica::Interest interest_{world_, {.enter = 256, .leave = 272}};
  replica::InterestQuery everyones_{interest_};
  std::vector<std::unique_ptr<Eye>> eyes_;
};

// CPU times in seconds, and bytes, of the ticks that count.
struct Ticks {
  std::vector<double> ours;
  std::vector<double> theirs;
  std::vector<double> whole;
  std::vector<double> worlds;
  std::uint64_t bytes = 0;
};

// Counters of state_to_clients().
void report(benchmark::State& state, Ticks& ticks, const State& harbour, std::size_t clients) {
  const auto rounds = static_cast<double>(ticks.ours.size());
  std::sort(ticks.whole.begin(), ticks.whole.end());
  state.counters["ratio"] = median(ticks.ours) / median(ticks.theirs);
  state.counters["us_a_client"] = median(ticks.ours) / static_cast<double>(clients) * 1e6;
  state.counters["world_us"] = median(ticks.worlds) * 1e6;
  state.counters["tick_p99_ms"] = ticks.whole[ticks.whole.size() * 99 / 100] * 1e3;
  state.counters["spliced"] = harbour.shared_bits();
  state.counters["datagram_bytes"] =
      static_cast<double>(ticks.bytes) / rounds / static_cast<double>(clients);
  state.counters["KiB_a_viewer"] = harbour.memory_of_replicators() / 1024;
  state.counters["KiB_an_entity"] = static_cast<double>(harbour.world().memory()) /
                                    static_cast<double>(harbour.world().size()) / 1024;
}

// The tick of a server for so many clients, then as many datagrams of the same size without us, in
// turn, 20 times a second. `ratio` is of the medians of their CPU times; the world's own tick,
// which does not grow with clients, stands beside it.
void state_to_clients(benchmark::State& state) {
  const auto mode = static_cast<Mode>(state.range(0));
  const auto views = static_cast<Views>(state.range(1));
  const auto count = static_cast<std::size_t>(state.range(2));
  auto transport = std::move(*io::UdpTransport::open(Endpoint::loopback(0)));
  host::ServerOptions options;
  host::ClientOptions who;
  if (!set_up(state, mode, options, who)) return;
  Bare bare(mode);
  const Crowd crowd(count, transport->local(), harbour_world::kProtocol, who, bare,
                    [](host::Client& client, std::atomic<std::uint64_t>& heard) {
                      client.on_payload([&heard](std::span<const std::byte>, std::size_t) {
                        ++heard;
                        return Errc::none;
                      });
                    });
  State harbour(views, static_cast<int>(state.range(3)));
  host::Server server(*transport, harbour_world::kProtocol, options);
  std::vector<std::pair<host::Peer, State::Eye*>> clients;
  server.on_connect([&](host::Peer peer) { clients.emplace_back(peer, &harbour.add()); });
  const auto run_until = [&](Time end) {
    while (io::now() < end) {
      server.receive(io::now());
      transport->wait(end);
    }
  };
  for (int i = 0; i < 400 && clients.size() < count; ++i) {
    run_until(io::now() + 25ms);
    server.flush(io::now());
  }
  if (clients.size() < count) return state.SkipWithError("not all clients came in");
  Ticks ticks;
  Time next = io::now();
  const auto tick = [&](bool counts) {
    next = std::max(next + 50ms, io::now());
    const double heard_from = cpu_seconds();
    run_until(next);
    const std::uint64_t sent_before = transport->counts().bytes_sent;
    const double begin = cpu_seconds();
    harbour.tick();
    const double start = cpu_seconds();
    for (const auto& [peer, eye] : clients) {
      server.schedule_payload(peer, &eye->replicator, 1);
    }
    server.flush(io::now());
    const double end = cpu_seconds();
    const std::uint64_t sent = transport->counts().bytes_sent - sent_before;
    const double bare_start = cpu_seconds();
    bare.send(std::max<std::size_t>(sent / count, 24));
    const double bare_end = cpu_seconds();
    if (!counts) return;
    ticks.bytes += sent;
    ticks.ours.push_back(end - start);
    ticks.theirs.push_back((bare_end - bare_start) * static_cast<double>(count) /
                           static_cast<double>(kClients));
    ticks.worlds.push_back(start - begin);
    ticks.whole.push_back(end - heard_from);
    state.SetIterationTime(end - start);
  };
  for (int warm_up = 0; warm_up < 60; ++warm_up) tick(false);
  for (auto _ : state) tick(true);
  if (static_cast<double>(crowd.heard()) < static_cast<double>(ticks.ours.size() * count) * 0.8) {
    return state.SkipWithError("not heard");
  }
  report(state, ticks, harbour, count);
}
BENCHMARK(state_to_clients)
    ->ArgNames({"mode", "shared", "clients", "more_posts"})
    ->Args({plaintext, spread, 1000, 0})
    ->Args({plaintext, shared, 1000, 0})
    ->Args({plaintext, spread, 500, 0})
    ->Args({plaintext, spread, 1000, 690})
    ->Args({chacha, spread, 1000, 0})
    ->Args({aes, spread, 1000, 0})
    ->UseManualTime()
    ->Iterations(100)
    ->Unit(benchmark::kMicrosecond);

// A server's end of one client: 380 m far some 50 entities change in each tick, in all of the
// harbour some 340 of 1300.
class Source {
 public:
  Source(std::span<std::byte> memory, double enter, std::int64_t at_rest)
      : memory_(memory), interest_(world_, {.enter = enter, .leave = enter + 10}) {
    query_.set_origin(0, 0);
    for (std::int64_t i = 0; i < at_rest; ++i) {
      const auto along = static_cast<double>(i % 50);
      world_.spawn(harbour_world::Post{{along, static_cast<double>(i) / 50}});
    }
  }
  // The next tick's snapshot: its bits in the memory, and its token. 0 and 0 if there is none:
  // everything is on its way for the first time.
  std::pair<std::size_t, std::uint64_t> next() {
    motion_.step(false);
    world_.end_tick();
    replicator_.see(query_);
    bits::Writer out(memory_);
    const auto token = replicator_.fill(Time{}, out);
    if (!token) return {0, 0};
    out.finish();
    return {out.bit_count(), *token};
  }
  // The client has it, two ticks later. A token of 0 is a tick of waiting.
  void heard(std::uint64_t token) {
    under_way_.push_back(token);
    if (under_way_.size() > 2) {
      replicator_.acked(under_way_.front());
      under_way_.erase(under_way_.begin());
    }
  }
  [[nodiscard]] std::uint64_t updates() const {
    return replicator_.counts().changed + replicator_.counts().predicted;
  }

 private:
  std::span<std::byte> memory_;
  replica::World world_{harbour_world::kEntities};
  demo::HarbourMotion motion_{world_, 2};
  replica::Interest interest_;
  replica::ClientReplicator replicator_{world_};
  replica::InterestQuery query_{interest_};
  std::vector<std::uint64_t> under_way_;
};

// A client takes the snapshot of a tick in which so many entities changed, after others have used
// the caches. `us_of_50`: the median, without the clock, for 50 of them. `of_goal`: the median
// beside 10 us and a quarter for each entity that changed. Arguments: how far the client sees, and how
// many entities near it stand still beside those of the harbour.
void client_applies(benchmark::State& state) {
  replica::ClientWorld client_world(harbour_world::kEntities);
  std::vector<std::byte> memory(1200);
  Source source(memory, static_cast<double>(state.range(0)), state.range(1));
  std::uint64_t snapshots = 0;
  const auto take = [&](std::size_t bits) {
    const Errc error = bits > 0 ? client_world.receive(memory, bits) : Errc::none;
    (void)client_world.take_events();
    return error == Errc::none;
  };
  for (int i = 0; i < 200; ++i) {
    const auto [bits, token] = source.next();
    if (!take(bits)) return state.SkipWithError("not taken");
    source.heard(token);
  }
  const std::uint64_t before = source.updates();
  std::vector<double> times;
  std::vector<double> clock;  // what reading it takes
  for (auto _ : state) {
    const auto [bits, token] = source.next();
    const double idle = cpu_seconds();
    const double start = cpu_seconds();
    const bool taken = take(bits);
    const double end = cpu_seconds();
    state.SetIterationTime(end - start);
    clock.push_back(start - idle);
    times.push_back(end - start);
    if (!taken) return state.SkipWithError("not taken");
    source.heard(token);
    ++snapshots;
  }
  const double entities =
      static_cast<double>(source.updates() - before) / static_cast<double>(snapshots);
  state.counters["entities"] = entities;
  const double us = (median(times) - median(clock)) * 1e6;
  state.counters["us_of_50"] = us / entities * 50;
  state.counters["of_goal"] = us / (10 + entities / 4);
}
BENCHMARK(client_applies)
    ->Args({380, 0})
    ->Args({380, 2000})
    ->Args({2000, 0})
    ->UseManualTime()
    ->Iterations(400)
    ->Unit(benchmark::kMicrosecond);

// A thousand tugs that move, put and taken into the history of a tick, in a world whose description
// has so many older versions with other entities. `ns_per_put` is a tick for each put; clients of the
// older versions are not there.
void put_in_versions(benchmark::State& state) {
  const auto older = static_cast<std::size_t>(state.range(0));
  schema::EntitiesInfo entities = refit::kEntities;
  entities.older = entities.older.first(older);
  entities.up_to = 1000;
  replica::World world(entities);
  std::vector<refit::Tug> tugs(1000);
  std::vector<schema::Ref<refit::Tug>> refs;
  refs.reserve(tugs.size());
  for (const refit::Tug& tug : tugs) refs.push_back(*world.spawn(tug));
  std::size_t turn = 0;
  for (auto _ : state) {
    ++turn;
    for (std::size_t i = 0; i < tugs.size(); ++i) {
      tugs[i].bearing = static_cast<double>((turn * 7 + i) % 180) * 2;
      tugs[i].at.x() = static_cast<double>((turn * 3 + i) % 200) - 100;
      world.put(refs[i], tugs[i]);
    }
    world.end_tick();
  }
  state.counters["ns_per_put"] =
      benchmark::Counter(static_cast<double>(state.iterations()) * 1e-6,
                         benchmark::Counter::kIsRate | benchmark::Counter::kInvert);
  state.counters["bytes_per_entity"] = static_cast<double>(world.memory()) / 1000;
}
BENCHMARK(put_in_versions)->DenseRange(0, 2)->Unit(benchmark::kMicrosecond);

}  // namespace
