// Delta coding of lists and texts by item.
#include <gtest/gtest.h>

#include <random>

#include "kwind/schema/entity_info.h"
#include "replica/coding/list_delta.h"

namespace kwind::replica {
namespace list_delta_test {

using schema::ColumnInfo;

BitString list_of(const ColumnInfo& column, const std::vector<unsigned>& items) {
  BitString made{std::vector<std::byte>(4096), 0};
  bits::Writer out(made.bytes);
  out.put(items.size(), bits::bits_for(std::uint64_t{column.max_items} + 1));
  for (const unsigned item : items) {
    out.put(item, std::min(column.item_bits, 64U));
    if (column.item_bits > 64) out.put(item, column.item_bits - 64);
  }
  made.bits = out.bit_count();
  made.bytes.resize(out.finish());
  return made;
}
ColumnInfo list_column(std::uint32_t max_items, std::uint32_t item_bits) {
  ColumnInfo column{};
  column.form = schema::ColumnForm::varying;
  column.max_items = max_items;
  column.item_bits = item_bits;
  column.last = 32 + max_items * item_bits;
  return column;
}
void expect_back(const ColumnInfo& column, const BitString& before, const BitString& now) {
  const BitString change = list_change(column, before, now, 100000);
  if (before == now) return;
  ASSERT_GT(change.bits, 0U);
  bits::Reader in(change.bytes, change.bits);
  const SharedBits read = read_list_change(in, column, before);
  ASSERT_NE(read, nullptr);
  EXPECT_EQ(in.left_bits(), 0U);
  EXPECT_EQ(*read, now);
}

TEST(ListDelta, GivesBackEveryListFromEveryOther) {
  std::mt19937_64 random(1);
  for (const auto& [max, bits] : {std::pair(5U, 3U), {20U, 1U}, {70U, 8U}, {200U, 90U}}) {
    const ColumnInfo column = list_column(max, bits);
    for (int i = 0; i < 400; ++i) {
      std::vector<unsigned> items;
      for (std::size_t left = random() % (max + 1); left > 0; --left) {
        items.push_back(random() % 2 + 0U);
      }
      std::vector<unsigned> other = items;
      for (std::size_t edits = random() % 6; edits > 0; --edits) {
        const auto place = static_cast<std::ptrdiff_t>(random() % (other.size() + 1));
        const bool end = place == static_cast<std::ptrdiff_t>(other.size());
        const std::uint64_t what = random() % 3;
        if (what == 0 && other.size() < max) {
          other.insert(other.begin() + place, random() % 2 + 0U);
        } else if (what == 1 && !end) {
          other.erase(other.begin() + place);
        } else if (!end) {
          other[static_cast<std::size_t>(place)] ^= 1U;
        }
      }
      if (random() % 20 == 0) other.clear();
      expect_back(column, list_of(column, items), list_of(column, other));
      if (HasFailure()) return;
    }
  }
}

TEST(ListDelta, OneItemInsertedInFrontTakesLittleMoreThanItself) {
  const ColumnInfo column = list_column(60, 8);
  std::vector<unsigned> items(50);
  for (unsigned i = 0; i < 50; ++i) items[i] = 100 + i;
  std::vector<unsigned> more = items;
  more.insert(more.begin(), 7);
  EXPECT_LE(list_change(column, list_of(column, items), list_of(column, more), 1000).bits, 16U);
  more.erase(more.begin() + 20);
  EXPECT_LE(list_change(column, list_of(column, items), list_of(column, more), 1000).bits, 32U);
}

TEST(ListDelta, ValuesWithoutItemsKeepBeginningAndEnd) {
  ColumnInfo column = list_column(0, 0);
  column.last = 5000;
  std::mt19937_64 random(2);
  for (int i = 0; i < 300; ++i) {
    BitString before{std::vector<std::byte>(100), random() % 801};
    before.bytes.resize(bits::bytes_for(before.bits));
    bits::Writer fill(before.bytes);
    for (std::size_t b = 0; b < before.bits; ++b) fill.put_bool(random() % 2 == 0);
    fill.finish();
    BitString now = before;
    if (now.bits > 0) now.bytes[random() % now.bytes.size()] ^= std::byte{1};
    expect_back(column, before, now);
    if (HasFailure()) return;
  }
}

// Whatever the bits are: nothing, or a list within its limits.
TEST(ListDelta, RandomBitsMakeNoListBeyondItsLimits) {
  std::mt19937_64 random(3);
  const ColumnInfo list = list_column(12, 5);
  ColumnInfo other = list_column(0, 0);
  other.last = 90;
  const BitString before = list_of(list, {1, 2, 3, 4, 5, 6, 7, 8});
  std::size_t read_any = 0;
  for (int i = 0; i < 20000; ++i) {
    std::array<std::byte, 24> bytes{};
    for (std::byte& each : bytes) each = static_cast<std::byte>(random());
    for (const ColumnInfo& column : {list, other}) {
      bits::Reader in(bytes, random() % 193);
      const SharedBits read = read_list_change(in, column, before);
      if (read == nullptr) continue;
      ++read_any;
      EXPECT_LE(read->bits, column.last);
      EXPECT_EQ(read->bytes.size(), bits::bytes_for(read->bits));
      if (&column == &list) {
        bits::Reader length(read->bytes, read->bits);
        EXPECT_LE(length.get(4), 12U);
      }
    }
  }
  EXPECT_GT(read_any, 100U);
}

}  // namespace list_delta_test
}  // namespace kwind::replica
