// The courses that the viewers of a world are on. Those in step share one: what one of them says to
// its client in a tick is what the next one says, so it is put together once. A course that more
// than one viewer is on is never changed. The first to go on from it leaves a step there, to a copy
// that it changed, for the others to follow that heard the same; who heard something else goes on
// alone, and comes back when all that will matter is the same again. One thread; viewers and world
// may end in any order.
#pragma once
#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

#include "course.h"

namespace kwind::replica {

class Courses {
 public:
  Courses() = default;
  Courses(const Courses&) = delete;
  Courses& operator=(const Courses&) = delete;
  ~Courses();

  /// Where a viewer with these options begins, with others that nobody has told anything.
  Course& enter(World::State& world, const ViewerOptions& options);
  void leave(Course& course);
  /// A copy for one of its viewers alone, which goes there. O(what a viewer holds).
  Course& part(Course& from);

  /// What a viewer of a course does that has this view and hears `acks`, if one has done it;
  /// nullptr if none has.
  [[nodiscard]] const Step* find(const Course& from, std::uint64_t view,
                                 const std::vector<std::uint32_t>& acks) const;
  /// A step to be filled in while `from` is held; nullptr if it has enough of them.
  Step* begin_step(Course& from);
  /// It leads to `to`.
  void end_step(Course& from, Step& step, Course& to);
  /// To the course of others that is like this one, if it parted from some lately.
  Course& rejoin(Course& course);
  void move(Course*& course, Course& to);

  void hold(Course& course) { ++course.holds; }
  void drop(Course& course) {
    --course.holds;
    recycle(course);
  }

 private:
  static constexpr std::size_t kBeginnings = 8;  // kept without viewers
  static constexpr std::size_t kMostSteps = 16;  // of a course
  static constexpr std::size_t kMostGroups = 8;  // to come back to
  static constexpr std::size_t kMostFree = 8;    // kept for the next copy

  void new_tick(std::uint32_t tick);
  void clear_steps(Course& course);
  void drop_groups();
  // If nobody needs it.
  void recycle(Course& course);

  std::vector<Course*> beginnings_;  // by options
  std::vector<std::unique_ptr<Course>> free_;
  std::vector<Course*> stepped_;  // those with steps
  std::vector<Course*> groups_;   // that many were on when the tick began, most first
  std::uint32_t tick_ = 0;
};

}  // namespace kwind::replica
