// Baseline history: all that one client was sent and has acknowledged. Clients with equal history
// share one, see shared_histories.h. snapshot_builder.h makes the next snapshot of a history;
// acknowledgements.cpp moves its baselines. One thread.
#pragma once
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string_view>
#include <utility>
#include <vector>

#include "kwind/replica/client_replicator.h"
#include "kwind/replica/explanation.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/desync_report.h"
#include "replica/coding/fragmented_entity.h"
#include "replica/server/client_entities.h"
#include "replica/server/sent_snapshots.h"
#include "replica/server/world_state.h"

namespace kwind::replica {

/// Whether replicators with these options write the same snapshots to clients that received the same.
bool are_same(const ReplicatorOptions& a, const ReplicatorOptions& b);

/// All that is particular to a history.
struct HistoryValue {
  ClientEntities entities_known;
  SentSnapshots sent;
  FragmentedEntity fragmented;
  SnapshotNumber last_snapshot;
  SnapshotNumber start{1};      // the first snapshot since the last full resync
  SnapshotNumber sure;          // the newest snapshot that is known to have arrived
  Tick continuing_complete_at;  // whose continuing entities were listed
  Tick repeated_at;             // in which what is in flight was sent again
  Tick complete_at;             // of which there is nothing more to say, unless `news`
  bool news = true;
  bool lost_any = false;            // speculative_baselines: what was built on has gone
  SnapshotNumber digested;          // snapshot that had the last digest
  std::uint64_t seen_revision = 0;  // of the query that was last asked; 0: none
  ReplicatorCounts counts;
};

/// How an entity in view stands with the client.
struct PendingUpdate {
  UpdateReason reason = UpdateReason::sent;  ///< `sent`: the next snapshot may have an update
  bool whole = false;                        ///< a full update
  bool packed = false;                       ///< it is the fragmented entity
  bool complete = false;                     ///< ... whose last bits go
  bool in_flight = false;                    ///< all of it was sent already
};

class BaselineHistory : private HistoryValue {
 public:
  BaselineHistory(const WorldState& world, ReplicatorOptions options);
  BaselineHistory(const BaselineHistory&) = delete;
  BaselineHistory& operator=(const BaselineHistory&) = delete;
  ~BaselineHistory() { release(); }

  [[nodiscard]] const WorldState& world() const { return *world_; }
  [[nodiscard]] const ReplicatorOptions& options() const { return options_; }
  [[nodiscard]] const CodeTables& codes() const { return *codes_; }
  [[nodiscard]] const ReplicatorCounts& replicator_counts() const { return counts; }
  /// The last tick that ended: snapshots are of it. None yet: none.
  [[nodiscard]] Tick tick() const { return world_->tick - 1; }
  [[nodiscard]] SnapshotNumber newest_snapshot() const { return last_snapshot; }
  /// Snapshot that had the last digest.
  [[nodiscard]] SnapshotNumber last_digest() const { return digested; }

  // ---- The view ----

  void see(std::span<const RelevantEntity> in_view);
  void see(InterestQuery& query);
  /// Whether see() would change nothing.
  [[nodiscard]] bool sees(std::span<const RelevantEntity> in_view) const;
  [[nodiscard]] bool sees(const InterestQuery& query) const;
  /// Whether the same entities are in view, to the same owner; weights do not matter.
  [[nodiscard]] bool has_in_view(std::span<const RelevantEntity> in_view) const;

  // ---- Acknowledgements and reports ----

  /// Takes the acknowledgements since the last snapshot, and empties the list.
  void take_acks(std::vector<SnapshotNumber>& acks);
  /// Whether the loss of a snapshot changes anything. Required by lose().
  [[nodiscard]] bool may_lose(SnapshotNumber snapshot) const;
  void lose(SnapshotNumber snapshot);
  [[nodiscard]] bool may_still_be_read(SnapshotNumber snapshot) const;
  /// The field of an entity that a client's desync report names; nothing if none differs, or it
  /// is unknown. `fits`: whether the report has the entity's columns.
  [[nodiscard]] std::optional<std::string_view> differing_field(const DesyncedEntity& each,
                                                                bool& fits) const;
  Desync repair(EntityId id, std::string_view field);
  void full_resync();
  /// The next snapshot builds on nothing already.
  [[nodiscard]] bool starts_anew() const { return !sure && start == last_snapshot + 1; }
  void count_desync() { ++counts.desyncs; }
  void count_resync() { ++counts.resyncs; }

  // ---- What the client has ----

  [[nodiscard]] bool complete() const;
  [[nodiscard]] bool view_complete() const;
  [[nodiscard]] bool knows(schema::AnyRef entity) const;
  [[nodiscard]] std::uint32_t oldest_wait() const;

  // ---- Sharing ----

  /// As `other` is. Requires: the same world.
  void take_over(const BaselineHistory& other);
  /// Counts for nobody any more.
  void release();
  /// Whether all that is to come will be the same for both, whatever was before.
  [[nodiscard]] bool is_like(const BaselineHistory& other) const;
  /// Asks for the memory that the next snapshot needs: first the lists, then what is in them.
  void prefetch(bool entities) const;
  [[nodiscard]] std::size_t memory() const {
    return sizeof(BaselineHistory) + entities_known.memory() + sent.memory() + fragmented.memory();
  }

 private:
  friend class SnapshotBuilder;

  template <class Alike>
  [[nodiscard]] bool walk_view(std::span<const RelevantEntity> in_view, const Alike& alike) const;
  // The snapshot that the next one builds on, if any.
  [[nodiscard]] SnapshotNumber base() const;
  [[nodiscard]] bool assumed_delivered(const Sent& snapshot) const {
    return snapshot.arrived || (options_.speculative_baselines && !snapshot.lost);
  }
  [[nodiscard]] bool repeats(std::size_t index) const;
  /// Whether a change that the client is not known to have is `urgent`.
  [[nodiscard]] bool urgent(std::size_t index) const;
  /// Whether a despawn that is in flight is sent again.
  [[nodiscard]] bool repeats_despawn(std::size_t index) const;
  [[nodiscard]] bool is_packed(std::size_t index) const {
    const EntityId id = entities_known.id(index);
    return fragmented.is_of(id, world_->briefs[id].generation, entities_known.look(index).owner);
  }
  // How an entity in view stands with the client.
  [[nodiscard]] PendingUpdate assess(std::size_t index, const WorldState::Brief& brief) const;
  // To be called where a copy may have come to be known, or known no more.
  void count_holders(std::size_t index);
  void mark_delivered(Sent& snapshot);
  void lose(Sent& snapshot);
  void discard(Sent& snapshot);
  [[nodiscard]] bool depends_on_lost(const SnapshotMark& mark) const;
  [[nodiscard]] std::uint32_t share_of_sure(std::size_t index) const;
  void build_again();
  [[nodiscard]] bool needs_heartbeat() const;
  // The first snapshot of the tick of `snapshot`.
  [[nodiscard]] SnapshotNumber first_of_tick(SnapshotNumber snapshot) const;

  const WorldState* world_;
  ReplicatorOptions options_;
  const CodeTables* codes_;
  std::shared_ptr<EntityIds> ids_;
};

}  // namespace kwind::replica
