// What connections cost a server: handshakes beside the key exchanges alone, idle ones in memory
// and time, and sending to a thousand beside the system calls alone.
#include <benchmark/benchmark.h>
#include <malloc.h>

#include <algorithm>
#include <array>
#include <memory>
#include <vector>

#include "bare_sender.h"
#include "kit/sim_pair.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/link/link.h"
#include "kwind/link/listener.h"
#include "link/link_access.h"

namespace {

using namespace std::chrono_literals;
using namespace kwind;
using bench::kClients;

link::LinkOptions options() {
  link::LinkOptions made;
  made.channels = {{Delivery::sequenced}, {Delivery::ordered}};
  made.tags = 1;
  return made;
}

link::ListenerOptions door(std::size_t capacity, bool aes) {
  link::ListenerOptions made{kit::test_identity(), kit::secret_of(3), capacity, 0};
  made.key = kit::server_key();
  made.aes = aes;
  made.exchanges = {2 * capacity, 1e9, 1e9, 1e9};
  return made;
}

// A client that has its cookie, and the offer that it sends next.
struct Knocking {
  link::Link client;
  Endpoint from;
  std::vector<std::byte> offer;
};

Knocking knock(link::Listener& listener, std::uint64_t number, bool aes, Time now) {
  link::ConnectOptions who{kit::test_identity(), kit::secret_of(1000 + number)};
  who.server_key = kit::server_key().public_key;
  who.aes = aes;
  const Endpoint from =
      Endpoint::v4(127, static_cast<std::uint8_t>(1 + (number >> 16)),
                   static_cast<std::uint8_t>(number >> 8), static_cast<std::uint8_t>(number), 5000);
  Knocking out{link::Link::connect(who, options(), now), from, {}};
  std::array<std::byte, link::kMaxDatagramBytes> hello{};
  std::array<std::byte, link::kBaseDatagramBytes> reply{};
  const std::size_t size = out.client.poll_datagram(now, hello);
  const auto said = listener.receive(now, from, std::span(hello).first(size), reply);
  (void)out.client.receive(now, std::span(reply).first(said.reply_bytes));
  out.offer.resize(link::kMaxDatagramBytes);
  out.offer.resize(out.client.poll_datagram(now, out.offer));
  return out;
}

// A client and the server's end of its connection, opened on both sides.
struct Open {
  link::Link client;
  link::Link server;
};
Open open_link(link::Listener& listener, std::uint64_t number, bool aes, Time now) {
  Knocking knocking = knock(listener, number, aes, now);
  std::array<std::byte, link::kBaseDatagramBytes> reply{};
  (void)listener.receive(now, knocking.from, knocking.offer, reply);
  const auto done = listener.exchange(now, reply);
  (void)knocking.client.receive(now, std::span(reply).first(done->reply_bytes));
  std::array<std::byte, link::kMaxDatagramBytes> ping{};
  const std::size_t size = knocking.client.poll_datagram(now, ping);
  const auto admitted = listener.admit(now, 0, std::span(ping).first(size));
  Open open{std::move(knocking.client),
            link::Link::accept(admitted->admission, knocking.from, options(), now)};
  (void)open.server.receive_from(now, knocking.from, std::span(ping).first(size));
  while (open.server.poll_event() || open.client.poll_event()) {
  }
  return open;
}

// The server's work for one client: its offer, answered.
void handshake_of_the_server(benchmark::State& state) {
  constexpr std::size_t kMany = 2000;
  const Time now = kit::at(1s);
  std::array<std::byte, link::kBaseDatagramBytes> reply{};
  std::uint64_t number = 0;
  std::size_t next = kMany;
  std::unique_ptr<link::Listener> listener;
  std::vector<Knocking> clients;
  for (auto _ : state) {
    if (next == kMany) {
      state.PauseTiming();
      listener = std::make_unique<link::Listener>(door(kMany, true));
      clients.clear();
      for (std::size_t i = 0; i < kMany; ++i) {
        clients.push_back(knock(*listener, number++, true, now));
      }
      next = 0;
      state.ResumeTiming();
    }
    (void)listener->receive(now, clients[next].from, clients[next].offer, reply);
    const auto done = listener->exchange(now, reply);
    if (!done || !done->attempt) return state.SkipWithError("not answered");
    benchmark::DoNotOptimize(done->attempt);
    ++next;
  }
}
BENCHMARK(handshake_of_the_server)->Unit(benchmark::kMicrosecond);

// What of it is X25519: an ephemeral key, and two exchanges.
void key_exchanges_of_a_handshake(benchmark::State& state) {
  const link::KeyPair& a = kit::server_key();
  std::array<unsigned char, 32> out{};
  const auto* secret = reinterpret_cast<const unsigned char*>(a.secret.bytes().data());
  const auto* other = reinterpret_cast<const unsigned char*>(a.public_key.data());
  for (auto _ : state) {
    crypto_scalarmult_curve25519_base(out.data(), secret);
    if (crypto_scalarmult_curve25519(out.data(), secret, other) != 0 ||
        crypto_scalarmult_curve25519(out.data(), secret, other) != 0) {
      return state.SkipWithError("no key");
    }
    benchmark::DoNotOptimize(out);
  }
}
BENCHMARK(key_exchanges_of_a_handshake)->Unit(benchmark::kMicrosecond);

// Ten thousand connections with nothing to say but keepalives, ticked 20 times a second: memory of
// the server's end of each, and the share of a core that a second of them takes.
void idle_connections(benchmark::State& state) {
  constexpr std::size_t kMany = 10000;
  link::Listener listener(door(kMany, true));
  Time now = kit::at(1s);
  std::vector<link::Link> clients;
  std::vector<link::Link> servers;
  clients.reserve(kMany);
  servers.reserve(kMany);
  std::array<std::byte, link::kMaxDatagramBytes> out{};
  for (std::size_t i = 0; i < kMany; ++i) {
    now += 200us;
    Open open = open_link(listener, i, true, now);
    clients.push_back(std::move(open.client));
    servers.push_back(std::move(open.server));
  }
  std::vector<Time> wakeups(kMany);
  Duration server_time{0};
  const auto second = [&] {
    for (int tick = 0; tick < 20; ++tick) {
      now += 50ms;
      for (std::size_t i = 0; i < kMany; ++i) {
        if (now >= clients[i].next_wakeup()) clients[i].wake(now);
        while (const std::size_t size = clients[i].poll_datagram(now, out)) {
          const Time begun = io::now();
          (void)servers[i].receive(now, std::span(out).first(size));
          wakeups[i] = servers[i].next_wakeup();  // as the server keeps it
          server_time += io::now() - begun;
        }
      }
      const Time before = io::now();
      for (std::size_t i = 0; i < kMany; ++i) {
        if (now < wakeups[i]) continue;
        servers[i].wake(now);
        while (const std::size_t size = servers[i].poll_datagram(now, out)) {
          server_time += before - io::now();  // the client's part is not the server's
          (void)clients[i].receive(now, std::span(out).first(size));
          server_time += io::now() - before;
        }
        wakeups[i] = servers[i].next_wakeup();
      }
      server_time += io::now() - before;
    }
  };
  for (int i = 0; i < 20; ++i) second();
  server_time = Duration{0};
  int seconds = 0;
  for (auto _ : state) {
    second();
    ++seconds;
  }
  std::size_t alive = 0;
  for (const link::Link& link : servers) alive += link.state() == link::State::open ? 1 : 0;
  if (alive != kMany) return state.SkipWithError("some were lost");
  state.counters["core_share"] = std::chrono::duration<double>(server_time).count() / seconds;
  // What goes when they go.
  const std::size_t held = mallinfo2().uordblks;
  servers.clear();
  state.counters["bytes_each"] =
      static_cast<double>(held - mallinfo2().uordblks) / static_cast<double>(kMany);
}
BENCHMARK(idle_connections)->Iterations(10)->Unit(benchmark::kMillisecond);

constexpr std::size_t kStateBytes = 40;

// The client hears and answers, so that acks come; that is not the server's sending.
void answer(Open& open, std::span<const std::byte> datagram, Time now) {
  std::array<std::byte, link::kMaxDatagramBytes> out{};
  (void)open.client.receive(now, datagram);
  while (open.client.poll_event()) {
  }
  open.client.wake(now);
  while (const std::size_t size = open.client.poll_datagram(now, out)) {
    (void)open.server.receive(now, std::span(out).first(size));
  }
}

// A tick of a server that sends a small state message to each of a thousand clients, and then the
// same datagrams without us, in turn: `ratio` is of the medians of their CPU times. The argument is
// the cipher: 0 ChaCha20-Poly1305, 1 AES-256-GCM.
void send_sealed_to_1000(benchmark::State& state) {
  const bool with_aes = state.range(0) == 1;
  bench::Bare bare(bench::plaintext);
  auto transport = io::UdpTransport::open(Endpoint::loopback(0));
  if (!transport) return state.SkipWithError("no socket");
  link::Listener listener(door(kClients, with_aes));
  Time now = kit::at(1s);
  std::vector<Open> links;
  for (std::size_t i = 0; i < kClients; ++i) links.push_back(open_link(listener, i, with_aes, now));
  if (with_aes && links[0].server.protection() != "AES-256-GCM") {
    return state.SkipWithError("no AES hardware");
  }
  const std::array<std::byte, kStateBytes> payload{};
  std::array<std::byte, link::kMaxDatagramBytes> out{};
  std::vector<std::vector<std::byte>> sent(kClients);
  std::vector<double> ours;
  std::vector<double> theirs;
  std::size_t bytes = 0;
  for (auto _ : state) {
    now += 16667us;
    const double start = bench::cpu_seconds();
    std::size_t size = 0;
    for (std::size_t i = 0; i < kClients; ++i) {
      // As a host of many links does it.
      constexpr std::array<std::size_t, link::LinkAccess::kPrefetchSteps> kAhead{15, 12, 9,
                                                                                 6,  4,  2};
      for (unsigned step = 0; step < kAhead.size(); ++step) {
        if (i + kAhead[step] >= kClients) continue;
        link::LinkAccess::prefetch(links[i + kAhead[step]].server, link::LinkUse::poll_datagram,
                                   step);
      }
      (void)links[i].server.send(0, 0, payload, kStateBytes * 8);
      size = links[i].server.poll_datagram(now, out);
      (*transport)->send(now, bare.address(i), std::span(out).first(size));
      sent[i].assign(out.begin(), out.begin() + static_cast<std::ptrdiff_t>(size));
      bytes += size;
    }
    (*transport)->flush(now);
    ours.push_back(bench::cpu_seconds() - start);
    state.SetIterationTime(ours.back());
    for (std::size_t i = 0; i < kClients; ++i) answer(links[i], sent[i], now);
    bare.drain();
    const double bare_start = bench::cpu_seconds();
    bare.send(size);
    theirs.push_back(bench::cpu_seconds() - bare_start);
    bare.drain();
  }
  if ((*transport)->counts().segmented > 0)
    return state.SkipWithError("datagrams went in one piece");
  state.counters["ratio"] = bench::median(ours) / bench::median(theirs);
  state.counters["datagram_bytes"] =
      static_cast<double>(bytes) / static_cast<double>(kClients * state.iterations());
}
BENCHMARK(send_sealed_to_1000)
    ->ArgName("aes")
    ->Arg(0)
    ->Arg(1)
    ->UseManualTime()
    ->Iterations(300)
    ->Unit(benchmark::kMicrosecond);

}  // namespace
