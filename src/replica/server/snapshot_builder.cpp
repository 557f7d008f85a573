// Gathers the updates that a client needs, and composes a snapshot from plan and writer.
//
// The plan (snapshot_plan.cpp) chooses among the candidates what fits; their bits are written by
// snapshot_writer.cpp. Most entities are settled at most ticks, so find_unsettled() is the loop
// that decides what a client costs.
//
// Four steps. begin() and commit() change the history; explanation.cpp runs the first two on a copy.
//   begin()   the history takes the view and the acknowledgements; candidates are gathered
//   plan()    sizes of updates, and which of them fit; an update that is too large is fragmented
//   encode()  bits
//   commit()  the snapshot enters the history
#include "replica/server/snapshot_builder.h"

#include <algorithm>
#include <utility>

#include "kwind/core/prefetch.h"
#include "kwind/replica/interest.h"
#include "replica/coding/state_digest.h"

namespace kwind::replica {
namespace {

constexpr std::size_t kSectionBits = 4;  // the ends of some

}  // namespace

SnapshotBuilder::SnapshotBuilder(BaselineHistory& history, ClientsShared& shared,
                                 SymbolCounts* symbol_counts)
    : history_(history),
      shared_(shared),
      symbol_counts_(symbol_counts),
      world_(history.world()),
      codes_(history.codes()),
      entities_(history.entities_known),
      sent_(history.sent),
      fragmented_(history.fragmented),
      unsettled_(shared.scratch.unsettled),
      candidates_(shared.scratch.candidates),
      expected_(shared.scratch.expected),
      continuing_(shared.scratch.continuing),
      by_priority_(shared.scratch.by_priority),
      entries_(shared.scratch.entries),
      bodies_(shared.scratch.bodies) {}

// Lists the entities whose last change is newer than what is settled for this client. Most are
// settled, and no processor predicts which, so that this loop has no branch.
std::size_t SnapshotBuilder::find_unsettled() {
  const ById<WorldState::Brief>& briefs = world_.briefs;
  if (unsettled_.size() < entities_.size()) unsettled_.resize(entities_.size());
  std::size_t count = 0;
  // Invariant: unsettled_[0, count) are the indices below i whose entity is unsettled. The count
  // grows by 0 or 1, so the compiler needs no jump.
  for (std::size_t i = 0; i < entities_.size(); ++i) {
    unsettled_[count] = static_cast<std::uint32_t>(i);
    count += briefs[entities_.id(i)].changed_at > entities_.settled(i) ? 1 : 0;
  }
  return count;
}

// Makes a candidate of an entity in view that has an update pending. Priority grows with the ticks
// that a change has waited.
void SnapshotBuilder::consider(std::size_t index, const WorldState::Brief& brief) {
  ClientEntity& copy = entities_[index];
  const Look& look = entities_.look(index);
  const Baseline& baseline = copy.baseline();
  const PendingUpdate pending = history_.assess(index, brief);
  if (pending.reason == UpdateReason::up_to_date) {
    entities_.settled(index) = tick();
    copy.waiting_since = {};
    if (pending.packed && !fragmented_.completing) fragmented_.clear();
    return;
  }
  if (pending.reason == UpdateReason::in_flight) {
    if (!history_.repeats(index)) entities_.settled(index) = tick();
    return;
  }
  if (pending.reason != UpdateReason::sent) return;
  if (!pending.whole) {
    const auto& shared_bits =
        shared_.bits_of(entities_.id(index), baseline.ticks[0], baseline.ticks[1]);
    kwind::prefetch(&shared_bits, sizeof(SharedEntityBits));
  }
  if (!copy.waiting_since && !pending.in_flight) copy.waiting_since = tick();
  const std::uint32_t waited =
      pending.in_flight ? 1 : tick() - std::min(copy.waiting_since, tick()) + 1;
  constexpr float kOverdue = 1e6F;
  constexpr float kRepeat = 1e-6F;
  float priority_now = static_cast<float>(waited) * look.priority;
  const bool urgent = history_.urgent(index);
  if (pending.in_flight && !urgent) priority_now *= kRepeat;
  if (waited > ClientReplicator::kPatience) priority_now = kOverdue + static_cast<float>(waited);
  // Field by field: a copy of a whole one would wait for its stores.
  Candidate& made = candidates_.emplace_back();
  made.id = entities_.id(index);
  made.index = static_cast<std::uint32_t>(index);
  made.update = pending.whole ? Update::full : Update::delta;
  made.fragmented = pending.packed;
  made.complete = pending.complete;
  made.owner = look.owner;
  made.repeat = pending.in_flight;
  made.urgent = urgent;
  made.priority_now = priority_now;
}

// Fills the list of candidates: updates, and despawns of entities that the client may have.
void SnapshotBuilder::gather() {
  candidates_.clear();
  const std::size_t count = find_unsettled();
  constexpr std::size_t kAhead = 4;
  for (std::size_t n = 0; n < count; ++n) {
    kwind::prefetch(&entities_[unsettled_[std::min(n + kAhead, count - 1)]], sizeof(ClientEntity));
    const std::size_t index = unsettled_[n];
    const WorldState::Brief& brief = world_.briefs[entities_.id(index)];
    const ClientEntity& copy = entities_[index];
    if (entities_.look(index).in_view && brief.alive) {
      consider(index, brief);
    } else if (!copy.baseline().known) {
      entities_.settled(index) = tick();
    } else if (const bool in_flight = copy.sent_gone && copy.sent_snapshot;
               !in_flight || (history_.repeats_despawn(index) && history_.repeated_at != tick())) {
      constexpr float kFirst = 1e9F;  // it takes few bits, and makes room at the client
      Candidate& made = candidates_.emplace_back();
      made.id = entities_.id(index);
      made.index = static_cast<std::uint32_t>(index);
      made.update = Update::despawn;
      made.repeat = in_flight;
      made.urgent = in_flight;
      made.priority_now = kFirst;
    }
  }
}

// First step of a snapshot: takes the view and the acknowledgements and gathers candidates. Returns
// false if there is nothing to send. Otherwise the head is complete but for its sections.
bool SnapshotBuilder::begin(InterestQuery* query, std::vector<SnapshotNumber>& acks,
                            SnapshotHead& heading) {
  if (query != nullptr) history_.see(*query);
  history_.take_acks(acks);
  if (history_.complete_at == tick() && !history_.news) return false;
  cancel_unneeded_fragments();
  gather();
  heading.needs_heartbeat = candidates_.empty() && history_.needs_heartbeat();
  if (candidates_.empty() && !heading.needs_heartbeat) {
    history_.complete_at = tick();
    history_.news = false;
    // Order: despawns and spawns wait for the acknowledgements that may make them unnecessary.
    return false;
  }
  const SnapshotNumber base = history_.base();
  const Sent* const named = base ? sent_.find(base) : nullptr;
  SnapshotMark& mark = heading.mark;
  mark = {history_.last_snapshot + 1, tick(), history_.start, base, 0, 0};
  heading.named = named != nullptr ? base : SnapshotNumber{};
  if (named != nullptr) {
    heading.named_mark = named->mark;
    // One bit for each snapshot between the baseline's and the newest of the named one.
    for (std::uint32_t i = 0; i < sent_between(named->mark); ++i) {
      const Sent* const snapshot = sent_.find(base - 1 - i);
      if (snapshot != nullptr && history_.assumed_delivered(*snapshot))
        mark.between |= std::uint64_t{1} << i;
    }
  }
  heading.digest = digest(base);
  return true;
}

// Lists the entities that the snapshots of the baseline's tick updated and that the client has: the
// client expects an update of each of them again (they are continuing).
void SnapshotBuilder::find_expected(const Sent& named) {
  expected_.clear();
  const SnapshotNumber first = history_.first_of_tick(named.mark.snapshot);
  // The snapshots of one tick, oldest first; later ones correct earlier ones.
  for (SnapshotNumber snapshot = first; snapshot <= named.mark.snapshot; ++snapshot) {
    const Sent* const each = sent_.find(snapshot);
    if (each == nullptr || (each != &named && !history_.assumed_delivered(*each))) continue;
    const std::size_t before = expected_.size();
    for (const Entry& entry : sent_.entries(*each)) {
      if (entry.update != Update::despawn) {
        expected_.push_back({entry.id, entry.index});
      } else if (before > 0) {
        // A later snapshot of the same tick despawned the entity.
        std::erase_if(expected_, [&](const ExpectedEntity& other) { return other.id == entry.id; });
      }
    }
    if (before == 0) continue;
    const auto by_id = [](const ExpectedEntity& a, const ExpectedEntity& b) { return a.id < b.id; };
    const auto same_id = [](const auto& a, const auto& b) { return a.id == b.id; };
    // Sorted by id, since the list is written as "changed or not" in the order of ids.
    std::stable_sort(expected_.begin(), expected_.end(), by_id);
    expected_.erase(std::unique(expected_.begin(), expected_.end(), same_id), expected_.end());
  }
}

// Pairs continuing entities with candidates. Returns the bits that "no change" takes for all
// continuing entities: for those without a change, and for those with one, should the change find
// no room.
SnapshotBuilder::ContinuingBits SnapshotBuilder::mark_continuing() {
  continuing_.clear();
  ContinuingBits bits;
  auto candidate = candidates_.begin();
  // Merge of two lists that are sorted by id.
  for (const ExpectedEntity& entry : expected_) {
    while (candidate != candidates_.end() && candidate->id < entry.id) ++candidate;
    const auto index = entities_.find(entry.index, entry.id);
    KWIND_ASSERT(index && entities_[*index].baseline().known);
    const Baseline& baseline = entities_[*index].baseline();
    ContinuingEntity entity{&baseline, nullptr};
    if (candidate != candidates_.end() && candidate->id == entry.id) {
      candidate->is_continuing = candidate->update != Update::full;
      entity.candidate = &*candidate;
    }
    continuing_.push_back(entity);
    const bool changed = entity.candidate != nullptr && entity.candidate->is_continuing;
    (changed ? bits.changed : bits.unchanged) +=
        codes_of(baseline).nothing[age_of(tick() - baseline.ticks[0])].bits;
  }
  return bits;
}

// Numbers the entities that are not continuing: first those that changed since they appeared, then
// the others. An update of one of them names its entity by the distance from the update before.
void SnapshotBuilder::rank(bool with_continuing) {
  std::uint32_t changing = 0;
  std::uint32_t still = 0;
  auto candidate = candidates_.begin();
  auto next_expected = with_continuing ? expected_.begin() : expected_.end();
  // Merge of three lists that are sorted by id: entities, candidates, continuing ones.
  for (std::size_t i = 0; i < entities_.size(); ++i) {
    const MotionState standing = entities_.standing(i);
    if (standing == MotionState::unknown) continue;
    const EntityId id = entities_.id(i);
    while (next_expected != expected_.end() && next_expected->id < id) ++next_expected;
    if (next_expected != expected_.end() && next_expected->id == id) continue;
    std::uint32_t& rank = standing == MotionState::changing ? changing : still;
    while (candidate != candidates_.end() && candidate->id < id) ++candidate;
    if (candidate != candidates_.end() && candidate->id == id) candidate->rank = rank;
    ++rank;
  }
  // Still entities are numbered after all changing ones.
  for (Candidate& each : candidates_) {
    if (!each.is_unexpected()) continue;
    if (entities_.standing(each.index) == MotionState::still) each.rank += changing;
  }
}

// Whether the list of continuing entities goes into this snapshot, and whether all changes fit
// beside it. Takes the list's bits off `room`, and counts candidates that it leaves out. The client
// expects updates of those that the named snapshot has. If they alone, with nothing to say of
// any, fill this one, the datagram before had far more room.
SnapshotBuilder::ContinuingList SnapshotBuilder::fit_continuing(const Sent* named,
                                                                std::size_t& room,
                                                                SnapshotPlan& plan) {
  ContinuingList list{named != nullptr && history_.continuing_complete_at != tick(), false};
  if (list.goes) find_expected(*named);
  const ContinuingBits bits = list.goes ? mark_continuing() : ContinuingBits{};
  // An eighth of the room is kept for updates.
  if (bits.unchanged + bits.changed <= room - room / 8) {
    room -= bits.unchanged + bits.changed;
  } else {
    plan.limited = true;
    // If all changes fit, nobody who has one needs to be said to have none.
    list.all_fit = bits.unchanged < room && fit_all(room - bits.unchanged);
    list.goes = list.all_fit;
    if (list.all_fit) {
      room -= bits.unchanged;
    } else {
      for (Candidate& each : candidates_) each.is_continuing = false;
    }
  }
  if (!list.all_fit && narrow(room, plan.deferred) && list.goes) (void)mark_continuing();
  return list;
}

// A section without updates is left out of the snapshot.
Sections SnapshotBuilder::sections_of_taken(bool with_continuing) const {
  Sections sections{with_continuing, false, false, false};
  for (const Candidate& each : candidates_) {
    if (!each.taken) continue;
    sections.fragments = sections.fragments || each.fragmented;
    sections.unexpected = sections.unexpected || each.is_unexpected();
    sections.spawns = sections.spawns || each.is_spawn();
  }
  return sections;
}

// Second step: chooses the updates that fit. Bodies are encoded for it, because the choice needs
// their sizes; the history does not change, but for an update that no datagram holds, which is cut
// into fragments. Nothing if not even one update fits.
std::optional<SnapshotPlan> SnapshotBuilder::plan(const SnapshotHead& heading,
                                                  Room& room_of_client) {
  if (room_of_client.now < kSectionBits) return std::nullopt;
  std::size_t room = room_of_client.now - kSectionBits;
  SnapshotPlan plan;
  plan.max_bits = room_of_client.now;
  const Sent* const named = heading.named ? sent_.find(heading.named) : nullptr;
  const ContinuingList list = fit_continuing(named, room, plan);
  const bool has_others = std::any_of(candidates_.begin(), candidates_.end(),
                                      [](const Candidate& each) { return each.is_unexpected(); });
  if (has_others) rank(list.goes);
  write_bodies();
  // Repeats fill the room that fresh changes leave.
  if (!list.all_fit && limit_repeats() && list.goes) (void)mark_continuing();
  room_of_client.lost = room_of_client.now - room;
  room_of_client.note();
  fragment_largest_pending(room_of_client.roomiest);
  plan.taken = choose(room);
  if (plan.taken == 0 && !heading.needs_heartbeat) return std::nullopt;
  plan.deferred += candidates_.size() - plan.taken;
  plan.sections = sections_of_taken(list.goes);
  // At most one entity is in fragments at a time.
  for (const Candidate& each : candidates_) {
    if (each.taken && each.in_fragments()) {
      plan.fragments = fragmented_.waiting(each.bits / kFragmentBits);
    }
  }
  return plan;
}

// Third step: writes the sections into EncodeScratch::snapshot. Returns their bits. The history
// does not change.
// The order of the sections is part of the format (docs/state-format.md).
std::size_t SnapshotBuilder::encode(const SnapshotPlan& plan) {
  std::vector<std::byte>& snapshot = shared_.scratch.snapshot;
  if (snapshot.size() < bits::bytes_for(plan.max_bits)) {
    snapshot.resize(bits::bytes_for(plan.max_bits));
  }
  bits::Writer out(snapshot);
  if (plan.sections.continuing) write_continuing(out);
  if (plan.sections.unexpected) write_unexpected(out);
  if (plan.sections.spawns) write_spawns(out, plan.sections.fragments);
  if (plan.sections.fragments) write_fragments(out, plan.fragments);
  KWIND_ASSERT(out.ok());
  const std::size_t bits = out.bit_count();
  out.finish();
  return bits;
}

// Fourth step: the snapshot enters the history.
bool SnapshotBuilder::commit(const SnapshotHead& heading, const SnapshotPlan& plan,
                             std::size_t bits) {
  const SnapshotMark& mark = heading.mark;
  if (plan.fragments.count > 0) fragmented_.send(plan.fragments);
  if (heading.digest) history_.digested = mark.snapshot;
  note_sent(mark);
  history_.repeated_at = tick();
  if (plan.sections.continuing) history_.continuing_complete_at = tick();
  Sent& added = history_.sent.add(mark, entries_);
  added.fragments = plan.fragments;
  added.has_full = plan.sections.spawns;
  if (fragmented_.completing == mark.snapshot) added.completed = fragmented_.number;
  if (history_.options_.speculative_baselines && history_.sure) {
    // Speculative baselines move at once, exact ones when the snapshot is acknowledged.
    for (const Entry& entry : entries_) {
      entities_.apply(entry.index, entry);
      history_.count_holders(entry.index);
    }
  }
  history_.last_snapshot = mark.snapshot;
  ++history_.counts.snapshots;
  history_.counts.bits += bits;
  history_.counts.deferred += plan.deferred;
  // All that was pending went out: nothing to do until the world changes.
  if (plan.taken == candidates_.size() && plan.fragments.count == 0) {
    history_.complete_at = tick();
    history_.news = false;
    return plan.limited || fragmented_.id;
  }
  return true;
}

// Records a snapshot in the history, so that its fate can move baselines.
void SnapshotBuilder::note_sent(const SnapshotMark& mark) {
  entries_.clear();
  // Fragments have a record of their own.
  for (const Candidate& each : candidates_) {
    if (each.taken && !each.in_fragments()) note_sent(mark, each);
  }
}

// Records one update: the entry for the history, and what the client will have if the snapshot
// arrives.
void SnapshotBuilder::note_sent(const SnapshotMark& mark, const Candidate& each) {
  const std::uint8_t generation = world_.briefs[each.id].generation;
  const std::uint16_t type = world_.briefs[each.id].type;
  std::uint32_t share = 0;
  if (each.update != Update::despawn) {
    const std::uint32_t values =
        // A digest covers what the client then holds, whichever update brought it.
        each.complete ? fragmented_.values : values_of(each.id, each.owner);
    share = share_of(values, each.id, generation, each.owner, each.tick);
  }
  entries_.push_back(
      {each.id, each.tick, type, generation, each.update, each.owner, share, each.index});
  ClientEntity& copy = entities_[each.index];
  // What changed since it was packed is still to be sent.
  const Tick upto = each.complete ? fragmented_.packed_at : mark.tick;
  if (each.complete) {
    fragmented_.completing = mark.snapshot;
    ++history_.counts.fragmented;
  }
  copy.sent_tick = upto;
  copy.sent_snapshot = mark.snapshot;
  copy.sent_generation = generation;
  copy.sent_owner = each.owner;
  copy.sent_gone = each.update == Update::despawn;
  if (copy.sent_gone) copy.despawn_snapshot = mark.snapshot;
  if (each.update == Update::full) {
    ++copy.wholes[each.owner ? 1 : 0];
    history_.count_holders(each.index);
  }
  // Until it is acknowledged there is more to say.
  const bool repeats = each.update == Update::despawn ? history_.repeats_despawn(each.index)
                                                      : history_.repeats(each.index);
  if (!repeats) entities_.settled(each.index) = upto;
  if (copy.waiting_since) {
    history_.counts.longest_wait =
        std::max(history_.counts.longest_wait, mark.tick - copy.waiting_since);
  }
  copy.waiting_since = {};
  switch (each.update) {
    case Update::full: ++history_.counts.whole; break;
    case Update::delta:
      ++(each.is_continuing && each.mask == 0 ? history_.counts.predicted
                                              : history_.counts.changed);
      break;
    case Update::despawn: ++history_.counts.gone; break;
  }
}

// The digest over everything that the client has as of `base`, every `digest_every` snapshots.
std::optional<std::uint32_t> SnapshotBuilder::digest(SnapshotNumber base) const {
  if (history_.options_.digest_every == 0 || !base ||
      history_.last_snapshot + 1 - history_.digested < history_.options_.digest_every) {
    return std::nullopt;
  }
  const auto sum = entities_.sum_of_shares();
  return sum ? std::optional(digest_of_sum(*sum)) : std::nullopt;
}

}  // namespace kwind::replica
