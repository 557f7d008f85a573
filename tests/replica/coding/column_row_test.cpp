// Rows: the ring of an entity's last rows against a plain list.
#include "replica/coding/column_row.h"

#include <gtest/gtest.h>

#include <deque>
#include <random>

#include "kit/sweep.h"

namespace kwind::replica {
namespace column_row_test {

TEST(Rows, KeepTheNewestByTick) {
  for (const std::uint64_t seed : kit::seeds(50, 2000)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    const std::size_t most = 2 + random() % 40;
    Rows rows(3, 1, most);
    std::deque<std::pair<Tick, OwnRow>> model;
    Tick tick;
    for (int i = 0; i < 200; ++i) {
      tick = tick + 1 + static_cast<std::uint32_t>(random() % 4);
      OwnRow row;
      for (int c = 0; c < 3; ++c) row.numbers.push_back(static_cast<std::uint32_t>(random()));
      row.varying.push_back(std::make_shared<const BitString>());
      rows.push(tick, row);
      model.emplace_back(tick, row);
      if (model.size() > most) model.pop_front();
      ASSERT_EQ(rows.size(), model.size());
      EXPECT_EQ(rows.newest_tick(), tick);
      for (std::size_t k = 0; k < model.size(); ++k) {
        ASSERT_EQ(rows.tick(k), model[k].first);
        ASSERT_TRUE(same(rows.row(k), Row(model[k].second)));
      }
      const Tick wanted = number_before(tick, static_cast<std::uint32_t>(random() % 60));
      std::optional<std::size_t> expected;
      for (std::size_t k = 0; k < model.size(); ++k) {
        if (model[k].first <= wanted) expected = k;
      }
      EXPECT_EQ(rows.at_or_before(wanted), expected);
    }
  }
}

TEST(Rows, AreTheSameByValueNotByAddress) {
  const auto bits = [](std::size_t count) {
    return std::make_shared<const BitString>(BitString{{std::byte{1}}, count});
  };
  const OwnRow a{{1, 2}, {bits(5)}};
  EXPECT_TRUE(same(Row(a), Row(OwnRow{{1, 2}, {bits(5)}})));
  EXPECT_FALSE(same(Row(a), Row(OwnRow{{1, 3}, {bits(5)}})));
  EXPECT_FALSE(same(Row(a), Row(OwnRow{{1, 2}, {bits(6)}})));
  EXPECT_FALSE(same(Row(a), Row(OwnRow{{1, 2}, {nullptr}})));
}

}  // namespace column_row_test
}  // namespace kwind::replica
