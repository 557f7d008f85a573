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

enum class Told : std::uint8_t { whole, change, gone };

struct Entry {
  std::uint32_t id;
  Told told;
  std::uint8_t generation;
  bool owner;
  std::uint16_t kind;
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
  std::uint16_t kind = 0;           // with the generation: what the client takes it for
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
  bool mover = false;      // the client expects to hear of it
  std::uint32_t mask = 0;  // of a change
  std::size_t begin = 0;   // of its body in the scratch, bytes
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
  ViewerCounts counts;
  Tally* tally = nullptr;

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
  // The codes of what the client knows under an id, at the age of what it knows.
  [[nodiscard]] const CodeSet::Inside::Kind& codes_of(std::uint32_t id) const {
    return all().options.codes->inside().kinds[copies[id].kind];
  }
  [[nodiscard]] std::size_t age(std::uint32_t id) const {
    return age_of(tick() - copies[id].ticks[0]);
  }
  [[nodiscard]] std::size_t masks_of(std::uint32_t id) const {
    return std::size_t{1} << all().shapes[copies[id].kind].mask().size();
  }
  void write_symbol(bits::Writer& out, std::uint32_t id, bool mover, std::size_t symbol);
  std::size_t mark_movers(const Sent& named);
  std::size_t choose(std::size_t room);
  void tell(const FrameMark& mark, const Candidate& each);
  void write_body(bits::Writer& out, const Candidate& each) const;
  void write_movers(bits::Writer& out, const FrameMark& mark, const Sent& named);
  void write_others(bits::Writer& out, const FrameMark& mark);
  void write_arrivals(bits::Writer& out, const FrameMark& mark);
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
        copy.kind = entry.kind;
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

void Viewer::State::write_symbol(bits::Writer& out, std::uint32_t id, bool mover,
                                 std::size_t symbol) {
  const auto& codes = mover ? codes_of(id).movers : codes_of(id).others;
  codes[age(id)].write(out, symbol);
  if (tally == nullptr) return;
  Tally::Kind& kind = tally->kinds()[copies[id].kind];
  ++(mover ? kind.movers : kind.others)[age(id)][symbol];
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
        const Basis basis{shape, codes_of(each.id), std::span(known).first(count), tick(), part};
        const Row row = entity.history->newest();
        each.mask = mask_of(basis, row);
        write_symbol(out, each.id, each.mover, each.mask);
        write_change(out, basis, row, each.mask,
                     tally != nullptr ? &tally->kinds()[copies[each.id].kind] : nullptr);
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
  const Sent* const newest = s.newest > 0 ? s.find(s.newest) : nullptr;
  FrameMark mark{s.last_frame + 1, s.tick(), s.start, s.newest, 0};
  // Whom the client expects to hear of: those that the named frame spoke of.
  const bool with_movers = newest != nullptr && s.movers_told != s.tick();
  std::size_t mover_bits = 0;
  if (newest != nullptr) {
    for (std::uint32_t i = 0; i < told_between(newest->mark); ++i) {
      const Sent* const frame = s.find(s.newest - 1 - i);
      if (frame != nullptr && frame->arrived) mark.between |= std::uint64_t{1} << i;
    }
    if (with_movers) mover_bits = s.mark_movers(*newest);
  }
  s.write_bodies();
  constexpr std::size_t kHeadBits = 160;
  if (out.room_bits() < kHeadBits + mover_bits) return std::nullopt;
  const std::size_t taken = s.choose(out.room_bits() - kHeadBits - mover_bits);
  if (taken == 0 && !owes) return std::nullopt;

  const std::size_t before = out.bit_count();
  write_head(out, mark, newest != nullptr ? &newest->mark : nullptr);
  s.entries.clear();
  if (newest != nullptr) {
    out.put_bool(with_movers);
    if (with_movers) s.write_movers(out, mark, *newest);
    s.write_others(out, mark);
  }
  s.write_arrivals(out, mark);
  KWIND_ASSERT(out.ok());
  std::sort(s.entries.begin(), s.entries.end(),
            [](const Entry& a, const Entry& b) { return a.id < b.id; });
  Sent& sent = s.sent[mark.frame % kSentKept];
  sent.mark = mark;
  sent.lost = sent.arrived = false;
  sent.entries.assign(s.entries.begin(), s.entries.end());
  s.last_frame = mark.frame;
  ++s.counts.frames;
  s.counts.bits += out.bit_count() - before;
  s.counts.put_off += s.candidates.size() - taken;
  return mark.frame;
}

// Returns the most bits that those of whom there is nothing to say will take.
std::size_t Viewer::State::mark_movers(const Sent& named) {
  std::size_t bits = 0;
  auto candidate = candidates.begin();
  for (const Entry& entry : named.entries) {
    if (entry.told == Told::gone) continue;
    while (candidate != candidates.end() && candidate->id < entry.id) ++candidate;
    if (candidate != candidates.end() && candidate->id == entry.id) {
      candidate->mover = candidate->told != Told::whole;
    }
    bits += codes_of(entry.id).movers[age(entry.id)].bits(masks_of(entry.id));
  }
  return bits;
}

// Those that waited longest, as many as fit; returns how many. One that does not fit leaves room to
// smaller ones.
std::size_t Viewer::State::choose(std::size_t room) {
  constexpr std::size_t kMostNameBits = 2 * 17 + kIdOrder + PrefixCode::kLongest + 2;
  by_urgency.clear();
  for (Candidate& each : candidates) by_urgency.push_back(&each);
  std::stable_sort(by_urgency.begin(), by_urgency.end(),
                   [](const Candidate* a, const Candidate* b) { return a->urgency > b->urgency; });
  std::size_t taken = 0;
  for (Candidate* const each : by_urgency) {
    const std::size_t size = kMostNameBits + each->bits;
    if (size > room) continue;
    room -= size;
    each->taken = true;
    ++taken;
  }
  return taken;
}

// Notes what a frame says of an entity.
void Viewer::State::tell(const FrameMark& mark, const Candidate& each) {
  const World::State::Entity& entity = all().entities[each.id];
  entries.push_back({each.id, each.told, entity.generation, each.owner, entity.shape->info().kind});
  ClientsCopy& copy = copies[each.id];
  copy.sent_tick = mark.tick;
  copy.sent_frame = mark.frame;
  copy.sent_generation = entity.generation;
  copy.sent_owner = each.owner;
  copy.sent_gone = each.told == Told::gone;
  copy.waiting_since = 0;
  switch (each.told) {
    case Told::whole: ++counts.whole; break;
    case Told::change: ++(each.mover && each.mask == 0 ? counts.foretold : counts.changed); break;
    case Told::gone: ++counts.gone; break;
  }
}

void Viewer::State::write_body(bits::Writer& out, const Candidate& each) const {
  out.put_bits(std::span(bodies).subspan(each.begin), each.bits);
}

void Viewer::State::write_movers(bits::Writer& out, const FrameMark& mark, const Sent& named) {
  auto candidate = candidates.begin();
  for (const Entry& entry : named.entries) {
    if (entry.told == Told::gone) continue;
    while (candidate != candidates.end() && candidate->id < entry.id) ++candidate;
    const bool said = candidate != candidates.end() && candidate->id == entry.id &&
                      candidate->mover && candidate->taken;
    if (!said) {
      write_symbol(out, entry.id, true, masks_of(entry.id));
      continue;
    }
    if (candidate->told == Told::gone) {
      write_symbol(out, entry.id, true, masks_of(entry.id) + 1);
    } else {
      write_body(out, *candidate);
    }
    tell(mark, *candidate);
  }
  movers_told = mark.tick;
}

void Viewer::State::write_others(bits::Writer& out, const FrameMark& mark) {
  std::size_t rank = 0;
  for (const Candidate& each : candidates) {
    if (!each.taken || each.told == Told::whole || each.mover) continue;
    const auto place = static_cast<std::size_t>(
        std::lower_bound(known_ids.begin(), known_ids.end(), each.id) - known_ids.begin());
    out.put_bool(true);
    out.put_count(place - rank, kRankOrder);
    rank = place + 1;
    if (each.told == Told::gone) {
      write_symbol(out, each.id, false, masks_of(each.id));
    } else {
      write_body(out, each);
    }
    tell(mark, each);
  }
  out.put_bool(false);
}

void Viewer::State::write_arrivals(bits::Writer& out, const FrameMark& mark) {
  std::uint32_t id = 0;
  for (const Candidate& each : candidates) {
    if (!each.taken || each.told != Told::whole) continue;
    out.put_bool(true);
    out.put_count(each.id - id - 1, kIdOrder);
    id = each.id;
    write_body(out, each);
    tell(mark, each);
  }
  out.put_bool(false);
}

void Viewer::count_into(Tally* tally) {
  state_->tally = tally;
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
