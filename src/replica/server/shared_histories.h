// Shared baseline histories: clients with equal history and equal acknowledgements get the same
// snapshot, encoded once. A history with more than one client is never changed: the first client to
// advance makes a copy and records the step with its snapshot; clients with the same
// acknowledgements take the same step. A client with other acknowledgements gets a history of its
// own, and returns to the shared one when their difference no longer matters. One thread;
// replicators and world may end in any order.
#pragma once
#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

#include "replica/server/baseline_history.h"

namespace kwind::replica {

class SharedHistories {
 public:
  SharedHistories() = default;
  SharedHistories(const SharedHistories&) = delete;
  SharedHistories& operator=(const SharedHistories&) = delete;
  ~SharedHistories();

  /// Where a replicator with these options begins, with others that nobody has told anything.
  BaselineHistory& enter(World::State& world, const ReplicatorOptions& options);
  void leave(BaselineHistory& history);
  /// A copy for one of its replicators alone, which goes there. O(what a replicator holds).
  BaselineHistory& part(BaselineHistory& from);

  /// What a replicator of a history does that has this view and hears `acks`, if one has done it;
  /// nullptr if none has.
  [[nodiscard]] const Step* find(const BaselineHistory& from, std::uint64_t view,
                                 const std::vector<std::uint32_t>& acks) const;
  /// A step to be filled in while `from` is held; nullptr if it has enough of them.
  Step* begin_step(BaselineHistory& from);
  /// It leads to `to`.
  void end_step(BaselineHistory& from, Step& step, BaselineHistory& to);
  /// To the history of others that is like this one, if it parted from some lately.
  BaselineHistory& rejoin(BaselineHistory& history);
  void move(BaselineHistory*& history, BaselineHistory& to);

  void hold(BaselineHistory& history) { ++history.holds; }
  void drop(BaselineHistory& history) {
    --history.holds;
    recycle(history);
  }

 private:
  static constexpr std::size_t kBeginnings = 8;  // kept without replicators
  static constexpr std::size_t kMaxSteps = 16;   // of a history
  static constexpr std::size_t kMaxGroups = 8;   // to come back to
  static constexpr std::size_t kMaxFree = 8;     // kept for the next copy

  void new_tick(std::uint32_t tick);
  void clear_steps(BaselineHistory& history);
  void drop_groups();
  // If nobody needs it.
  void recycle(BaselineHistory& history);

  std::vector<BaselineHistory*> beginnings_;  // by options
  std::vector<std::unique_ptr<BaselineHistory>> free_;
  std::vector<BaselineHistory*> stepped_;  // those with steps
  std::vector<BaselineHistory*> groups_;   // that many were on when the tick began, most first
  std::uint32_t tick_ = 0;
};

}  // namespace kwind::replica
