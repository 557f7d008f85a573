// The acknowledged set: which snapshots of a client both ends assume delivered. Pure.
//
// Snapshots are numbered from 1. A snapshot names its base, the newest snapshot assumed delivered
// when it was made, and of the snapshots between its base and the base's own base those that were
// assumed as well. A reader of the snapshot has its base, so from base to base the reader knows of
// every older snapshot what the writer assumed, whatever was lost or reordered. A snapshot that was
// not assumed when a later one was is discarded for good.
#pragma once
#include <array>
#include <bitset>
#include <cstdint>
#include <vector>

#include "replica/coding/strong_numbers.h"

namespace kwind::replica {

/// Snapshots this far behind the newest that was sent are of no use to anybody.
inline constexpr std::uint32_t kSnapshotWindow = 64;

struct SnapshotMark {
  SnapshotNumber snapshot;
  Tick tick;
  SnapshotNumber start{1};    ///< the first snapshot since the last full resync
  SnapshotNumber newest;      ///< the newest that had arrived; none: all starts anew
  std::uint64_t between = 0;  ///< bit i: `newest` - 1 - i had arrived, too
  std::uint32_t input = 0;    ///< 1 + low bits of (newest input used - tick); 0: none was
  friend bool operator==(const SnapshotMark&, const SnapshotMark&) = default;
};

/// A state known to both ends is moved on by what the ones before it say only if those are at most
/// so many ticks old: then both are sure to remember them.
inline constexpr std::uint32_t kLongestMemory = 24;

/// How many snapshots below `newest` a mark covers, given the mark of that snapshot.
inline std::uint32_t sent_between(const SnapshotMark& newest) {
  const std::uint32_t count = newest.snapshot - newest.newest - 1;
  return count < kSnapshotWindow ? count : kSnapshotWindow - 1;
}

class SnapshotMarks {
 public:
  SnapshotMarks() : marks_(kKept) {}

  void add(const SnapshotMark& mark) { marks_[mark.snapshot % kKept] = mark; }
  [[nodiscard]] const SnapshotMark* find(SnapshotNumber snapshot) const {
    const SnapshotMark& mark = marks_[snapshot % kKept];
    return snapshot && mark.snapshot == snapshot ? &mark : nullptr;
  }
  /// Whether the maker of `mark` knew that `snapshot` had arrived. O(snapshots between).
  [[nodiscard]] bool arrived(const SnapshotMark& mark, SnapshotNumber snapshot) const {
    const SnapshotMark* from = &mark;
    while (from->newest && snapshot <= from->newest) {
      if (snapshot == from->newest) return true;
      const SnapshotMark* const named = find(from->newest);
      if (named == nullptr) return false;
      if (snapshot > named->newest) {
        const std::uint32_t back = from->newest - 1 - snapshot;
        return back < sent_between(*named) && (from->between >> back & 1) != 0;
      }
      from = named;
    }
    return false;
  }
  /// What the maker of `mark` knew of the snapshots at and below `mark.newest`: bit i is set if
  /// `mark.newest` - i had arrived. Of snapshots before `from` nothing is known here.
  struct Below {
    std::uint64_t arrived = 0;
    SnapshotNumber from;
  };
  [[nodiscard]] Below below(const SnapshotMark& mark) const {
    Below found{0, mark.newest};
    const SnapshotMark* from = &mark;
    while (from->newest && mark.newest - from->newest < kSnapshotWindow) {
      const std::uint32_t back = mark.newest - from->newest;
      found.arrived |= std::uint64_t{1} << back;
      const SnapshotMark* const named = find(from->newest);
      if (named == nullptr) return found;
      for (std::uint32_t i = 0; i < sent_between(*named) && back + 1 + i < kSnapshotWindow; ++i) {
        found.arrived |= (from->between >> i & 1) << (back + 1 + i);
      }
      found.from = named->newest + 1;
      from = named;
    }
    return found;
  }

 private:
  static constexpr std::uint32_t kKept = 4 * kSnapshotWindow;
  std::vector<SnapshotMark> marks_;
};

/// Whether all that `mark` says to have arrived, beyond what the snapshot named in it said, is
/// here.
inline bool all_here(const SnapshotMarks& marks, const SnapshotMark& mark) {
  const SnapshotMark* const named = marks.find(mark.newest);
  if (named == nullptr) return !mark.newest;
  for (std::uint32_t i = 0; i < sent_between(*named); ++i) {
    if ((mark.between >> i & 1) != 0 && marks.find(mark.newest - 1 - i) == nullptr) return false;
  }
  return true;
}

/// All that SnapshotMarks::arrived says of one mark, found once.
class AckedSnapshots {
 public:
  AckedSnapshots() = default;
  /// O(snapshots of two windows).
  AckedSnapshots(const SnapshotMarks& marks, const SnapshotMark& mark) : before_(mark.snapshot) {
    const SnapshotMark* from = &mark;
    while (from->newest && before_ - from->newest <= kReach) {
      set(from->newest);
      const SnapshotMark* const named = marks.find(from->newest);
      if (named == nullptr) break;
      for (std::uint32_t i = 0; i < sent_between(*named); ++i) {
        if ((from->between >> i & 1) != 0) set(from->newest - 1 - i);
      }
      from = named;
    }
  }
  [[nodiscard]] bool contain(SnapshotNumber snapshot) const {
    return snapshot < before_ && before_ - snapshot <= kReach && there_[before_ - snapshot - 1];
  }

 private:
  static constexpr std::uint32_t kReach = 3 * kSnapshotWindow;
  void set(SnapshotNumber snapshot) {
    if (before_ - snapshot <= kReach) there_[before_ - snapshot - 1] = true;
  }
  SnapshotNumber before_;
  std::bitset<kReach> there_;
};

}  // namespace kwind::replica
