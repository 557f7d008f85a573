// What routing costs: a handler found and called beside a call through std::function, and one
// message to a room of a thousand clients beside the system calls (and ciphers) alone.
#include <benchmark/benchmark.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <functional>
#include <memory>
#include <utility>
#include <vector>

#include "bare_sender.h"
#include "crowd.h"
#include "fan_out.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/route/dispatcher.h"

namespace {

using namespace std::chrono_literals;
using namespace kwind;
using namespace kwind::bench;

// ---- dispatch ----

// The last kind of a protocol of so many.
template <std::uint16_t kKinds>
struct Last {
  std::int64_t number = 0;
  static constexpr std::array<schema::MessageInfo, kKinds> kAll = [] {
    constexpr schema::MessageInfo kEmpty{"Last", 0, 0, schema::Direction::both, 0, 8, 8, {}};
    return [&]<std::size_t... kKind>(std::index_sequence<kKind...>) {
      std::array<schema::MessageInfo, kKinds> made{(static_cast<void>(kKind), kEmpty)...};
      for (std::size_t kind = 0; kind < kKinds; ++kind) {
        made[kind].type = static_cast<std::uint16_t>(kind);
      }
      return made;
    }
    (std::make_index_sequence<kKinds>());
  }();
  static const schema::MessageInfo& info() { return kAll[kKinds - 1]; }
};
template <std::uint16_t kKinds>
void encode(schema::Encoder&, const Last<kKinds>&) {}
template <std::uint16_t kKinds>
void decode(schema::Decoder&, Last<kKinds>&) {}

using Peer = host::Peer;

void call_std_function(benchmark::State& state) {
  std::int64_t sum = 0;
  std::function<void(Peer, const Last<10>&)> handler = [&sum](Peer peer, const Last<10>& message) {
    sum += message.number + unsigned(peer);
  };
  benchmark::DoNotOptimize(handler);
  Last<10> message;
  std::uint32_t number = 0;
  for (auto _ : state) {
    message.number = ++number;
    benchmark::DoNotOptimize(message);
    handler(Peer{number}, message);
    benchmark::DoNotOptimize(sum);
  }
}
BENCHMARK(call_std_function);

template <std::uint16_t kKinds>
void dispatch_decoded(benchmark::State& state) {
  route::Dispatcher<Peer> dispatcher(Last<kKinds>::kAll);
  std::int64_t sum = 0;
  dispatcher.template on<Last<kKinds>>(
      [&sum](Peer peer, const Last<kKinds>& message) { sum += message.number + unsigned(peer); });
  Last<kKinds> message;
  std::uint32_t number = 0;
  for (auto _ : state) {
    message.number = ++number;
    benchmark::DoNotOptimize(message);
    const auto done = dispatcher.deliver(Peer{number}, message);
    benchmark::DoNotOptimize(done);
    benchmark::DoNotOptimize(sum);
  }
  if (dispatcher.counts().handled != number) state.SkipWithError("not handled");
}
BENCHMARK(dispatch_decoded<10>);
BENCHMARK(dispatch_decoded<1000>);

// ---- fan-out ----

constexpr std::size_t kPayloadBytes = 64;

void serve_until(host::Server& server, io::UdpTransport& transport, Time end) {
  while (io::now() < end) {
    server.receive(io::now());
    server.flush(io::now());
    transport.wait(end);
  }
}

// One message to a room and the datagrams that carry it, and then the same datagrams without us,
// in turn, 30 times a second: `ratio` is of the medians of their CPU times.
template <class Message>
void fan_out_to_1000(benchmark::State& state) {
  const auto mode = static_cast<Mode>(state.range(0));
  auto transport = std::move(*io::UdpTransport::open(Endpoint::loopback(0)));
  host::ServerOptions options;
  host::ClientOptions who;
  if (!set_up(state, mode, options, who)) return;
  Bare bare(mode);
  const Crowd crowd(kClients, transport->local(), fan_out::kProtocol, who, bare,
                    [](host::Client& client, std::atomic<std::uint64_t>& heard) {
                      const auto hear = [&heard](const auto&) { ++heard; };
                      client.on<fan_out::Beat>(hear);
                      client.on<fan_out::Order>(hear);
                    });
  host::Server server(*transport, fan_out::kProtocol, options);
  server.on_connect([&](Peer peer) { server.rooms().enter(peer, "hall"); });
  const auto run_until = [&](Time end) { serve_until(server, *transport, end); };
  for (int i = 0; i < 300 && server.rooms().members("hall").size() < kClients; ++i) {
    run_until(io::now() + 50ms);
  }
  if (server.rooms().members("hall").size() < kClients) {
    return state.SkipWithError("not all clients came in");
  }
  run_until(io::now() + 1s);
  Message message;
  message.bytes.resize(kPayloadBytes);
  std::vector<double> ours;
  std::vector<double> theirs;
  const std::uint64_t encoded_before = server.counts().encoded;
  std::uint64_t bytes = 0;
  Time next = io::now();
  for (auto _ : state) {
    next = std::max(next + 33ms, io::now());
    run_until(next);
    const std::uint64_t sent_before = transport->counts().bytes_sent;
    const double start = cpu_seconds();
    const std::size_t count = server.send_to_room("hall", message);
    server.flush(io::now());
    const double end = cpu_seconds();
    const std::uint64_t sent = transport->counts().bytes_sent - sent_before;
    bytes += sent;
    const double bare_start = cpu_seconds();
    bare.send(sent / kClients);
    const double bare_end = cpu_seconds();
    ours.push_back(end - start);
    theirs.push_back(bare_end - bare_start);
    state.SetIterationTime(end - start);
    if (count != kClients) return state.SkipWithError("not sent to all");
  }
  run_until(io::now() + 1s);
  const std::size_t rounds = ours.size();
  // Sequenced messages that come late are dropped; the machine is not always quick.
  if (crowd.heard() < rounds * kClients * 9 / 10) return state.SkipWithError("not heard");
  if (server.counts().encoded - encoded_before != rounds) {
    return state.SkipWithError("not encoded once");
  }
  state.counters["ratio"] = median(ours) / median(theirs);
  state.counters["datagram_bytes"] =
      static_cast<double>(bytes) / static_cast<double>(kClients * rounds);
}
BENCHMARK(fan_out_to_1000<fan_out::Beat>)
    ->Name("fan_out_state_to_1000")
    ->ArgName("mode")
    ->DenseRange(plaintext, aes)
    ->UseManualTime()
    ->Iterations(90)
    ->Unit(benchmark::kMicrosecond);
BENCHMARK(fan_out_to_1000<fan_out::Order>)
    ->Name("fan_out_orders_to_1000")
    ->ArgName("mode")
    ->DenseRange(plaintext, aes)
    ->UseManualTime()
    ->Iterations(90)
    ->Unit(benchmark::kMicrosecond);

}  // namespace
