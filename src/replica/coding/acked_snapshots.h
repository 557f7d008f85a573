// Which of a viewer's frames its client is known to have, as both ends see it. Pure.
//
// Frames are numbered from 1. A frame names the newest one that was known to have arrived when it
// was made, and which of those between that one and the one named inside *it* had arrived as well.
// Its reader has the named frame, for it arrived; so it knows of every older frame, link by link,
// exactly what the writer knew, whatever else got lost or overtaken on the way. What had not
// arrived when a later one had counts as lost for good.
#pragma once
#include <array>
#include <bitset>
#include <cstdint>
#include <vector>

namespace kwind::replica {

/// Frames this far behind the newest that was sent are of no use to anybody.
inline constexpr std::uint32_t kFrameWindow = 64;

struct SnapshotMark {
  std::uint32_t frame = 0;  ///< 0: none
  std::uint32_t tick = 0;
  std::uint32_t start = 1;    ///< the first frame since all was told anew
  std::uint32_t newest = 0;   ///< the newest that had arrived; 0: none, all starts anew
  std::uint64_t between = 0;  ///< bit i: `newest` - 1 - i had arrived, too
  std::uint32_t input = 0;    ///< 1 + low bits of (newest input used - tick); 0: none was
  friend bool operator==(const SnapshotMark&, const SnapshotMark&) = default;
};

/// A state known to both ends is moved on by what the ones before it say only if those are at most
/// so many ticks old: then both are sure to remember them.
inline constexpr std::uint32_t kLongestMemory = 24;

/// How many frames below `newest` a mark tells of, given the mark of that frame.
inline std::uint32_t sent_between(const SnapshotMark& newest) {
  const std::uint32_t below = newest.newest > 0 ? newest.newest : 0;
  const std::uint32_t count = newest.frame - below - 1;
  return count < kFrameWindow ? count : kFrameWindow - 1;
}

class SnapshotMarks {
 public:
  SnapshotMarks() : marks_(kKept) {}

  void add(const SnapshotMark& mark) { marks_[mark.frame % kKept] = mark; }
  [[nodiscard]] const SnapshotMark* find(std::uint32_t frame) const {
    const SnapshotMark& mark = marks_[frame % kKept];
    return frame > 0 && mark.frame == frame ? &mark : nullptr;
  }
  /// Whether the maker of `mark` knew that `frame` had arrived. O(frames between).
  [[nodiscard]] bool arrived(const SnapshotMark& mark, std::uint32_t frame) const {
    const SnapshotMark* from = &mark;
    while (from->newest > 0 && frame <= from->newest) {
      if (frame == from->newest) return true;
      const SnapshotMark* const named = find(from->newest);
      if (named == nullptr) return false;
      if (frame > named->newest) {
        const std::uint32_t back = from->newest - 1 - frame;
        return back < sent_between(*named) && (from->between >> back & 1) != 0;
      }
      from = named;
    }
    return false;
  }
  /// What the maker of `mark` knew of the frames at and below `mark.newest`: bit i is set if
  /// `mark.newest` - i had arrived. Of frames before `from` nothing is known here.
  struct Below {
    std::uint64_t arrived = 0;
    std::uint32_t from = 0;
  };
  [[nodiscard]] Below below(const SnapshotMark& mark) const {
    Below found{0, mark.newest};
    const SnapshotMark* from = &mark;
    while (from->newest > 0 && mark.newest - from->newest < kFrameWindow) {
      const std::uint32_t back = mark.newest - from->newest;
      found.arrived |= std::uint64_t{1} << back;
      const SnapshotMark* const named = find(from->newest);
      if (named == nullptr) return found;
      for (std::uint32_t i = 0; i < sent_between(*named) && back + 1 + i < kFrameWindow; ++i) {
        found.arrived |= (from->between >> i & 1) << (back + 1 + i);
      }
      found.from = named->newest + 1;
      from = named;
    }
    return found;
  }

 private:
  static constexpr std::uint32_t kKept = 4 * kFrameWindow;
  std::vector<SnapshotMark> marks_;
};

/// Whether all that `mark` says to have arrived, beyond what the frame named in it said, is here.
inline bool all_here(const SnapshotMarks& marks, const SnapshotMark& mark) {
  const SnapshotMark* const named = marks.find(mark.newest);
  if (named == nullptr) return mark.newest == 0;
  for (std::uint32_t i = 0; i < sent_between(*named); ++i) {
    if ((mark.between >> i & 1) != 0 && marks.find(mark.newest - 1 - i) == nullptr) return false;
  }
  return true;
}

/// All that SnapshotMarks::arrived tells of one mark, found once.
class Arrivals {
 public:
  Arrivals() = default;
  /// O(frames of two windows).
  Arrivals(const SnapshotMarks& marks, const SnapshotMark& mark) : before_(mark.frame) {
    const SnapshotMark* from = &mark;
    while (from->newest > 0 && before_ - from->newest <= kReach) {
      set(from->newest);
      const SnapshotMark* const named = marks.find(from->newest);
      if (named == nullptr) break;
      for (std::uint32_t i = 0; i < sent_between(*named); ++i) {
        if ((from->between >> i & 1) != 0) set(from->newest - 1 - i);
      }
      from = named;
    }
  }
  [[nodiscard]] bool contain(std::uint32_t frame) const {
    return frame < before_ && before_ - frame <= kReach && there_[before_ - frame - 1];
  }

 private:
  static constexpr std::uint32_t kReach = 3 * kFrameWindow;
  void set(std::uint32_t frame) {
    if (before_ - frame <= kReach) there_[before_ - frame - 1] = true;
  }
  std::uint32_t before_ = 0;
  std::bitset<kReach> there_;
};

}  // namespace kwind::replica
