// What a viewer hears of its frames, and so what its client has.
#include <algorithm>
#include <utility>

#include "course.h"
#include "drift_digest.h"

namespace kwind::replica {

bool Course::may_lose(std::uint32_t frame) {
  const Sent* const sent_then = sent.find(frame);
  if (sent_then == nullptr || sent_then->lost || sent_then->arrived) return false;
  return !options.optimistic || !sent_then->acked;
}

// Whether the client may come to read the frame without our help: something that it builds on is
// under way yet, or its loss was heard of and nothing newer builds on it.
bool Course::may_yet_be_read(std::uint32_t frame) const {
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
  for (std::uint32_t i = 0; i < told_between(named->mark); ++i) {
    if ((slot->mark.between >> i & 1) != 0 && open(slot->mark.newest - 1 - i)) return true;
  }
  return false;
}

void Course::lose(std::uint32_t frame) {
  lose(*sent.find(frame));
}

void Course::lose(Sent& frame) {
  give_up(frame);
  if (!options.optimistic) return;
  // What was made since, and builds on it, is of no use either.
  for (std::uint32_t later = frame.mark.frame + 1; later <= last_frame; ++later) {
    Sent* const slot = sent.find(later);
    if (slot != nullptr && !slot->lost && builds_on_lost(slot->mark)) give_up(*slot);
  }
  lost_any = true;
}

// Nothing will build on the frame: what it told is to be told again.
void Course::give_up(Sent& frame) {
  frame.lost = true;
  news = true;
  ++counts.given_up;
  if (frame.chunks.count > 0) parcel.lose(frame.chunks);
  if (parcel.completing == frame.mark.frame) parcel.completing = 0;
  for (const Entry& entry : sent.entries(frame)) {
    const auto place = copies.find(entry.place, entry.id);
    if (!place) continue;
    Copy& copy = copies[*place];
    copy.is_told(entry);
    if (entry.told == Told::whole) count_who_knows(*place);
    if (copy.gone_frame == frame.mark.frame) {
      copy.gone_frame = 0;
      copies.settled(*place) = 0;
    }
    if (copy.sent_frame != frame.mark.frame) continue;
    copy.sent_frame = 0;
    copies.settled(*place) = 0;
  }
}

bool Course::builds_on_lost(const FrameMark& mark) {
  const Sent* const named = sent.find(mark.newest);
  if (named == nullptr) return false;
  if (named->lost) return true;
  for (std::uint32_t i = 0; i < told_between(named->mark); ++i) {
    const Sent* const between = sent.find(mark.newest - 1 - i);
    if ((mark.between >> i & 1) != 0 && between != nullptr && between->lost) return true;
  }
  return false;
}

void Course::believe(Sent& frame) {
  frame.arrived = true;
  sure = frame.mark.frame;
  if (frame.chunks.count > 0) parcel.arrive(frame.chunks);
  // Unless the same last bits are under way once more: until then the client keeps the others.
  const bool again = parcel.completing != 0 && parcel.completing != frame.mark.frame;
  if (frame.completed == parcel.number && !again) parcel.clear();
  for (const Entry& entry : sent.entries(frame)) {
    const std::size_t place = copies.at(entry.place, entry.id);
    Copy& copy = copies[place];
    copy.sure.apply(entry);
    copy.is_told(entry);
    if (entry.told == Told::whole) copy.resend = false;
    // It may be wanted again, or not any more.
    if (entry.told != Told::change) copies.settled(place) = 0;
    if (copy.gone_frame == frame.mark.frame) copy.gone_frame = 0;
    if (!options.optimistic) copies.apply(place, entry);  // then it is what is sure
    if (entry.told != Told::change) count_who_knows(place);
    if (copy.sent_frame == frame.mark.frame && copy.sent_gone) copy.sent_frame = 0;
  }
}

// Of what the client has for certain; 0 if the world remembers that no more.
std::uint32_t Course::share_of_sure(std::size_t place) {
  const std::uint32_t id = copies.id(place);
  const Held& held = copies[place].sure;
  if (!held.known || all().briefs[id].generation != held.generation) return 0;
  const World::State::Entity& entity = all().entities[id];
  const auto row = entity.history->at_or_before(held.ticks[0]);
  if (!row) return 0;
  return share_of(digest_of(*entity.shape, entity.history->row(*row), held.owner), id,
                  held.generation, held.owner, held.ticks[0]);
}

// Optimistic: what is certain, and what is still believed to be under way on top of it.
void Course::build_again() {
  for (std::size_t i = 0; i < copies.size(); ++i) {
    copies.hold(i, copies[i].sure, share_of_sure(i));
    copies.settled(i) = 0;  // that may have rested on what has gone
  }
  // Until something has arrived each frame tells all anew.
  for (std::uint32_t frame = sure + 1; sure > 0 && frame <= last_frame; ++frame) {
    const Sent* const slot = sent.find(frame);
    if (slot == nullptr || slot->lost) continue;
    for (const Entry& entry : sent.entries(*slot)) {
      copies.apply(copies.at(entry.place, entry.id), entry);
    }
  }
  for (std::size_t i = 0; i < copies.size(); ++i) count_who_knows(i);
}

void Course::start_anew() {
  sure = 0;
  for (std::size_t i = 0; i < copies.size(); ++i) {
    Copy& copy = copies[i];
    copy.sure = {};
    copies.hold(i, {}, 0);
    copy.sent_frame = copy.gone_frame = 0;
    copy.wholes = {};
    copies.settled(i) = 0;
    count_who_knows(i);
  }
  parcel.clear();
  sent.clear();
  start = last_frame + 1;
  news = true;
  ++counts.started_anew;
}

// What arrived before something newer was heard to have is not believed in any more: see
// frame_marks.h.
void Course::hear(std::vector<std::uint32_t>& acks) {
  const std::uint32_t before = sure;
  if (!acks.empty()) {
    news = true;
    std::sort(acks.begin(), acks.end());
    for (const std::uint32_t frame : acks) {
      Sent* const slot = sent.find(frame);
      if (slot == nullptr || frame <= sure || last_frame - frame >= kFrameWindow) continue;
      // What came too late was told again, perhaps to another owner.
      if (slot->lost && slot->tells_whole) continue;
      slot->acked = true;
      if (!options.optimistic) believe(*slot);
    }
    acks.clear();
  }
  // Before anything arrived, all goes anew in every frame: the oldest are given up all the same.
  if (last_frame >= kFrameWindow) {
    Sent* const old = sent.find(last_frame - kFrameWindow + 1);
    if (old != nullptr && !old->arrived && !old->lost) lose(*old);
  }
  if (options.optimistic) {
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
    if (slot != nullptr && !slot->arrived && !slot->lost) give_up(*slot);
  }
  if (sure > 0 && last_frame + 1 - sure >= kFrameWindow) start_anew();
  sent.forget_before(sure);
}

// Whether the client may hold what a frame told it that was given up since, and nothing on its way
// says so: it may have arrived all the same, and what it told of may be gone by now.
bool Course::owes_word() {
  const Sent* const named = sent.find(sure);
  const std::uint32_t heard = named != nullptr ? named->mark.newest : 0;
  const std::uint32_t oldest = last_frame > kFrameWindow ? last_frame - kFrameWindow : 0;
  bool owes = false;
  for (std::uint32_t frame = std::max(heard, oldest) + 1; frame <= last_frame; ++frame) {
    const Sent* const slot = sent.find(frame);
    if (slot == nullptr) continue;
    if (frame > sure && !slot->arrived && !slot->lost) return false;
    owes = owes || (slot->lost && !slot->arrived && slot->count > 0);
  }
  return owes;
}

// Nothing builds any more on what the client holds of it.
Drifted Course::repair(std::uint32_t id, std::string_view field) {
  Drifted found{id, {}, field};
  const auto place = copies.find(id);
  if (!place) return found;
  Copy& copy = copies[*place];
  ++counts.drifted;
  copy.resend = true;
  copy.sent_frame = 0;
  copies.settled(*place) = 0;
  news = true;
  if (copy.held().known) found.kind = all().shapes[copy.held().kind].info().name;
  return found;
}

}  // namespace kwind::replica
