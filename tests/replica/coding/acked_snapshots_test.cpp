// SnapshotMarks and AckedSnapshots against what the server really assumed, on random paths.
#include "replica/coding/acked_snapshots.h"

#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>
#include <string>

#include "kit/sweep.h"

namespace kwind::replica {
namespace acked_snapshots_test {

// A server that makes marks, and what it assumed of every earlier snapshot when it made each.
struct Server {
  explicit Server(std::uint64_t seed) : random(seed) {}

  // The mark of the next snapshot. Its base is the newest snapshot acknowledged.
  SnapshotMark next() {
    SnapshotMark mark;
    mark.snapshot = SnapshotNumber(++last);
    mark.tick = Tick(last);
    mark.newest = SnapshotNumber(sure);
    if (sure > 0) {
      const SnapshotMark& named = made.at(sure);
      for (std::uint32_t i = 0; i < sent_between(named); ++i) {
        if (counted.count(sure - 1 - i) > 0) mark.between |= std::uint64_t{1} << i;
      }
    }
    made[last] = mark;
    assumed[last] = counted;
    return mark;
  }
  // A snapshot before the newest acknowledged one counts if it was acknowledged before that one.
  void acknowledge(std::uint32_t snapshot) {
    if (snapshot <= sure) return;
    counted.insert(snapshot);
    sure = snapshot;
  }

  std::mt19937_64 random;
  std::uint32_t last = 0;
  std::uint32_t sure = 0;
  std::set<std::uint32_t> counted;
  std::map<std::uint32_t, SnapshotMark> made;
  std::map<std::uint32_t, std::set<std::uint32_t>> assumed;
};

TEST(AckedSnapshots, TellWhatTheServerAssumed) {
  for (const std::uint64_t seed : kit::seeds(20, 2000)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    Server server(seed);
    SnapshotMarks marks;
    std::uint64_t compared = 0;
    for (int i = 0; i < 300; ++i) {
      const SnapshotMark mark = server.next();
      const bool lost = server.random() % 4 == 0;
      if (lost) continue;
      ASSERT_TRUE(all_here(marks, mark)) << "all that it names was acknowledged, so it is here";
      marks.add(mark);
      const AckedSnapshots acked(marks, mark);
      const SnapshotMarks::Below below = marks.below(mark);
      const std::set<std::uint32_t>& truth = server.assumed.at(mark.snapshot.raw());
      for (std::uint32_t back = 1; back < kSnapshotWindow && back < mark.snapshot.raw(); ++back) {
        const SnapshotNumber before = mark.snapshot - back;
        const bool counted = truth.count(before.raw()) > 0;
        EXPECT_EQ(marks.arrived(mark, before), counted) << before.raw();
        EXPECT_EQ(acked.contain(before), counted) << before.raw();
        if (before <= mark.newest && before >= below.from) {
          EXPECT_EQ((below.arrived >> (mark.newest - before) & 1) != 0, counted) << before.raw();
        }
        ++compared;
      }
      // Acknowledgements come late, in bursts, and some never.
      const SnapshotNumber one = mark.snapshot - static_cast<std::uint32_t>(server.random() % 3);
      if (marks.find(one) != nullptr) server.acknowledge(one.raw());
    }
    EXPECT_GT(compared, 5000U);
  }
}

TEST(AckedSnapshots, AMarkWhoseBaseIsMissingIsNotAllHere) {
  SnapshotMarks marks;
  SnapshotMark first;
  first.snapshot = SnapshotNumber(1);
  SnapshotMark second = first;
  second.snapshot = SnapshotNumber(2);
  second.newest = SnapshotNumber(1);
  EXPECT_TRUE(all_here(marks, first)) << "it builds on nothing";
  EXPECT_FALSE(all_here(marks, second));
  marks.add(first);
  EXPECT_TRUE(all_here(marks, second));
  SnapshotMark fourth = second;
  fourth.snapshot = SnapshotNumber(4);
  fourth.newest = SnapshotNumber(3);
  fourth.between = 1;  // and the second
  SnapshotMark third = second;
  third.snapshot = SnapshotNumber(3);
  marks.add(third);
  EXPECT_FALSE(all_here(marks, fourth)) << "the second is not here";
  marks.add(second);
  EXPECT_TRUE(all_here(marks, fourth));
}

TEST(AckedSnapshots, OldMarksMakeRoom) {
  SnapshotMarks marks;
  SnapshotMark mark;
  for (std::uint32_t i = 1; i <= 1000; ++i) {
    mark.snapshot = SnapshotNumber(i);
    marks.add(mark);
  }
  EXPECT_NE(marks.find(SnapshotNumber(1000)), nullptr);
  EXPECT_NE(marks.find(SnapshotNumber(1000 - 4 * kSnapshotWindow + 1)), nullptr);
  EXPECT_EQ(marks.find(SnapshotNumber(1000 - 4 * kSnapshotWindow)), nullptr);
  EXPECT_EQ(marks.find(SnapshotNumber()), nullptr);
}

}  // namespace acked_snapshots_test
}  // namespace kwind::replica
