// bench/wire_sizes.csv holds what the harbour's messages and its state cost, exactly: a change
// shows as a diff.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <deque>
#include <fstream>
#include <iterator>
#include <sstream>
#include <string>

#include "demo/harbour_motion.h"
#include "harbour.h"
#include "kit/json_size.h"
#include "kit/sweep.h"
#include "kwind/replica/interest.h"

namespace kwind::demo {
namespace wire_sizes_test {

template <class T>
std::string row(const char* what, const T& message) {
  std::array<std::byte, 1104> memory{};
  const auto encoded = schema::encode_message(message, memory);
  EXPECT_TRUE(encoded);
  return fmt::format("{},{},{},{},{}\n", T::info().name, what, encoded->bits,
                     bits::bytes_for(encoded->bits), kit::json_bytes(message));
}

harbour::Fleet fleet_of(int tugs) {
  harbour::Fleet fleet;
  fleet.tick = 1000;
  // On the grid, as a decoder would hand them out.
  const auto on_grid = [](const auto& range, double value) {
    return range.value_of(range.index_of(value).index);
  };
  using harbour::Tug;
  for (int i = 0; i < tugs; ++i) {
    fleet.tugs.push_back(
        {i + 1, on_grid(Tug::x_range, -300 + 11.5 * i), on_grid(Tug::y_range, 80 - 7.25 * i),
         on_grid(Tug::bearing_range, 13.5 * i), on_grid(Tug::speed_range, 0.7 * i)});
  }
  return fleet;
}

// What one who looks on from 60, 60 is told over a path of a tick each way that loses nothing: what
// is within `query` arrives, then 400 ticks go by. Of what arrives alone where a sanitizer slows the
// ticks down.
std::string state_rows(const char* name, double view_metres,
                       const std::shared_ptr<const replica::CodeTables>& codes) {
  replica::World world(harbour_world::kEntities, {.codes = codes});
  HarbourMotion motion(world, 1);
  replica::Interest interest(world, {.enter = view_metres, .leave = view_metres + 16});
  replica::InterestQuery query(interest);
  query.set_origin(60, 60);
  replica::ClientReplicator replicator(world);
  replicator.bind(&query);
  std::deque<std::uint64_t> under_way;
  std::array<std::size_t, 2> bits{};
  std::array<std::size_t, 2> json{};
  for (int tick = 0; tick < (kit::kSanitized ? 10 : 410); ++tick) {
    motion.step(false);
    world.end_tick();
    const std::size_t part = tick < 10 ? 0 : 1;
    std::array<std::byte, 1100> memory{};
    for (;;) {
      bits::Writer out(memory);
      const auto token = replicator.fill(Time{}, out);
      if (!token) break;
      bits[part] += out.bit_count();
      under_way.push_back(*token);
    }
    if (tick % 2 == 1) {
      for (; !under_way.empty(); under_way.pop_front()) replicator.acked(under_way.front());
    }
    for (const replica::RelevantEntity& seen : query.update()) {
      std::visit([&](const auto& value) { json[part] += kit::json_bytes(value); },
                 motion.all().at(seen.id).value);
    }
  }
  std::string rows = fmt::format("state,\"10 ticks, all arrives, {}\",{},{},{}\n", name, bits[0],
                                 bits::bytes_for(bits[0]), json[0]);
  if (kit::kSanitized) return rows;
  return rows + fmt::format("state,\"400 ticks, {}\",{},{},{}\n", name, bits[1],
                            bits::bytes_for(bits[1]), json[1]);
}

TEST(WireSizes, AreAsCommitted) {
  std::string table = "message,of what,bits,bytes,bytes as JSON text\n";
  table += row("any", harbour::Helm{0.5, 80});
  table += row("1 tug", fleet_of(1));
  table += row("12 tugs", fleet_of(12));
  table += row("50 tugs", fleet_of(50));
  table += row("a name of 8", harbour::Enter{"Mudlark2", harbour::Cargo::salt});
  table += row("a name of 8", harbour::Arrival{7, "Mudlark2", harbour::Cargo::salt});
  table += row("any", harbour::Departure{7});
  table +=
      row("20 letters", harbour::Hail{42, "calling the office..", harbour::Hail::Tone::urgent});
  table += row("20 letters",
               harbour::Notice{7, 42, "calling the office..", harbour::Notice::Tone::urgent});
  table += state_rows("256 m, built-in codes", 256, nullptr);
  std::ifstream codes_file(KWIND_SOURCE_DIR "/examples/harbour/harbour_world.codes");
  const std::string codes_text(std::istreambuf_iterator<char>(codes_file), {});
  const auto codes = replica::read_codes(codes_text, harbour_world::kEntities);
  ASSERT_TRUE(codes) << codes.error().text;
  table += state_rows("256 m, trained codes", 256, *codes);
  table += state_rows("all 1300, trained codes", 4000, *codes);
  const std::string file = KWIND_SOURCE_DIR "/bench/wire_sizes.csv";
  if (std::getenv("KWIND_REWRITE") != nullptr && !kit::kSanitized) std::ofstream(file) << table;
  std::ifstream in(file);
  const std::string committed(std::istreambuf_iterator<char>(in), {});
  if (!kit::kSanitized) {
    EXPECT_EQ(committed, table);
    return;
  }
  std::istringstream rows(table);
  for (std::string row; std::getline(rows, row);) {
    EXPECT_NE(committed.find(row + '\n'), std::string::npos) << "not committed: " << row;
  }
}

}  // namespace wire_sizes_test
}  // namespace kwind::demo
