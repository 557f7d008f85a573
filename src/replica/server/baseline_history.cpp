// Gathers the updates that a client needs, and composes a snapshot from plan and writer.
//
// A history is what the server knows of one client's world: for each entity the newest state that
// the client is sure to have, the state that the client is assumed to have once everything in
// flight has arrived, and which snapshots are in flight. Clients whose histories are equal share
// one (shared_histories.cpp).
//
// One snapshot takes three steps: begin() gathers candidates, that is, entities whose state differs
// from what the client is assumed to have; the plan (snapshot_plan.cpp) chooses among them what
// fits; write() encodes those (snapshot_writer.cpp) and records what was sent.
//
// Tick `settled` of an entity: up to this tick nothing of the entity needs to be sent. Most
// entities are settled at most ticks, so find_unsettled() is the loop that decides what a client
// costs.
#include "replica/server/baseline_history.h"

#include <algorithm>
#include <utility>

#include "kwind/core/prefetch.h"
#include "kwind/replica/interest.h"
#include "replica/coding/snapshot_head.h"

namespace kwind::replica {
namespace {

constexpr std::size_t kSectionBits = 4;  // the ends of some

// Equal in everything that later snapshots depend on.
bool is_like(const ClientEntity& a, const ClientEntity& b) {
  return a.despawn_snapshot == b.despawn_snapshot && a.waiting_since == b.waiting_since &&
         a.sent_snapshot == b.sent_snapshot && a.sent_tick == b.sent_tick &&
         a.sent_generation == b.sent_generation && a.sent_owner == b.sent_owner &&
         a.sent_gone == b.sent_gone && a.resend == b.resend && a.wholes == b.wholes &&
         a.sure == b.sure && a.baseline() == b.baseline();
}

bool is_like(const Sent& a, const Sent& b) {
  return a.mark == b.mark && a.lost == b.lost && a.arrived == b.arrived && a.acked == b.acked &&
         a.has_full == b.has_full;
}

}  // namespace

// Options that decide bits: clients that differ in one of them never share a history.
bool are_same(const ReplicatorOptions& a, const ReplicatorOptions& b) {
  return a.speculative_baselines == b.speculative_baselines && a.digest_every == b.digest_every &&
         a.codes == b.codes;
}

// Whether two histories will write the same snapshots from now on. The cheap comparisons come
// first: most histories differ in one of them.
bool BaselineHistory::is_like(const BaselineHistory& other) {
  if (!are_same(options, other.options)) return false;
  if (last_snapshot != other.last_snapshot || start != other.start || sure != other.sure ||
      digested != other.digested || entities_known.size() != other.entities_known.size() ||
      sure == 0 || entities_known.sum_of_shares() != other.entities_known.sum_of_shares() ||
      news != other.news || lost_any != other.lost_any ||
      counts.longest_wait < other.counts.longest_wait ||
      continuing_complete_at != other.continuing_complete_at || repeated_at != other.repeated_at ||
      complete_at != other.complete_at || seen_revision != other.seen_revision) {
    return false;
  }
  if (fragmented.id != 0 || other.fragmented.id != 0 ||
      fragmented.number != other.fragmented.number)
    return false;
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const std::uint32_t id = entities_known.id(i);
    if (id != other.entities_known.id(i) ||
        entities_known.look(i) != other.entities_known.look(i) ||
        !replica::is_like(entities_known[i], other.entities_known[i])) {
      return false;
    }
    // What either has looked at without finding anything does not matter.
    const std::uint32_t changed_at = all().briefs[id].changed_at;
    if ((changed_at > entities_known.settled(i)) != (changed_at > other.entities_known.settled(i)))
      return false;
  }
  // Those before the tick of the snapshot that is built on next are asked for no more.
  for (std::uint32_t snapshot = first_of_tick(sure); snapshot <= last_snapshot; ++snapshot) {
    const Sent* const here = sent.find(snapshot);
    const Sent* const there = other.sent.find(snapshot);
    if ((here == nullptr) != (there == nullptr)) return false;
    if (here == nullptr) continue;
    if (!replica::is_like(*here, *there) || here->fragments.count + there->fragments.count > 0) {
      return false;
    }
    const auto entries_here = sent.entries(*here);
    const auto sent_there = other.sent.entries(*there);
    if (!std::equal(entries_here.begin(), entries_here.end(), sent_there.begin(), sent_there.end()))
      return false;
  }
  return true;
}

// Takes the client's area of interest: entities that came into view are added, entities that left
// and that the client cannot know are dropped. Both lists are sorted by id and walked together.
void BaselineHistory::see(std::span<const RelevantEntity> in_view) {
  seen_revision = 0;
  std::size_t index = 0;
  for (const RelevantEntity& each : in_view) {
    index = entities_known.walk(index, each.id);
    if (index == entities_known.size() || entities_known.id(index) != each.id)
      entities_known.insert(index, each.id);
  }
  auto seen = in_view.begin();
  bool hides = false;
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const std::uint32_t id = entities_known.id(i);
    while (seen != in_view.end() && seen->id < id) ++seen;
    const bool there = seen != in_view.end() && seen->id == id;
    const Look look{there ? seen->priority : 0, there, there && seen->owner};
    Look& before = entities_known.look(i);
    if (before.in_view != look.in_view || before.owner != look.owner) {
      entities_known.settled(i) = 0;
      news = true;
    }
    before = look;
    hides = hides || !there;
  }
  if (!hides) return;
  entities_known.drop([&](std::size_t i) {
    const ClientEntity& copy = entities_known[i];
    return !entities_known.look(i).in_view && !copy.may_be_known() && copy.sent_snapshot == 0;
  });
}

// The revision of a query says whether its result differs from the last one taken.
void BaselineHistory::see(InterestQuery& query) {
  const std::span<const RelevantEntity> in_view = query.update();
  if (seen_revision == query.revision()) return;
  see(in_view);
  seen_revision = query.revision();
}

// Whether the area of interest is the one that this history has already.
bool BaselineHistory::sees(std::span<const RelevantEntity> in_view) {
  auto seen = in_view.begin();
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const Look& look = entities_known.look(i);
    if (!look.in_view) continue;
    if (seen == in_view.end() || seen->id != entities_known.id(i) || seen->owner != look.owner ||
        seen->priority != look.priority) {
      return false;
    }
    ++seen;
  }
  return seen == in_view.end();
}

// First the tables, in a later step what they point to.
void BaselineHistory::prefetch(bool entities) {
  if (!entities) {
    entities_known.prefetch();
    sent.prefetch(last_snapshot, sure);
  } else if (const Sent* const last = sent.find(last_snapshot)) {
    // Entities of the last snapshot are usually in the next one too, and acknowledged.
    for (const Entry& entry : sent.entries(*last)) {
      if (entry.index < entities_known.size())
        kwind::prefetch(&entities_known[entry.index], sizeof(ClientEntity));
    }
  }
}

// How an entity in view stands with the client: whether the next snapshot may update it, and how.
// A delta needs a baseline that the client has and the world remembers; everything else is a full
// update.
BaselineHistory::Pending BaselineHistory::assess(std::size_t index,
                                                 const World::State::Brief& brief) const {
  const ClientEntity& copy = entities_known[index];
  const Look& look = entities_known.look(index);
  const Baseline& baseline = copy.baseline();
  const bool goes_on = baseline.known && baseline.generation == brief.generation &&
                       baseline.owner == look.owner && !copy.resend && copy.despawn_snapshot == 0 &&
                       copy.wholes[look.owner ? 0 : 1] == 0;
  const bool under = copy.sent_snapshot != 0 && !copy.sent_gone &&
                     copy.sent_generation == brief.generation && copy.sent_owner == look.owner;
  Pending pending;
  pending.packed = fragmented.id != 0 && is_packed(index);
  if (goes_on && brief.changed_at <= baseline.ticks[0]) {
    pending.reason = UpdateReason::up_to_date;
    return pending;
  }
  pending.in_flight = under && brief.changed_at <= copy.sent_tick;
  // Once in a tick; and until all of a fragmented entity has arrived nothing can build on it.
  if (pending.in_flight && (!repeats(index) || repeated_at == tick())) {
    pending.reason = UpdateReason::in_flight;
    return pending;
  }
  if ((under && pending.packed && fragmented.completing != 0) ||
      (under && !pending.in_flight && !goes_on && !repeats(index))) {
    pending.reason = UpdateReason::baseline_in_flight;
    return pending;
  }
  pending.complete = pending.packed && fragmented.all_there();
  if (pending.packed && !pending.complete && fragmented.waiting(1).count == 0) {
    pending.reason = UpdateReason::fragments_in_flight;
    return pending;
  }
  pending.whole = pending.packed || !goes_on || baseline.ticks[0] < brief.oldest;
  return pending;
}

// Makes a candidate of an entity in view that has an update pending. Priority grows with the ticks
// that a change has waited.
void BaselineHistory::consider(std::size_t index, const World::State::Brief& brief) {
  ClientEntity& copy = entities_known[index];
  const Look& look = entities_known.look(index);
  const Baseline& baseline = copy.baseline();
  const Pending pending = assess(index, brief);
  if (pending.reason == UpdateReason::up_to_date) {
    entities_known.settled(index) = tick();
    copy.waiting_since = 0;
    if (pending.packed && fragmented.completing == 0) fragmented.clear();
    return;
  }
  if (pending.reason == UpdateReason::in_flight) {
    if (!repeats(index)) entities_known.settled(index) = tick();
    return;
  }
  if (pending.reason != UpdateReason::sent) return;
  if (!pending.whole) {
    const auto& shared_bits =
        all().shared_bits_of(entities_known.id(index), baseline.ticks[0], baseline.ticks[1]);
    kwind::prefetch(&shared_bits, sizeof(SharedEntityBits));
  }
  if (copy.waiting_since == 0 && !pending.in_flight) copy.waiting_since = tick();
  const std::uint32_t waited =
      pending.in_flight ? 1 : tick() - std::min(copy.waiting_since, tick()) + 1;
  constexpr float kOverdue = 1e6F;
  constexpr float kRepeat = 1e-6F;
  float priority_now = static_cast<float>(waited) * look.priority;
  if (pending.in_flight) priority_now *= kRepeat;
  if (waited > ClientReplicator::kPatience) priority_now = kOverdue + static_cast<float>(waited);
  // Field by field: a copy of a whole one would wait for its stores.
  Candidate& made = candidates.emplace_back();
  made.id = entities_known.id(index);
  made.index = static_cast<std::uint32_t>(index);
  made.update = pending.whole ? Update::full : Update::delta;
  made.fragmented = pending.packed;
  made.complete = pending.complete;
  made.owner = look.owner;
  made.repeat = pending.in_flight;
  made.priority_now = priority_now;
}

// Lists the entities whose last change is newer than what is settled for this client. Most are
// settled, and no processor predicts which, so that this loop has no branch.
std::size_t BaselineHistory::find_unsettled() {
  const std::vector<World::State::Brief>& briefs = all().briefs;
  if (unsettled.size() < entities_known.size()) unsettled.resize(entities_known.size());
  std::size_t count = 0;
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    unsettled[count] = static_cast<std::uint32_t>(i);
    count += briefs[entities_known.id(i)].changed_at > entities_known.settled(i) ? 1 : 0;
  }
  return count;
}

// Fills the list of candidates: updates, and despawns of entities that the client may have.
void BaselineHistory::gather() {
  candidates.clear();
  const std::size_t count = find_unsettled();
  constexpr std::size_t kAhead = 4;
  for (std::size_t n = 0; n < count; ++n) {
    kwind::prefetch(&entities_known[unsettled[std::min(n + kAhead, count - 1)]],
                    sizeof(ClientEntity));
    const std::size_t index = unsettled[n];
    const World::State::Brief& brief = all().briefs[entities_known.id(index)];
    const ClientEntity& copy = entities_known[index];
    if (entities_known.look(index).in_view && brief.alive) {
      consider(index, brief);
    } else if (!copy.baseline().known) {
      entities_known.settled(index) = tick();
    } else if (!(copy.sent_gone && copy.sent_snapshot != 0)) {
      constexpr float kFirst = 1e9F;  // it takes few bits, and makes room at the client
      Candidate& made = candidates.emplace_back();
      made.id = entities_known.id(index);
      made.index = static_cast<std::uint32_t>(index);
      made.update = Update::despawn;
      made.priority_now = kFirst;
    }
  }
}

// First step of a snapshot: takes the view and the acknowledgements and gathers candidates. Returns
// false if there is nothing to send. Otherwise the head is complete but for its sections.
bool BaselineHistory::begin(InterestQuery* query, std::vector<std::uint32_t>& acks,
                            SnapshotHead& heading) {
  if (query != nullptr) see(*query);
  hear(acks);
  if (complete_at == tick() && !news) return false;
  cancel_unneeded_fragments();
  gather();
  heading.needs_heartbeat = candidates.empty() && needs_heartbeat();
  if (candidates.empty() && !heading.needs_heartbeat) {
    complete_at = tick();
    news = false;
    return false;
  }
  const std::uint32_t base = this->base();
  const Sent* const named = base > 0 ? sent.find(base) : nullptr;
  SnapshotMark& mark = heading.mark;
  mark = {last_snapshot + 1, tick(), start, base, 0, 0};
  heading.named = named != nullptr ? base : 0;
  if (named != nullptr) {
    heading.named_mark = named->mark;
    for (std::uint32_t i = 0; i < sent_between(named->mark); ++i) {
      const Sent* const snapshot = sent.find(base - 1 - i);
      if (snapshot != nullptr && assumed_delivered(*snapshot))
        mark.between |= std::uint64_t{1} << i;
    }
  }
  heading.digest = digest(base);
  return true;
}

// Whether the list of continuing entities goes into this snapshot, and whether all changes fit
// beside it. Takes the list's bits off `room`, and counts candidates that it leaves out. The client expects to hear of those that the named
// snapshot spoke of. If they alone, with nothing to say of any, fill this one, the datagram before
// had far more room.
BaselineHistory::ContinuingList BaselineHistory::fit_continuing(const Sent* named,
                                                                std::size_t& room,
                                                                SnapshotPlan& plan) {
  ContinuingList list{named != nullptr && continuing_complete_at != tick(), false};
  if (list.goes) find_expected(*named);
  const ContinuingBits bits = list.goes ? mark_continuing() : ContinuingBits{};
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
      for (Candidate& each : candidates) each.is_continuing = false;
    }
  }
  if (!list.all_fit && narrow(room, plan.deferred) && list.goes) (void)mark_continuing();
  return list;
}

// A section without updates is left out of the snapshot.
Sections BaselineHistory::sections_of_taken(bool with_continuing) const {
  Sections sections{with_continuing, false, false, false};
  for (const Candidate& each : candidates) {
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
std::optional<SnapshotPlan> BaselineHistory::plan(const SnapshotHead& heading,
                                                  Room& room_of_client) {
  if (room_of_client.now < kSectionBits) return std::nullopt;
  std::size_t room = room_of_client.now - kSectionBits;
  SnapshotPlan plan;
  plan.max_bits = room_of_client.now;
  const Sent* const named = heading.named > 0 ? sent.find(heading.named) : nullptr;
  const ContinuingList list = fit_continuing(named, room, plan);
  const bool has_others = std::any_of(candidates.begin(), candidates.end(),
                                      [](const Candidate& each) { return each.is_unexpected(); });
  if (has_others) rank(list.goes);
  write_bodies();
  if (!list.all_fit && limit_repeats() && list.goes) (void)mark_continuing();
  room_of_client.lost = room_of_client.now - room;
  room_of_client.note();
  fragment_largest_pending(room_of_client.roomiest);
  plan.taken = choose(room);
  if (plan.taken == 0 && !heading.needs_heartbeat) return std::nullopt;
  plan.deferred += candidates.size() - plan.taken;
  plan.sections = sections_of_taken(list.goes);
  for (const Candidate& each : candidates) {
    if (each.taken && each.in_fragments()) {
      plan.fragments = fragmented.waiting(each.bits / kFragmentBits);
    }
  }
  return plan;
}

// Third step: writes the sections into EncodeScratch::snapshot. Returns their bits. The history
// does not change.
std::size_t BaselineHistory::encode(const SnapshotPlan& plan) {
  std::vector<std::byte>& snapshot = all().scratch.snapshot;
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
void BaselineHistory::commit(const SnapshotHead& heading, const SnapshotPlan& plan,
                             std::size_t bits) {
  const SnapshotMark& mark = heading.mark;
  if (plan.fragments.count > 0) fragmented.send(plan.fragments);
  if (heading.digest) digested = mark.snapshot;
  tell(mark);
  repeated_at = tick();
  if (plan.sections.continuing) continuing_complete_at = tick();
  Sent& added = sent.add(mark, entries);
  added.fragments = plan.fragments;
  added.has_full = plan.sections.spawns;
  if (fragmented.completing == mark.snapshot) added.completed = fragmented.number;
  if (options.speculative_baselines && sure > 0) {
    for (const Entry& entry : entries) {
      entities_known.apply(entry.index, entry);
      count_holders(entry.index);
    }
  }
  last_snapshot = mark.snapshot;
  ++counts.snapshots;
  counts.bits += bits;
  counts.deferred += plan.deferred;
  if (plan.taken == candidates.size() && plan.fragments.count == 0) {
    complete_at = tick();
    news = false;
    limited = plan.limited || fragmented.id != 0;
  } else {
    limited = true;
  }
}

}  // namespace kwind::replica
