// Applies a snapshot that was read: new states, states of snapshots that the server discarded, and
// the values that are shown.
//
// Each entity keeps its states of the last snapshots (ReceivedStates), because later deltas may
// refer to any of them. The value that is shown is that of the newest snapshot; older ones that
// arrive late are kept and not shown.
#include <algorithm>
#include <utility>

#include "replica/client/client_world_state.h"

namespace kwind::replica {

void ClientWorld::State::full_resync(SnapshotNumber snapshot) {
  entities.for_each([&](EntityId id, const Entity& entity) {
    if (!entity.there) return;
    note({EntityEvent::Type::despawned, {id.raw(), entity.generation}, entity.type});
  });
  entities.clear();
  // Waiting snapshots count as unread.
  // They build on what holds no more.
  for (Waiting& place : waiting) {
    if (std::exchange(place.snapshot, {})) ++counts.unread;
  }
  waiting_now = 0;
  with_records.clear();
  unpacking.clear();
  marks = {};
  for (Taken& each : received_snapshots) each = {};
  there = 0;
  latest = {};
  tick = {};
  input = 0;
  // Everything up to the full snapshot is settled: none of it is in flight.
  resolved = snapshot - 1;
  start = snapshot;
}

// A snapshot that was read whole takes effect: its updates first, then its word on snapshots before
// it.
void ClientWorld::State::take(const SnapshotMark& mark) {
  marks.add(mark);
  apply_updates(mark);
  if (staged_chunks.count > 0) unpacking.take(mark.snapshot, staged_chunks, staged_bytes);
  tick = std::max(tick, mark.tick);
  // Only a newer mark says what became of earlier snapshots.
  if (mark.snapshot > latest) settle_earlier(mark);
}

void ClientWorld::State::apply_updates(const SnapshotMark& mark) {
  Taken& here = received_snapshots[mark.snapshot % received_snapshots.size()];
  here.snapshot = mark.snapshot;
  here.ids.clear();
  here.there.clear();
  for (const Staged& each : staged) {
    // Memory for ids that were not in use: only a spawn may need it.
    if (each.record.update == Update::full) entities.make(each.id);
  }
  const auto ahead = [&](std::size_t i, std::size_t by) -> const Entity& {
    return entities[staged[std::min(i + by, staged.size() - 1)].id];
  };
  for (std::size_t i = 0; i < staged.size(); ++i) {
    ahead(i, 6).received.prefetch_free_slot();
    ahead(i, 3).received.prefetch_free_values(widths);
    kwind::prefetch(ahead(i, 3).now.numbers.data(), 1);
    const Staged& each = staged[i];
    here.ids.push_back(each.id);
    if (each.record.update != Update::despawn) here.there.push_back(each.id);
    const Row row = rows[each.row];
    // Snapshots may overtake each other. What is shown is the newest; an older one is kept all the
    // same, as later deltas may build on it.
    if (each.record.at >= entities[each.id].at) show(each.id, &each.record, row);
    ReceivedStates& states = entities[each.id].received;
    // Deltas refer to the window of snapshots alone: what is older makes room, at the latest when
    // the next state would take more memory.
    if (states.empty()) note_records(each.id, true);
    const bool may_be_large = each.record.update == Update::delta && !row.varying.empty();
    if (latest.raw() > kRecordsKept && (states.full() || may_be_large)) {
      states.trim(latest - kRecordsKept);
    }
    states.insert(each.record, row, widths);
  }
}

// Drops snapshots that the server took for lost and all that build on them, and records that no
// delta can refer to any more.
void ClientWorld::State::settle_earlier(const SnapshotMark& mark) {
  const SnapshotNumber before = latest;
  latest = mark.snapshot;
  input = mark.input;
  // Numbers may leap at a full resync: of snapshots older than `received_snapshots` reaches nothing
  // is left.
  const auto reach = static_cast<std::uint32_t>(received_snapshots.size());
  const auto first_after = [&](SnapshotNumber done, SnapshotNumber last) {
    return std::max(done, number_before(last, reach)) + 1;
  };
  SnapshotNumber oldest_void;
  const auto drop = [&](SnapshotNumber f) {
    if (make_void(f) && (!oldest_void || f < oldest_void)) oldest_void = f;
  };
  // Invariant: of the snapshots up to `resolved` it is settled which of them the server counts on.
  for (SnapshotNumber f = first_after(resolved, mark.newest); f <= mark.newest; ++f) {
    if (!marks.arrived(mark, f)) drop(f);
  }
  resolved = std::max(resolved, mark.newest);
  // A replicator with speculative_baselines takes snapshots for lost that it counted as arrived
  // before, and with them all that build on them.
  const SnapshotMarks::Below word = marks.below(mark);
  for (std::uint32_t i = 0; i < kSnapshotWindow && word.from + i <= mark.newest; ++i) {
    if ((word.arrived >> i & 1) == 0) drop(mark.newest - i);
  }
  // What builds on a void snapshot is void, too; ascending, so that one pass suffices.
  for (SnapshotNumber f = oldest_void; oldest_void && f < latest; ++f) {
    const SnapshotMark* const later = marks.find(f);
    if (later != nullptr && builds_on_void(*later)) make_void(f);
  }
  if (latest.raw() <= kRecordsKept) return;
  const SnapshotNumber forgotten = number_before(before, kRecordsKept);
  const SnapshotNumber last = latest - kRecordsKept;
  for (SnapshotNumber f = first_after(forgotten, last); f <= last; ++f) forget(f);
}

// Whether what the snapshot says to have arrived was taken for lost since the snapshot was made.
bool ClientWorld::State::builds_on_void(const SnapshotMark& mark) const {
  const SnapshotMark* const named = marks.find(mark.newest);
  if (named == nullptr) return false;
  const auto is_gone = [&](SnapshotNumber snapshot) {
    return received_snapshots[snapshot % received_snapshots.size()].snapshot != snapshot;
  };
  if (is_gone(mark.newest)) return true;
  for (std::uint32_t i = 0; i < sent_between(*named); ++i) {
    if ((mark.between >> i & 1) != 0 && is_gone(mark.newest - 1 - i)) return true;
  }
  return false;
}

// The server will never build on what it takes for lost, and may never say the like again: what is
// shown is what the snapshots that count have said. False if it was void already.
bool ClientWorld::State::make_void(SnapshotNumber snapshot) {
  Taken& voided = received_snapshots[snapshot % received_snapshots.size()];
  if (!snapshot || voided.snapshot != snapshot) return false;
  for (const EntityId id : voided.ids) {
    ReceivedStates& states = entities[id].received;
    states.erase(snapshot);
    if (states.empty()) note_records(id, false);
    // The entity falls back to the newest state that counts, or is not there.
    const auto newest = std::max_element(
        states.begin(), states.end(),
        [](const ReceivedState& a, const ReceivedState& b) { return a.at < b.at; });
    if (newest == states.end()) {
      show(id, nullptr, {});
    } else {
      show(id, &*newest, row_of(states, *newest));
    }
  }
  voided = {};
  return true;
}

// No delta uses states of entities that `snapshot` despawned. Other old states go when something
// new comes.
void ClientWorld::State::forget(SnapshotNumber snapshot) {
  const Taken& old = received_snapshots[snapshot % received_snapshots.size()];
  if (old.snapshot != snapshot) return;
  // An id in `ids` that is not in `there` is one that the snapshot despawned.
  auto stays = old.there.begin();
  for (const EntityId id : old.ids) {  // both ascending
    if (stays != old.there.end() && *stays == id) {
      ++stays;
      continue;
    }
    ReceivedStates& states = entities[id].received;
    if (states.empty()) continue;
    states.drop_through(snapshot);
    if (states.empty()) note_records(id, false);
  }
}

void ClientWorld::State::show(EntityId id, const ReceivedState* record, const Row& row) {
  Entity& entity = entities[id];
  const bool was_there = entity.there;
  const bool is_there = record != nullptr && record->update != Update::despawn;
  const bool other = was_there && is_there && entity.generation != record->generation;
  const auto happened = [&](EntityEvent::Type what) {
    note({what, {id.raw(), entity.generation}, entity.type});
  };
  entity.at = record != nullptr ? record->at : Tick{};
  entity.tick = record != nullptr ? record->tick : Tick{};
  if (was_there && (other || !is_there)) happened(EntityEvent::Type::despawned);
  entity.there = is_there;
  if (is_there && !was_there) ++there;
  if (was_there && !is_there) --there;
  if (!is_there) return;
  const bool changed =
      !was_there || other || entity.owner != record->owner || !same(entity.now, row);
  entity.generation = record->generation;
  entity.type = record->type;
  entity.owner = record->owner;
  entity.now.assign(row);
  if (changed) {
    happened(was_there && !other ? EntityEvent::Type::updated : EntityEvent::Type::spawned);
  }
}

}  // namespace kwind::replica
