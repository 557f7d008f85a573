// Desync reports: they come back, as many entities as fit, and nothing is read from less.
#include "replica/coding/desync_report.h"

#include <gtest/gtest.h>

#include <random>
#include <vector>

namespace kwind::replica {
namespace desync_report_test {

std::vector<DesyncedEntity> entities_of(std::uint64_t seed, std::size_t count) {
  std::mt19937_64 random(seed);
  std::vector<DesyncedEntity> made;
  std::uint32_t id = 0;
  for (std::size_t i = 0; i < count; ++i) {
    id += 1 + static_cast<std::uint32_t>(random() % (random() % 8 == 0 ? 100000 : 5));
    DesyncedEntity each{EntityId(id),
                        static_cast<std::uint8_t>(random() % 16),
                        static_cast<std::uint32_t>(random()) & kReportTickMask,
                        {}};
    each.columns.resize(random() % 12);
    for (std::uint8_t& hash : each.columns) hash = static_cast<std::uint8_t>(random());
    made.push_back(std::move(each));
  }
  return made;
}
bool same(const DesyncedEntity& a, const DesyncedEntity& b) {
  return a.id == b.id && a.generation == b.generation && a.tick_low == b.tick_low &&
         a.columns == b.columns;
}

TEST(DesyncReport, ComesBackAsFarAsItFits) {
  for (std::uint64_t seed = 1; seed <= 50; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    const auto entities = entities_of(seed, seed % 40);
    std::vector<std::byte> memory(seed % 2 == 0 ? 100 : 4000);
    bits::Writer out(memory);
    write_report(out, entities);
    ASSERT_TRUE(out.ok());
    const std::size_t bits = out.bit_count();
    out.finish();
    const auto read = read_report(memory, bits);
    ASSERT_TRUE(read) << error_info(read.error()).text;
    EXPECT_TRUE(std::equal(read->begin(), read->end(), entities.begin(),
                           entities.begin() + static_cast<std::ptrdiff_t>(read->size()), same));
    if (memory.size() == 4000) {
      EXPECT_EQ(read->size(), entities.size());
    } else if (read->size() < entities.size()) {
      EXPECT_LT(memory.size() * 8 - bits, 80 + 8 * entities[read->size()].columns.size())
          << "the next one would have fitted";
    }
    for (std::size_t less = 0; less < bits; ++less) {
      const auto cut = read_report(memory, less);
      ASSERT_FALSE(cut);
      EXPECT_EQ(cut.error(), Errc::truncated);
    }
    const auto more = read_report(memory, bits + 1);
    if (bits + 1 <= memory.size() * 8) {
      ASSERT_FALSE(more);
      EXPECT_EQ(more.error(), Errc::trailing_bits);
    }
  }
}

TEST(DesyncReport, TakesNoMemoryForColumnsThatAreClaimed) {
  std::vector<std::byte> memory(64);
  bits::Writer out(memory);
  out.put_bool(true);
  out.put_count(0, 3);
  out.put(0, 4);
  out.put(0, kReportTickBits);
  out.put_count(1000, 3);  // so many columns, and no bits for them
  const std::size_t bits = out.bit_count();
  out.finish();
  const auto read = read_report(memory, bits + 16);
  ASSERT_FALSE(read);
  EXPECT_EQ(read.error(), Errc::truncated);
}

}  // namespace desync_report_test
}  // namespace kwind::replica
