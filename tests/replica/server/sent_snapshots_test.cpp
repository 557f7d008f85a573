// SentSnapshots: entries are found while they may be asked for, and what is older takes no memory.
#include "replica/server/sent_snapshots.h"

#include <gtest/gtest.h>

#include <random>
#include <vector>

namespace kwind::replica {
namespace sent_snapshots_test {

std::vector<Entry> entries_of(std::uint32_t snapshot) {
  std::vector<Entry> made(snapshot % 5);
  for (std::size_t i = 0; i < made.size(); ++i) {
    made[i].id = EntityId(static_cast<std::uint32_t>(snapshot * 10 + i));
  }
  return made;
}

TEST(SentSnapshots, FindEntriesOfWhatMayStillBeAskedFor) {
  SentSnapshots sent;
  std::size_t most_memory = 0;
  for (std::uint32_t i = 1; i <= 5000; ++i) {
    SnapshotMark mark;
    mark.snapshot = SnapshotNumber(i);
    const auto entries = entries_of(i);
    sent.add(mark, entries);
    const SnapshotNumber from = number_before(mark.snapshot, kSnapshotWindow);
    if (from) sent.drop_before(from);
    for (SnapshotNumber each = from + 1; each <= mark.snapshot; ++each) {
      const Sent* const slot = sent.find(each);
      ASSERT_NE(slot, nullptr);
      const auto found = sent.entries(*slot);
      const auto expected = entries_of(each.raw());
      ASSERT_TRUE(std::equal(found.begin(), found.end(), expected.begin(), expected.end()));
    }
    if (i == 500) most_memory = sent.memory();
  }
  EXPECT_LE(sent.memory(), most_memory) << "memory grew after the first 500";
  EXPECT_EQ(sent.find(SnapshotNumber(5001)), nullptr);
  EXPECT_EQ(sent.find(SnapshotNumber()), nullptr);
  EXPECT_EQ(sent.find(SnapshotNumber(1)), nullptr);
  sent.clear();
  EXPECT_EQ(sent.find(SnapshotNumber(5000)), nullptr);
}

}  // namespace sent_snapshots_test
}  // namespace kwind::replica
