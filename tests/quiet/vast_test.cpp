// A hostile server against a client: what a client does is in proportion to what the server sends.
#include <gtest/gtest.h>

#include <array>

#include "kwind/replica/client_world.h"
#include "quiet/allocations.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/snapshot_head.h"
#include "vast.h"

namespace kwind::replica {
namespace vast_test {

struct Snapshot {
  std::array<std::byte, 64> bytes{};
  std::size_t bits = 0;
};

// A full snapshot in which gulls with these ids spawn, as the first since a full resync.
Snapshot full_snapshot(std::uint32_t number, std::span<const std::uint32_t> ids) {
  static const auto codes = built_in_codes(vast::kEntities);
  Snapshot made;
  bits::Writer out(made.bytes);
  SnapshotMark mark;
  mark.snapshot = mark.start = SnapshotNumber(number);
  mark.tick = Tick(number);
  write_head(out, mark, nullptr, std::nullopt, {false, false, true, false},
             {tick_rate_of(20), static_cast<std::uint16_t>(codes->digest())}, codes->inside().heads,
             nullptr);
  std::uint32_t before = 0;
  for (const std::uint32_t id : ids) {
    if (before > 0) out.put_bool(true);
    out.put_count(id - before - 1, kIdOrder);
    before = id;
    out.put(1, kGenerationBits);
    out.put_bool(false);  // the owner is another one
    out.put(7, 4);
  }
  out.put_bool(false);
  made.bits = out.bit_count();
  out.finish();
  return made;
}

Errc take(ClientWorld& world, const Snapshot& snapshot) {
  return world.receive(std::span(snapshot.bytes).first(bits::bytes_for(snapshot.bits)),
                       snapshot.bits);
}

constexpr std::uint32_t kLast = 1048576;

// 122 bits took 168 MiB.
TEST(HostileServer, TheLastIdTakesNoMemoryForThoseBelow) {
  ClientWorld world(vast::kEntities);
  const Snapshot first = full_snapshot(1, std::array{kLast});
  EXPECT_LT(first.bits, 160U);
  const std::size_t before = quiet::allocated_bytes;
  ASSERT_EQ(take(world, first), Errc::none);
  EXPECT_LT(quiet::allocated_bytes - before, std::size_t{1} << 20);
  ASSERT_EQ(world.size(), 1U);
  const auto gull = world.get(schema::Ref<vast::Gull>{kLast, 1});
  ASSERT_TRUE(gull);
  EXPECT_EQ(gull->height, 7);
}

// Each full resync went through all ids: 22 ms for 70 bits.
TEST(HostileServer, AFullResyncTakesWorkForWhatIsThere) {
  ClientWorld world(vast::kEntities);
  ASSERT_EQ(take(world, full_snapshot(1, std::array{kLast})), Errc::none);
  const std::size_t before = quiet::allocated_bytes;
  for (std::uint32_t number = 2; number < 1002; ++number) {
    ASSERT_EQ(take(world, full_snapshot(number, std::array{kLast})), Errc::none);
    (void)world.take_events();
  }
  EXPECT_LT(quiet::allocated_bytes - before, std::size_t{1000} * 32768);
  EXPECT_EQ(world.entities().size(), 1U);
}

TEST(HostileServer, EntitiesAreListedByIdWhateverTheirOrder) {
  ClientWorld world(vast::kEntities);
  ASSERT_EQ(take(world, full_snapshot(1, std::array{40U, 900000U})), Errc::none);
  ASSERT_EQ(take(world, full_snapshot(2, std::array{3U, 40U, 900000U})), Errc::none);
  std::vector<std::uint32_t> ids;
  for (const schema::AnyRef& ref : world.entities()) ids.push_back(ref.id);
  EXPECT_EQ(ids, (std::vector<std::uint32_t>{3, 40, 900000}));
  EXPECT_FALSE(world.get(schema::Ref<vast::Gull>{41, 1})) << "on the page of one that is there";
  EXPECT_FALSE(world.get(schema::Ref<vast::Gull>{500000, 1}));
}

}  // namespace vast_test
}  // namespace kwind::replica
