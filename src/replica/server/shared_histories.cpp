// Sharing of histories between clients with equal acknowledgements: a memo per tick from (history,
// acks, view) to snapshot and next history.
//
// Clients that have acknowledged the same snapshots and see the same get the same bits, so that a
// snapshot is put together once for all of them. Clients move from history to history along steps;
// whoever receives something else parts and has a history alone, and may come back to a group when
// both hold the same again.
//
// Invariant 1: a history with several holders does not change. Steps of a tick therefore hold where
//   they start from, too.
// Invariant 2: steps and groups are of one tick; new_tick() drops them.
#include "replica/server/shared_histories.h"

#include <algorithm>

namespace kwind::replica {

HistoryRef::HistoryRef(SharedHistory* to) : to_(to) {
  if (to_ != nullptr) ++to_->holders;
}

void HistoryRef::reset() {
  SharedHistory* const left = std::exchange(to_, nullptr);
  if (left != nullptr && --left->holders == 0) left->home->recycle(*left);
}

const Step* SharedHistory::find_step(std::uint64_t view,
                                     const std::vector<SnapshotNumber>& acks) const {
  for (std::size_t i = 0; i < steps_used; ++i) {
    if (steps[i].view == view && steps[i].acks == acks) return &steps[i];
  }
  return nullptr;
}

Step* SharedHistory::begin_step() {
  constexpr std::size_t kMaxSteps = 16;
  if (steps_used == kMaxSteps) return nullptr;
  if (steps_used == steps.size()) steps.emplace_back();
  return &steps[steps_used];
}

// New clients of equal options begin in one history. When there are too many beginnings, those that
// nobody is in go.
HistoryRef SharedHistories::beginning(const WorldState& world, const ReplicatorOptions& options) {
  const auto found = std::find_if(
      beginnings_.begin(), beginnings_.end(),
      [&](const HistoryRef& each) { return are_same(each->history.options(), options); });
  if (found != beginnings_.end()) return *found;
  if (beginnings_.size() >= kBeginnings) {
    std::erase_if(beginnings_, [](const HistoryRef& each) { return each->clients == 0; });
  }
  HistoryRef made(std::make_unique<SharedHistory>(*this, world, options).release());
  made->listed = true;
  beginnings_.push_back(made);
  return made;
}

// Histories are large and are kept for those to come, kMaxFree of them.
void SharedHistories::recycle(SharedHistory& history) {
  std::unique_ptr<SharedHistory> unused(&history);
  for (; unused->steps_used > 0; --unused->steps_used) {
    unused->steps[unused->steps_used - 1].to.reset();
  }
  unused->history.release();
  if (free_.size() < kMaxFree) free_.push_back(std::move(unused));
}

HistoryRef SharedHistories::copy_of(const SharedHistory& from) {
  std::unique_ptr<SharedHistory> made;
  if (free_.empty()) {
    made = std::make_unique<SharedHistory>(*this, from.history.world(), from.history.options());
  } else {
    made = std::move(free_.back());
    free_.pop_back();
  }
  made->history.take_over(from.history);
  made->listed = false;
  made->compared_at = {};
  made->same_as = nullptr;
  made->parted = from.parted || (from.clients > 1 && from.history.newest_snapshot());
  return HistoryRef(made.release());
}

void SharedHistories::end_step(const HistoryRef& from, Step& step, HistoryRef to) {
  step.to = std::move(to);
  if (from->steps_used++ == 0) stepped_.push_back(from);
}

void SharedHistories::drop_groups() {
  for (const HistoryRef& each : groups_) each->listed = false;
  groups_.clear();
}

// Histories that two or more clients came to become groups, the largest first, to which others may
// come back.
void SharedHistories::new_tick(Tick tick) {
  if (tick == tick_) return;
  tick_ = tick;
  drop_groups();
  for (const HistoryRef& history : stepped_) {
    for (std::size_t i = 0; i < history->steps_used; ++i) {
      const HistoryRef& to = history->steps[i].to;
      if (to->clients < 2 || to->listed) continue;
      to->listed = true;
      groups_.push_back(to);
    }
  }
  std::sort(groups_.begin(), groups_.end(),
            [](const HistoryRef& a, const HistoryRef& b) { return a->clients > b->clients; });
  while (groups_.size() > kMaxGroups) {
    groups_.back()->listed = false;
    groups_.pop_back();
  }
  for (const HistoryRef& history : stepped_) {
    for (; history->steps_used > 0; --history->steps_used) {
      history->steps[history->steps_used - 1].to.reset();
    }
  }
  stepped_.clear();
}

// A history that was parted is compared with each group once a tick.
HistoryRef SharedHistories::group_like(const HistoryRef& history) {
  new_tick(history->history.tick());
  if (groups_.empty() || !history->parted) return history;
  if (history->compared_at != tick_) {
    history->compared_at = tick_;
    history->same_as = nullptr;
    for (const HistoryRef& group : groups_) {
      if (group == history) break;  // so that of two the smaller one goes
      if (!history->history.is_like(group->history)) continue;
      history->same_as = &*group;
      break;
    }
  }
  const auto same = std::find_if(groups_.begin(), groups_.end(), [&](const HistoryRef& group) {
    return &*group == history->same_as;
  });
  return same != groups_.end() ? *same : history;
}

}  // namespace kwind::replica
