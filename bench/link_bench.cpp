// What the link costs a datagram: two links in virtual time, a 40-byte state message each way.
#include <benchmark/benchmark.h>

#include "kit/sim_pair.h"

namespace {

using namespace std::chrono_literals;
using namespace kwind;

void exchange_state(benchmark::State& state) {
  kit::SimPair pair({.conditions = {.delay = 20ms}});
  pair.run_until(kit::at(1s));
  std::array<std::byte, 40> payload{};
  std::uint64_t heard = 0;
  const auto hear = [&](bool, const link::Event& event) {
    heard += event.kind == link::Event::Kind::message ? 1 : 0;
  };
  std::uint64_t sent = 0;
  const std::size_t channel = static_cast<std::size_t>(state.range(0));
  for (auto _ : state) {
    (void)pair.client().send(channel, 0, payload, 320);
    (void)pair.server().send(channel, 0, payload, 320);
    sent += 2;
    pair.run_until(pair.now() + 50ms, hear);
  }
  pair.run_until(pair.now() + 1s, hear);
  if (heard != sent) return state.SkipWithError("wrong answer");
  const link::Stats& stats = pair.server().stats();
  state.SetItemsProcessed(static_cast<std::int64_t>(sent));
  state.counters["wire_bytes_down"] =
      static_cast<double>(stats.bytes_sent) / static_cast<double>(stats.datagrams_sent);
}

BENCHMARK(exchange_state)->ArgName("channel")->Arg(1)->Arg(2);

}  // namespace
