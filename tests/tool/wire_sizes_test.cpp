// bench/wire_sizes.csv holds what the harbour's messages cost, exactly: a change shows as a diff.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <fstream>
#include <iterator>

#include "harbour.h"
#include "kit/json_size.h"

namespace kwind::demo {
namespace {

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
  const std::string file = KWIND_SOURCE_DIR "/bench/wire_sizes.csv";
  if (std::getenv("KWIND_REWRITE") != nullptr) std::ofstream(file) << table;
  std::ifstream in(file);
  EXPECT_EQ(std::string(std::istreambuf_iterator<char>(in), {}), table);
}

}  // namespace
}  // namespace kwind::demo
