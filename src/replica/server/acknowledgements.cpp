// Acknowledgements and losses of snapshots: moves the baselines of one client.
//
// Two ways of choosing baselines, by ReplicatorOptions::speculative_baselines:
//
//   exact        a delta refers to the newest state that is acknowledged
//   speculative  a delta refers to the newest state that was sent and is not known to be lost
//
// Speculative deltas are smaller, because the baseline is younger. Their price is paid on loss:
// everything that builds on a lost snapshot is lost with it (lose()), and the assumed state is
// built again from what is sure (build_again()).
//
// Invariant 1: `sure` only grows, but for a full resync, which starts a new history.
// Invariant 2: a late acknowledgement of a lost snapshot counts, unless the snapshot had a full
//   update: that update was sent again since, perhaps for another owner.
#include <algorithm>
#include <utility>

#include "replica/coding/state_digest.h"
#include "replica/server/baseline_history.h"

namespace kwind::replica {

// Speculative baselines count an acknowledged snapshot as sure only when everything before it is
// settled.
bool BaselineHistory::may_lose(SnapshotNumber snapshot) const {
  const Sent* const sent_then = sent.find(snapshot);
  if (sent_then == nullptr || sent_then->lost || sent_then->arrived) return false;
  return !options_.speculative_baselines || !sent_then->acked;
}

// Whether the client may come to read the snapshot without our help: something that it builds on is
// in flight yet, or its loss was reported and nothing newer builds on it.
bool BaselineHistory::may_still_be_read(SnapshotNumber snapshot) const {
  const Sent* const slot = sent.find(snapshot);
  if (slot == nullptr || !slot->mark.newest) return slot != nullptr;
  if (slot->lost) return true;
  const auto open = [&](SnapshotNumber base) {
    const Sent* const before = sent.find(base);
    return before != nullptr && !before->acked;
  };
  if (open(slot->mark.newest)) return true;
  const Sent* const named = sent.find(slot->mark.newest);
  if (named == nullptr) return false;
  for (std::uint32_t i = 0; i < sent_between(named->mark); ++i) {
    if ((slot->mark.between >> i & 1) != 0 && open(slot->mark.newest - 1 - i)) return true;
  }
  return false;
}

void BaselineHistory::lose(SnapshotNumber snapshot) {
  lose(*sent.find(snapshot));
}

// A snapshot is lost; with speculative baselines, so is every later one that builds on it.
void BaselineHistory::lose(Sent& snapshot) {
  discard(snapshot);
  if (!options_.speculative_baselines) return;
  // What was made since, and builds on it, is of no use either.
  for (SnapshotNumber later = snapshot.mark.snapshot + 1; later <= last_snapshot; ++later) {
    Sent* const slot = sent.find(later);
    if (slot != nullptr && !slot->lost && depends_on_lost(slot->mark)) discard(*slot);
  }
  lost_any = true;
}

// Nothing will build on the snapshot: what it had is to be sent again.
void BaselineHistory::discard(Sent& snapshot) {
  snapshot.lost = true;
  news = true;
  ++counts.discarded;
  if (snapshot.fragments.count > 0) fragmented.lose(snapshot.fragments);
  if (fragmented.completing == snapshot.mark.snapshot) fragmented.completing = {};
  // Each entity of the snapshot is pending again, unless a later snapshot carried it too.
  for (const Entry& entry : sent.entries(snapshot)) {
    const auto index = entities_known.find(entry.index, entry.id);
    if (!index) continue;
    ClientEntity& copy = entities_known[*index];
    copy.mark_sent(entry);
    if (entry.update == Update::full) count_holders(*index);
    if (copy.despawn_snapshot == snapshot.mark.snapshot) {
      copy.despawn_snapshot = {};
      entities_known.settled(*index) = {};
    }
    if (copy.sent_snapshot != snapshot.mark.snapshot) continue;
    copy.sent_snapshot = {};
    entities_known.settled(*index) = {};
  }
}

// A snapshot names its baseline and which snapshots before that it assumed delivered.
bool BaselineHistory::depends_on_lost(const SnapshotMark& mark) const {
  const Sent* const named = sent.find(mark.newest);
  if (named == nullptr) return false;
  if (named->lost) return true;
  for (std::uint32_t i = 0; i < sent_between(named->mark); ++i) {
    const Sent* const between = sent.find(mark.newest - 1 - i);
    if ((mark.between >> i & 1) != 0 && between != nullptr && between->lost) return true;
  }
  return false;
}

// An acknowledged snapshot becomes the sure baseline of every entity in it.
void BaselineHistory::mark_delivered(Sent& snapshot) {
  snapshot.arrived = true;
  sure = snapshot.mark.snapshot;
  if (snapshot.fragments.count > 0) fragmented.arrive(snapshot.fragments);
  // Unless the same last bits are in flight once more: until then the client keeps the others.
  const bool again = fragmented.completing && fragmented.completing != snapshot.mark.snapshot;
  if (snapshot.completed == fragmented.number && !again) fragmented.clear();
  for (const Entry& entry : sent.entries(snapshot)) {
    const std::size_t index = entities_known.at(entry.index, entry.id);
    ClientEntity& copy = entities_known[index];
    copy.sure.apply(entry);
    copy.mark_sent(entry);
    if (entry.update == Update::full) copy.resend = false;
    // It may be wanted again, or not any more.
    if (entry.update != Update::delta) entities_known.settled(index) = {};
    if (copy.despawn_snapshot == snapshot.mark.snapshot) copy.despawn_snapshot = {};
    if (!options_.speculative_baselines)
      entities_known.apply(index, entry);  // then it is what is sure
    if (entry.update != Update::delta) count_holders(index);
    if (copy.sent_snapshot == snapshot.mark.snapshot && copy.sent_gone) copy.sent_snapshot = {};
  }
}

// An entity's share of the digest sum, computed from what the client surely has; 0 if the world's
// history does not reach back so far.
std::uint32_t BaselineHistory::share_of_sure(std::size_t index) const {
  const EntityId id = entities_known.id(index);
  const Baseline& baseline = entities_known[index].sure;
  if (!baseline.known || world_->briefs[id].generation != baseline.generation) return 0;
  const WorldState::Entity& entity = world_->entities[id];
  const auto row = entity.history->at_or_before(baseline.ticks[0]);
  if (!row) return 0;
  return share_of(digest_of(*entity.model, entity.history->row(*row), baseline.owner), id,
                  baseline.generation, baseline.owner, baseline.ticks[0]);
}

// Rebuilds the assumed state after a loss: what is sure, and on top of it every snapshot that is
// still taken to arrive.
void BaselineHistory::build_again() {
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    entities_known.hold(i, entities_known[i].sure, share_of_sure(i));
    entities_known.settled(i) = {};  // that may have rested on what has gone
  }
  // Until something has arrived each snapshot has all anew.
  for (SnapshotNumber snapshot = sure + 1; sure && snapshot <= last_snapshot; ++snapshot) {
    const Sent* const slot = sent.find(snapshot);
    if (slot == nullptr || slot->lost) continue;
    for (const Entry& entry : sent.entries(*slot)) {
      entities_known.apply(entities_known.at(entry.index, entry.id), entry);
    }
  }
  for (std::size_t i = 0; i < entities_known.size(); ++i) count_holders(i);
}

// Forgets everything that the client has. The next snapshot builds on nothing.
void BaselineHistory::full_resync() {
  sure = {};
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    ClientEntity& copy = entities_known[i];
    copy.sure = {};
    entities_known.hold(i, {}, 0);
    copy.sent_snapshot = copy.despawn_snapshot = {};
    copy.wholes = {};
    entities_known.settled(i) = {};
    count_holders(i);
  }
  fragmented.clear();
  sent.clear();
  start = last_snapshot + 1;
  news = true;
  ++counts.full_resyncs;
}

// Takes the acknowledgements of a tick. A snapshot that was not acknowledged when a newer one was
// is not built on any more; see acked_snapshots.h.
void BaselineHistory::take_acks(std::vector<SnapshotNumber>& acks) {
  const SnapshotNumber before = sure;
  if (!acks.empty()) {
    news = true;
    std::sort(acks.begin(), acks.end());
    for (const SnapshotNumber snapshot : acks) {
      Sent* const slot = sent.find(snapshot);
      if (slot == nullptr || snapshot <= sure || last_snapshot - snapshot >= kSnapshotWindow)
        continue;
      // A late arrival was sent again since, perhaps with another owner.
      if (slot->lost && slot->has_full) continue;
      slot->acked = true;
      if (!options_.speculative_baselines) mark_delivered(*slot);
    }
    acks.clear();
  }
  // Before the first acknowledgement every snapshot is a full one: the oldest are discarded all the
  // same.
  if (last_snapshot >= SnapshotNumber(kSnapshotWindow)) {
    Sent* const old = sent.find(last_snapshot - kSnapshotWindow + 1);
    if (old != nullptr && !old->arrived && !old->lost) lose(*old);
  }
  if (options_.speculative_baselines) {
    for (SnapshotNumber snapshot = sure + 1; snapshot <= last_snapshot; ++snapshot) {
      Sent* const slot = sent.find(snapshot);
      if (slot == nullptr || slot->lost) continue;
      if (!slot->acked) break;  // later ones use it as their baseline
      mark_delivered(*slot);
    }
    if (std::exchange(lost_any, false) || (!before && sure)) build_again();
  }
  for (SnapshotNumber snapshot = before + 1; snapshot < sure; ++snapshot) {
    Sent* const slot = sent.find(snapshot);
    if (slot != nullptr && !slot->arrived && !slot->lost) discard(*slot);
  }
  if (sure && last_snapshot + 1 - sure >= kSnapshotWindow) full_resync();
  sent.drop_before(first_of_tick(sure));
}

// Whether an empty snapshot must be sent: a snapshot that counts as lost may have arrived all the
// same, and no snapshot in flight says to the client which of the two the server assumes.
bool BaselineHistory::needs_heartbeat() const {
  const Sent* const named = sent.find(sure);
  const SnapshotNumber acknowledged = named != nullptr ? named->mark.newest : SnapshotNumber{};
  const SnapshotNumber oldest = number_before(last_snapshot, kSnapshotWindow);
  bool needs_heartbeat = false;
  for (SnapshotNumber snapshot = std::max(acknowledged, oldest) + 1; snapshot <= last_snapshot;
       ++snapshot) {
    const Sent* const slot = sent.find(snapshot);
    if (slot == nullptr) continue;
    if (snapshot > sure && !slot->arrived && !slot->lost) return false;
    needs_heartbeat = needs_heartbeat || (slot->lost && !slot->arrived && slot->count > 0);
  }
  return needs_heartbeat;
}

// A digest differed: the entity is sent whole again, and nothing builds on what the client has of
// it.
Desync BaselineHistory::repair(EntityId id, std::string_view field) {
  Desync found{id.raw(), {}, field};
  const auto index = entities_known.find(id);
  if (!index) return found;
  ClientEntity& copy = entities_known[*index];
  ++counts.desyncs;
  copy.resend = true;
  copy.sent_snapshot = {};
  entities_known.settled(*index) = {};
  news = true;
  if (copy.baseline().known) found.type = world_->models[copy.baseline().type].info().name;
  return found;
}

}  // namespace kwind::replica
