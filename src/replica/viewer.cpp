#include "kwind/replica/viewer.h"

#include <algorithm>
#include <bit>
#include <utility>
#include <vector>

#include "frame_code.h"
#include "kwind/replica/interest.h"
#include "viewer_state.h"

namespace kwind::replica {
namespace {

// The most that a frame's head takes.
constexpr std::size_t kHeadBits = 200;
// The fewest bits in which one can be told at all.
constexpr std::size_t kFewestBits = 4;

}  // namespace

Viewer::Viewer(const World& world, ViewerOptions options)
    : state_(std::make_unique<State>(world, std::move(options))) {}

Viewer::Viewer(Viewer&&) noexcept = default;

Viewer& Viewer::operator=(Viewer&&) noexcept = default;

Viewer::~Viewer() = default;

void Viewer::see(std::span<const Seen> in_view) {
  State& s = *state_;
  s.seen_revision = 0;
  auto seen = in_view.begin();
  bool dropped = false;
  const auto same_ids = [&] {
    auto copy = s.copies.begin();
    for (const Seen& each : in_view) {
      while (copy != s.copies.end() && copy->id < each.id) ++copy;
      if (copy == s.copies.end() || copy->id != each.id) return false;
    }
    return true;
  };
  if (!same_ids()) {
    for (const Seen& each : in_view) s.copies.at(each.id);
  }
  for (Copy& copy : s.copies) {
    while (seen != in_view.end() && seen->id < copy.id) ++seen;
    const bool there = seen != in_view.end() && seen->id == copy.id;
    if (copy.in_view != there || (there && copy.owner != seen->owner)) {
      copy.settled = 0;
      s.news = true;
    }
    copy.in_view = there;
    if (there) {
      copy.owner = seen->owner;
      copy.weight = seen->weight;
    } else if (!copy.held.known && !copy.sure.known && copy.sent_frame == 0) {
      dropped = true;
    }
  }
  if (!dropped) return;
  s.copies.drop([](const Copy& copy) {
    return !copy.in_view && !copy.held.known && !copy.sure.known && copy.sent_frame == 0;
  });
}

void Viewer::see(Sight& sight) {
  const std::span<const Seen> in_view = sight.look();
  if (state_->seen_revision == sight.revision()) return;
  see(in_view);
  state_->seen_revision = sight.revision();
}

void Viewer::State::consider(Copy& copy, const World::State::Brief& brief) {
  const bool goes_on = copy.held.known && copy.held.generation == brief.generation &&
                       copy.held.owner == copy.owner && !copy.resend && copy.gone_frame == 0;
  const bool under = copy.sent_frame != 0 && !copy.sent_gone &&
                     copy.sent_generation == brief.generation && copy.sent_owner == copy.owner;
  if (under) {
    // The same was sent, and nothing speaks against its arriving; or all of it was, and until that
    // has arrived nothing can build on it.
    if (brief.changed_at <= copy.sent_tick) {
      copy.settled = tick();
      return;
    }
    if (!goes_on) return;
  } else if (goes_on && brief.changed_at <= copy.held.ticks[0]) {
    copy.settled = tick();
    copy.waiting_since = 0;
    return;
  }
  const bool whole = !goes_on || copy.held.ticks[0] < brief.oldest;
  if (copy.waiting_since == 0) copy.waiting_since = tick();
  const std::uint32_t waited = tick() - std::min(copy.waiting_since, tick()) + 1;
  constexpr float kOverdue = 1e6F;
  float urgency = static_cast<float>(waited) * copy.weight;
  if (waited > kPatience) urgency = kOverdue + static_cast<float>(waited);
  // Field by field: a copy of a whole one would wait for its stores.
  Candidate& made = candidates.emplace_back();
  made.id = copy.id;
  made.copy = &copy;
  made.told = whole ? Told::whole : Told::change;
  made.owner = copy.owner;
  made.urgency = urgency;
}

void Viewer::State::gather() {
  candidates.clear();
  const std::vector<World::State::Brief>& briefs = all().briefs;
  for (Copy& copy : copies) {
    const World::State::Brief& brief = briefs[copy.id];
    if (copy.in_view && brief.alive) {
      if (brief.changed_at <= copy.settled) continue;  // also 0: it exists from the next tick on
      consider(copy, brief);
    } else if (copy.held.known && !(copy.sent_gone && copy.sent_frame != 0)) {
      constexpr float kFirst = 1e9F;  // it takes few bits, and makes room at the client
      candidates.push_back({copy.id, &copy, Told::gone, false, kFirst});
    }
  }
}

// Leaves those that could fit at all, the most urgent. Whether there are more.
bool Viewer::State::narrow(std::size_t room) {
  const std::size_t most = room / kFewestBits + 1;
  if (candidates.size() <= most) return false;
  const auto end = candidates.begin() + static_cast<std::ptrdiff_t>(most);
  std::nth_element(candidates.begin(), end, candidates.end(),
                   [](const Candidate& a, const Candidate& b) {
                     return a.urgency != b.urgency ? a.urgency > b.urgency : a.id < b.id;
                   });
  counts.put_off += candidates.size() - most;
  candidates.erase(end, candidates.end());
  std::sort(candidates.begin(), candidates.end(),
            [](const Candidate& a, const Candidate& b) { return a.id < b.id; });
  return true;
}

std::optional<std::uint64_t> Viewer::fill(Time, bits::Writer& out) {
  State& s = *state_;
  if (s.tick() == 0) return std::nullopt;
  s.hear();
  if (s.all_told == s.tick() && !s.news) return std::nullopt;
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
  // Whom the client expects to hear of: those that the named frame spoke of.
  const bool with_movers = named != nullptr && s.movers_told != s.tick();
  std::size_t mover_bits = 0;
  if (named != nullptr) {
    for (std::uint32_t i = 0; i < told_between(named->mark); ++i) {
      const Sent* const frame = s.sent.find(base - 1 - i);
      if (frame != nullptr && s.taken_to_arrive(*frame)) mark.between |= std::uint64_t{1} << i;
    }
    if (with_movers) mover_bits = s.mark_movers(*named);
  }
  if (out.room_bits() < kHeadBits + mover_bits) return std::nullopt;
  const std::size_t room = out.room_bits() - kHeadBits - mover_bits;
  if (s.narrow(room) && with_movers) s.mark_movers(*named);
  const bool others =
      std::any_of(s.candidates.begin(), s.candidates.end(),
                  [](const Candidate& each) { return each.told != Told::whole && !each.mover; });
  if (others) s.rank(with_movers ? s.sent.entries(*named) : std::span<const Entry>{});
  s.write_bodies();
  const std::size_t taken = s.choose(room);
  if (taken == 0 && !owes) return std::nullopt;

  const std::size_t before = out.bit_count();
  write_head(out, mark, named != nullptr ? &named->mark : nullptr, s.digest());
  s.entries.clear();
  Sections sections{with_movers, false, false};
  for (const Candidate& each : s.candidates) {
    if (!each.taken) continue;
    sections.others = sections.others || (each.told != Told::whole && !each.mover);
    sections.arrivals = sections.arrivals || each.told == Told::whole;
  }
  write_sections(out, mark, sections);
  if (sections.movers) s.write_movers(out, mark, *named);
  if (sections.others) s.write_others(out, mark);
  if (sections.arrivals) s.write_arrivals(out, mark);
  KWIND_ASSERT(out.ok());
  std::sort(s.entries.begin(), s.entries.end(),
            [](const Entry& a, const Entry& b) { return a.id < b.id; });
  s.sent.add(mark, s.entries);
  if (s.options.optimistic && s.sure > 0) {
    for (const Entry& entry : s.entries) s.copies.at(entry.id).held.apply(entry);
  }
  s.last_frame = mark.frame;
  ++s.counts.frames;
  s.counts.bits += out.bit_count() - before;
  s.counts.put_off += s.candidates.size() - taken;
  if (taken == s.candidates.size()) {
    s.all_told = s.tick();
    s.news = false;
  }
  return mark.frame;
}

// Those that waited longest, as many as fit; returns how many. One that does not fit leaves room to
// smaller ones.
std::size_t Viewer::State::choose(std::size_t room) {
  // What says whose body it is, at most.
  const std::size_t id_bits = 2 * std::bit_width(copies.size() + all().entities.size()) + kIdOrder;
  const auto size_of = [&](const Candidate& each) {
    if (each.told == Told::gone) return id_bits + PrefixCode::kLongest;
    return each.bits + (each.mover ? 0 : id_bits);
  };
  std::size_t wanted = 0;
  for (const Candidate& each : candidates) wanted += size_of(each);
  if (wanted <= room) {
    for (Candidate& each : candidates) each.taken = true;
    return candidates.size();
  }
  by_urgency.clear();
  for (Candidate& each : candidates) by_urgency.push_back(&each);
  std::sort(by_urgency.begin(), by_urgency.end(), [](const Candidate* a, const Candidate* b) {
    return a->urgency != b->urgency ? a->urgency > b->urgency : a->id < b->id;
  });
  std::size_t taken = 0;
  for (Candidate* const each : by_urgency) {
    const std::size_t size = size_of(*each);
    if (size > room) continue;
    room -= size;
    each->taken = true;
    ++taken;
  }
  return taken;
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
  return s.candidates.empty() && !s.owes_word();
}

bool Viewer::view_complete() const {
  State& s = *state_;
  const auto& briefs = s.all().briefs;
  return std::all_of(s.copies.begin(), s.copies.end(), [&](const Copy& copy) {
    const World::State::Brief& brief = briefs[copy.id];
    return !copy.in_view || !brief.alive ||
           (copy.sure.known && copy.sure.generation == brief.generation);
  });
}

std::uint32_t Viewer::oldest_wait() const {
  State& s = *state_;
  std::uint32_t longest = 0;
  for (const Copy& copy : s.copies) {
    if (copy.in_view && copy.waiting_since != 0 && copy.waiting_since <= s.tick()) {
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
  return sizeof(State) + s.copies.memory() + s.sent.memory() +
         s.candidates.capacity() * sizeof(Candidate) + s.by_urgency.capacity() * sizeof(void*) +
         s.entries.capacity() * sizeof(Entry) + s.bodies.capacity() + s.acks.capacity() * 4;
}

}  // namespace kwind::replica
