#include "kwind/replica/viewer.h"

#include <algorithm>
#include <array>
#include <bit>
#include <utility>
#include <vector>

#include "copies.h"
#include "drift_digest.h"
#include "frame_code.h"
#include "kwind/replica/interest.h"
#include "report_code.h"
#include "state_code.h"
#include "world_state.h"

namespace kwind::replica {
namespace {

struct Candidate {
  std::uint32_t id = 0;
  Copy* copy = nullptr;  // of it, until copies come or go
  Told told = Told::whole;
  bool owner = false;
  float urgency = 0;
  bool mover = false;  // the client expects to hear of it
  bool taken = false;
  std::uint32_t tick = 0;  // of its values
  std::uint32_t mask = 0;  // of a change
  std::size_t begin = 0;   // of its body in the scratch, bytes
  std::size_t bits = 0;
  std::uint32_t rank = 0;  // among those that the client knows
};

// The most that a frame's head takes.
constexpr std::size_t kHeadBits = 200;
// The fewest bits in which one can be told at all.
constexpr std::size_t kFewestBits = 4;

}  // namespace

struct Viewer::State {
  State(const World& of, ViewerOptions options_in)
      : world(&of),
        options(std::move(options_in)),
        codes(options.codes != nullptr ? options.codes.get() : all().options.codes.get()) {}

  const World* world;
  ViewerOptions options;
  const CodeSet* codes;
  Copies copies;
  SentFrames sent;
  std::vector<std::uint32_t> acks;  // frames heard to have arrived since the last was made
  std::uint32_t last_frame = 0;
  std::uint32_t start = 1;        // the first frame since all was told anew
  std::uint32_t sure = 0;         // the newest frame that is known to have arrived
  std::uint32_t movers_told = 0;  // tick for which the movers were told of
  std::uint32_t all_told = 0;     // tick of which there is nothing more to say, unless `news`
  bool news = true;
  bool lost_any = false;            // optimistic: what was built on has gone
  std::uint32_t digested = 0;       // frame that had the last digest
  std::uint64_t seen_revision = 0;  // of the sight that was last asked; 0: none
  std::uint32_t input = 0;
  bool any_input = false;
  std::vector<Candidate> candidates;
  std::vector<Candidate*> by_urgency;
  std::vector<Entry> entries;
  std::vector<std::byte> bodies;
  ViewerCounts counts;
  Tally* tally = nullptr;
  std::function<void(const Drifted&)> drift_handler;

  [[nodiscard]] World::State& all() const { return *world->state_; }
  [[nodiscard]] std::uint32_t tick() const { return all().tick - 1; }
  // The frame that the next one builds on; 0: none.
  [[nodiscard]] std::uint32_t base() {
    if (!options.optimistic || sure == 0) return sure;
    for (std::uint32_t frame = last_frame; frame > sure; --frame) {
      const Sent* const slot = sent.find(frame);
      if (slot != nullptr && !slot->lost) return frame;
    }
    return sure;
  }

  [[nodiscard]] bool taken_to_arrive(const Sent& frame) const {
    return frame.arrived || (options.optimistic && !frame.lost);
  }
  void hear();
  void believe(Sent& frame);
  void lose(Sent& frame);
  void give_up(Sent& frame);
  [[nodiscard]] bool builds_on_lost(const FrameMark& mark);
  void build_again();
  void start_anew();
  [[nodiscard]] bool owes_word();
  std::size_t states_known(std::uint32_t id, const Held& held, KnownStates& known) const;
  void gather();
  void consider(Copy& copy, const World::State::Brief& brief);
  bool narrow(std::size_t room);
  // The codes of what the client knows under an id, at the age of what it knows.
  [[nodiscard]] const CodeSet::Inside::Kind& codes_of(const Held& held) const {
    return codes->inside().kinds[held.kind];
  }
  [[nodiscard]] std::size_t masks_of(const Held& held) const {
    return all().shapes[held.kind].masks();
  }
  void write_symbol(bits::Writer& out, const Held& held, std::uint32_t at, bool mover,
                    std::size_t symbol);
  void write_bodies();
  void write_whole_body(bits::Writer& out, Candidate& each) const;
  void write_change_body(bits::Writer& out, Candidate& each, const Copy& copy);
  std::size_t mark_movers(const Sent& named);
  void rank(std::span<const Entry> movers);
  std::size_t choose(std::size_t room);
  void tell(const FrameMark& mark, const Candidate& each);
  void write_body(bits::Writer& out, const Candidate& each) const;
  void write_movers(bits::Writer& out, const FrameMark& mark, const Sent& named);
  void write_others(bits::Writer& out, const FrameMark& mark);
  void write_arrivals(bits::Writer& out, const FrameMark& mark);
  [[nodiscard]] std::optional<std::uint32_t> digest();
  void repair(std::uint32_t id, std::string_view field);
};

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

void Viewer::acked(std::uint64_t token) {
  state_->acks.push_back(static_cast<std::uint32_t>(token));
}
void Viewer::lost(std::uint64_t token) {
  State& s = *state_;
  Sent* const frame = s.sent.find(static_cast<std::uint32_t>(token));
  if (frame == nullptr || frame->lost || frame->arrived) return;
  if (s.options.optimistic && frame->acked) return;
  s.lose(*frame);
}

void Viewer::State::lose(Sent& frame) {
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
void Viewer::State::give_up(Sent& frame) {
  frame.lost = true;
  news = true;
  ++counts.given_up;
  for (const Entry& entry : sent.entries(frame)) {
    Copy* const copy = copies.find(entry.id);
    if (copy == nullptr) continue;
    if (copy->gone_frame == frame.mark.frame) {
      copy->gone_frame = 0;
      copy->settled = 0;
    }
    if (copy->sent_frame != frame.mark.frame) continue;
    copy->sent_frame = 0;
    copy->settled = 0;
  }
}

bool Viewer::State::builds_on_lost(const FrameMark& mark) {
  const Sent* const named = sent.find(mark.newest);
  if (named == nullptr) return false;
  if (named->lost) return true;
  for (std::uint32_t i = 0; i < told_between(named->mark); ++i) {
    const Sent* const between = sent.find(mark.newest - 1 - i);
    if ((mark.between >> i & 1) != 0 && between != nullptr && between->lost) return true;
  }
  return false;
}

void Viewer::State::believe(Sent& frame) {
  frame.arrived = true;
  sure = frame.mark.frame;
  auto walk = copies.begin();
  for (const Entry& entry : sent.entries(frame)) {
    while (walk != copies.end() && walk->id < entry.id) ++walk;
    if (walk == copies.end() || walk->id != entry.id) walk = copies.insert(walk, entry.id);
    Copy& copy = *walk;
    copy.sure.apply(entry);
    if (entry.told == Told::whole) copy.resend = false;
    if (entry.told == Told::gone) copy.settled = 0;  // it may be wanted again
    if (copy.gone_frame == frame.mark.frame) copy.gone_frame = 0;
    if (!options.optimistic) copy.held = copy.sure;
    if (copy.sent_frame == frame.mark.frame && copy.sent_gone) copy.sent_frame = 0;
  }
}

// Optimistic: what is certain, and what is still believed to be under way on top of it.
void Viewer::State::build_again() {
  for (Copy& copy : copies) {
    copy.held = copy.sure;
    copy.settled = 0;  // that may have rested on what has gone
  }
  if (sure == 0) return;  // until then each frame tells all anew
  for (std::uint32_t frame = sure + 1; frame <= last_frame; ++frame) {
    const Sent* const slot = sent.find(frame);
    if (slot == nullptr || slot->lost) continue;
    for (const Entry& entry : sent.entries(*slot)) copies.at(entry.id).held.apply(entry);
  }
}

void Viewer::State::start_anew() {
  sure = 0;
  acks.clear();
  for (Copy& copy : copies) {
    copy.held = copy.sure = {};
    copy.sent_frame = copy.gone_frame = 0;
    copy.settled = 0;
  }
  sent.clear();
  start = last_frame + 1;
  news = true;
  ++counts.started_anew;
}

// What arrived before something newer was heard to have is not believed in any more: see
// frame_marks.h.
void Viewer::State::hear() {
  const std::uint32_t before = sure;
  if (!acks.empty()) {
    news = true;
    std::sort(acks.begin(), acks.end());
    for (const std::uint32_t frame : acks) {
      Sent* const slot = sent.find(frame);
      if (slot == nullptr || frame <= sure || last_frame - frame >= kFrameWindow) continue;
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
bool Viewer::State::owes_word() {
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

// The states of an entity that the client is taken to have and that the world still remembers,
// newest first. Only what is not too old counts beyond the first: the client forgets, too.
std::size_t Viewer::State::states_known(std::uint32_t id, const Held& held,
                                        KnownStates& known) const {
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

void Viewer::State::write_symbol(bits::Writer& out, const Held& held, std::uint32_t at, bool mover,
                                 std::size_t symbol) {
  const std::size_t age = age_of(at - held.ticks[0]);
  const auto& alphabets = mover ? codes_of(held).movers : codes_of(held).others;
  alphabets[age].write(out, symbol);
  if (tally == nullptr) return;
  Tally::Kind& kind = tally->kinds()[held.kind];
  ++(mover ? kind.movers : kind.others)[age][symbol];
}

void Viewer::State::write_whole_body(bits::Writer& out, Candidate& each) const {
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

void Viewer::State::write_change_body(bits::Writer& out, Candidate& each, const Copy& copy) {
  World::State::Entity& entity = all().entities[each.id];
  const KindShape& shape = *entity.shape;
  each.tick = tick();
  std::uint32_t lag = 0;
  if (shape.tolerant()) {
    lag = std::min(tick() - entity.history->newest_tick(), kMostTickLag);
    each.tick -= lag;
  }
  KnownTicks ticks = copy.held.ticks;
  for (std::uint32_t& at : std::span(ticks).subspan(1)) {
    if (tick() - at > kLongestMemory) at = 0;
  }
  const auto put_lag = [&] {
    if (shape.tolerant()) out.put_count(lag, kTickLagOrder);
  };
  Splice& splice = entity.splices[(ticks[0] + ticks[1]) % World::State::kSplices];
  if (tally == nullptr && splice.tick == each.tick && splice.known == ticks &&
      splice.owner == each.owner && splice.codes == codes->digest()) {
    ++all().spliced.shared;
    each.mask = splice.mask;
    write_symbol(out, copy.held, tick(), each.mover, each.mask);
    put_lag();
    out.put_bits(splice.body, splice.bits);
    return;
  }
  ++all().spliced.written;
  KnownStates known;
  const std::size_t count = states_known(each.id, copy.held, known);
  const Row row = entity.history->newest();
  const Basis basis{
      shape, codes_of(copy.held), std::span(known).first(count), each.tick, {each.owner}};
  each.mask = mask_of(basis, row);
  write_symbol(out, copy.held, tick(), each.mover, each.mask);
  put_lag();
  const std::size_t before = out.bit_count();
  write_change(out, basis, row, each.mask,
               tally != nullptr ? &tally->kinds()[copy.held.kind] : nullptr);
  const std::size_t size = out.bit_count() - before;
  if (!out.ok() || size > Splice::kMostBits) return;
  splice = {each.tick,
            ticks,
            codes->digest(),
            static_cast<std::uint16_t>(each.mask),
            static_cast<std::uint8_t>(size),
            each.owner,
            {}};
  bits::Writer body(splice.body);
  write_change(body, basis, row, each.mask, nullptr);
  body.finish();
}

// Each stands at a byte of its own, to be copied behind whatever comes before it in the frame.
void Viewer::State::write_bodies() {
  std::size_t begin = 0;
  for (Candidate& each : candidates) {
    if (each.told == Told::gone) continue;
    for (;;) {
      bits::Writer out(std::span<std::byte>(bodies).subspan(begin));
      if (each.told == Told::whole) {
        write_whole_body(out, each);
      } else {
        write_change_body(out, each, *each.copy);
      }
      each.bits = out.bit_count();
      if (out.ok()) {
        out.finish();
        break;
      }
      bodies.resize(std::max<std::size_t>(1024, bodies.size() * 2));
    }
    each.begin = begin;
    begin += bits::bytes_for(each.bits);
  }
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

// Returns the most bits that those of whom there is nothing to say will take.
std::size_t Viewer::State::mark_movers(const Sent& named) {
  std::size_t bits = 0;
  auto candidate = candidates.begin();
  auto copy = copies.begin();
  for (const Entry& entry : sent.entries(named)) {
    if (entry.told == Told::gone) continue;
    while (candidate != candidates.end() && candidate->id < entry.id) ++candidate;
    while (copy->id < entry.id) ++copy;
    KWIND_ASSERT(copy->id == entry.id && copy->held.known);
    if (candidate != candidates.end() && candidate->id == entry.id) {
      candidate->mover = candidate->told != Told::whole;
    }
    const std::size_t age = age_of(tick() - copy->held.ticks[0]);
    bits += codes_of(copy->held).movers[age].bits(masks_of(copy->held));
  }
  return bits;
}

// Places of all that are not movers among those that the client knows: first those that changed
// since they appeared, then the others.
void Viewer::State::rank(std::span<const Entry> movers) {
  std::uint32_t restless = 0;
  std::uint32_t still = 0;
  auto candidate = candidates.begin();
  auto mover = movers.begin();
  for (const Copy& copy : copies) {
    if (!copy.held.known) continue;
    while (mover != movers.end() && mover->id < copy.id) ++mover;
    if (mover != movers.end() && mover->id == copy.id && mover->told != Told::gone) continue;
    std::uint32_t& place = copy.held.restless ? restless : still;
    while (candidate != candidates.end() && candidate->id < copy.id) ++candidate;
    if (candidate != candidates.end() && candidate->id == copy.id) candidate->rank = place;
    ++place;
  }
  for (Candidate& each : candidates) {
    if (each.told == Told::whole || each.mover) continue;
    if (!each.copy->held.restless) each.rank += restless;
  }
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

// Notes what a frame says of an entity.
void Viewer::State::tell(const FrameMark& mark, const Candidate& each) {
  const std::uint8_t generation = all().briefs[each.id].generation;
  const std::uint16_t kind = all().entities[each.id].shape->info().kind;
  entries.push_back({each.id, each.tick, kind, generation, each.told, each.owner});
  Copy& copy = *each.copy;
  copy.sent_tick = mark.tick;
  copy.sent_frame = mark.frame;
  copy.sent_generation = generation;
  copy.sent_owner = each.owner;
  copy.sent_gone = each.told == Told::gone;
  if (copy.sent_gone) copy.gone_frame = mark.frame;
  copy.settled = mark.tick;
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

void Viewer::State::write_body(bits::Writer& out, const Candidate& each) const {
  out.put_bits(std::span(bodies).subspan(each.begin), each.bits);
}

void Viewer::State::write_movers(bits::Writer& out, const FrameMark& mark, const Sent& named) {
  auto candidate = candidates.begin();
  auto copy = copies.begin();
  for (const Entry& entry : sent.entries(named)) {
    if (entry.told == Told::gone) continue;
    while (candidate != candidates.end() && candidate->id < entry.id) ++candidate;
    while (copy->id < entry.id) ++copy;
    const bool said = candidate != candidates.end() && candidate->id == entry.id &&
                      candidate->mover && candidate->taken;
    if (!said) {
      write_symbol(out, copy->held, mark.tick, true, masks_of(copy->held));
      continue;
    }
    if (candidate->told == Told::gone) {
      write_symbol(out, copy->held, mark.tick, true, masks_of(copy->held) + 1);
    } else {
      write_body(out, *candidate);
    }
    tell(mark, *candidate);
  }
  movers_told = mark.tick;
}

void Viewer::State::write_others(bits::Writer& out, const FrameMark& mark) {
  std::uint32_t rank = 0;
  for (const bool restless : {true, false}) {
    for (const Candidate& each : candidates) {
      if (!each.taken || each.told == Told::whole || each.mover) continue;
      const Held& held = each.copy->held;
      if (held.restless != restless) continue;
      if (rank > 0) out.put_bool(true);
      out.put_count(each.rank - rank, kRankOrder);
      rank = each.rank + 1;
      if (each.told == Told::gone) {
        write_symbol(out, held, mark.tick, false, masks_of(held));
      } else {
        write_body(out, each);
      }
      tell(mark, each);
    }
  }
  out.put_bool(false);
}

void Viewer::State::write_arrivals(bits::Writer& out, const FrameMark& mark) {
  std::uint32_t id = 0;
  for (const Candidate& each : candidates) {
    if (!each.taken || each.told != Told::whole) continue;
    if (id > 0) out.put_bool(true);
    out.put_count(each.id - id - 1, kIdOrder);
    id = each.id;
    write_body(out, each);
    tell(mark, each);
  }
  out.put_bool(false);
}

// Of all that the client has as of the frame that the next one builds on, if it is time for one.
std::optional<std::uint32_t> Viewer::State::digest() {
  if (options.digest_every == 0 || base() == 0 ||
      last_frame + 1 - digested < options.digest_every) {
    return std::nullopt;
  }
  DriftDigest made;
  for (const Copy& copy : copies) {
    if (!copy.held.known) continue;
    const World::State::Entity& entity = all().entities[copy.id];
    if (all().briefs[copy.id].generation != copy.held.generation) return std::nullopt;
    const auto row = entity.history->at_or_before(copy.held.ticks[0]);
    if (!row) return std::nullopt;  // too old for the history: later
    made.add(copy.id, copy.held.generation, copy.held.owner, copy.held.ticks[0], *entity.shape,
             entity.history->row(*row));
  }
  digested = last_frame + 1;
  return made.bits(kDigestBits);
}

void Viewer::used_input(std::uint32_t number) {
  state_->input = number;
  state_->any_input = true;
}

void Viewer::on_drift(std::function<void(const Drifted&)> handler) {
  state_->drift_handler = std::move(handler);
}

// Nothing builds any more on what the client holds of it.
void Viewer::State::repair(std::uint32_t id, std::string_view field) {
  Copy* const copy = copies.find(id);
  if (copy == nullptr) return;
  ++counts.drifted;
  copy->resend = true;
  copy->sent_frame = 0;
  copy->settled = 0;
  news = true;
  Drifted found{id, {}, field};
  if (copy->held.known) found.kind = all().shapes[copy->held.kind].info().name;
  if (drift_handler) drift_handler(found);
}

Errc Viewer::hear_report(std::span<const std::byte> payload, std::size_t bits) {
  State& s = *state_;
  const auto report = read_report(payload, bits);
  if (!report) return report.error();
  bool found = false;
  for (const ReportedEntity& each : *report) {
    const Copy* const copy = s.copies.find(each.id);
    if (copy == nullptr || !copy->held.known || copy->held.generation != each.generation) {
      continue;  // it went meanwhile, or another came in its place
    }
    if (s.all().briefs[each.id].generation != each.generation) continue;
    const World::State::Entity& entity = s.all().entities[each.id];
    const KindShape& shape = *entity.shape;
    const std::uint32_t tick = s.tick() - ((s.tick() - each.tick_low) & kReportTickMask);
    if (tick == 0 || tick > s.tick()) continue;
    const auto row = entity.history->at_or_before(tick);
    if (!row) continue;
    if (each.columns.size() != shape.columns()) return Errc::value_range;
    for (std::size_t c = 0; c < shape.columns(); ++c) {
      if (column_hash(shape, entity.history->row(*row), c, copy->held.owner) == each.columns[c])
        continue;
      s.repair(each.id, shape.info().fields[shape.info().columns[c].field].name);
      found = true;
      break;
    }
  }
  // It differs where the report does not reach.
  if (!found) {
    ++s.counts.drifted;
    s.start_anew();
  }
  return Errc::none;
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
