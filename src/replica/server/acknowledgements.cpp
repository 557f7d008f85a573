// What a viewer hears of its frames, and so what its client has.
#include <algorithm>
#include <utility>

#include "replica/coding/state_digest.h"
#include "replica/server/baseline_history.h"

namespace kwind::replica {

bool BaselineHistory::may_lose(std::uint32_t frame) {
  const Sent* const sent_then = sent.find(frame);
  if (sent_then == nullptr || sent_then->lost || sent_then->arrived) return false;
  return !options.speculative_baselines || !sent_then->acked;
}

// Whether the client may come to read the frame without our help: something that it builds on is
// under way yet, or its loss was heard of and nothing newer builds on it.
bool BaselineHistory::may_yet_be_read(std::uint32_t frame) const {
  const Sent* const slot = sent.find(frame);
  if (slot == nullptr || slot->mark.newest == 0) return slot != nullptr;
  if (slot->lost) return true;
  const auto open = [&](std::uint32_t base) {
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

void BaselineHistory::lose(std::uint32_t frame) {
  lose(*sent.find(frame));
}

void BaselineHistory::lose(Sent& frame) {
  discard(frame);
  if (!options.speculative_baselines) return;
  // What was made since, and builds on it, is of no use either.
  for (std::uint32_t later = frame.mark.frame + 1; later <= last_frame; ++later) {
    Sent* const slot = sent.find(later);
    if (slot != nullptr && !slot->lost && builds_on_lost(slot->mark)) discard(*slot);
  }
  lost_any = true;
}

// Nothing will build on the frame: what it told is to be told again.
void BaselineHistory::discard(Sent& frame) {
  frame.lost = true;
  news = true;
  ++counts.discarded;
  if (frame.chunks.count > 0) fragmented.lose(frame.chunks);
  if (fragmented.completing == frame.mark.frame) fragmented.completing = 0;
  for (const Entry& entry : sent.entries(frame)) {
    const auto place = entities_known.find(entry.place, entry.id);
    if (!place) continue;
    Copy& copy = entities_known[*place];
    copy.mark_sent(entry);
    if (entry.update == Update::full) count_who_knows(*place);
    if (copy.despawn_snapshot == frame.mark.frame) {
      copy.despawn_snapshot = 0;
      entities_known.settled(*place) = 0;
    }
    if (copy.sent_frame != frame.mark.frame) continue;
    copy.sent_frame = 0;
    entities_known.settled(*place) = 0;
  }
}

bool BaselineHistory::builds_on_lost(const SnapshotMark& mark) {
  const Sent* const named = sent.find(mark.newest);
  if (named == nullptr) return false;
  if (named->lost) return true;
  for (std::uint32_t i = 0; i < sent_between(named->mark); ++i) {
    const Sent* const between = sent.find(mark.newest - 1 - i);
    if ((mark.between >> i & 1) != 0 && between != nullptr && between->lost) return true;
  }
  return false;
}

void BaselineHistory::believe(Sent& frame) {
  frame.arrived = true;
  sure = frame.mark.frame;
  if (frame.chunks.count > 0) fragmented.arrive(frame.chunks);
  // Unless the same last bits are under way once more: until then the client keeps the others.
  const bool again = fragmented.completing != 0 && fragmented.completing != frame.mark.frame;
  if (frame.completed == fragmented.number && !again) fragmented.clear();
  for (const Entry& entry : sent.entries(frame)) {
    const std::size_t place = entities_known.at(entry.place, entry.id);
    Copy& copy = entities_known[place];
    copy.sure.apply(entry);
    copy.mark_sent(entry);
    if (entry.update == Update::full) copy.resend = false;
    // It may be wanted again, or not any more.
    if (entry.update != Update::delta) entities_known.settled(place) = 0;
    if (copy.despawn_snapshot == frame.mark.frame) copy.despawn_snapshot = 0;
    if (!options.speculative_baselines)
      entities_known.apply(place, entry);  // then it is what is sure
    if (entry.update != Update::delta) count_who_knows(place);
    if (copy.sent_frame == frame.mark.frame && copy.sent_gone) copy.sent_frame = 0;
  }
}

// Of what the client has for certain; 0 if the world remembers that no more.
std::uint32_t BaselineHistory::share_of_sure(std::size_t place) {
  const std::uint32_t id = entities_known.id(place);
  const Baseline& held = entities_known[place].sure;
  if (!held.known || all().briefs[id].generation != held.generation) return 0;
  const World::State::Entity& entity = all().entities[id];
  const auto row = entity.history->at_or_before(held.ticks[0]);
  if (!row) return 0;
  return share_of(digest_of(*entity.model, entity.history->row(*row), held.owner), id,
                  held.generation, held.owner, held.ticks[0]);
}

// Optimistic: what is certain, and what is still believed to be under way on top of it.
void BaselineHistory::build_again() {
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    entities_known.hold(i, entities_known[i].sure, share_of_sure(i));
    entities_known.settled(i) = 0;  // that may have rested on what has gone
  }
  // Until something has arrived each frame tells all anew.
  for (std::uint32_t frame = sure + 1; sure > 0 && frame <= last_frame; ++frame) {
    const Sent* const slot = sent.find(frame);
    if (slot == nullptr || slot->lost) continue;
    for (const Entry& entry : sent.entries(*slot)) {
      entities_known.apply(entities_known.at(entry.place, entry.id), entry);
    }
  }
  for (std::size_t i = 0; i < entities_known.size(); ++i) count_who_knows(i);
}

void BaselineHistory::full_resync() {
  sure = 0;
  for (std::size_t i = 0; i < entities_known.size(); ++i) {
    Copy& copy = entities_known[i];
    copy.sure = {};
    entities_known.hold(i, {}, 0);
    copy.sent_frame = copy.despawn_snapshot = 0;
    copy.wholes = {};
    entities_known.settled(i) = 0;
    count_who_knows(i);
  }
  fragmented.clear();
  sent.clear();
  start = last_frame + 1;
  news = true;
  ++counts.full_resyncs;
}

// What arrived before something newer was heard to have is not believed in any more: see
// acked_snapshots.h.
void BaselineHistory::hear(std::vector<std::uint32_t>& acks) {
  const std::uint32_t before = sure;
  if (!acks.empty()) {
    news = true;
    std::sort(acks.begin(), acks.end());
    for (const std::uint32_t frame : acks) {
      Sent* const slot = sent.find(frame);
      if (slot == nullptr || frame <= sure || last_frame - frame >= kFrameWindow) continue;
      // What came too late was told again, perhaps to another owner.
      if (slot->lost && slot->has_full) continue;
      slot->acked = true;
      if (!options.speculative_baselines) believe(*slot);
    }
    acks.clear();
  }
  // Before anything arrived, all goes anew in every frame: the oldest are given up all the same.
  if (last_frame >= kFrameWindow) {
    Sent* const old = sent.find(last_frame - kFrameWindow + 1);
    if (old != nullptr && !old->arrived && !old->lost) lose(*old);
  }
  if (options.speculative_baselines) {
    for (std::uint32_t frame = sure + 1; frame <= last_frame; ++frame) {
      Sent* const slot = sent.find(frame);
      if (slot == nullptr || slot->lost) continue;
      if (!slot->acked) break;  // whatever came behind it builds on it
      believe(*slot);
    }
    if (std::exchange(lost_any, false) || (before == 0 && sure > 0)) build_again();
  }
  for (std::uint32_t frame = before + 1; frame < sure; ++frame) {
    Sent* const slot = sent.find(frame);
    if (slot != nullptr && !slot->arrived && !slot->lost) discard(*slot);
  }
  if (sure > 0 && last_frame + 1 - sure >= kFrameWindow) full_resync();
  sent.forget_before(sure);
}

// Whether the client may hold what a frame told it that was given up since, and nothing on its way
// says so: it may have arrived all the same, and what it told of may be gone by now.
bool BaselineHistory::needs_heartbeat() {
  const Sent* const named = sent.find(sure);
  const std::uint32_t acknowledged = named != nullptr ? named->mark.newest : 0;
  const std::uint32_t oldest = last_frame > kFrameWindow ? last_frame - kFrameWindow : 0;
  bool needs_heartbeat = false;
  for (std::uint32_t frame = std::max(acknowledged, oldest) + 1; frame <= last_frame; ++frame) {
    const Sent* const slot = sent.find(frame);
    if (slot == nullptr) continue;
    if (frame > sure && !slot->arrived && !slot->lost) return false;
    needs_heartbeat = needs_heartbeat || (slot->lost && !slot->arrived && slot->count > 0);
  }
  return needs_heartbeat;
}

// Nothing builds any more on what the client holds of it.
Desync BaselineHistory::repair(std::uint32_t id, std::string_view field) {
  Desync found{id, {}, field};
  const auto place = entities_known.find(id);
  if (!place) return found;
  Copy& copy = entities_known[*place];
  ++counts.desyncs;
  copy.resend = true;
  copy.sent_frame = 0;
  entities_known.settled(*place) = 0;
  news = true;
  if (copy.held().known) found.kind = all().models[copy.held().kind].info().name;
  return found;
}

}  // namespace kwind::replica
