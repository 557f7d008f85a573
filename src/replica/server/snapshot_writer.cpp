// Encodes the chosen updates of a snapshot. docs/state-format.md has the bits.
//
// A body is the encoded update of one entity. Bodies are written before the choice, because the
// choice needs their sizes; the same body is then copied into the snapshot. The body of a delta
// depends on the entity, its baseline and the code tables, and not on the client: it is kept for
// the tick and shared by all clients with the same baseline (share_change()).
#include <algorithm>
#include <utility>
#include <vector>

#include "replica/coding/delta_codec.h"
#include "replica/coding/snapshot_head.h"
#include "replica/coding/state_digest.h"
#include "replica/server/baseline_history.h"

namespace kwind::replica {

// The states of an entity that the client is taken to have and that the world still remembers,
// newest first. Only what is not too old counts beyond the first: the client forgets, too.
std::size_t BaselineHistory::states_known(std::uint32_t id, const Baseline& baseline,
                                          KnownStates& known) const {
  const Rows& history = *all().entities[id].history;
  std::size_t count = 0;
  for (const std::uint32_t at : baseline.ticks) {
    if (at == 0 || (count > 0 && tick() - at > kLongestMemory)) break;
    const auto row = history.at_or_before(at);
    if (!row) break;
    known[count++] = {at, history.row(*row)};
  }
  return count;
}

// One prefix-code symbol says which columns of an entity changed (its mask), or that the entity did
// not change or despawned. The alphabet depends on the entity type, on whether the client expects
// to hear of the entity, and on the age of the baseline.
void BaselineHistory::write_symbol(bits::Writer& out, const Baseline& baseline, bool is_continuing,
                                   std::size_t symbol) {
  alphabet_of(baseline, is_continuing).write(out, symbol);
  if (symbol_counts == nullptr || symbol < masks_of(baseline)) return;
  SymbolCounts::Type& type = symbol_counts->types()[baseline.type];
  ++(is_continuing ? type.continuing : type.unexpected)[age_of(tick() - baseline.ticks[0])][symbol];
}

// The symbol of an entity that moves as predicted: its code is looked up once and kept.
void BaselineHistory::write_nothing(bits::Writer& out, const Baseline& baseline) {
  if (symbol_counts != nullptr) return write_symbol(out, baseline, true, masks_of(baseline));
  codes_of(baseline).nothing[age_of(tick() - baseline.ticks[0])].write(out);
}

// A full update: generation, type, owner bit, and the value of every column.
void BaselineHistory::write_whole_body(bits::Writer& out, Candidate& each) const {
  const World::State::Entity& entity = all().entities[each.id];
  const EntityModel& model = *entity.model;
  out.put(all().briefs[each.id].generation, kGenerationBits);
  out.put(model.info().type, bits::bits_for(all().models.size()));
  out.put_bool(each.owner);
  each.tick = tick();
  if (model.tolerant()) {
    const std::uint32_t lag = std::min(tick() - entity.history->newest_tick(), kMaxTickLag);
    out.put_count(lag, kTickLagOrder);
    each.tick -= lag;
  }
  write_whole(out, model, entity.history->newest(), {each.owner});
}

// Charges the varying values that changed. Which of them are edited does not depend on what is
// chosen later: a snapshot with fewer updates edits less.
void BaselineHistory::grant_edits(Candidate& each) {
  if (all().models[entities_known[each.index].baseline().type].varying() == 0) return;
  KnownStates known;
  const Basis basis = basis_of(each, known);
  const std::size_t size = edited_size(basis, all().entities[each.id].history->newest());
  each.no_edits = size > edits_left;
  if (!each.no_edits) edits_left -= size;
}

// The bits of a change are found, or made and kept for others. False if they are too many for
// that.
bool BaselineHistory::share_change(Candidate& each) {
  const Baseline& baseline = entities_known[each.index].baseline();
  const EntityModel& model = all().models[baseline.type];
  each.tick = tick();
  each.tolerant = model.tolerant();
  if (each.tolerant) {
    each.lag = std::min(tick() - all().entities[each.id].history->newest_tick(), kMaxTickLag);
    each.tick -= each.lag;
  }
  if (each.no_edits) {
    KnownStates known;
    each.mask = mask_of(basis_of(each, known), all().entities[each.id].history->newest());
    return false;
  }
  // What is too old counts for nothing.
  const auto known_tick = [&](std::size_t i) {
    return i == 0 || tick() - baseline.ticks[i] <= kLongestMemory ? baseline.ticks[i] : 0;
  };
  SharedEntityBits& shared_bits = all().shared_bits_of(each.id, known_tick(0), known_tick(1));
  bool there = shared_bits.tick == tick() && shared_bits.owner == each.owner &&
               shared_bits.codes == codes->digest();
  for (std::size_t i = 0; i < kKnownStates; ++i)
    there = there && shared_bits.known[i] == known_tick(i);
  ++(there ? all().shared_bits.shared : all().shared_bits.written);
  if (!there) {
    KnownStates known;
    const Basis basis = basis_of(each, known);
    const Row row = all().entities[each.id].history->newest();
    each.mask = mask_of(basis, row);
    std::array<std::byte, SharedEntityBits::kMaxBits / 8> body{};
    bits::Writer out(body);
    write_change(out, basis, row, each.mask);
    if (!out.ok()) return false;
    out.finish();
    shared_bits = {tick(),
                   {known_tick(0), known_tick(1), known_tick(2), known_tick(3)},
                   codes->digest(),
                   static_cast<std::uint16_t>(each.mask),
                   static_cast<std::uint8_t>(out.bit_count()),
                   each.owner,
                   alphabet_of(baseline, true).code(each.mask),
                   {}};
    bits::Reader words(body, body.size() * 8);
    for (std::uint64_t& word : shared_bits.words) word = words.get(64);
  }
  each.mask = shared_bits.mask;
  each.shared_bits = &shared_bits;
  each.bits = shared_bits.bits;
  each.bits +=
      each.is_continuing ? shared_bits.symbol.bits : alphabet_of(baseline, false).bits(each.mask);
  if (each.tolerant) each.bits += bits::count_bits(each.lag, kTickLagOrder);
  return true;
}

// The states that predictions and deltas of this update are made from; both ends have all of them.
Basis BaselineHistory::basis_of(const Candidate& each, KnownStates& known) const {
  const Baseline& baseline = entities_known[each.index].baseline();
  const std::size_t count = states_known(each.id, baseline, known);
  return {all().models[baseline.type],
          codes_of(baseline),
          codes_of(baseline).predictors,
          std::span(known).first(count),
          each.tick,
          {each.owner},
          each.no_edits};
}

// A delta update: the mask's symbol, then the columns that differ from their prediction.
void BaselineHistory::write_change_body(bits::Writer& out, const Candidate& each) {
  // Who counts symbols has to see them.
  const bool shared = each.shared_bits != nullptr && symbol_counts == nullptr;
  const Baseline& baseline = entities_known[each.index].baseline();
  if (shared && each.is_continuing) {
    each.shared_bits->symbol.write(out);
  } else {
    write_symbol(out, baseline, each.is_continuing, each.mask);
  }
  if (each.tolerant) out.put_count(each.lag, kTickLagOrder);
  if (shared) return each.shared_bits->write(out);
  KnownStates known;
  const Basis basis = basis_of(each, known);
  const Row row = all().entities[each.id].history->newest();
  write_change(out, basis, row, each.mask);
  if (symbol_counts != nullptr) {
    count_change(basis, row, each.is_continuing, symbol_counts->types()[baseline.type]);
  }
}

// The fragment that makes a fragmented entity appear: its number, the count of fragments, and the
// rest of the bits.
void BaselineHistory::write_last_fragment(bits::Writer& out, Candidate& each) const {
  out.put(fragmented.number, kFragmentedNumberBits);
  out.put_count(fragmented.fragments(), kFragmentOrder);
  out.put_count(tick() - fragmented.packed_at, kFragmentedLagOrder);
  out.put(fragmented.rest_bits(), kRestBits);
  fragmented.write_rest(out);
  each.tick = fragmented.tick;
}

// At a byte of its own, to be copied behind whatever comes before it in the snapshot.
void BaselineHistory::add_body(Candidate& each) {
  if (each.update == Update::delta) grant_edits(each);
  if (each.update == Update::delta && share_change(each) && symbol_counts == nullptr) return;
  for (;;) {
    bits::Writer out(std::span<std::byte>(bodies).subspan(bodies_end));
    if (each.complete) {
      write_last_fragment(out, each);
    } else if (each.update == Update::full) {
      write_whole_body(out, each);
    } else {
      write_change_body(out, each);
    }
    each.bits = out.bit_count();
    if (out.ok()) {
      out.finish();
      break;
    }
    bodies.resize(std::max<std::size_t>(1024, bodies.size() * 2));
  }
  each.begin = bodies_end;
  bodies_end += bits::bytes_for(each.bits);
}

// All candidates are encoded before any is chosen: the choice needs their sizes.
void BaselineHistory::write_bodies() {
  bodies_end = 0;
  edits_left = kMaxEditedSize;
  for (Candidate& each : candidates) {
    if (each.update != Update::despawn && !each.in_fragments()) add_body(each);
  }
}

// A tick may have several snapshots. Returns the first one of the tick of `snapshot`.
std::uint32_t BaselineHistory::first_of_tick(std::uint32_t snapshot) const {
  const Sent* const last = sent.find(snapshot);
  std::uint32_t first = snapshot;
  while (last != nullptr && snapshot - first + 1 < kSnapshotWindow) {
    const Sent* const before = sent.find(first - 1);
    if (before == nullptr || before->mark.tick != last->mark.tick) break;
    --first;
  }
  return first;
}

// Lists the entities that the snapshots of the baseline's tick updated and that the client has: the
// client expects to hear of each of them again (they are continuing).
void BaselineHistory::find_expected(const Sent& named) {
  expected.clear();
  const std::uint32_t first = first_of_tick(named.mark.snapshot);
  for (std::uint32_t snapshot = first; snapshot <= named.mark.snapshot; ++snapshot) {
    const Sent* const each = sent.find(snapshot);
    if (each == nullptr || (each != &named && !assumed_delivered(*each))) continue;
    const std::size_t before = expected.size();
    for (const Entry& entry : sent.entries(*each)) {
      if (entry.update != Update::despawn) {
        expected.push_back({entry.id, entry.index});
      } else if (before > 0) {
        // A later snapshot of the same tick despawned the entity.
        std::erase_if(expected, [&](const ExpectedEntity& other) { return other.id == entry.id; });
      }
    }
    if (before == 0) continue;
    const auto by_id = [](const ExpectedEntity& a, const ExpectedEntity& b) { return a.id < b.id; };
    const auto same_id = [](const auto& a, const auto& b) { return a.id == b.id; };
    std::stable_sort(expected.begin(), expected.end(), by_id);
    expected.erase(std::unique(expected.begin(), expected.end(), same_id), expected.end());
  }
}

// Pairs continuing entities with candidates. Returns the bits that "no change" takes for all
// continuing entities: for those without a change, and for those with one, should the change find
// no room.
BaselineHistory::ContinuingBits BaselineHistory::mark_continuing() {
  continuing.clear();
  ContinuingBits bits;
  auto candidate = candidates.begin();
  for (const ExpectedEntity& entry : expected) {
    while (candidate != candidates.end() && candidate->id < entry.id) ++candidate;
    const auto index = entities_known.find(entry.index, entry.id);
    KWIND_ASSERT(index && entities_known[*index].baseline().known);
    const Baseline& baseline = entities_known[*index].baseline();
    ContinuingEntity entity{&baseline, nullptr};
    if (candidate != candidates.end() && candidate->id == entry.id) {
      candidate->is_continuing = candidate->update != Update::full;
      entity.candidate = &*candidate;
    }
    continuing.push_back(entity);
    const bool changed = entity.candidate != nullptr && entity.candidate->is_continuing;
    (changed ? bits.changed : bits.unchanged) +=
        codes_of(baseline).nothing[age_of(tick() - baseline.ticks[0])].bits;
  }
  return bits;
}

// Numbers the entities that are not continuing: first those that changed since they appeared, then
// the others. An update of one of them names its entity by the distance from the update before.
void BaselineHistory::rank(bool with_continuing) {
  std::uint32_t changing = 0;
  std::uint32_t still = 0;
  auto candidate = candidates.begin();
  auto next_expected = with_continuing ? expected.begin() : expected.end();
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    const MotionState standing = entities_known.standing(i);
    if (standing == MotionState::unknown) continue;
    const std::uint32_t id = entities_known.id(i);
    while (next_expected != expected.end() && next_expected->id < id) ++next_expected;
    if (next_expected != expected.end() && next_expected->id == id) continue;
    std::uint32_t& rank = standing == MotionState::changing ? changing : still;
    while (candidate != candidates.end() && candidate->id < id) ++candidate;
    if (candidate != candidates.end() && candidate->id == id) candidate->rank = rank;
    ++rank;
  }
  for (Candidate& each : candidates) {
    if (!each.is_unexpected()) continue;
    if (entities_known.standing(each.index) == MotionState::still) each.rank += changing;
  }
}

// Records a snapshot in the history, so that its fate can move baselines.
void BaselineHistory::tell(const SnapshotMark& mark) {
  entries.clear();
  for (const Candidate& each : candidates) {
    if (each.taken && !each.in_fragments()) tell(mark, each);
  }
}

// Records one update: the entry for the history, and what the client will have if the snapshot
// arrives.
void BaselineHistory::tell(const SnapshotMark& mark, const Candidate& each) {
  const std::uint8_t generation = all().briefs[each.id].generation;
  const std::uint16_t type = all().briefs[each.id].type;
  std::uint32_t share = 0;
  if (each.update != Update::despawn) {
    const std::uint32_t values = each.complete ? fragmented.values : values_of(each.id, each.owner);
    share = share_of(values, each.id, generation, each.owner, each.tick);
  }
  entries.push_back(
      {each.id, each.tick, type, generation, each.update, each.owner, share, each.index});
  ClientEntity& copy = entities_known[each.index];
  // What changed since it was packed is still to be told.
  const std::uint32_t upto = each.complete ? fragmented.packed_at : mark.tick;
  if (each.complete) {
    fragmented.completing = mark.snapshot;
    ++counts.fragmented;
  }
  copy.sent_tick = upto;
  copy.sent_snapshot = mark.snapshot;
  copy.sent_generation = generation;
  copy.sent_owner = each.owner;
  copy.sent_gone = each.update == Update::despawn;
  if (copy.sent_gone) copy.despawn_snapshot = mark.snapshot;
  if (each.update == Update::full) {
    ++copy.wholes[each.owner ? 1 : 0];
    count_holders(each.index);
  }
  // Until it is acknowledged there is more to say.
  if (!repeats(each.index) || each.update == Update::despawn) {
    entities_known.settled(each.index) = upto;
  }
  if (copy.waiting_since != 0) {
    counts.longest_wait = std::max(counts.longest_wait, mark.tick - copy.waiting_since);
  }
  copy.waiting_since = 0;
  switch (each.update) {
    case Update::full: ++counts.whole; break;
    case Update::delta:
      ++(each.is_continuing && each.mask == 0 ? counts.predicted : counts.changed);
      break;
    case Update::despawn: ++counts.gone; break;
  }
}

// The bits that write_bodies() made, or those that clients share.
void BaselineHistory::write_body(bits::Writer& out, const Candidate& each) {
  if (each.shared_bits != nullptr && symbol_counts == nullptr) return write_change_body(out, each);
  out.put_bits(std::span(bodies).subspan(each.begin), each.bits);
}

// One symbol for each continuing entity, in the order of ids. The order is known to both ends, so
// that no id is written.
void BaselineHistory::write_continuing(bits::Writer& out) {
  for (const ContinuingEntity& entity : continuing) {
    const Candidate* const candidate = entity.candidate;
    if (candidate == nullptr || !candidate->is_continuing || !candidate->taken) {
      write_nothing(out, *entity.baseline);
    } else if (candidate->update == Update::despawn) {
      write_symbol(out, *entity.baseline, true, masks_of(*entity.baseline) + 1);
    } else {
      write_body(out, *candidate);
    }
  }
}

// Updates of other known entities, each named by its distance in rank; a bit says whether another
// one follows.
void BaselineHistory::write_unexpected(bits::Writer& out) {
  std::uint32_t rank = 0;
  for (const MotionState standing : {MotionState::changing, MotionState::still}) {
    for (const Candidate& each : candidates) {
      if (!each.taken || !each.is_unexpected()) continue;
      if (entities_known.standing(each.index) != standing) continue;
      if (rank > 0) out.put_bool(true);
      out.put_count(each.rank - rank, kRankOrder);
      rank = each.rank + 1;
      if (each.update == Update::despawn) {
        const Baseline& baseline = entities_known[each.index].baseline();
        write_symbol(out, baseline, false, masks_of(baseline));
      } else {
        write_body(out, each);
      }
    }
  }
  out.put_bool(false);
}

// Full updates, each named by its distance in id.
void BaselineHistory::write_spawns(bits::Writer& out, bool with_parts) {
  std::uint32_t id = 0;
  for (const Candidate& each : candidates) {
    if (!each.taken || !each.is_spawn()) continue;
    if (id > 0) out.put_bool(true);
    out.put_count(each.id - id - 1, kIdOrder);
    id = each.id;
    if (with_parts) out.put_bool(each.complete);
    write_body(out, each);
  }
  out.put_bool(false);
}

// Fragments of the fragmented entity, in the number that the plan found room for.
void BaselineHistory::write_fragments(bits::Writer& out, const FragmentRun& run) const {
  out.put_count(run.count, kFragmentsOrder);
  if (run.count == 0) return;
  out.put(run.number, kFragmentedNumberBits);
  out.put_count(run.first, kFragmentOrder);
  fragmented.write(out, run);
}

// The digest of an entity's values as this client sees them.
std::uint32_t BaselineHistory::values_of(std::uint32_t id, bool owner) const {
  const World::State::Entity& entity = all().entities[id];
  if (!owner || !entity.model->owner_has_more()) return all().briefs[id].values;
  return digest_of(*entity.model, entity.history->newest(), true);
}

// The digest over everything that the client has as of `base`, every `digest_every` snapshots.
std::optional<std::uint32_t> BaselineHistory::digest(std::uint32_t base) const {
  if (options.digest_every == 0 || base == 0 ||
      last_snapshot + 1 - digested < options.digest_every) {
    return std::nullopt;
  }
  const auto sum = entities_known.sum_of_shares();
  return sum ? std::optional(digest_of_sum(*sum)) : std::nullopt;
}

}  // namespace kwind::replica
