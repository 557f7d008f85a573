// Chooses which pending entity updates go into a snapshot of limited size.
//
// This is a knapsack filled by priority: the most urgent update that fits is taken, then the next.
// Priority is the entity's own, times the ticks that the change has waited, so that everything is
// sent some time; an update that has waited longer than ClientReplicator::kPatience goes before all
// others.
//
// An update that fits no datagram is cut into fragments of kFragmentBits, one entity at a time.
// Fragments take the room that is left.
#include <algorithm>
#include <bit>
#include <utility>

#include "replica/coding/snapshot_head.h"
#include "replica/server/snapshot_builder.h"

namespace kwind::replica {
namespace {

// The fewest bits that an update takes.
constexpr std::size_t kMinBits = 4;

}  // namespace

// The fragmented entity may have despawned or left the view. Fragmenting is cancelled, unless the
// last fragment is in flight: that one may still make the entity appear.
void SnapshotBuilder::cancel_unneeded_fragments() {
  if (!fragmented_.id || fragmented_.completing) return;
  const auto index = entities_.find(fragmented_.id);
  if (!index || !entities_.look(*index).in_view || !world_.briefs[fragmented_.id].alive ||
      !history_.is_packed(*index)) {
    fragmented_.clear();
  }
}

// Of the updates that no recent datagram had room for, the most urgent one is cut into fragments. A
// delta is replaced by a full update, because its baseline may be gone when the last fragment
// arrives.
void SnapshotBuilder::fragment_largest_pending(std::size_t roomiest) {
  if (fragmented_.id) return;
  Candidate* found = nullptr;
  for (Candidate& each : candidates_) {
    if (each.update == Update::despawn || each.bits <= roomiest || each.bits < 2 * kFragmentBits)
      continue;
    if (found == nullptr || each.priority_now > found->priority_now) found = &each;
  }
  if (found == nullptr) return;
  Candidate& each = *found;
  if (each.update == Update::delta) {
    each.update = Update::full;
    each.is_continuing = false;
    add_body(each);
  }
  fragmented_.pack(std::span(bodies_).subspan(each.begin), each.bits);
  fragmented_.id = each.id;
  fragmented_.generation = world_.briefs[each.id].generation;
  fragmented_.owner = each.owner;
  fragmented_.packed_at = tick();
  fragmented_.tick = each.tick;
  fragmented_.values = values_of(each.id, each.owner);
  each.fragmented = true;
}

// Keeps the most urgent candidates, at most the number that could fit at kMinBits each. Returns
// whether others were left out, and adds their number to `deferred`.
bool SnapshotBuilder::narrow(std::size_t room, std::size_t& deferred) {
  const std::size_t max = room / kMinBits + 1;
  if (candidates_.size() <= max) return false;
  const auto end = candidates_.begin() + static_cast<std::ptrdiff_t>(max);
  std::nth_element(
      candidates_.begin(), end, candidates_.end(), [](const Candidate& a, const Candidate& b) {
        return a.priority_now != b.priority_now ? a.priority_now > b.priority_now : a.id < b.id;
      });
  deferred += candidates_.size() - max;
  candidates_.erase(end, candidates_.end());
  std::sort(candidates_.begin(), candidates_.end(),
            [](const Candidate& a, const Candidate& b) { return a.id < b.id; });
  return true;
}

// Unacknowledged updates that are repeated have a budget of their own, whatever the room: clients
// whose datagrams also carry messages then repeat the same. Updates that changed last are kept,
// because older ones will be acknowledged sooner; `urgent` ones are not in the budget. Returns
// whether any was left out.
bool SnapshotBuilder::limit_repeats() {
  constexpr std::size_t kMaxRepeatBits = 2400;
  std::size_t bits = 0;
  const auto budgeted = [](const Candidate& each) { return each.repeat && !each.urgent; };
  for (const Candidate& each : candidates_) bits += budgeted(each) ? size_of(each) : 0;
  if (bits <= kMaxRepeatBits) return false;
  by_priority_.clear();
  for (Candidate& each : candidates_) {
    if (budgeted(each)) by_priority_.push_back(&each);
  }
  std::sort(by_priority_.begin(), by_priority_.end(), [&](const Candidate* a, const Candidate* b) {
    const Tick a_tick = world_.briefs[a->id].changed_at;
    const Tick b_tick = world_.briefs[b->id].changed_at;
    return a_tick != b_tick ? a_tick > b_tick : a->id < b->id;
  });
  std::size_t left = kMaxRepeatBits;
  for (Candidate* const each : by_priority_) {
    const std::size_t size = size_of(*each);
    each->waits = size > left;
    if (!each->waits) left -= size;
  }
  std::erase_if(candidates_, [](const Candidate& each) { return each.waits; });
  return true;
}

// Bits of the names of all updates that are taken: ranks of unexpected ones, ids of spawns.
std::size_t SnapshotBuilder::bits_of_places() const {
  std::size_t bits = 0;
  std::uint32_t rank = 0;
  for (const MotionState standing : {MotionState::changing, MotionState::still}) {
    for (const Candidate& each : candidates_) {
      if (!each.taken || !each.is_unexpected()) continue;
      if (entities_.standing(each.index) != standing) continue;
      bits += 1 + bits::count_bits(each.rank - std::exchange(rank, each.rank + 1), kRankOrder);
    }
  }
  EntityId id;
  for (const Candidate& each : candidates_) {
    if (!each.taken || !each.is_spawn()) continue;
    bits += 2 + bits::count_bits(each.id - std::exchange(id, each.id) - 1, kIdOrder);
  }
  return bits;
}

// An upper bound: the body, and the longest name that the update can have.
std::size_t SnapshotBuilder::size_of(const Candidate& each) const {
  // What says whose body it is, at most.
  const std::size_t id_bits =
      2 * std::bit_width(entities_.size() + world_.entities.size()) + kIdOrder;
  const std::size_t body = each.update == Update::despawn ? PrefixCode::kLongest : each.bits;
  return body + (each.is_continuing ? 0 : id_bits + 1);
}

// Whether choose() would take all candidates. Their bodies are written to find out.
bool SnapshotBuilder::fit_all(std::size_t room) {
  write_bodies();
  std::size_t wanted = 0;
  for (const Candidate& each : candidates_) {
    if (each.in_fragments()) return false;
    wanted += size_of(each);
  }
  return wanted <= room;
}

// Maximum number of bits before the fragments of a snapshot.
constexpr std::size_t kRunBits = kFragmentedNumberBits + 48;

// As many fragments of the fragmented entity as `max` bits hold, if that is one at least.
void SnapshotBuilder::choose_fragments(Candidate& in_fragments, std::size_t max) {
  if (max < kRunBits + kFragmentBits) return;
  const FragmentRun run = fragmented_.waiting((max - kRunBits) / kFragmentBits);
  in_fragments.taken = true;
  in_fragments.bits = kRunBits + run.count * kFragmentBits;
}

// Takes the most urgent updates that fit; returns their number. One that does not fit leaves room
// to smaller ones; fragments of a fragmented entity take what they find.
std::size_t SnapshotBuilder::choose(std::size_t room) {
  Candidate* in_fragments = nullptr;
  std::size_t wanted = 0;
  for (Candidate& each : candidates_) {
    if (each.in_fragments()) {
      in_fragments = &each;
    } else {
      wanted += size_of(each);
    }
  }
  std::size_t taken = 0;
  if (wanted <= room) {
    for (Candidate& each : candidates_) each.taken = &each != in_fragments;
    taken = candidates_.size() - (in_fragments != nullptr ? 1 : 0);
    room -= wanted;
  } else {
    taken = choose_by_priority(in_fragments, room);
  }
  if (in_fragments == nullptr) return taken;
  choose_fragments(*in_fragments, room);
  return taken + (in_fragments->taken ? 1 : 0);
}

// There is not room for all. `room`: afterwards what is left for fragments. Ends: each round but
// the last takes another candidate.
std::size_t SnapshotBuilder::choose_by_priority(Candidate* in_fragments, std::size_t& room) {
  const auto body_of = [](const Candidate& each) {
    return each.update == Update::despawn ? PrefixCode::kLongest : each.bits;
  };
  by_priority_.clear();
  for (Candidate& each : candidates_) by_priority_.push_back(&each);
  std::sort(by_priority_.begin(), by_priority_.end(), [](const Candidate* a, const Candidate* b) {
    return a->priority_now != b->priority_now ? a->priority_now > b->priority_now : a->id < b->id;
  });
  const std::size_t half = std::max(room / 2, kRunBits + kFragmentBits);
  const auto fragment_bits = [&] {
    return in_fragments != nullptr && in_fragments->taken ? in_fragments->bits : 0;
  };
  // Places among many take fewer bits than they may: what that leaves is given out, too.
  std::size_t taken = 0;
  std::size_t bodies_taken = 0;
  std::size_t left = room;
  for (std::size_t before = candidates_.size(); before != taken;) {
    before = taken;
    for (Candidate* const each : by_priority_) {
      if (each->taken) continue;
      if (each == in_fragments) {
        choose_fragments(*each, std::min(left, half));
        left -= fragment_bits();
        continue;
      }
      const std::size_t size = size_of(*each);
      if (size > left) continue;
      left -= size;
      bodies_taken += body_of(*each);
      each->taken = true;
      ++taken;
    }
    left = room - bodies_taken - bits_of_places() - fragment_bits();
  }
  room = left + fragment_bits();
  return taken;
}

}  // namespace kwind::replica
