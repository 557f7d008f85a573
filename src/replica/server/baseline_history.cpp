// What the server knows of one client's world: for each entity the newest state that the client is
// sure to have, the state that the client is assumed to have once everything in flight has arrived,
// and which snapshots are in flight. Clients whose histories are equal share one
// (shared_histories.cpp).
//
// Tick `settled` of an entity: up to this tick nothing of the entity needs to be sent.
//
// Two baselines for each entity: `sure` is acknowledged, `baseline()` is what the next delta
// builds on. In exact mode both are the same; with speculative baselines the latter runs ahead,
// and a loss sets it back.
#include "replica/server/baseline_history.h"

#include <algorithm>
#include <utility>

#include "kwind/core/prefetch.h"
#include "kwind/replica/interest.h"
#include "replica/coding/state_digest.h"

namespace kwind::replica {
namespace {

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

BaselineHistory::BaselineHistory(const WorldState& world, ReplicatorOptions options)
    : world_(&world),
      options_(std::move(options)),
      codes_(options_.codes != nullptr ? options_.codes.get() : world.options.codes.get()),
      ids_(world.ids) {}

// All entities that the client may know of are counted once more: each history counts its own.
void BaselineHistory::take_over(const BaselineHistory& other) {
  release();
  static_cast<HistoryValue&>(*this) = static_cast<const HistoryValue&>(other);
  options_ = other.options_;
  codes_ = other.codes_;
  // Reference counts of ids: an id is used again only when no client can know of it.
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    if (entities_known[i].counted) ids_->learn(entities_known.id(i));
  }
}

void BaselineHistory::release() {
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    if (entities_known[i].counted) ids_->forget(entities_known.id(i));
    entities_known[i].counted = false;
  }
}

// Whether two histories will write the same snapshots from now on. The cheap comparisons come
// first: most histories differ in one of them.
bool BaselineHistory::is_like(const BaselineHistory& other) const {
  if (!are_same(options_, other.options_)) return false;
  if (last_snapshot != other.last_snapshot || start != other.start || sure != other.sure ||
      digested != other.digested || entities_known.size() != other.entities_known.size() || !sure ||
      entities_known.sum_of_shares() != other.entities_known.sum_of_shares() ||
      news != other.news || lost_any != other.lost_any ||
      counts.longest_wait < other.counts.longest_wait ||
      continuing_complete_at != other.continuing_complete_at || repeated_at != other.repeated_at ||
      complete_at != other.complete_at || seen_revision != other.seen_revision) {
    return false;
  }
  if (fragmented.id || other.fragmented.id || fragmented.number != other.fragmented.number)
    return false;
  // O(entities) in the worst case, which equal histories alone reach.
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const EntityId id = entities_known.id(i);
    if (id != other.entities_known.id(i) ||
        entities_known.look(i) != other.entities_known.look(i) ||
        !replica::is_like(entities_known[i], other.entities_known[i])) {
      return false;
    }
    // What either has looked at without finding anything does not matter.
    const Tick changed_at = world_->briefs[id].changed_at;
    if ((changed_at > entities_known.settled(i)) != (changed_at > other.entities_known.settled(i)))
      return false;
  }
  // Those before the tick of the snapshot that is built on next are asked for no more.
  // Snapshots whose fate is open, oldest first.
  for (SnapshotNumber snapshot = first_of_tick(sure); snapshot <= last_snapshot; ++snapshot) {
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
  // Entities that are new to the client are inserted in order.
  for (const RelevantEntity& each : in_view) {
    const EntityId id(each.id);
    index = entities_known.walk(index, id);
    if (index == entities_known.size() || entities_known.id(index) != id)
      entities_known.insert(index, id);
  }
  auto seen = in_view.begin();
  bool hides = false;
  // Merge of two lists that are sorted by id.
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const EntityId id = entities_known.id(i);
    while (seen != in_view.end() && EntityId(seen->id) < id) ++seen;
    const bool there = seen != in_view.end() && EntityId(seen->id) == id;
    const Look look{there ? seen->priority : 0, there, there && seen->owner};
    Look& before = entities_known.look(i);
    if (before.in_view != look.in_view || before.owner != look.owner) {
      entities_known.settled(i) = {};
      news = true;
    }
    before = look;
    hides = hides || !there;
  }
  if (!hides) return;
  entities_known.drop([&](std::size_t i) {
    const ClientEntity& copy = entities_known[i];
    return !entities_known.look(i).in_view && !copy.may_be_known() && !copy.sent_snapshot;
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
bool BaselineHistory::sees(std::span<const RelevantEntity> in_view) const {
  return walk_view(in_view, [](const Look& look, const RelevantEntity& seen) {
    return look.owner == seen.owner && look.priority == seen.priority;
  });
}

bool BaselineHistory::has_in_view(std::span<const RelevantEntity> in_view) const {
  return walk_view(in_view, [](const Look& look, const RelevantEntity& seen) {
    return look.owner == seen.owner;
  });
}

// Whether those in view are those of `in_view`, and alike. Both are sorted by id.
template <class Alike>
bool BaselineHistory::walk_view(std::span<const RelevantEntity> in_view, const Alike& alike) const {
  auto seen = in_view.begin();
  // The same merge, without changes.
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const Look& look = entities_known.look(i);
    if (!look.in_view) continue;
    if (seen == in_view.end() || EntityId(seen->id) != entities_known.id(i) ||
        !alike(look, *seen)) {
      return false;
    }
    ++seen;
  }
  return seen == in_view.end();
}

bool BaselineHistory::sees(const InterestQuery& query) const {
  return seen_revision == query.revision();
}

// First the tables, in a later step what they point to.
void BaselineHistory::prefetch(bool entities) const {
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
// The order of the tests is the order of the reasons in UpdateReason.
PendingUpdate BaselineHistory::assess(std::size_t index, const WorldState::Brief& brief) const {
  const ClientEntity& copy = entities_known[index];
  const Look& look = entities_known.look(index);
  const Baseline& baseline = copy.baseline();
  const bool continues = baseline.known && baseline.generation == brief.generation &&
                         baseline.owner == look.owner && !copy.resend && !copy.despawn_snapshot &&
                         copy.wholes[look.owner ? 0 : 1] == 0;
  const bool under = copy.sent_snapshot && !copy.sent_gone &&
                     copy.sent_generation == brief.generation && copy.sent_owner == look.owner;
  PendingUpdate pending;
  pending.packed = fragmented.id && is_packed(index);
  if (continues && brief.changed_at <= baseline.ticks[0]) {
    pending.reason = UpdateReason::up_to_date;
    return pending;
  }
  pending.in_flight = under && brief.changed_at <= copy.sent_tick;
  // Once in a tick; and until all of a fragmented entity has arrived nothing can build on it.
  if (pending.in_flight && (!repeats(index) || repeated_at == tick())) {
    pending.reason = UpdateReason::in_flight;
    return pending;
  }
  if ((under && pending.packed && fragmented.completing) ||
      (under && !pending.in_flight && !continues && !repeats(index))) {
    pending.reason = UpdateReason::baseline_in_flight;
    return pending;
  }
  pending.complete = pending.packed && fragmented.all_there();
  if (pending.packed && !pending.complete && fragmented.waiting(1).count == 0) {
    pending.reason = UpdateReason::fragments_in_flight;
    return pending;
  }
  pending.whole = pending.packed || !continues || baseline.ticks[0] < brief.oldest;
  return pending;
}

// Speculative baselines: the newest snapshot that is not lost.
SnapshotNumber BaselineHistory::base() const {
  if (!options_.speculative_baselines || !sure) return sure;
  // At most kSnapshotWindow snapshots back.
  for (SnapshotNumber snapshot = last_snapshot; snapshot > sure; --snapshot) {
    const Sent* const slot = sent.find(snapshot);
    if (slot != nullptr && !slot->lost) return snapshot;
  }
  return sure;
}

// Whether what is in flight is sent again in each tick until it is acknowledged. Not where the next
// snapshot builds on it, not where values may be a little off or may wait, and not to a client that
// has not answered for long.
bool BaselineHistory::repeats(std::size_t index) const {
  constexpr std::uint32_t kMaxUnanswered = 32;  // snapshots
  if (options_.speculative_baselines || last_snapshot - sure >= kMaxUnanswered) return false;
  const EntityId id = entities_known.id(index);
  const EntityModel& model = world_->models[world_->briefs[id].type];
  if (!model.repeats_some()) return model.repeats();
  return world_->entities[id].repeated_at > entities_known[index].baseline().ticks[0];
}

bool BaselineHistory::urgent(std::size_t index) const {
  const EntityId id = entities_known.id(index);
  const EntityModel& model = world_->models[world_->briefs[id].type];
  return model.has_urgent() && model.repeats() &&
         world_->entities[id].urgent_at > entities_known[index].baseline().ticks[0];
}

// In exact mode the despawn of an entity that is `urgent`.
bool BaselineHistory::repeats_despawn(std::size_t index) const {
  const Baseline& baseline = entities_known[index].baseline();
  return !options_.speculative_baselines && baseline.known &&
         world_->models[baseline.type].info().freshness == schema::Freshness::urgent;
}

void BaselineHistory::count_holders(std::size_t index) {
  ClientEntity& copy = entities_known[index];
  // A counter changes only when the answer does.
  const bool known = copy.may_be_known();
  if (known == copy.counted) return;
  copy.counted = known;
  known ? ids_->learn(entities_known.id(index)) : ids_->forget(entities_known.id(index));
}

// A tick may have several snapshots. Returns the first one of the tick of `snapshot`.
SnapshotNumber BaselineHistory::first_of_tick(SnapshotNumber snapshot) const {
  const Sent* const last = sent.find(snapshot);
  SnapshotNumber first = snapshot;
  // Ends at another tick, or at the end of the window.
  while (last != nullptr && snapshot - first + 1 < kSnapshotWindow) {
    const Sent* const before = sent.find(first - 1);
    if (before == nullptr || before->mark.tick != last->mark.tick) break;
    --first;
  }
  return first;
}

// Whether there is nothing to send and nothing whose fate is open. O(entities in view).
bool BaselineHistory::complete() const {
  if (fragmented.id || needs_heartbeat()) return false;
  // The first entity with something to send decides.
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const WorldState::Brief& brief = world_->briefs[entities_known.id(i)];
    const ClientEntity& copy = entities_known[i];
    const Baseline& baseline = copy.baseline();
    const bool unsettled = brief.changed_at > entities_known.settled(i);
    if (!entities_known.look(i).in_view || !brief.alive) {
      const bool gone_in_flight = copy.sent_gone && copy.sent_snapshot && !repeats_despawn(i);
      if (unsettled && baseline.known && !gone_in_flight) return false;
      continue;
    }
    if (unsettled && assess(i, brief).reason == UpdateReason::sent) return false;
    // A change that waits because an older one is in flight is not pending.
    const bool sent_it =
        copy.sent_snapshot && !copy.sent_gone && copy.sent_generation == brief.generation;
    const bool has = baseline.known && baseline.generation == brief.generation;
    // What is in flight is sent again in the next tick.
    if (repeats(i) && !(has && brief.changed_at <= baseline.ticks[0])) return false;
    if (brief.changed_at > (sent_it ? copy.sent_tick : has ? baseline.ticks[0] : Tick{}))
      return false;
  }
  return true;
}

// Whether everything in view has been acknowledged at least once.
bool BaselineHistory::view_complete() const {
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const ClientEntity& copy = entities_known[i];
    const WorldState::Brief& brief = world_->briefs[entities_known.id(i)];
    const bool there = copy.sure.known && copy.sure.generation == brief.generation;
    if (entities_known.look(i).in_view && brief.alive && !there) return false;
  }
  return true;
}

// Whether the client may know of the entity: surely, or by a snapshot in flight.
bool BaselineHistory::knows(schema::AnyRef entity) const {
  const EntityId id(entity.id);
  const auto index = entities_known.find(id);
  if (!index || !world_->briefs[id].alive) return false;
  const auto is_it = [&](const Baseline& baseline) {
    return baseline.known && baseline.generation == entity.generation;
  };
  return is_it(entities_known[*index].sure) || is_it(entities_known[*index].baseline());
}

// The longest wait, in ticks, of an entity in view that has a change to send. O(entities in view).
std::uint32_t BaselineHistory::oldest_wait() const {
  std::uint32_t longest = 0;
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const ClientEntity& copy = entities_known[i];
    if (entities_known.look(i).in_view && copy.waiting_since && copy.waiting_since <= tick()) {
      longest = std::max(longest, tick() - copy.waiting_since + 1);
    }
  }
  return longest;
}

// The first field whose hash differs from the report, of an entity that is still the same one.
std::optional<std::string_view> BaselineHistory::differing_field(const DesyncedEntity& each,
                                                                 bool& fits) const {
  const auto index = entities_known.find(each.id);
  if (!index) return std::nullopt;
  const Baseline& baseline = entities_known[*index].baseline();
  // It went meanwhile, or another came in its place.
  if (!baseline.known || baseline.generation != each.generation) return std::nullopt;
  if (world_->briefs[each.id].generation != each.generation) return std::nullopt;
  const WorldState::Entity& entity = world_->entities[each.id];
  const EntityModel& model = *entity.model;
  const Tick now = tick();
  // The report has the low bits of the tick; the newest tick with these bits is meant.
  const Tick tick = now - ((now.raw() - each.tick_low) & kReportTickMask);
  if (!tick || tick > now) return std::nullopt;
  const auto row = entity.history->at_or_before(tick);
  if (!row) return std::nullopt;
  fits = each.columns.size() == model.columns();
  // Columns in order, as the report has them.
  for (std::size_t c = 0; fits && c < model.columns(); ++c) {
    if (column_hash(model, entity.history->row(*row), c, baseline.owner) == each.columns[c])
      continue;
    return model.info().fields[model.info().columns[c].field].name;
  }
  return std::nullopt;
}

}  // namespace kwind::replica
