// A fleet of 50 tugs: generated code, a packer written by hand, and JSON text. Compare within one
// run.
#include <benchmark/benchmark.h>

#include <array>
#include <nlohmann/json.hpp>

#include "demo/json_size.h"
#include "harbour.h"

namespace {

using harbour::Fleet;

Fleet make_fleet() {
  Fleet fleet;
  fleet.tick = 1234;
  for (int i = 0; i < 50; ++i) {
    fleet.tugs.push_back({i + 1, -500 + i * 20.25, 300 - i * 7.5, i * 7.0, i * 0.3});
    auto& tug = fleet.tugs.back();
    tug.speed =
        harbour::Tug::speed_range.value_of(harbour::Tug::speed_range.index_of(tug.speed).index);
  }
  return fleet;
}

void encode_generated(benchmark::State& state) {
  const Fleet fleet = make_fleet();
  std::array<std::byte, 1104> memory{};
  const auto encoded = kwind::schema::encode_message(fleet, memory);
  Fleet back;
  if (!encoded || kwind::schema::decode_message(memory, encoded->bits, back) != kwind::Errc::none ||
      back != fleet) {
    return state.SkipWithError("wrong answer");
  }
  for (auto _ : state) benchmark::DoNotOptimize(kwind::schema::encode_message(fleet, memory));
  state.counters["wire_bytes"] = static_cast<double>(kwind::bits::bytes_for(encoded->bits));
}

void decode_generated(benchmark::State& state) {
  const Fleet fleet = make_fleet();
  std::array<std::byte, 1104> memory{};
  const auto encoded = kwind::schema::encode_message(fleet, memory);
  Fleet back;
  for (auto _ : state) {
    if (kwind::schema::decode_message(memory, encoded->bits, back) != kwind::Errc::none) {
      return state.SkipWithError("wrong answer");
    }
    benchmark::DoNotOptimize(back);
  }
}

// What a careful engineer writes without a library: one accumulator, fields already whole numbers.
void encode_by_hand(benchmark::State& state) {
  const Fleet fleet = make_fleet();
  std::array<unsigned char, 1104> memory{};
  std::size_t bytes = 0;
  for (auto _ : state) {
    std::uint64_t accumulator = 0;
    unsigned fill = 0;
    bytes = 0;
    const auto put = [&](std::uint64_t value, unsigned bits) {
      accumulator |= value << fill;
      fill += bits;
      while (fill >= 8) {
        memory[bytes++] = static_cast<unsigned char>(accumulator);
        accumulator >>= 8;
        fill -= 8;
      }
    };
    put(static_cast<std::uint64_t>(fleet.tick), 20);
    put(fleet.tugs.size(), 7);
    for (const auto& tug : fleet.tugs) {
      put(static_cast<std::uint64_t>(tug.number - 1), 6);
      put(static_cast<std::uint64_t>(static_cast<std::int64_t>(tug.x * 16 + 16384.5)), 15);
      put(static_cast<std::uint64_t>(static_cast<std::int64_t>(tug.y * 16 + 16384.5)), 15);
      put(static_cast<std::uint64_t>(static_cast<std::int64_t>(tug.bearing * 2 + 0.5)), 10);
      put(static_cast<std::uint64_t>(static_cast<std::int64_t>(tug.speed * 10 + 0.5)), 8);
    }
    if (fill > 0) memory[bytes++] = static_cast<unsigned char>(accumulator);
    benchmark::DoNotOptimize(memory);
  }
  std::array<std::byte, 1104> generated{};
  (void)kwind::schema::encode_message(fleet, generated);
  if (std::memcmp(generated.data(), memory.data(), bytes) != 0) {
    return state.SkipWithError("wrong answer");
  }
  state.counters["wire_bytes"] = static_cast<double>(bytes);
}

void encode_json_text(benchmark::State& state) {
  const Fleet fleet = make_fleet();
  for (auto _ : state) benchmark::DoNotOptimize(kwind::demo::to_json_value(fleet).dump());
  state.counters["wire_bytes"] =
      static_cast<double>(kwind::demo::to_json_value(fleet).dump().size());
}

void decode_json_text(benchmark::State& state) {
  const std::string text = kwind::demo::to_json_value(make_fleet()).dump();
  for (auto _ : state) benchmark::DoNotOptimize(nlohmann::json::parse(text));
}

BENCHMARK(encode_generated);
BENCHMARK(encode_by_hand);
BENCHMARK(encode_json_text);
BENCHMARK(decode_generated);
BENCHMARK(decode_json_text);

}  // namespace
