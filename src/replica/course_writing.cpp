// The bits of a viewer's frame. docs/state-format.md has all of them.
#include <algorithm>
#include <utility>
#include <vector>

#include "course.h"
#include "drift_digest.h"
#include "frame_code.h"
#include "state_code.h"

namespace kwind::replica {

// The states of an entity that the client is taken to have and that the world still remembers,
// newest first. Only what is not too old counts beyond the first: the client forgets, too.
std::size_t Course::states_known(std::uint32_t id, const Held& held, KnownStates& known) const {
  const Rows& history = *all().entities[id].history;
  std::size_t count = 0;
  for (const std::uint32_t at : held.ticks) {
    if (at == 0 || (count > 0 && tick() - at > kLongestMemory)) break;
    const auto row = history.at_or_before(at);
    if (!row) break;
    known[count++] = {at, history.row(*row)};
  }
  return count;
}

void Course::write_symbol(bits::Writer& out, const Held& held, bool mover, std::size_t symbol) {
  alphabet_of(held, mover).write(out, symbol);
  if (tally == nullptr) return;
  Tally::Kind& kind = tally->kinds()[held.kind];
  ++(mover ? kind.movers : kind.others)[age_of(tick() - held.ticks[0])][symbol];
}

void Course::write_nothing(bits::Writer& out, const Held& held) {
  if (tally != nullptr) return write_symbol(out, held, true, masks_of(held));
  codes_of(held).nothing[age_of(tick() - held.ticks[0])].write(out);
}

void Course::write_whole_body(bits::Writer& out, Candidate& each) const {
  const World::State::Entity& entity = all().entities[each.id];
  const KindShape& shape = *entity.shape;
  out.put(all().briefs[each.id].generation, kGenerationBits);
  out.put(shape.info().kind, bits::bits_for(all().shapes.size()));
  out.put_bool(each.owner);
  each.tick = tick();
  if (shape.tolerant()) {
    const std::uint32_t lag = std::min(tick() - entity.history->newest_tick(), kMostTickLag);
    out.put_count(lag, kTickLagOrder);
    each.tick -= lag;
  }
  write_whole(out, shape, entity.history->newest(), {each.owner});
}

// The bits of a change are found, or made and kept for others. False if they are too many for that.
bool Course::splice_change(Candidate& each) {
  const Held& held = copies[each.place].held();
  const KindShape& shape = all().shapes[held.kind];
  each.tick = tick();
  each.tolerant = shape.tolerant();
  if (each.tolerant) {
    each.lag = std::min(tick() - all().entities[each.id].history->newest_tick(), kMostTickLag);
    each.tick -= each.lag;
  }
  // What is too old counts for nothing.
  const auto known_tick = [&](std::size_t i) {
    return i == 0 || tick() - held.ticks[i] <= kLongestMemory ? held.ticks[i] : 0;
  };
  Splice& splice = all().splice_of(each.id, known_tick(0), known_tick(1));
  bool there =
      splice.tick == each.tick && splice.owner == each.owner && splice.codes == codes->digest();
  for (std::size_t i = 0; i < kKnownStates; ++i) there = there && splice.known[i] == known_tick(i);
  ++(there ? all().spliced.shared : all().spliced.written);
  if (!there) {
    KnownStates known;
    const Basis basis = basis_of(each, known);
    const Row row = all().entities[each.id].history->newest();
    each.mask = mask_of(basis, row);
    std::array<std::byte, Splice::kMostBits / 8> body{};
    bits::Writer out(body);
    write_change(out, basis, row, each.mask, nullptr);
    if (!out.ok()) return false;
    out.finish();
    splice = {each.tick,
              {known_tick(0), known_tick(1), known_tick(2), known_tick(3)},
              codes->digest(),
              static_cast<std::uint16_t>(each.mask),
              static_cast<std::uint8_t>(out.bit_count()),
              each.owner,
              alphabet_of(held, true).code(each.mask),
              {}};
    bits::Reader words(body, body.size() * 8);
    for (std::uint64_t& word : splice.words) word = words.get(64);
  }
  each.mask = splice.mask;
  each.splice = &splice;
  each.bits = splice.bits;
  each.bits += each.mover ? splice.symbol.bits : alphabet_of(held, false).bits(each.mask);
  if (each.tolerant) each.bits += bits::count_bits(each.lag, kTickLagOrder);
  return true;
}

Basis Course::basis_of(const Candidate& each, KnownStates& known) const {
  const Held& held = copies[each.place].held();
  const std::size_t count = states_known(each.id, held, known);
  return {all().shapes[held.kind],
          codes_of(held),
          std::span(known).first(count),
          each.tick,
          {each.owner}};
}

void Course::write_change_body(bits::Writer& out, const Candidate& each) {
  // Who counts symbols has to see them.
  const bool shared = each.splice != nullptr && tally == nullptr;
  const Held& held = copies[each.place].held();
  if (shared && each.mover) {
    each.splice->symbol.write(out);
  } else {
    write_symbol(out, held, each.mover, each.mask);
  }
  if (each.tolerant) out.put_count(each.lag, kTickLagOrder);
  if (shared) return each.splice->write(out);
  KnownStates known;
  write_change(out, basis_of(each, known), all().entities[each.id].history->newest(), each.mask,
               tally != nullptr ? &tally->kinds()[held.kind] : nullptr);
}

void Course::write_last_of_parcel(bits::Writer& out, Candidate& each) const {
  out.put(parcel.number, kParcelBits);
  out.put_count(parcel.chunks(), kChunkOrder);
  out.put_count(tick() - parcel.packed_at, kParcelLagOrder);
  out.put(parcel.rest_bits(), kRestBits);
  parcel.write_rest(out);
  each.tick = parcel.tick;
}

// At a byte of its own, to be copied behind whatever comes before it in the frame.
void Course::add_body(Candidate& each) {
  if (each.told == Told::change && splice_change(each) && tally == nullptr) return;
  for (;;) {
    bits::Writer out(std::span<std::byte>(bodies).subspan(bodies_end));
    if (each.complete) {
      write_last_of_parcel(out, each);
    } else if (each.told == Told::whole) {
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

void Course::write_bodies() {
  bodies_end = 0;
  for (Candidate& each : candidates) {
    if (each.told != Told::gone && !each.in_parts()) add_body(each);
  }
}

// Finds those whom the client expects to hear of. Returns the bits that it takes to say that there
// is nothing to say of them: of those that have no change, and of those that have one, should it
// find no room.
Course::MoverBits Course::mark_movers(const Sent& named) {
  movers.clear();
  MoverBits bits;
  auto candidate = candidates.begin();
  for (const Entry& entry : sent.entries(named)) {
    if (entry.told == Told::gone) continue;
    while (candidate != candidates.end() && candidate->id < entry.id) ++candidate;
    const auto place = copies.find(entry.place, entry.id);
    KWIND_ASSERT(place && copies[*place].held().known);
    const Held& held = copies[*place].held();
    Mover mover{&held, nullptr};
    if (candidate != candidates.end() && candidate->id == entry.id) {
      candidate->mover = candidate->told != Told::whole;
      mover.candidate = &*candidate;
    }
    movers.push_back(mover);
    const bool changed = mover.candidate != nullptr && mover.candidate->mover;
    (changed ? bits.changed : bits.unchanged) +=
        codes_of(held).nothing[age_of(tick() - held.ticks[0])].bits;
  }
  return bits;
}

// Places of all that are not movers among those that the client knows: first those that changed
// since they appeared, then the others.
void Course::rank(std::span<const Entry> told_before) {
  std::uint32_t restless = 0;
  std::uint32_t still = 0;
  auto candidate = candidates.begin();
  auto mover = told_before.begin();
  for (std::size_t i = 0; i < copies.size(); ++i) {
    const Standing standing = copies.standing(i);
    if (standing == Standing::unknown) continue;
    const std::uint32_t id = copies.id(i);
    while (mover != told_before.end() && mover->id < id) ++mover;
    if (mover != told_before.end() && mover->id == id && mover->told != Told::gone) continue;
    std::uint32_t& rank = standing == Standing::restless ? restless : still;
    while (candidate != candidates.end() && candidate->id < id) ++candidate;
    if (candidate != candidates.end() && candidate->id == id) candidate->rank = rank;
    ++rank;
  }
  for (Candidate& each : candidates) {
    if (!each.is_other()) continue;
    if (copies.standing(each.place) == Standing::still) each.rank += restless;
  }
}

// Notes what a frame says.
void Course::tell(const FrameMark& mark) {
  entries.clear();
  for (const Candidate& each : candidates) {
    if (each.taken && !each.in_parts()) tell(mark, each);
  }
}

void Course::tell(const FrameMark& mark, const Candidate& each) {
  const std::uint8_t generation = all().briefs[each.id].generation;
  const std::uint16_t kind = all().briefs[each.id].kind;
  std::uint32_t share = 0;
  if (each.told != Told::gone) {
    const std::uint32_t values = each.complete ? parcel.values : values_of(each.id, each.owner);
    share = share_of(values, each.id, generation, each.owner, each.tick);
  }
  entries.push_back(
      {each.id, each.tick, kind, generation, each.told, each.owner, share, each.place});
  Copy& copy = copies[each.place];
  // What changed since it was packed is still to be told.
  const std::uint32_t upto = each.complete ? parcel.packed_at : mark.tick;
  if (each.complete) {
    parcel.completing = mark.frame;
    ++counts.in_parts;
  }
  copy.sent_tick = upto;
  copy.sent_frame = mark.frame;
  copy.sent_generation = generation;
  copy.sent_owner = each.owner;
  copy.sent_gone = each.told == Told::gone;
  if (copy.sent_gone) copy.gone_frame = mark.frame;
  if (each.told == Told::whole) {
    ++copy.wholes[each.owner ? 1 : 0];
    count_who_knows(each.place);
  }
  copies.settled(each.place) = upto;
  if (copy.waiting_since != 0) {
    counts.longest_wait = std::max(counts.longest_wait, mark.tick - copy.waiting_since);
  }
  copy.waiting_since = 0;
  switch (each.told) {
    case Told::whole: ++counts.whole; break;
    case Told::change: ++(each.mover && each.mask == 0 ? counts.foretold : counts.changed); break;
    case Told::gone: ++counts.gone; break;
  }
}

void Course::write_body(bits::Writer& out, const Candidate& each) {
  if (each.splice != nullptr && tally == nullptr) return write_change_body(out, each);
  out.put_bits(std::span(bodies).subspan(each.begin), each.bits);
}

void Course::write_movers(bits::Writer& out) {
  for (const Mover& mover : movers) {
    const Candidate* const candidate = mover.candidate;
    if (candidate == nullptr || !candidate->mover || !candidate->taken) {
      write_nothing(out, *mover.held);
    } else if (candidate->told == Told::gone) {
      write_symbol(out, *mover.held, true, masks_of(*mover.held) + 1);
    } else {
      write_body(out, *candidate);
    }
  }
}

void Course::write_others(bits::Writer& out) {
  std::uint32_t rank = 0;
  for (const Standing standing : {Standing::restless, Standing::still}) {
    for (const Candidate& each : candidates) {
      if (!each.taken || !each.is_other()) continue;
      if (copies.standing(each.place) != standing) continue;
      if (rank > 0) out.put_bool(true);
      out.put_count(each.rank - rank, kRankOrder);
      rank = each.rank + 1;
      if (each.told == Told::gone) {
        const Held& held = copies[each.place].held();
        write_symbol(out, held, false, masks_of(held));
      } else {
        write_body(out, each);
      }
    }
  }
  out.put_bool(false);
}

void Course::write_arrivals(bits::Writer& out, bool with_parts) {
  std::uint32_t id = 0;
  for (const Candidate& each : candidates) {
    if (!each.taken || !each.is_arrival()) continue;
    if (id > 0) out.put_bool(true);
    out.put_count(each.id - id - 1, kIdOrder);
    id = each.id;
    if (with_parts) out.put_bool(each.complete);
    write_body(out, each);
  }
  out.put_bool(false);
}

// Chunks of the parcel, as many as choose() found the room for.
ChunkRun Course::write_parts(bits::Writer& out) {
  ChunkRun run;
  for (const Candidate& each : candidates) {
    if (each.taken && each.in_parts()) run = parcel.waiting(each.bits / kChunkBits);
  }
  out.put_count(run.count, kChunksOrder);
  if (run.count == 0) return run;
  out.put(run.number, kParcelBits);
  out.put_count(run.first, kChunkOrder);
  parcel.write(out, run);
  parcel.send(run);
  return run;
}

std::uint32_t Course::values_of(std::uint32_t id, bool owner) const {
  const World::State::Entity& entity = all().entities[id];
  if (!owner || !entity.shape->owner_has_more()) return all().briefs[id].values;
  return digest_of(*entity.shape, entity.history->newest(), true);
}

// Of all that the client has as of `base`, the frame that the next one builds on, if it is time for
// one.
std::optional<std::uint32_t> Course::digest(std::uint32_t base) const {
  if (options.digest_every == 0 || base == 0 || last_frame + 1 - digested < options.digest_every) {
    return std::nullopt;
  }
  const auto sum = copies.sum_of_shares();
  return sum ? std::optional(digest_of_sum(*sum)) : std::nullopt;
}

}  // namespace kwind::replica
