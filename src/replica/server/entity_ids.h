// Which ids of a world are free. ClientReplicators say who may know of an entity; they share this
// with their world, and either may go first. Pure. One thread.
#pragma once
#include <cstdint>
#include <deque>
#include <functional>
#include <optional>
#include <queue>
#include <vector>

#include "kwind/core/assert.h"
#include "replica/coding/strong_numbers.h"

namespace kwind::replica {

class EntityIds {
 public:
  /// Ids are 1 to `most`; one that ended rests for so many ticks.
  EntityIds(std::uint32_t max, std::uint32_t rest_ticks) : max_(max), rest_ticks_(rest_ticks) {}

  /// Ids 0 to the largest that was ever taken.
  [[nodiscard]] std::size_t size() const { return all_.size(); }

  /// The smallest id whose pause has passed; else one that was never used; else the one freed first
  /// by all who knew its last user. That comes last, as generations repeat: the sooner an id is
  /// used again, the sooner an old reference may name a new entity. Nothing if none is free.
  /// O(log(ids)).
  std::optional<EntityId> take(Tick tick) {
    // What was taken again meanwhile is no longer there.
    while (!resting_.empty() && tick - resting_.front().since >= rest_ticks_) {
      const Resting first = resting_.front();
      resting_.pop_front();
      if (!rests(first)) continue;
      all_[first.id].ended = false;
      rested_.push(first.id);
    }
    while (!unknown_.empty() && !rests(unknown_.front())) unknown_.pop_front();
    if (!rested_.empty()) {
      const EntityId id = rested_.top();
      rested_.pop();
      return id;
    }
    if (all_.size() <= max_) {
      const EntityId fresh = all_.end_id();
      all_.emplace_back();
      return fresh;
    }
    if (unknown_.empty() || unknown_.front().since == tick) return std::nullopt;
    const EntityId id = unknown_.front().id;
    unknown_.pop_front();
    all_[id].ended = false;
    return id;
  }
  void end(EntityId id, Tick tick) {
    Id& ended = all_[id];
    ended.ended = true;
    ended.since = tick;
    resting_.push_back({tick, id});
    if (ended.known_by == 0) unknown_.push_back({tick, id});
  }
  /// One more client may know of it.
  void learn(EntityId id) { ++all_[id].known_by; }
  /// One that said so does so no more.
  void forget(EntityId id) {
    Id& forgotten = all_[id];
    KWIND_ASSERT(forgotten.known_by > 0);
    if (--forgotten.known_by == 0 && forgotten.ended) unknown_.push_back({forgotten.since, id});
  }
  [[nodiscard]] std::size_t memory() const {
    return all_.memory() + (resting_.size() + unknown_.size()) * sizeof(Resting) +
           rested_.size() * sizeof(EntityId);
  }

 private:
  struct Id {
    std::uint32_t known_by = 0;  // clients
    Tick since;                  // of its last end
    bool ended = false;          // and not free, or taken, since
  };
  struct Resting {
    Tick since;
    EntityId id;
  };
  [[nodiscard]] bool rests(const Resting& one) const {
    return all_[one.id].ended && all_[one.id].since == one.since;
  }

  std::uint32_t max_;
  std::uint32_t rest_ticks_;
  ById<Id> all_;
  std::priority_queue<EntityId, std::vector<EntityId>, std::greater<>> rested_;
  std::deque<Resting> resting_;  // by tick
  std::deque<Resting> unknown_;  // known by nobody any more, in the order in which that happened
};

}  // namespace kwind::replica
