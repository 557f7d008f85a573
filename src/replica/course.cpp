#include "course.h"

#include <algorithm>
#include <utility>

#include "frame_code.h"
#include "kwind/bits/prefetch.h"
#include "kwind/replica/interest.h"

namespace kwind::replica {
namespace {

constexpr std::size_t kSectionBits = 12;  // which ones there are, and the ends of some

bool is_like(const Copy& a, const Copy& b) {
  return a.gone_frame == b.gone_frame && a.waiting_since == b.waiting_since &&
         a.sent_frame == b.sent_frame && a.sent_tick == b.sent_tick &&
         a.sent_generation == b.sent_generation && a.sent_owner == b.sent_owner &&
         a.sent_gone == b.sent_gone && a.resend == b.resend && a.wholes == b.wholes &&
         a.sure == b.sure && a.held() == b.held();
}

bool is_like(const Sent& a, const Sent& b) {
  return a.mark == b.mark && a.lost == b.lost && a.arrived == b.arrived && a.acked == b.acked &&
         a.tells_whole == b.tells_whole;
}

}  // namespace

bool are_same(const ViewerOptions& a, const ViewerOptions& b) {
  return a.optimistic == b.optimistic && a.digest_every == b.digest_every && a.codes == b.codes;
}

// Quickly found if they are not.
bool Course::is_like(const Course& other) {
  if (!are_same(options, other.options)) return false;
  if (last_frame != other.last_frame || start != other.start || sure != other.sure ||
      digested != other.digested || copies.size() != other.copies.size() || sure == 0 ||
      copies.sum_of_shares() != other.copies.sum_of_shares() || news != other.news ||
      lost_any != other.lost_any || counts.longest_wait < other.counts.longest_wait ||
      movers_told != other.movers_told || all_told != other.all_told ||
      seen_revision != other.seen_revision) {
    return false;
  }
  if (parcel.id != 0 || other.parcel.id != 0 || parcel.number != other.parcel.number) return false;
  for (std::size_t i = 0; i < copies.size(); ++i) {
    const std::uint32_t id = copies.id(i);
    if (id != other.copies.id(i) || copies.look(i) != other.copies.look(i) ||
        !replica::is_like(copies[i], other.copies[i])) {
      return false;
    }
    // What either has looked at without finding anything does not matter.
    const std::uint32_t changed_at = all().briefs[id].changed_at;
    if ((changed_at > copies.settled(i)) != (changed_at > other.copies.settled(i))) return false;
  }
  // Those before the frame that is built on next are asked for no more.
  for (std::uint32_t frame = sure; frame <= last_frame; ++frame) {
    const Sent* const here = sent.find(frame);
    const Sent* const there = other.sent.find(frame);
    if ((here == nullptr) != (there == nullptr)) return false;
    if (here == nullptr) continue;
    if (!replica::is_like(*here, *there) || here->chunks.count + there->chunks.count > 0) {
      return false;
    }
    const auto told = sent.entries(*here);
    const auto told_there = other.sent.entries(*there);
    if (!std::equal(told.begin(), told.end(), told_there.begin(), told_there.end())) return false;
  }
  return true;
}

void Course::see(std::span<const Seen> in_view) {
  seen_revision = 0;
  std::size_t place = 0;
  for (const Seen& each : in_view) {
    place = copies.walk(place, each.id);
    if (place == copies.size() || copies.id(place) != each.id) copies.insert(place, each.id);
  }
  auto seen = in_view.begin();
  bool hides = false;
  for (std::size_t i = 0; i < copies.size(); ++i) {
    const std::uint32_t id = copies.id(i);
    while (seen != in_view.end() && seen->id < id) ++seen;
    const bool there = seen != in_view.end() && seen->id == id;
    const Look look{there ? seen->weight : 0, there, there && seen->owner};
    Look& before = copies.look(i);
    if (before.in_view != look.in_view || before.owner != look.owner) {
      copies.settled(i) = 0;
      news = true;
    }
    before = look;
    hides = hides || !there;
  }
  if (!hides) return;
  copies.drop([&](std::size_t i) {
    const Copy& copy = copies[i];
    return !copies.look(i).in_view && !copy.may_be_known() && copy.sent_frame == 0;
  });
}

void Course::see(Sight& sight) {
  const std::span<const Seen> in_view = sight.look();
  if (seen_revision == sight.revision()) return;
  see(in_view);
  seen_revision = sight.revision();
}

bool Course::sees(std::span<const Seen> in_view) {
  auto seen = in_view.begin();
  for (std::size_t i = 0; i < copies.size(); ++i) {
    const Look& look = copies.look(i);
    if (!look.in_view) continue;
    if (seen == in_view.end() || seen->id != copies.id(i) || seen->owner != look.owner ||
        seen->weight != look.weight) {
      return false;
    }
    ++seen;
  }
  return seen == in_view.end();
}

void Course::ask_for(bool entities) {
  if (!entities) {
    copies.ask_for();
    sent.ask_for(last_frame, sure);
  } else if (const Sent* const last = sent.find(last_frame)) {
    // Whom the last frame told of is told of again more often than not, and heard to have been.
    for (const Entry& entry : sent.entries(*last)) {
      if (entry.place < copies.size()) bits::ask_for(&copies[entry.place], sizeof(Copy));
    }
  }
}

void Course::consider(std::size_t place, const World::State::Brief& brief) {
  Copy& copy = copies[place];
  const Look& look = copies.look(place);
  const Held& held = copy.held();
  const bool goes_on = held.known && held.generation == brief.generation &&
                       held.owner == look.owner && !copy.resend && copy.gone_frame == 0 &&
                       copy.wholes[look.owner ? 0 : 1] == 0;
  const bool under = copy.sent_frame != 0 && !copy.sent_gone &&
                     copy.sent_generation == brief.generation && copy.sent_owner == look.owner;
  const bool packed = parcel.id != 0 && is_packed(place);
  if (under) {
    // The same was sent, and nothing speaks against its arriving; or all of it was, and until that
    // has arrived nothing can build on it.
    if (brief.changed_at <= copy.sent_tick) {
      copies.settled(place) = tick();
      return;
    }
    if (!goes_on || (packed && parcel.completing != 0)) return;
  } else if (goes_on && brief.changed_at <= held.ticks[0]) {
    copies.settled(place) = tick();
    copy.waiting_since = 0;
    if (packed && parcel.completing == 0) parcel.clear();
    return;
  }
  const bool complete = packed && parcel.all_there();
  if (packed && !complete && parcel.waiting(1).count == 0) return;  // all of it is under way
  const bool whole = packed || !goes_on || held.ticks[0] < brief.oldest;
  if (!whole) {
    const auto& splice = all().splice_of(copies.id(place), held.ticks[0], held.ticks[1]);
    bits::ask_for(&splice, sizeof(Splice));
  }
  if (copy.waiting_since == 0) copy.waiting_since = tick();
  const std::uint32_t waited = tick() - std::min(copy.waiting_since, tick()) + 1;
  constexpr float kOverdue = 1e6F;
  float urgency = static_cast<float>(waited) * look.weight;
  if (waited > Viewer::kPatience) urgency = kOverdue + static_cast<float>(waited);
  // Field by field: a copy of a whole one would wait for its stores.
  Candidate& made = candidates.emplace_back();
  made.id = copies.id(place);
  made.place = static_cast<std::uint32_t>(place);
  made.told = whole ? Told::whole : Told::change;
  made.parcel = packed;
  made.complete = complete;
  made.owner = look.owner;
  made.urgency = urgency;
}

// Who wants to hear of something, or seems to. Most have nothing to hear, and no processor foresees
// which: that is found for all of them first.
std::size_t Course::find_unsettled() {
  const std::vector<World::State::Brief>& briefs = all().briefs;
  if (unsettled.size() < copies.size()) unsettled.resize(copies.size());
  std::size_t count = 0;
  for (std::size_t i = 0; i < copies.size(); ++i) {
    unsettled[count] = static_cast<std::uint32_t>(i);
    count += briefs[copies.id(i)].changed_at > copies.settled(i) ? 1 : 0;
  }
  return count;
}

void Course::gather() {
  candidates.clear();
  const std::size_t count = find_unsettled();
  constexpr std::size_t kAhead = 4;
  for (std::size_t n = 0; n < count; ++n) {
    bits::ask_for(&copies[unsettled[std::min(n + kAhead, count - 1)]], sizeof(Copy));
    const std::size_t place = unsettled[n];
    const World::State::Brief& brief = all().briefs[copies.id(place)];
    const Copy& copy = copies[place];
    if (copies.look(place).in_view && brief.alive) {
      consider(place, brief);
    } else if (!copy.held().known) {
      copies.settled(place) = tick();
    } else if (!(copy.sent_gone && copy.sent_frame != 0)) {
      constexpr float kFirst = 1e9F;  // it takes few bits, and makes room at the client
      Candidate& made = candidates.emplace_back();
      made.id = copies.id(place);
      made.place = static_cast<std::uint32_t>(place);
      made.told = Told::gone;
      made.urgency = kFirst;
    }
  }
}

bool Course::begin(Sight* sight, std::vector<std::uint32_t>& acks, Heading& heading) {
  if (sight != nullptr) see(*sight);
  hear(acks);
  if (all_told == tick() && !news) return false;
  drop_parcel_of_no_use();
  gather();
  heading.owes = candidates.empty() && owes_word();
  if (candidates.empty() && !heading.owes) {
    all_told = tick();
    news = false;
    return false;
  }
  const std::uint32_t base = this->base();
  const Sent* const named = base > 0 ? sent.find(base) : nullptr;
  FrameMark& mark = heading.mark;
  mark = {last_frame + 1, tick(), start, base, 0, 0};
  heading.named = named != nullptr ? base : 0;
  if (named != nullptr) {
    heading.named_mark = named->mark;
    for (std::uint32_t i = 0; i < told_between(named->mark); ++i) {
      const Sent* const frame = sent.find(base - 1 - i);
      if (frame != nullptr && taken_to_arrive(*frame)) mark.between |= std::uint64_t{1} << i;
    }
  }
  heading.digest = digest(base);
  return true;
}

std::optional<std::size_t> Course::write(const Heading& heading, Room& room_of_client) {
  const FrameMark& mark = heading.mark;
  if (room_of_client.now < kSectionBits) return std::nullopt;
  std::size_t room = room_of_client.now - kSectionBits;
  std::vector<std::byte>& frame = all().desk.frame;
  if (frame.size() < bits::bytes_for(room + kSectionBits)) {
    frame.resize(bits::bytes_for(room + kSectionBits));
  }
  const Sent* const named = heading.named > 0 ? sent.find(heading.named) : nullptr;
  // Whom the client expects to hear of: those that the named frame spoke of. If they alone, with
  // nothing to say of any, fill this one, the datagram before had far more room.
  limited = false;
  bool with_movers = named != nullptr && movers_told != tick();
  const MoverBits mover_bits = with_movers ? mark_movers(*named) : MoverBits{};
  bool all_fit = false;
  if (mover_bits.unchanged + mover_bits.changed > room - room / 8) {
    limited = true;
    // If all changes fit, nobody who has one needs to be said to have none.
    all_fit = mover_bits.unchanged < room && fit_all(room - mover_bits.unchanged);
    with_movers = all_fit;
    if (all_fit) {
      room -= mover_bits.unchanged;
    } else {
      for (Candidate& each : candidates) each.mover = false;
    }
  } else {
    room -= mover_bits.unchanged + mover_bits.changed;
  }
  if (!all_fit && narrow(room) && with_movers) (void)mark_movers(*named);
  const bool has_others = std::any_of(candidates.begin(), candidates.end(),
                                      [](const Candidate& each) { return each.is_other(); });
  if (has_others) rank(with_movers ? sent.entries(*named) : std::span<const Entry>{});
  write_bodies();
  room_of_client.lost = room_of_client.now - room;
  room_of_client.note();
  pack_what_no_frame_holds(room_of_client.roomiest);
  const std::size_t taken = choose(room);
  if (taken == 0 && !heading.owes) return std::nullopt;

  bits::Writer out(frame);
  if (heading.digest) digested = mark.frame;
  Sections sections{with_movers, false, false, false};
  for (const Candidate& each : candidates) {
    if (!each.taken) continue;
    sections.parts = sections.parts || each.parcel;
    sections.others = sections.others || each.is_other();
    sections.arrivals = sections.arrivals || each.is_arrival();
  }
  write_sections(out, mark, sections);
  if (sections.movers) write_movers(out);
  if (sections.others) write_others(out);
  if (sections.arrivals) write_arrivals(out, sections.parts);
  const ChunkRun chunks = sections.parts ? write_parts(out) : ChunkRun{};
  KWIND_ASSERT(out.ok());
  const std::size_t bits = out.bit_count();
  out.finish();
  tell(mark);
  if (sections.movers) movers_told = tick();
  Sent& told = sent.add(mark, entries);
  told.chunks = chunks;
  told.tells_whole = sections.arrivals;
  if (parcel.completing == mark.frame) told.completed = parcel.number;
  if (options.optimistic && sure > 0) {
    for (const Entry& entry : entries) {
      copies.apply(entry.place, entry);
      count_who_knows(entry.place);
    }
  }
  last_frame = mark.frame;
  ++counts.frames;
  counts.bits += bits;
  counts.put_off += candidates.size() - taken;
  if (taken == candidates.size() && chunks.count == 0) {
    all_told = tick();
    news = false;
  } else {
    limited = true;
  }
  limited = limited || parcel.id != 0;
  return bits;
}

}  // namespace kwind::replica
