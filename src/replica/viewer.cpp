#include "kwind/replica/viewer.h"

#include <algorithm>
#include <array>
#include <vector>

#include "frame_code.h"
#include "frame_marks.h"
#include "state_code.h"
#include "world_state.h"

namespace kwind::replica {
namespace {

enum class Told : std::uint8_t { whole, change, foretold, gone };

struct Entry {
  std::uint32_t id;
  Told told;
  std::uint8_t generation;
  bool owner;
};
struct Sent {
  FrameMark mark;
  bool lost = false;
  bool arrived = false;
  std::vector<Entry> entries;  // by id
};

// What the client is known to have of an entity, and what is on its way.
struct ClientsCopy {
  std::array<std::uint32_t, 3> ticks{};  // of the newest states that it has, newest first; 0: none
  std::uint32_t sent_tick = 0;           // of what was sent last; 0: nothing on its way
  std::uint32_t sent_frame = 0;
  std::uint32_t waiting_since = 0;  // tick at which something to tell was first put off; 0: nothing
  std::uint8_t generation = 0;
  std::uint8_t sent_generation = 0;
  bool known = false;
  bool owner = false;
  bool sent_owner = false;
  bool sent_gone = false;
};

// A mark reaches back over twice the window: to the named frame, and from there to what that named.
constexpr std::uint32_t kSentKept = 2 * kFrameWindow;

struct Candidate {
  std::uint32_t id;
  Told told;
  bool owner;
  float urgency;
  std::size_t begin = 0;  // of its body in the scratch, bytes
  std::size_t bits = 0;
  bool taken = false;
};

}  // namespace

struct Viewer::State {
  explicit State(const World& of)
      : world(&of), copies(of.state_->entities.size()), sent(kSentKept) {}

  const World* world;
  std::vector<Seen> in_view;
  std::vector<ClientsCopy> copies;       // by id
  std::vector<std::uint32_t> known_ids;  // that the client is known to have, ascending
  std::vector<Sent> sent;                // by frame, the last kSentKept
  std::vector<std::uint32_t> arrived;    // since the last frame was made
  std::uint32_t last_frame = 0;
  std::uint32_t start = 1;        // the first frame since all was told anew
  std::uint32_t newest = 0;       // frame known to have arrived
  std::uint32_t movers_told = 0;  // tick for which the movers were told of
  std::vector<Candidate> candidates;
  std::vector<Candidate*> by_urgency;
  std::vector<Entry> entries;
  std::vector<std::byte> bodies;
  std::size_t put_off = 0;
  ViewerCounts counts;

  [[nodiscard]] const World::State& all() const { return *world->state_; }
  [[nodiscard]] std::uint32_t tick() const { return all().tick - 1; }
  [[nodiscard]] Sent* find(std::uint32_t frame) {
    Sent& slot = sent[frame % kSentKept];
    return frame > 0 && slot.mark.frame == frame ? &slot : nullptr;
  }
  // Whether what was sent last is on its way or has arrived.
  [[nodiscard]] bool under_way(const ClientsCopy& copy) {
    if (copy.sent_frame == 0) return false;
    const Sent* const frame = find(copy.sent_frame);
    return frame != nullptr && !frame->lost;
  }

  [[nodiscard]] bool owes_word();
  void start_anew();
  void hear_arrivals();
  void accept(const Sent& frame);
  std::size_t states_known(std::uint32_t id, std::array<Known, 3>& known) const;
  void look_for_candidates();
  void consider(const Seen& seen);
  void consider_gone(std::uint32_t id);
  void write_bodies();
};

Viewer::Viewer(const World& world) : state_(std::make_unique<State>(world)) {}
Viewer::Viewer(Viewer&&) noexcept = default;
Viewer& Viewer::operator=(Viewer&&) noexcept = default;
Viewer::~Viewer() = default;

void Viewer::see(std::span<const Seen> in_view) {
  state_->in_view.assign(in_view.begin(), in_view.end());
}

void Viewer::acked(std::uint64_t token) {
  state_->arrived.push_back(static_cast<std::uint32_t>(token));
}
void Viewer::lost(std::uint64_t token) {
  if (Sent* const frame = state_->find(static_cast<std::uint32_t>(token))) frame->lost = true;
}

void Viewer::State::start_anew() {
  newest = 0;
  arrived.clear();
  known_ids.clear();
  for (ClientsCopy& copy : copies) copy = {};
  for (Sent& frame : sent) frame = {};
  start = last_frame + 1;
  ++counts.started_anew;
}

// Whether the client may hold what a frame told it that was given up since, and nothing on its way
// says so: it may have arrived all the same, and what it told of may be gone by now.
bool Viewer::State::owes_word() {
  const Sent* const named = find(newest);
  const std::uint32_t heard = named != nullptr ? named->mark.newest : 0;
  const std::uint32_t oldest = last_frame > kFrameWindow ? last_frame - kFrameWindow : 0;
  bool owes = false;
  for (std::uint32_t frame = std::max(heard, oldest) + 1; frame <= last_frame; ++frame) {
    const Sent* const slot = find(frame);
    if (slot == nullptr) continue;
    if (frame > newest && !slot->arrived && !slot->lost) return false;
    owes = owes || (slot->lost && !slot->arrived && !slot->entries.empty());
  }
  return owes;
}

// What arrived before something newer was heard to have is not believed in any more: see
// frame_marks.h.
void Viewer::State::hear_arrivals() {
  std::sort(arrived.begin(), arrived.end());
  const std::uint32_t before = newest;
  for (const std::uint32_t frame : arrived) {
    Sent* const slot = find(frame);
    if (frame <= newest || slot == nullptr || last_frame - frame >= kFrameWindow) continue;
    newest = frame;
    slot->arrived = true;
    accept(*slot);
  }
  for (std::uint32_t frame = before + 1; frame < newest; ++frame) {
    Sent* const slot = find(frame);
    if (slot != nullptr && !slot->arrived) slot->lost = true;
  }
  arrived.clear();
  if (newest > 0 && last_frame + 1 - newest >= kFrameWindow) start_anew();
}

void Viewer::State::accept(const Sent& frame) {
  for (const Entry& entry : frame.entries) {
    ClientsCopy& copy = copies[entry.id];
    const bool had = copy.known;
    if (entry.told == Told::gone) {
      copy.known = false;
      copy.ticks = {};
    } else {
      copy.known = true;
      if (entry.told == Told::whole) {
        copy.ticks = {frame.mark.tick, 0, 0};
        copy.generation = entry.generation;
        copy.owner = entry.owner;
      } else {
        copy.ticks = {frame.mark.tick, copy.ticks[0], copy.ticks[1]};
      }
    }
    if (had == copy.known) continue;
    const auto place = std::lower_bound(known_ids.begin(), known_ids.end(), entry.id);
    if (copy.known) {
      known_ids.insert(place, entry.id);
    } else {
      known_ids.erase(place);
    }
  }
}

// The states of an entity that the client is known to have and that the world still remembers,
// newest first. Only what is not too old counts beyond the first: the client forgets, too.
std::size_t Viewer::State::states_known(std::uint32_t id, std::array<Known, 3>& known) const {
  const World::State::Entity& entity = all().entities[id];
  std::size_t count = 0;
  for (const std::uint32_t at : copies[id].ticks) {
    if (at == 0 || (count > 0 && tick() - at > kLongestMemory)) break;
    const auto row = entity.history->at_or_before(at);
    if (!row) break;
    known[count++] = {at, entity.history->row(*row)};
  }
  return count;
}

void Viewer::State::consider(const Seen& seen) {
  const World::State::Entity& entity = all().entities[seen.id];
  if (!entity.alive || entity.history->empty()) return;  // it exists from the next tick on
  ClientsCopy& copy = copies[seen.id];
  const Row now = entity.history->newest();
  const std::uint32_t changed_at = entity.history->newest_tick();
  const bool goes_on =
      copy.known && copy.generation == entity.generation && copy.owner == seen.owner;
  const bool under = under_way(copy) && !copy.sent_gone &&
                     copy.sent_generation == entity.generation && copy.sent_owner == seen.owner;
  if (under) {
    // The same was sent, and nothing speaks against its arriving; or all of it was, and until that
    // has arrived nothing can build on it.
    if (changed_at <= copy.sent_tick || !goes_on) return;
  } else if (goes_on) {
    const auto base = entity.history->at_or_before(copy.ticks[0]);
    if (base && same(entity.history->row(*base), now)) {
      copy.waiting_since = 0;
      return;
    }
  }
  std::array<Known, 3> known;
  const bool whole = !goes_on || states_known(seen.id, known) == 0;
  if (copy.waiting_since == 0) copy.waiting_since = tick();
  const float waited = static_cast<float>(tick() - std::min(copy.waiting_since, tick()) + 1);
  candidates.push_back(
      {seen.id, whole ? Told::whole : Told::change, seen.owner, waited * seen.weight});
}

void Viewer::State::consider_gone(std::uint32_t id) {
  ClientsCopy& copy = copies[id];
  if (copy.sent_gone && under_way(copy)) return;
  constexpr float kFirst = 1e9F;  // it takes few bits, and makes room at the client
  candidates.push_back({id, Told::gone, false, kFirst});
}

void Viewer::State::look_for_candidates() {
  candidates.clear();
  auto known = known_ids.begin();
  for (const Seen& seen : in_view) {
    for (; known != known_ids.end() && *known < seen.id; ++known) consider_gone(*known);
    if (known != known_ids.end() && *known == seen.id) {
      // Somebody else under the same number replaces who was there; if dead, it is gone.
      if (all().entities[seen.id].alive) {
        consider(seen);
      } else {
        consider_gone(seen.id);
      }
      ++known;
    } else {
      consider(seen);
    }
  }
  for (; known != known_ids.end(); ++known) consider_gone(*known);
}

// Each stands at a byte of its own, to be copied behind whatever comes before it in the frame.
void Viewer::State::write_bodies() {
  std::size_t begin = 0;
  for (Candidate& each : candidates) {
    if (each.told == Told::gone) continue;
    const World::State::Entity& entity = all().entities[each.id];
    const KindShape& shape = *entity.shape;
    const Part part{each.owner};
    for (;;) {
      bits::Writer out(std::span<std::byte>(bodies).subspan(begin));
      if (each.told == Told::whole) {
        out.put(entity.generation, kGenerationBits);
        out.put(shape.info().kind, bits::bits_for(all().shapes.size()));
        out.put_bool(each.owner);
        write_whole(out, shape, entity.history->newest(), part);
      } else {
        std::array<Known, 3> known;
        const std::size_t count = states_known(each.id, known);
        write_change(out, shape, std::span(known).first(count), entity.history->newest(), tick(),
                     part);
      }
      each.bits = out.bit_count();
      if (out.ok()) {
        out.finish();
        break;
      }
      bodies.resize(std::max<std::size_t>(4096, bodies.size() * 2));
    }
    each.begin = begin;
    begin += bits::bytes_for(each.bits);
  }
}

std::optional<std::uint64_t> Viewer::fill(Time, bits::Writer& out) {
  State& s = *state_;
  if (s.tick() == 0) return std::nullopt;
  s.hear_arrivals();
  s.look_for_candidates();
  const bool owes = s.candidates.empty() && s.owes_word();
  if (s.candidates.empty() && !owes) return std::nullopt;
  s.write_bodies();
  const Sent* const newest = s.newest > 0 ? s.find(s.newest) : nullptr;
  FrameMark mark{s.last_frame + 1, s.tick(), s.start, s.newest, 0};
  if (newest != nullptr) {
    for (std::uint32_t i = 0; i < told_between(newest->mark); ++i) {
      const Sent* const frame = s.find(s.newest - 1 - i);
      if (frame != nullptr && frame->arrived) mark.between |= std::uint64_t{1} << i;
    }
  }
  // Whom the client expects to hear of: those that the named frame spoke of.
  const bool with_movers = newest != nullptr && s.movers_told != s.tick();
  std::size_t movers = 0;
  if (with_movers) {
    for (const Entry& entry : newest->entries) movers += entry.told != Told::gone ? 1 : 0;
  }
  constexpr std::size_t kMostMoverBits = 3;
  constexpr std::size_t kMostNameBits = 2 * 17 + kIdOrder + 2;
  const std::size_t fixed = 160 + movers * kMostMoverBits;
  if (out.room_bits() < fixed + 64) return std::nullopt;
  std::size_t room = out.room_bits() - fixed;
  std::vector<Candidate*>& by_urgency = s.by_urgency;
  by_urgency.clear();
  for (Candidate& each : s.candidates) by_urgency.push_back(&each);
  std::stable_sort(by_urgency.begin(), by_urgency.end(),
                   [](const Candidate* a, const Candidate* b) { return a->urgency > b->urgency; });
  std::size_t taken = 0;
  for (Candidate* const each : by_urgency) {
    const std::size_t size = kMostNameBits + each->bits;
    // One that fits no datagram of this size waits for a larger one; the others go on.
    if (size > room) continue;
    room -= size;
    each->taken = true;
    ++taken;
  }
  if (taken == 0 && !owes) return std::nullopt;

  const std::size_t before = out.bit_count();
  write_head(out, mark, newest != nullptr ? &newest->mark : nullptr);
  Sent& sent = s.sent[mark.frame % kSentKept];
  std::vector<Entry>& entries = s.entries;
  entries.clear();
  const auto tell = [&](const Candidate& each, Told told) {
    const World::State::Entity& entity = s.all().entities[each.id];
    entries.push_back({each.id, told, entity.generation, each.owner});
    ClientsCopy& copy = s.copies[each.id];
    copy.sent_tick = mark.tick;
    copy.sent_frame = mark.frame;
    copy.sent_generation = entity.generation;
    copy.sent_owner = each.owner;
    copy.sent_gone = told == Told::gone;
    copy.waiting_since = 0;
  };
  const auto body = [&](const Candidate& each) {
    out.put_bits(std::span(s.bodies).subspan(each.begin), each.bits);
  };
  const auto candidate_of = [&](std::uint32_t id) -> Candidate* {
    const auto found = std::lower_bound(
        s.candidates.begin(), s.candidates.end(), id,
        [](const Candidate& each, std::uint32_t wanted) { return each.id < wanted; });
    return found != s.candidates.end() && found->id == id && found->taken ? &*found : nullptr;
  };
  if (newest != nullptr) out.put_bool(with_movers);
  if (with_movers) {
    for (const Entry& entry : newest->entries) {
      if (entry.told == Told::gone) continue;
      Candidate* const each = candidate_of(entry.id);
      if (each == nullptr || each->told == Told::whole) {
        write(out, MoverCode::nothing);
        continue;
      }
      each->taken = false;  // said here
      if (each->told == Told::gone) {
        write(out, MoverCode::gone);
        tell(*each, Told::gone);
        ++s.counts.gone;
        continue;
      }
      std::array<Known, 3> known;
      const std::size_t count = s.states_known(each->id, known);
      const World::State::Entity& entity = s.all().entities[each->id];
      if (is_foretold(*entity.shape, std::span(known).first(count), entity.history->newest(),
                      mark.tick, {each->owner})) {
        write(out, MoverCode::foretold);
        tell(*each, Told::foretold);
        ++s.counts.foretold;
      } else {
        write(out, MoverCode::change);
        body(*each);
        tell(*each, Told::change);
        ++s.counts.changed;
      }
    }
    s.movers_told = mark.tick;
  }
  if (newest != nullptr) {
    std::size_t rank = 0;
    for (const Candidate& each : s.candidates) {
      if (!each.taken || each.told == Told::whole) continue;
      const auto place = static_cast<std::size_t>(
          std::lower_bound(s.known_ids.begin(), s.known_ids.end(), each.id) - s.known_ids.begin());
      out.put_bool(true);
      out.put_count(place - rank, kRankOrder);
      rank = place + 1;
      out.put_bool(each.told == Told::gone);
      if (each.told == Told::change) body(each);
      tell(each, each.told);
      ++(each.told == Told::gone ? s.counts.gone : s.counts.changed);
    }
    out.put_bool(false);
  }
  std::uint32_t id = 0;
  for (const Candidate& each : s.candidates) {
    if (!each.taken || each.told != Told::whole) continue;
    out.put_bool(true);
    out.put_count(each.id - id - 1, kIdOrder);
    id = each.id;
    body(each);
    tell(each, Told::whole);
    ++s.counts.whole;
  }
  out.put_bool(false);
  KWIND_ASSERT(out.ok());

  std::sort(entries.begin(), entries.end(),
            [](const Entry& a, const Entry& b) { return a.id < b.id; });
  // Not before here: `newest` may stand in the same ring.
  sent.mark = mark;
  sent.lost = sent.arrived = false;
  sent.entries.assign(entries.begin(), entries.end());
  s.last_frame = mark.frame;
  ++s.counts.frames;
  s.counts.bits += out.bit_count() - before;
  s.put_off = s.candidates.size() - taken;
  s.counts.put_off += s.put_off;
  return mark.frame;
}

bool Viewer::complete() const {
  State& s = *state_;
  s.look_for_candidates();
  return s.candidates.empty() && !s.owes_word();
}
const ViewerCounts& Viewer::counts() const {
  return state_->counts;
}
std::size_t Viewer::memory() const {
  const State& s = *state_;
  std::size_t bytes = sizeof(State) + s.copies.capacity() * sizeof(ClientsCopy) +
                      s.known_ids.capacity() * 4 + s.candidates.capacity() * sizeof(Candidate) +
                      s.bodies.capacity() + s.in_view.capacity() * sizeof(Seen) +
                      s.sent.capacity() * sizeof(Sent);
  for (const Sent& frame : s.sent) bytes += frame.entries.capacity() * sizeof(Entry);
  return bytes;
}

}  // namespace kwind::replica
