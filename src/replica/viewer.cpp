#include "kwind/replica/viewer.h"

#include <algorithm>
#include <array>
#include <utility>
#include <vector>

#include "frame_code.h"
#include "kwind/bits/prefetch.h"
#include "kwind/replica/interest.h"
#include "viewer_state.h"

namespace kwind::replica {
namespace {

constexpr std::size_t kHeadBytes = 32;    // more than any takes
constexpr std::size_t kSectionBits = 12;  // which ones there are, and the ends of some
constexpr std::size_t kRoomFades = 16;    // the room of so many frames ago counts for little

}  // namespace

Viewer::Viewer(const World& world, ViewerOptions options)
    : state_(std::make_unique<State>(world, std::move(options))) {}

Viewer::Viewer(Viewer&&) noexcept = default;

Viewer& Viewer::operator=(Viewer&&) noexcept = default;

Viewer::~Viewer() = default;

void Viewer::see(std::span<const Seen> in_view) {
  State& s = *state_;
  s.seen_revision = 0;
  std::size_t place = 0;
  for (const Seen& each : in_view) {
    place = s.copies.walk(place, each.id);
    if (place == s.copies.size() || s.copies.id(place) != each.id) s.copies.insert(place, each.id);
  }
  auto seen = in_view.begin();
  bool hides = false;
  for (std::size_t i = 0; i < s.copies.size(); ++i) {
    const std::uint32_t id = s.copies.id(i);
    while (seen != in_view.end() && seen->id < id) ++seen;
    const bool there = seen != in_view.end() && seen->id == id;
    const Look look{there ? seen->weight : 0, there, there && seen->owner};
    Look& before = s.copies.look(i);
    if (before.in_view != look.in_view || before.owner != look.owner) {
      s.copies.settled(i) = 0;
      s.news = true;
    }
    before = look;
    hides = hides || !there;
  }
  if (!hides) return;
  s.copies.drop([&](std::size_t i) {
    const Copy& copy = s.copies[i];
    return !s.copies.look(i).in_view && !copy.may_be_known() && copy.sent_frame == 0;
  });
}

void Viewer::see(Sight& sight) {
  const std::span<const Seen> in_view = sight.look();
  if (state_->seen_revision == sight.revision()) return;
  see(in_view);
  state_->seen_revision = sight.revision();
}

void Viewer::see_through(Sight* sight) {
  state_->sight = sight;
  state_->looked = 0;
}

void Viewer::prefetch(unsigned step) const {
  State& s = *state_;
  if (step == 0) {
    bits::ask_for(&s, sizeof(State));
    return;
  }
  if (step == 1) {
    s.copies.ask_for();
    s.sent.ask_for(s.last_frame, s.sure);
    if (s.sight != nullptr) bits::ask_for(s.sight, 1);
    return;
  }
  // Whom the last frame told of is told of again more often than not, and heard to have been.
  if (const Sent* const last = s.sent.find(s.last_frame)) {
    for (const Entry& entry : s.sent.entries(*last)) {
      if (entry.place < s.copies.size()) bits::ask_for(&s.copies[entry.place], sizeof(Copy));
    }
  }
}

void Viewer::State::consider(std::size_t place, const World::State::Brief& brief) {
  Copy& copy = copies[place];
  const Look& look = copies.look(place);
  const Held& held = copy.held();
  const bool goes_on = held.known && held.generation == brief.generation &&
                       held.owner == look.owner && !copy.resend && copy.gone_frame == 0 &&
                       copy.wholes[look.owner ? 0 : 1] == 0;
  const bool under = copy.sent_frame != 0 && !copy.sent_gone &&
                     copy.sent_generation == brief.generation && copy.sent_owner == look.owner;
  const bool packed = is_packed(place);
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
  if (!whole) bits::ask_for(&all().splice_of(copies.id(place), held.ticks), sizeof(Splice));
  if (copy.waiting_since == 0) copy.waiting_since = tick();
  const std::uint32_t waited = tick() - std::min(copy.waiting_since, tick()) + 1;
  constexpr float kOverdue = 1e6F;
  float urgency = static_cast<float>(waited) * look.weight;
  if (waited > kPatience) urgency = kOverdue + static_cast<float>(waited);
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
std::size_t Viewer::State::find_unsettled() {
  const std::vector<World::State::Brief>& briefs = all().briefs;
  if (unsettled.size() < copies.size()) unsettled.resize(copies.size());
  std::size_t count = 0;
  for (std::size_t i = 0; i < copies.size(); ++i) {
    unsettled[count] = static_cast<std::uint32_t>(i);
    count += briefs[copies.id(i)].changed_at > copies.settled(i) ? 1 : 0;
  }
  return count;
}

void Viewer::State::gather() {
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

std::optional<std::uint64_t> Viewer::fill(Time, bits::Writer& out) {
  State& s = *state_;
  if (s.tick() == 0) return std::nullopt;
  if (s.sight != nullptr && s.looked != s.tick()) {
    s.looked = s.tick();
    see(*s.sight);
  }
  s.hear();
  if (s.all_told == s.tick() && !s.news) return std::nullopt;
  s.drop_parcel_of_no_use();
  s.gather();
  const bool owes = s.candidates.empty() && s.owes_word();
  if (s.candidates.empty() && !owes) {
    s.all_told = s.tick();
    s.news = false;
    return std::nullopt;
  }
  const std::uint32_t base = s.base();
  const Sent* const named = base > 0 ? s.sent.find(base) : nullptr;
  FrameMark mark{s.last_frame + 1, s.tick(), s.start, base, 0, 0};
  if (s.any_input) mark.input = 1 + ((s.input - mark.tick) & 0xffffU);
  if (named != nullptr) {
    for (std::uint32_t i = 0; i < told_between(named->mark); ++i) {
      const Sent* const frame = s.sent.find(base - 1 - i);
      if (frame != nullptr && s.taken_to_arrive(*frame)) mark.between |= std::uint64_t{1} << i;
    }
  }
  std::array<std::byte, kHeadBytes> head_bytes{};
  bits::Writer head(head_bytes);
  const std::optional<std::uint32_t> digest = s.digest(base);
  write_head(head, mark, named != nullptr ? &named->mark : nullptr, digest);
  if (out.room_bits() < head.bit_count() + kSectionBits) return std::nullopt;
  std::size_t room = out.room_bits() - head.bit_count() - kSectionBits;
  // Whom the client expects to hear of: those that the named frame spoke of. If they alone, with
  // nothing to say of any, fill this one, the datagram before had far more room.
  bool with_movers = named != nullptr && s.movers_told != s.tick();
  const std::size_t mover_bits = with_movers ? s.mark_movers(*named) : 0;
  if (mover_bits > room - room / 8) {
    with_movers = false;
    for (Candidate& each : s.candidates) each.mover = false;
  } else {
    room -= mover_bits;
  }
  if (s.narrow(room) && with_movers) s.mark_movers(*named);
  const bool others = std::any_of(s.candidates.begin(), s.candidates.end(),
                                  [](const Candidate& each) { return each.is_other(); });
  if (others) s.rank(with_movers ? s.sent.entries(*named) : std::span<const Entry>{});
  s.write_bodies();
  s.roomiest = std::max(room, s.roomiest - s.roomiest / kRoomFades);
  s.pack_what_no_frame_holds();
  const std::size_t taken = s.choose(room);
  if (taken == 0 && !owes) return std::nullopt;

  const std::size_t before = out.bit_count();
  head.finish();
  out.put_bits(head_bytes, head.bit_count());
  if (digest) s.digested = mark.frame;
  Sections sections{with_movers, false, false, false};
  for (const Candidate& each : s.candidates) {
    if (!each.taken) continue;
    sections.parts = sections.parts || each.parcel;
    sections.others = sections.others || each.is_other();
    sections.arrivals = sections.arrivals || each.is_arrival();
  }
  write_sections(out, mark, sections);
  if (sections.movers) s.write_movers(out);
  if (sections.others) s.write_others(out);
  if (sections.arrivals) s.write_arrivals(out, sections.parts);
  const ChunkRun chunks = sections.parts ? s.write_parts(out) : ChunkRun{};
  KWIND_ASSERT(out.ok());
  s.tell(mark);
  if (sections.movers) s.movers_told = s.tick();
  Sent& sent = s.sent.add(mark, s.entries);
  sent.chunks = chunks;
  sent.tells_whole = sections.arrivals;
  if (s.parcel.completing == mark.frame) sent.completed = s.parcel.number;
  if (s.options.optimistic && s.sure > 0) {
    for (const Entry& entry : s.entries) {
      s.copies.apply(entry.place, entry);
      s.count_who_knows(entry.place);
    }
  }
  s.last_frame = mark.frame;
  ++s.counts.frames;
  s.counts.bits += out.bit_count() - before;
  s.counts.put_off += s.candidates.size() - taken;
  if (taken == s.candidates.size() && chunks.count == 0) {
    s.all_told = s.tick();
    s.news = false;
  }
  return mark.frame;
}

void Viewer::used_input(std::uint32_t number) {
  state_->input = number;
  state_->any_input = true;
}

void Viewer::count_into(Tally* tally) {
  state_->tally = tally;
}

bool Viewer::complete() const {
  State& s = *state_;
  s.gather();
  return s.candidates.empty() && s.parcel.id == 0 && !s.owes_word();
}

bool Viewer::view_complete() const {
  State& s = *state_;
  const auto& briefs = s.all().briefs;
  for (std::size_t i = 0; i < s.copies.size(); ++i) {
    const Copy& copy = s.copies[i];
    const World::State::Brief& brief = briefs[s.copies.id(i)];
    const bool there = copy.sure.known && copy.sure.generation == brief.generation;
    if (s.copies.look(i).in_view && brief.alive && !there) return false;
  }
  return true;
}

bool Viewer::knows(schema::AnyRef entity) const {
  State& s = *state_;
  const auto place = s.copies.find(entity.id);
  if (!place || !s.world->is_alive(entity)) return false;
  const auto is_it = [&](const Held& held) {
    return held.known && held.generation == entity.generation;
  };
  return is_it(s.copies[*place].sure) || is_it(s.copies[*place].held());
}

std::uint32_t Viewer::oldest_wait() const {
  State& s = *state_;
  std::uint32_t longest = 0;
  for (std::size_t i = 0; i < s.copies.size(); ++i) {
    const Copy& copy = s.copies[i];
    if (s.copies.look(i).in_view && copy.waiting_since != 0 && copy.waiting_since <= s.tick()) {
      longest = std::max(longest, s.tick() - copy.waiting_since + 1);
    }
  }
  return longest;
}

void ViewerCounts::add(const ViewerCounts& other) {
  frames += other.frames;
  bits += other.bits;
  whole += other.whole;
  changed += other.changed;
  foretold += other.foretold;
  gone += other.gone;
  in_parts += other.in_parts;
  put_off += other.put_off;
  given_up += other.given_up;
  started_anew += other.started_anew;
  drifted += other.drifted;
  longest_wait = std::max(longest_wait, other.longest_wait);
}

const ViewerCounts& Viewer::counts() const {
  return state_->counts;
}

std::size_t Viewer::memory() const {
  const State& s = *state_;
  return sizeof(State) + s.copies.memory() + s.sent.memory() + s.parcel.memory() +
         s.acks.capacity() * sizeof(std::uint32_t);
}

}  // namespace kwind::replica
