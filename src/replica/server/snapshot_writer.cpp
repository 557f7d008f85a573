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
#include "replica/server/snapshot_builder.h"

namespace kwind::replica {

// The states of an entity that the client is taken to have and that the world still remembers,
// newest first. Only what is not too old counts beyond the first: the client forgets, too.
std::size_t SnapshotBuilder::states_known(EntityId id, const Baseline& baseline,
                                          KnownStates& known) const {
  const Rows& history = *world_.entities[id].history;
  std::size_t count = 0;
  for (const Tick at : baseline.ticks) {
    if (!at || (count > 0 && tick() - at > kLongestMemory)) break;
    const auto row = history.at_or_before(at);
    if (!row) break;
    known[count++] = {at, history.row(*row)};
  }
  return count;
}

// One prefix-code symbol says which columns of an entity changed (its mask), or that the entity did
// not change or despawned. The alphabet depends on the entity type, on whether the client expects
// an update of the entity, and on the age of the baseline.
void SnapshotBuilder::write_symbol(bits::Writer& out, const Baseline& baseline, bool is_continuing,
                                   std::size_t symbol) {
  alphabet_of(baseline, is_continuing).write(out, symbol);
  if (symbol_counts_ == nullptr || symbol < masks_of(baseline)) return;
  SymbolCounts::Type& type = symbol_counts_->types()[baseline.type];
  ++(is_continuing ? type.continuing : type.unexpected)[age_of(tick() - baseline.ticks[0])][symbol];
}

// The symbol of an entity that moves as predicted: its code is looked up once and kept.
void SnapshotBuilder::write_nothing(bits::Writer& out, const Baseline& baseline) {
  if (symbol_counts_ != nullptr) return write_symbol(out, baseline, true, masks_of(baseline));
  codes_of(baseline).nothing[age_of(tick() - baseline.ticks[0])].write(out);
}

// A full update: generation, type, owner bit, and the value of every column.
void SnapshotBuilder::write_whole_body(bits::Writer& out, Candidate& each) const {
  const WorldState::Entity& entity = world_.entities[each.id];
  const EntityModel& model = *entity.model;
  out.put(world_.briefs[each.id].generation, kGenerationBits);
  out.put(world_.type_codes.code_of(model.info().type), world_.type_codes.bits());
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
void SnapshotBuilder::grant_edits(Candidate& each) {
  if (world_.models[entities_[each.index].baseline().type].varying() == 0) return;
  KnownStates known;
  const Basis basis = basis_of(each, known);
  const std::size_t size = edited_size(basis, world_.entities[each.id].history->newest());
  each.no_edits = size > edits_left_;
  if (!each.no_edits) edits_left_ -= size;
}

// The bits of a change are found, or made and kept for others. False if they are too many for
// that.
bool SnapshotBuilder::share_change(Candidate& each) {
  const Baseline& baseline = entities_[each.index].baseline();
  const EntityModel& model = world_.models[baseline.type];
  each.tick = tick();
  each.tolerant = model.tolerant();
  if (each.tolerant) {
    each.lag = std::min(tick() - world_.entities[each.id].history->newest_tick(), kMaxTickLag);
    each.tick -= each.lag;
  }
  if (each.no_edits) {
    KnownStates known;
    each.mask = mask_of(basis_of(each, known), world_.entities[each.id].history->newest());
    return false;
  }
  // What is too old counts for nothing.
  const auto known_tick = [&](std::size_t i) {
    return i == 0 || tick() - baseline.ticks[i] <= kLongestMemory ? baseline.ticks[i] : Tick{};
  };
  SharedEntityBits& shared_bits = shared_.bits_of(each.id, known_tick(0), known_tick(1));
  bool there = shared_bits.tick == tick() && shared_bits.owner == each.owner &&
               shared_bits.codes == codes_.digest();
  for (std::size_t i = 0; i < kKnownStates; ++i)
    there = there && shared_bits.known[i] == known_tick(i);
  ++(there ? shared_.counts.shared : shared_.counts.written);
  if (!there) {
    KnownStates known;
    const Basis basis = basis_of(each, known);
    const Row row = world_.entities[each.id].history->newest();
    each.mask = mask_of(basis, row);
    std::array<std::byte, SharedEntityBits::kMaxBits / 8> body{};
    bits::Writer out(body);
    write_change(out, basis, row, each.mask);
    if (!out.ok()) return false;
    out.finish();
    shared_bits = {tick(),
                   {known_tick(0), known_tick(1), known_tick(2), known_tick(3)},
                   codes_.digest(),
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
Basis SnapshotBuilder::basis_of(const Candidate& each, KnownStates& known) const {
  const Baseline& baseline = entities_[each.index].baseline();
  const std::size_t count = states_known(each.id, baseline, known);
  return {world_.models[baseline.type],
          codes_of(baseline),
          codes_of(baseline).predictors,
          std::span(known).first(count),
          each.tick,
          {each.owner},
          each.no_edits};
}

// A delta update: the mask's symbol, then the columns that differ from their prediction.
void SnapshotBuilder::write_change_body(bits::Writer& out, const Candidate& each) {
  // Who counts symbols has to see them.
  const bool shared = each.shared_bits != nullptr && symbol_counts_ == nullptr;
  const Baseline& baseline = entities_[each.index].baseline();
  if (shared && each.is_continuing) {
    each.shared_bits->symbol.write(out);
  } else {
    write_symbol(out, baseline, each.is_continuing, each.mask);
  }
  if (each.tolerant) out.put_count(each.lag, kTickLagOrder);
  if (shared) return each.shared_bits->write(out);
  KnownStates known;
  const Basis basis = basis_of(each, known);
  const Row row = world_.entities[each.id].history->newest();
  write_change(out, basis, row, each.mask);
  if (symbol_counts_ != nullptr) {
    count_change(basis, row, each.is_continuing, symbol_counts_->types()[baseline.type]);
  }
}

// The fragment that makes a fragmented entity appear: its number, the count of fragments, and the
// rest of the bits.
void SnapshotBuilder::write_last_fragment(bits::Writer& out, Candidate& each) const {
  out.put(fragmented_.number, kFragmentedNumberBits);
  out.put_count(fragmented_.fragments(), kFragmentOrder);
  out.put_count(tick() - fragmented_.packed_at, kFragmentedLagOrder);
  out.put(fragmented_.rest_bits(), kRestBits);
  fragmented_.write_rest(out);
  each.tick = fragmented_.tick;
}

// At a byte of its own, to be copied behind whatever comes before it in the snapshot.
void SnapshotBuilder::add_body(Candidate& each) {
  if (each.update == Update::delta) grant_edits(each);
  if (each.update == Update::delta && share_change(each) && symbol_counts_ == nullptr) return;
  for (;;) {
    bits::Writer out(std::span<std::byte>(bodies_).subspan(bodies_end_));
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
    bodies_.resize(std::max<std::size_t>(1024, bodies_.size() * 2));
  }
  each.begin = bodies_end_;
  bodies_end_ += bits::bytes_for(each.bits);
}

// All candidates are encoded before any is chosen: the choice needs their sizes.
void SnapshotBuilder::write_bodies() {
  bodies_end_ = 0;
  edits_left_ = kMaxEditedSize;
  for (Candidate& each : candidates_) {
    if (each.update != Update::despawn && !each.in_fragments()) add_body(each);
  }
}

// The bits that write_bodies() made, or those that clients share.
void SnapshotBuilder::write_body(bits::Writer& out, const Candidate& each) {
  if (each.shared_bits != nullptr && symbol_counts_ == nullptr) return write_change_body(out, each);
  out.put_bits(std::span(bodies_).subspan(each.begin), each.bits);
}

// One symbol for each continuing entity, in the order of ids. The order is known to both ends, so
// that no id is written.
void SnapshotBuilder::write_continuing(bits::Writer& out) {
  for (const ContinuingEntity& entity : continuing_) {
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
void SnapshotBuilder::write_unexpected(bits::Writer& out) {
  std::uint32_t rank = 0;
  for (const MotionState standing : {MotionState::changing, MotionState::still}) {
    for (const Candidate& each : candidates_) {
      if (!each.taken || !each.is_unexpected()) continue;
      if (entities_.standing(each.index) != standing) continue;
      if (rank > 0) out.put_bool(true);
      out.put_count(each.rank - rank, kRankOrder);
      rank = each.rank + 1;
      if (each.update == Update::despawn) {
        const Baseline& baseline = entities_[each.index].baseline();
        write_symbol(out, baseline, false, masks_of(baseline));
      } else {
        write_body(out, each);
      }
    }
  }
  out.put_bool(false);
}

// Full updates, each named by its distance in id.
void SnapshotBuilder::write_spawns(bits::Writer& out, bool with_parts) {
  EntityId id;
  for (const Candidate& each : candidates_) {
    if (!each.taken || !each.is_spawn()) continue;
    if (id) out.put_bool(true);
    out.put_count(each.id - id - 1, kIdOrder);
    id = each.id;
    if (with_parts) out.put_bool(each.complete);
    write_body(out, each);
  }
  out.put_bool(false);
}

// Fragments of the fragmented entity, in the number that the plan found room for.
void SnapshotBuilder::write_fragments(bits::Writer& out, const FragmentRun& run) const {
  out.put_count(run.count, kFragmentsOrder);
  if (run.count == 0) return;
  out.put(run.number, kFragmentedNumberBits);
  out.put_count(run.first, kFragmentOrder);
  fragmented_.write(out, run);
}

// The digest of an entity's values as this client sees them.
std::uint32_t SnapshotBuilder::values_of(EntityId id, bool owner) const {
  const WorldState::Entity& entity = world_.entities[id];
  if (!owner || !entity.model->owner_has_more()) return world_.briefs[id].values;
  return digest_of(*entity.model, entity.history->newest(), true);
}

}  // namespace kwind::replica
