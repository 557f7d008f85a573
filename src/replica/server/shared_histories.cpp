// Sharing of histories between clients with equal acknowledgements: a memo per tick from (history,
// acks, view) to snapshot and next history.
//
// Clients that have acknowledged the same snapshots and see the same get the same bits, so that a
// snapshot is put together once for all of them. Clients move from history to history along steps;
// whoever hears something else parts and has a history alone, and may rejoin a group when both hold
// the same again.
//
// Lifetime: a history lives while it has replicators or holds. A step holds the history that it
// leads to; steps are cleared with the tick.
#include "replica/server/shared_histories.h"

#include <algorithm>

namespace kwind::replica {

SharedHistories::~SharedHistories() {
  drop_groups();
  for (BaselineHistory* const history : stepped_) {
    clear_steps(*history);
    drop(*history);
  }
  for (BaselineHistory* const history : beginnings_) drop(*history);
}

// New clients of equal options begin in one history. When there are too many beginnings, those that
// nobody is in go.
BaselineHistory& SharedHistories::enter(World::State& world, const ReplicatorOptions& options) {
  const auto found =
      std::find_if(beginnings_.begin(), beginnings_.end(),
                   [&](BaselineHistory* each) { return are_same(each->options, options); });
  if (found != beginnings_.end()) {
    ++(*found)->replicators;
    return **found;
  }
  if (beginnings_.size() >= kBeginnings) {
    const auto unused =
        std::partition(beginnings_.begin(), beginnings_.end(),
                       [](const BaselineHistory* each) { return each->replicators > 0; });
    std::for_each(unused, beginnings_.end(), [&](BaselineHistory* each) { drop(*each); });
    beginnings_.erase(unused, beginnings_.end());
  }
  BaselineHistory* const made = new BaselineHistory(world, options);
  made->kept = true;
  hold(*made);
  beginnings_.push_back(made);
  made->replicators = 1;
  return *made;
}

// A replicator goes elsewhere, or ends.
void SharedHistories::leave(BaselineHistory& history) {
  --history.replicators;
  recycle(history);
}

// Histories are large and are kept for those to come, kMaxFree of them.
void SharedHistories::recycle(BaselineHistory& history) {
  if (history.replicators > 0 || history.holds > 0) return;
  clear_steps(history);
  history.release();
  if (free_.size() < kMaxFree) {
    free_.emplace_back(&history);
  } else {
    delete &history;
  }
}

// A copy for one replicator, which leaves the others.
BaselineHistory& SharedHistories::part(BaselineHistory& from) {
  std::unique_ptr<BaselineHistory> made;
  if (free_.empty()) {
    made = std::make_unique<BaselineHistory>(*from.world, from.options);
  } else {
    made = std::move(free_.back());
    free_.pop_back();
  }
  made->take_over(from);
  made->replicators = 1;
  made->kept = false;
  made->compared = 0;
  made->same_as = nullptr;
  made->apart = from.apart || (from.replicators > 1 && from.last_snapshot > 0);
  leave(from);
  return *made.release();
}

// The step that a client with equal acks and view took from here in this tick, if one did.
const Step* SharedHistories::find(const BaselineHistory& from, std::uint64_t view,
                                  const std::vector<std::uint32_t>& acks) const {
  for (std::size_t i = 0; i < from.steps_used; ++i) {
    const Step& step = from.steps[i];
    if (step.view == view && step.acks == acks) return &step;
  }
  return nullptr;
}

// Place for the step that a client is about to take; nothing if this history has kMaxSteps already.
Step* SharedHistories::begin_step(BaselineHistory& from) {
  if (from.steps_used == kMaxSteps) return nullptr;
  if (from.steps_used == from.steps.size()) from.steps.emplace_back();
  return &from.steps[from.steps_used];
}

// The step is whole: others may follow it until the tick ends.
void SharedHistories::end_step(BaselineHistory& from, Step& step, BaselineHistory& to) {
  step.to = &to;
  ++to.leads;
  hold(to);
  if (from.steps_used++ > 0) return;
  hold(from);
  stepped_.push_back(&from);
}

void SharedHistories::clear_steps(BaselineHistory& history) {
  for (; history.steps_used > 0; --history.steps_used) {
    BaselineHistory& to = *history.steps[history.steps_used - 1].to;
    --to.leads;
    drop(to);
  }
}

// Groups last a tick; a history that nobody else holds is recycled.
void SharedHistories::drop_groups() {
  for (BaselineHistory* const each : groups_) {
    each->kept = false;
    drop(*each);
  }
  groups_.clear();
}

// Steps are of one tick. Histories that two or more replicators came to become groups, the largest
// first, which others may rejoin.
void SharedHistories::new_tick(std::uint32_t tick) {
  if (tick == tick_) return;
  tick_ = tick;
  drop_groups();
  for (BaselineHistory* const history : stepped_) {
    for (std::size_t i = 0; i < history->steps_used; ++i) {
      BaselineHistory* const to = history->steps[i].to;
      if (to->replicators < 2 || to->kept) continue;
      to->kept = true;
      hold(*to);
      groups_.push_back(to);
    }
  }
  std::sort(groups_.begin(), groups_.end(), [](const BaselineHistory* a, const BaselineHistory* b) {
    return a->replicators > b->replicators;
  });
  while (groups_.size() > kMaxGroups) {
    groups_.back()->kept = false;
    drop(*groups_.back());
    groups_.pop_back();
  }
  for (BaselineHistory* const history : stepped_) {
    clear_steps(*history);
    drop(*history);
  }
  stepped_.clear();
}

// A history that was parted is compared with each group once a tick.
BaselineHistory& SharedHistories::rejoin(BaselineHistory& history) {
  new_tick(history.tick());
  if (groups_.empty() || !history.apart) return history;
  if (history.compared != tick_) {
    history.compared = tick_;
    history.same_as = nullptr;
    for (BaselineHistory* const group : groups_) {
      if (group == &history) break;  // so that of two the smaller one goes
      if (!history.is_like(*group)) continue;
      history.same_as = group;
      break;
    }
  }
  return history.same_as != nullptr ? *history.same_as : history;
}

void SharedHistories::move(BaselineHistory*& history, BaselineHistory& to) {
  if (history == &to) return;
  ++to.replicators;
  leave(*std::exchange(history, &to));
}

}  // namespace kwind::replica
