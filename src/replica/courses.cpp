#include "courses.h"

#include <algorithm>

namespace kwind::replica {
Courses::~Courses() {
  drop_groups();
  for (Course* const course : stepped_) {
    clear_steps(*course);
    drop(*course);
  }
  for (Course* const course : beginnings_) drop(*course);
}

Course& Courses::enter(World::State& world, const ViewerOptions& options) {
  const auto found = std::find_if(beginnings_.begin(), beginnings_.end(),
                                  [&](Course* each) { return are_same(each->options, options); });
  if (found != beginnings_.end()) {
    ++(*found)->viewers;
    return **found;
  }
  if (beginnings_.size() >= kBeginnings) {
    const auto unused = std::partition(beginnings_.begin(), beginnings_.end(),
                                       [](const Course* each) { return each->viewers > 0; });
    std::for_each(unused, beginnings_.end(), [&](Course* each) { drop(*each); });
    beginnings_.erase(unused, beginnings_.end());
  }
  Course* const made = new Course(world, options);
  made->kept = true;
  hold(*made);
  beginnings_.push_back(made);
  made->viewers = 1;
  return *made;
}

void Courses::leave(Course& course) {
  --course.viewers;
  recycle(course);
}

void Courses::recycle(Course& course) {
  if (course.viewers > 0 || course.holds > 0) return;
  clear_steps(course);
  course.let_go();
  if (free_.size() < kMostFree) {
    free_.emplace_back(&course);
  } else {
    delete &course;
  }
}

Course& Courses::part(Course& from) {
  std::unique_ptr<Course> made;
  if (free_.empty()) {
    made = std::make_unique<Course>(*from.world, from.options);
  } else {
    made = std::move(free_.back());
    free_.pop_back();
  }
  made->take_over(from);
  made->viewers = 1;
  made->kept = false;
  made->compared = 0;
  made->same_as = nullptr;
  made->apart = from.apart || (from.viewers > 1 && from.last_frame > 0);
  leave(from);
  return *made.release();
}

const Step* Courses::find(const Course& from, std::uint64_t view,
                          const std::vector<std::uint32_t>& acks) const {
  for (std::size_t i = 0; i < from.steps_used; ++i) {
    const Step& step = from.steps[i];
    if (step.view == view && step.acks == acks) return &step;
  }
  return nullptr;
}

Step* Courses::begin_step(Course& from) {
  if (from.steps_used == kMostSteps) return nullptr;
  if (from.steps_used == from.steps.size()) from.steps.emplace_back();
  return &from.steps[from.steps_used];
}

void Courses::end_step(Course& from, Step& step, Course& to) {
  step.to = &to;
  ++to.leads;
  hold(to);
  if (from.steps_used++ > 0) return;
  hold(from);
  stepped_.push_back(&from);
}

void Courses::clear_steps(Course& course) {
  for (; course.steps_used > 0; --course.steps_used) {
    Course& to = *course.steps[course.steps_used - 1].to;
    --to.leads;
    drop(to);
  }
}

void Courses::drop_groups() {
  for (Course* const each : groups_) {
    each->kept = false;
    drop(*each);
  }
  groups_.clear();
}

void Courses::new_tick(std::uint32_t tick) {
  if (tick == tick_) return;
  tick_ = tick;
  drop_groups();
  for (Course* const course : stepped_) {
    for (std::size_t i = 0; i < course->steps_used; ++i) {
      Course* const to = course->steps[i].to;
      if (to->viewers < 2 || to->kept) continue;
      to->kept = true;
      hold(*to);
      groups_.push_back(to);
    }
  }
  std::sort(groups_.begin(), groups_.end(),
            [](const Course* a, const Course* b) { return a->viewers > b->viewers; });
  while (groups_.size() > kMostGroups) {
    groups_.back()->kept = false;
    drop(*groups_.back());
    groups_.pop_back();
  }
  for (Course* const course : stepped_) {
    clear_steps(*course);
    drop(*course);
  }
  stepped_.clear();
}

Course& Courses::rejoin(Course& course) {
  new_tick(course.tick());
  if (groups_.empty() || !course.apart) return course;
  if (course.compared != tick_) {
    course.compared = tick_;
    course.same_as = nullptr;
    for (Course* const group : groups_) {
      if (group == &course) break;  // so that of two the smaller one goes
      if (!course.is_like(*group)) continue;
      course.same_as = group;
      break;
    }
  }
  return course.same_as != nullptr ? *course.same_as : course;
}

void Courses::move(Course*& course, Course& to) {
  if (course == &to) return;
  ++to.viewers;
  leave(*std::exchange(course, &to));
}

}  // namespace kwind::replica
