// The worked snapshot of docs/state-format.md is what the code writes.
#include <gtest/gtest.h>

#include <array>
#include <fstream>
#include <iterator>

#include "kwind/bits/writer.h"
#include "kwind/core/digest.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/world.h"
#include "page.h"

namespace kwind::replica {
namespace state_format_test {

TEST(StateFormat, ShowsAFullSnapshotInHexadecimal) {
  World world(page::kEntities, {.ticks_per_second = 20});
  const auto buoy = world.spawn(page::Buoy{.lit = true, .depth = 9});
  ASSERT_TRUE(buoy);
  for (int tick = 0; tick < 6; ++tick) world.end_tick();  // the newest tick is 5
  ClientReplicator replicator(world);
  const std::array<RelevantEntity, 1> view{{{.id = buoy->id}}};
  replicator.see(view);
  std::array<std::byte, 64> memory{};
  bits::Writer out(memory);
  ASSERT_TRUE(replicator.fill(Time{}, out));
  const std::size_t bits = out.bit_count();
  out.finish();
  const std::string hex = to_hex(memory, bits::bytes_for(bits));

  std::ifstream in(KWIND_SOURCE_DIR "/docs/state-format.md");
  const std::string page(std::istreambuf_iterator<char>(in), {});
  EXPECT_NE(page.find("```hex\n" + hex + "\n```"), std::string::npos)
      << hex << ", " << bits << " bits";
  EXPECT_NE(page.find("It has " + std::to_string(bits) + " bits:"), std::string::npos) << bits;
}

}  // namespace state_format_test
}  // namespace kwind::replica
