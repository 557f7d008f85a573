// A list of 50 entities: generated code, the runtime codec, a packer written by hand, JSON text.
// Compare within one run.
#include <benchmark/benchmark.h>

#include <array>
#include <cstring>
#include <nlohmann/json.hpp>

#include "entities.h"
#include "entities_text.h"
#include "kwind/language/compile.h"
#include "kwind/schema/runtime.h"
#include "kwind/schema/sample.h"

namespace {

using namespace kwind;
using entities::Thing;
using entities::World;

constexpr std::size_t kThings = 50;
using Memory = std::array<std::byte, 1104>;

World make_world() {
  World world;
  schema::SampleNumbers numbers(5);
  for (std::size_t i = 0; i < kThings; ++i) {
    world.things.push_back({Thing::x_range.value_of(numbers.up_to(8191)),
                            Thing::y_range.value_of(numbers.up_to(8191)),
                            Thing::heading_range.value_of(numbers.up_to(719)),
                            static_cast<std::int32_t>(numbers.up_to(7)),
                            static_cast<std::int32_t>(numbers.up_to(2047))});
  }
  return world;
}

// What a careful engineer writes without a library: one 64-bit accumulator, values trusted.
class HandPacker {
 public:
  explicit HandPacker(std::byte* to) : to_(to) {}
  void put(std::uint64_t value, unsigned bits) {
    accumulator_ |= value << fill_;
    if (fill_ + bits >= 64) {
      std::memcpy(to_, &accumulator_, 8);
      to_ += 8;
      const unsigned used = 64 - fill_;
      accumulator_ = value >> used;
      fill_ = bits - used;
    } else {
      fill_ += bits;
    }
  }
  std::byte* finish() {
    std::memcpy(to_, &accumulator_, 8);
    return to_ + (fill_ + 7) / 8;
  }

 private:
  std::byte* to_;
  std::uint64_t accumulator_ = 0;
  unsigned fill_ = 0;
};

class HandUnpacker {
 public:
  explicit HandUnpacker(const std::byte* from) : from_(from) {
    std::memcpy(&accumulator_, from_, 8);
  }
  std::uint64_t get(unsigned bits) {
    std::uint64_t value = accumulator_ >> used_;
    if (used_ + bits >= 64) {
      from_ += 8;
      std::memcpy(&accumulator_, from_, 8);
      if (used_ > 0) value |= accumulator_ << (64 - used_);
      used_ = used_ + bits - 64;
    } else {
      used_ += bits;
    }
    return value & ((std::uint64_t{1} << bits) - 1);
  }

 private:
  const std::byte* from_;
  std::uint64_t accumulator_ = 0;
  unsigned used_ = 0;
};

std::size_t pack_by_hand(const World& world, Memory& memory) {
  HandPacker out(memory.data());
  out.put(world.things.size(), 6);
  const auto whole = [](double v) {
    return static_cast<std::uint64_t>(static_cast<std::int64_t>(v));
  };
  for (const Thing& thing : world.things) {
    out.put(whole(thing.x * 16 + 0.5), 13);
    out.put(whole(thing.y * 16 + 0.5), 13);
    out.put(whole(thing.heading * 2 + 0.5), 10);
    out.put(static_cast<std::uint64_t>(thing.kind), 3);
    out.put(static_cast<std::uint64_t>(thing.health), 11);
  }
  return static_cast<std::size_t>(out.finish() - memory.data());
}

void unpack_by_hand(const Memory& memory, World& world) {
  HandUnpacker in(memory.data());
  world.things.resize(in.get(6));
  for (Thing& thing : world.things) {
    thing.x = static_cast<double>(in.get(13)) / 16;
    thing.y = static_cast<double>(in.get(13)) / 16;
    thing.heading = static_cast<double>(in.get(10)) / 2;
    thing.kind = static_cast<std::int32_t>(in.get(3));
    thing.health = static_cast<std::int32_t>(in.get(11));
  }
}

nlohmann::json json_of(const World& world) {
  nlohmann::json out;
  for (const Thing& thing : world.things) {
    out["things"].push_back({{"x", thing.x},
                             {"y", thing.y},
                             {"heading", thing.heading},
                             {"kind", thing.kind},
                             {"health", thing.health}});
  }
  return out;
}

// The same description without generated code.
struct Runtime {
  schema::Protocol protocol;
  const std::vector<schema::Field>* fields = nullptr;
  schema::Value value;
};
Runtime& runtime() {
  static Runtime made = [] {
    Runtime out;
    out.protocol = language::compile(kEntitiesText, "entities.kw").protocol;
    Memory memory{};
    const auto encoded = schema::encode_message(make_world(), memory);
    schema::Decoder in(bits::Reader(memory, encoded->bits));
    schema::decode_value(out.protocol, out.protocol.messages[0].fields, in, out.value);
    return out;
  }();
  made.fields = &made.protocol.messages[0].fields;
  return made;
}

void encode_by_hand(benchmark::State& state) {
  const World world = make_world();
  Memory memory{};
  Memory generated{};
  const auto encoded = schema::encode_message(world, generated);
  const std::size_t bytes = pack_by_hand(world, memory);
  if (bytes != bits::bytes_for(encoded->bits) ||
      std::memcmp(memory.data(), generated.data(), bytes) != 0) {
    return state.SkipWithError("wrong answer");
  }
  for (auto _ : state) {
    benchmark::DoNotOptimize(pack_by_hand(world, memory));
    benchmark::ClobberMemory();
  }
  state.counters["wire_bytes"] = static_cast<double>(bytes);
}

void encode_generated(benchmark::State& state) {
  const World world = make_world();
  Memory memory{};
  for (auto _ : state) {
    benchmark::DoNotOptimize(schema::encode_message(world, memory));
    benchmark::ClobberMemory();
  }
  state.counters["wire_bytes"] =
      static_cast<double>(bits::bytes_for(schema::encode_message(world, memory)->bits));
}

void encode_runtime(benchmark::State& state) {
  Runtime& run = runtime();
  Memory memory{};
  for (auto _ : state) {
    schema::Encoder out{bits::Writer(memory)};
    schema::encode_value(run.protocol, *run.fields, run.value, out);
    benchmark::DoNotOptimize(out.finish());
    benchmark::ClobberMemory();
  }
}

void encode_json_text(benchmark::State& state) {
  const World world = make_world();
  for (auto _ : state) benchmark::DoNotOptimize(json_of(world).dump());
  state.counters["wire_bytes"] = static_cast<double>(json_of(world).dump().size());
}

void decode_by_hand(benchmark::State& state) {
  const World world = make_world();
  Memory memory{};
  pack_by_hand(world, memory);
  World back;
  unpack_by_hand(memory, back);
  if (back != world) return state.SkipWithError("wrong answer");
  for (auto _ : state) {
    unpack_by_hand(memory, back);
    benchmark::DoNotOptimize(back.things.data());
    benchmark::ClobberMemory();
  }
}

void decode_generated(benchmark::State& state) {
  const World world = make_world();
  Memory memory{};
  const std::size_t bits = schema::encode_message(world, memory)->bits;
  World back;
  if (schema::decode_message(memory, bits, back) != Errc::none || back != world) {
    return state.SkipWithError("wrong answer");
  }
  for (auto _ : state) {
    benchmark::DoNotOptimize(schema::decode_message(memory, bits, back));
    benchmark::ClobberMemory();
  }
}

void decode_runtime(benchmark::State& state) {
  Runtime& run = runtime();
  Memory memory{};
  const std::size_t bits = schema::encode_message(make_world(), memory)->bits;
  schema::Value back;
  for (auto _ : state) {
    schema::Decoder in(bits::Reader(memory, bits));
    schema::decode_value(run.protocol, *run.fields, in, back);
    benchmark::DoNotOptimize(in.error());
  }
  if (!(back == run.value)) return state.SkipWithError("wrong answer");
}

void decode_json_text(benchmark::State& state) {
  const std::string text = json_of(make_world()).dump();
  for (auto _ : state) benchmark::DoNotOptimize(nlohmann::json::parse(text));
}

// Time per input byte of honest bits, and of the same bits spoilt in every way that a peer might.
void decode_good_bytes(benchmark::State& state) {
  Memory memory{};
  const std::size_t bits = schema::encode_message(make_world(), memory)->bits;
  World back;
  std::size_t bytes = 0;
  for (auto _ : state) {
    benchmark::DoNotOptimize(schema::decode_message(memory, bits, back));
    bytes += bits::bytes_for(bits);
  }
  state.SetBytesProcessed(static_cast<std::int64_t>(bytes));
}

void decode_hostile_bytes(benchmark::State& state) {
  schema::SampleNumbers numbers(9);
  std::vector<std::pair<Memory, std::size_t>> corpus;
  Memory good{};
  const std::size_t bits = schema::encode_message(make_world(), good)->bits;
  for (int i = 0; i < 256; ++i) {
    Memory memory = good;
    std::size_t size = bits;
    if (i % 4 == 0) size = numbers.up_to(bits);                              // cut
    if (i % 4 == 1) size = bits + numbers.up_to(4000);                       // lengthened
    if (i % 4 == 2) memory[0] = static_cast<std::byte>(numbers.up_to(255));  // another length
    if (i % 4 == 3) {
      for (auto& byte : memory) byte = static_cast<std::byte>(numbers.up_to(255));
    }
    corpus.emplace_back(memory, size);
  }
  World back;
  std::size_t bytes = 0;
  std::size_t next = 0;
  for (auto _ : state) {
    const auto& [memory, size] = corpus[next++ % corpus.size()];
    benchmark::DoNotOptimize(schema::decode_message(memory, size, back));
    bytes += bits::bytes_for(size);
  }
  state.SetBytesProcessed(static_cast<std::int64_t>(bytes));
}

BENCHMARK(encode_by_hand);
BENCHMARK(encode_generated);
BENCHMARK(encode_runtime);
BENCHMARK(encode_json_text);
BENCHMARK(decode_by_hand);
BENCHMARK(decode_generated);
BENCHMARK(decode_runtime);
BENCHMARK(decode_json_text);
BENCHMARK(decode_good_bytes);
BENCHMARK(decode_hostile_bytes);

}  // namespace
