// Shared baseline histories, by copy on write: clients with equal history and equal
// acknowledgements get the same snapshot, encoded once. A history with more than one holder is
// never changed: the first client to advance makes a copy and records the step with its snapshot;
// clients with the same acknowledgements take the same step. A client with other acknowledgements
// gets a history of its own, and returns to the shared one when their difference no longer matters.
// One thread; replicators and world may end in any order.
#pragma once
#include <cstddef>
#include <cstdint>
#include <memory>
#include <utility>
#include <vector>

#include "replica/server/baseline_history.h"
#include "replica/server/snapshot_builder.h"

namespace kwind::replica {

class SharedHistories;
struct SharedHistory;

/// A counted pointer to a history: whoever has one is a holder. As a std::shared_ptr, but for one
/// thread, and the last one gives the history back to be used again.
class HistoryRef {
 public:
  HistoryRef() = default;
  explicit HistoryRef(SharedHistory* to);
  HistoryRef(const HistoryRef& other) : HistoryRef(other.to_) {}
  HistoryRef(HistoryRef&& other) noexcept : to_(std::exchange(other.to_, nullptr)) {}
  HistoryRef& operator=(HistoryRef other) noexcept {
    std::swap(to_, other.to_);
    return *this;
  }
  ~HistoryRef() { reset(); }

  void reset();
  [[nodiscard]] SharedHistory* operator->() const { return to_; }
  [[nodiscard]] SharedHistory& operator*() const { return *to_; }
  friend bool operator==(const HistoryRef&, const HistoryRef&) = default;

 private:
  SharedHistory* to_ = nullptr;
};

/// What the first client did that went on from a history in a tick, for those that received the same.
struct Step {
  std::uint64_t view = 0;  ///< revision of the query; 0: there is none
  std::vector<SnapshotNumber> acks;
  HistoryRef to;
  bool has_snapshot = false;  ///< there is a snapshot
  SnapshotHead heading;
  std::vector<std::byte> body;
  std::size_t bits = 0;       ///< of it
  Room room;                  ///< as it had it
  bool limited = false;       ///< another room would have made another snapshot
  std::uint64_t changes = 0;  ///< in it
};

/// A history with its holders: clients, steps that lead to it, and the lists of SharedHistories.
struct SharedHistory {
  SharedHistory(SharedHistories& all, const WorldState& world, const ReplicatorOptions& options)
      : home(&all), history(world, options) {}

  /// The step of a client with this view and these acknowledgements in this tick; nullptr if none
  /// took it.
  [[nodiscard]] const Step* find_step(std::uint64_t view,
                                      const std::vector<SnapshotNumber>& acks) const;
  /// Place for the step that a client is about to take; nullptr if there are enough of them.
  [[nodiscard]] Step* begin_step();

  SharedHistories* home;
  BaselineHistory history;
  std::size_t holders = 0;
  std::size_t clients = 0;                 ///< of the holders
  bool listed = false;                     ///< clients begin in it, or may come back to it
  bool parted = false;                     ///< its client left others, once under way
  Tick compared_at;                        ///< in which it was compared with the groups
  const SharedHistory* same_as = nullptr;  ///< the group that it was like then
  std::vector<Step> steps;                 ///< from here, in this tick: the first `steps_used`
  std::size_t steps_used = 0;
};

/// The history that a client is on.
class ClientHistory {
 public:
  explicit ClientHistory(HistoryRef at) : at_(std::move(at)) { ++at_->clients; }
  ClientHistory(const ClientHistory&) = delete;
  ClientHistory& operator=(const ClientHistory&) = delete;
  ~ClientHistory() { --at_->clients; }

  [[nodiscard]] const BaselineHistory& operator*() const { return at_->history; }
  [[nodiscard]] const BaselineHistory* operator->() const { return &at_->history; }
  [[nodiscard]] const HistoryRef& ref() const { return at_; }
  [[nodiscard]] std::size_t clients() const { return at_->clients; }
  /// Whether there are other holders: then it is not to be changed.
  [[nodiscard]] bool is_shared() const { return at_->holders > 1; }
  /// Requires: it is not shared.
  [[nodiscard]] BaselineHistory& to_change() {
    KWIND_ASSERT(!is_shared());
    return at_->history;
  }
  void move_to(HistoryRef other) {
    ++other->clients;
    --at_->clients;
    at_ = std::move(other);
  }

 private:
  HistoryRef at_;
};

class SharedHistories {
 public:
  SharedHistories() = default;
  SharedHistories(const SharedHistories&) = delete;
  SharedHistories& operator=(const SharedHistories&) = delete;

  /// Where a client with these options begins, with others that have been sent nothing.
  HistoryRef beginning(const WorldState& world, const ReplicatorOptions& options);
  /// A copy for a client that leaves `from`. O(what a client holds).
  HistoryRef copy_of(const SharedHistory& from);
  /// The step is whole: others may follow it until the tick ends.
  void end_step(const HistoryRef& from, Step& step, HistoryRef to);
  /// The group that will go on as `history` does, if its client left one lately; else `history`.
  HistoryRef group_like(const HistoryRef& history);

 private:
  friend class HistoryRef;
  static constexpr std::size_t kBeginnings = 8;  // kept without clients
  static constexpr std::size_t kMaxGroups = 8;   // to come back to
  static constexpr std::size_t kMaxFree = 8;     // kept for the next copy

  void new_tick(Tick tick);
  void drop_groups();
  void recycle(SharedHistory& history);

  std::vector<std::unique_ptr<SharedHistory>> free_;  // first here: it goes last
  std::vector<HistoryRef> beginnings_;                // by options
  std::vector<HistoryRef> stepped_;                   // those with steps
  std::vector<HistoryRef> groups_;  // that many were on when the tick began, most first
  Tick tick_;
};

}  // namespace kwind::replica
