#include "kwind/replica/viewer.h"

#include <algorithm>
#include <utility>

#include "courses.h"
#include "frame_code.h"
#include "kwind/bits/prefetch.h"
#include "kwind/replica/interest.h"
#include "report_code.h"
#include "viewer_state.h"

namespace kwind::replica {

Viewer::Viewer(const World& world, const ViewerOptions& options)
    : state_(std::make_unique<State>(*world.state_, options)) {
  const auto trained = state_->course->codes->trained_on();
  KWIND_ASSERT(!trained ||
               *trained == (options.optimistic ? FrameKinds::optimistic : FrameKinds::exact));
}

Viewer::Viewer(Viewer&&) noexcept = default;

Viewer& Viewer::operator=(Viewer&&) noexcept = default;

Viewer::~Viewer() = default;

void Viewer::see(std::span<const Seen> in_view) {
  State& s = *state_;
  if (s.course->is_shared() && s.course->sees(in_view)) return;
  s.own().see(in_view);
}

void Viewer::see(Sight& sight) {
  sight.look();
  if (state_->course->seen_revision != sight.revision()) state_->own().see(sight);
}

void Viewer::see_through(Sight* sight) {
  state_->sight = sight;
}

void Viewer::prefetch(unsigned step) const {
  const State& s = *state_;
  if (step == 0) {
    bits::ask_for(&s, State::kHotBytes);
  } else if (step == 1) {
    bits::ask_for(s.acks.data(), 1);
    bits::ask_for(s.course, sizeof(Course));
  } else if (s.course->viewers == 1) {  // what clients share is in the cache already
    s.course->ask_for(step == 3);
  }
  if (s.sight == nullptr) return;
  if (step == 1) bits::ask_for(s.sight, 1);
  if (step == 2) s.sight->prefetch();
}

std::optional<std::uint64_t> Viewer::fill(Time, bits::Writer& out) {
  State& s = *state_;
  if (s.course->tick() == 0) return std::nullopt;
  s.rejoin();
  bool whole = false;
  if (!s.course->is_shared()) return s.tell(out, nullptr, whole);
  std::uint64_t view = 0;
  if (s.sight != nullptr) {
    s.sight->look();
    view = s.sight->revision();
  }
  const Step* const step = s.courses->find(*s.course, view, s.acks);
  if (step != nullptr) {
    const auto frame = s.follow(*step, out);
    if (frame || !step->says) return frame;
  }
  Course& before = *s.course;
  s.courses->hold(before);
  Step* const made = step == nullptr ? s.courses->begin_step(before) : nullptr;
  if (made != nullptr) {
    made->view = view;
    made->acks = s.acks;
  }
  s.own();
  const auto frame = s.tell(out, made, whole);
  if (made != nullptr && whole) s.courses->end_step(before, *made, *s.course);
  s.courses->drop(before);
  return frame;
}

void Viewer::State::rejoin() {
  Course& others = courses->rejoin(*course);
  if (&others == course) return;
  elsewhere.add(course->counts);
  elsewhere.subtract(others.counts);
  courses->move(course, others);
}

Viewer::State::Head Viewer::State::head_of(const Heading& heading) const {
  FrameMark mark = heading.mark;
  FrameMark named = heading.named_mark;
  if (any_input) mark.input = 1 + ((input - mark.tick) & 0xffffU);
  if (any_input) named.input = inputs[heading.named % inputs.size()];
  Head head;
  head.input = mark.input;
  bits::Writer out(head.bytes);
  write_head(out, mark, heading.named > 0 ? &named : nullptr, heading.digest,
             {tick_rate_of(course->all().options.ticks_per_second),
              static_cast<std::uint16_t>(course->codes->digest()), course->options.optimistic});
  head.bits = out.bit_count();
  out.finish();
  return head;
}

void Viewer::State::send(bits::Writer& out, const Heading& heading, const Head& head,
                         std::span<const std::byte> body, std::size_t bits) {
  out.put_bits(head.bytes, head.bits);
  out.put_bits(body, bits);
  if (any_input) inputs[heading.mark.frame % inputs.size()] = head.input;
  head_bits += head.bits;
}

std::optional<std::uint64_t> Viewer::State::tell(bits::Writer& out, Step* made, bool& whole) {
  Heading heading;
  if (!course->begin(sight, acks, heading)) {
    if (made != nullptr) made->says = false;
    whole = true;
    return std::nullopt;
  }
  const Head head = head_of(heading);
  if (out.room_bits() < head.bits) return std::nullopt;
  const SpliceCounts before = course->all().spliced;
  room.now = out.room_bits() - head.bits;
  if (made != nullptr) made->room = room;
  const auto bits = course->write(heading, room);
  if (!bits) return std::nullopt;
  const std::vector<std::byte>& body = course->all().desk.frame;
  send(out, heading, head, body, *bits);
  whole = true;
  if (made == nullptr) return heading.mark.frame;
  made->says = true;
  made->heading = heading;
  made->bits = *bits;
  made->room.lost = room.lost;
  made->limited = course->limited;
  const SpliceCounts& after = course->all().spliced;
  made->changes = after.shared + after.written - before.shared - before.written;
  made->body.assign(body.begin(),
                    body.begin() + static_cast<std::ptrdiff_t>(bits::bytes_for(*bits)));
  return heading.mark.frame;
}

std::optional<std::uint64_t> Viewer::State::follow(const Step& step, bits::Writer& out) {
  if (step.says) {
    const Head head = head_of(step.heading);
    if (out.room_bits() < head.bits + step.bits) return std::nullopt;
    room.now = out.room_bits() - head.bits;
    if (step.limited && !(room.now == step.room.now && room.roomiest == step.room.roomiest)) {
      return std::nullopt;
    }
    room.lost = step.room.lost;
    room.note();
    send(out, step.heading, head, step.body, step.bits);
    course->all().spliced.shared += step.changes;
  }
  acks.clear();
  const auto frame =
      step.says ? std::optional<std::uint64_t>(step.heading.mark.frame) : std::nullopt;
  courses->move(course, *step.to);
  return frame;
}

void Viewer::acked(std::uint64_t token) {
  state_->acks.push_back(static_cast<std::uint32_t>(token));
}

void Viewer::lost(std::uint64_t token) {
  State& s = *state_;
  const auto frame = static_cast<std::uint32_t>(token);
  if (s.course->may_lose(frame)) s.own().lose(frame);
}

void Viewer::used_input(std::uint32_t number) {
  state_->input = number;
  state_->any_input = true;
}

void Viewer::count_into(Tally* tally) {
  Course& course = state_->own();
  course.tally = tally;
  if (tally != nullptr) {
    tally->count_frames_of(course.options.optimistic ? FrameKinds::optimistic : FrameKinds::exact);
  }
  course.apart = false;
}

void Viewer::on_drift(std::function<void(const Drifted&)> handler) {
  state_->drift_handler = std::move(handler);
}

Errc Viewer::hear_report(std::span<const std::byte> payload, std::size_t bits) {
  const auto report = read_report(payload, bits);
  if (!report) return report.error();
  State& s = *state_;
  if (report->empty()) return Errc::value_range;
  const std::uint32_t now = s.course->tick();
  // Once a second, and only of a digest that was sent since the last one.
  if (s.reported_at != 0 && now - s.reported_at < a_second()) return Errc::rate_limited;
  if (s.course->digested == 0 || s.course->digested == s.reported_digest) return Errc::unexpected;
  s.reported_at = std::max(now, 1U);
  s.reported_digest = s.course->digested;
  // The course is shared with others until something is found.
  std::vector<std::pair<std::uint32_t, std::string_view>> differing;
  for (const ReportedEntity& each : *report) {
    bool fits = true;
    if (const auto field = s.differing_field(each, fits)) differing.emplace_back(each.id, *field);
    if (!fits) return Errc::value_range;
  }
  Course& course = s.own();
  for (const auto& [id, field] : differing) {
    const Drifted drifted = course.repair(id, field);
    if (s.drift_handler) s.drift_handler(drifted);
  }
  // It differs where the report does not reach.
  if (differing.empty()) {
    ++course.counts.drifted;
    course.start_anew();
  }
  return Errc::none;
}

std::optional<std::string_view> Viewer::State::differing_field(const ReportedEntity& each,
                                                               bool& fits) {
  const auto place = course->copies.find(each.id);
  if (!place) return std::nullopt;
  const Held& held = course->copies[*place].held();
  // It went meanwhile, or another came in its place.
  if (!held.known || held.generation != each.generation) return std::nullopt;
  if (course->all().briefs[each.id].generation != each.generation) return std::nullopt;
  const World::State::Entity& entity = course->all().entities[each.id];
  const KindShape& shape = *entity.shape;
  const std::uint32_t now = course->tick();
  const std::uint32_t tick = now - ((now - each.tick_low) & kReportTickMask);
  if (tick == 0 || tick > now) return std::nullopt;
  const auto row = entity.history->at_or_before(tick);
  if (!row) return std::nullopt;
  fits = each.columns.size() == shape.columns();
  for (std::size_t c = 0; fits && c < shape.columns(); ++c) {
    if (column_hash(shape, entity.history->row(*row), c, held.owner) == each.columns[c]) continue;
    return shape.info().fields[shape.info().columns[c].field].name;
  }
  return std::nullopt;
}

std::uint32_t Viewer::a_second() const {
  const double ticks = state_->course->all().options.ticks_per_second;
  return static_cast<std::uint32_t>(std::max(ticks, 1.0));
}
Errc Viewer::hear_resync(std::uint32_t frame) {
  State& s = *state_;
  Course& course = *s.course;
  const std::uint32_t now = course.tick();
  if (s.resynced_at != 0 && now - s.resynced_at < a_second()) return Errc::rate_limited;
  if (course.last_frame == 0) return Errc::unexpected;
  const std::uint32_t number = course.last_frame - ((course.last_frame - frame) & kFrameLowMask);
  if (number > 0 && course.may_yet_be_read(number)) return Errc::unexpected;
  s.resynced_at = std::max(now, 1U);
  resync();
  ++s.course->counts.resyncs;
  return Errc::none;
}

void Viewer::resync() {
  // Before the next frame a second one changes nothing.
  if (state_->course->sure == 0 && state_->course->start == state_->course->last_frame + 1) return;
  state_->own().start_anew();
}

// O(entities in view).
bool Viewer::complete() const {
  Course& course = *state_->course;
  course.gather();
  if (!course.candidates.empty() || course.parcel.id != 0 || course.owes_word()) return false;
  // A change that waits because an older one is in flight is no candidate.
  const auto& briefs = course.all().briefs;
  for (std::size_t i = 0; i < course.copies.size(); ++i) {
    const World::State::Brief& brief = briefs[course.copies.id(i)];
    if (!course.copies.look(i).in_view || !brief.alive) continue;
    const Copy& copy = course.copies[i];
    const Held& held = copy.held();
    const bool sent =
        copy.sent_frame != 0 && !copy.sent_gone && copy.sent_generation == brief.generation;
    const bool has = held.known && held.generation == brief.generation;
    if (brief.changed_at > (sent ? copy.sent_tick : has ? held.ticks[0] : 0)) return false;
  }
  return true;
}

bool Viewer::view_complete() const {
  Course& course = *state_->course;
  const auto& briefs = course.all().briefs;
  for (std::size_t i = 0; i < course.copies.size(); ++i) {
    const Copy& copy = course.copies[i];
    const World::State::Brief& brief = briefs[course.copies.id(i)];
    const bool there = copy.sure.known && copy.sure.generation == brief.generation;
    if (course.copies.look(i).in_view && brief.alive && !there) return false;
  }
  return true;
}

bool Viewer::knows(schema::AnyRef entity) const {
  Course& course = *state_->course;
  const auto place = course.copies.find(entity.id);
  if (!place || !course.all().briefs[entity.id].alive) return false;
  const auto is_it = [&](const Held& held) {
    return held.known && held.generation == entity.generation;
  };
  return is_it(course.copies[*place].sure) || is_it(course.copies[*place].held());
}

std::uint32_t Viewer::oldest_wait() const {
  Course& course = *state_->course;
  std::uint32_t longest = 0;
  for (std::size_t i = 0; i < course.copies.size(); ++i) {
    const Copy& copy = course.copies[i];
    if (course.copies.look(i).in_view && copy.waiting_since != 0 &&
        copy.waiting_since <= course.tick()) {
      longest = std::max(longest, course.tick() - copy.waiting_since + 1);
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
  resyncs += other.resyncs;
  drifted += other.drifted;
  longest_wait = std::max(longest_wait, other.longest_wait);
}

void ViewerCounts::subtract(const ViewerCounts& other) {
  frames -= other.frames;
  bits -= other.bits;
  whole -= other.whole;
  changed -= other.changed;
  foretold -= other.foretold;
  gone -= other.gone;
  in_parts -= other.in_parts;
  put_off -= other.put_off;
  given_up -= other.given_up;
  started_anew -= other.started_anew;
  resyncs -= other.resyncs;
  drifted -= other.drifted;
}

const ViewerCounts& Viewer::counts() const {
  State& s = *state_;
  s.counts = s.course->counts;
  s.counts.bits += s.head_bits;
  s.counts.add(s.elsewhere);
  return s.counts;
}

std::size_t Viewer::memory() const {
  const State& s = *state_;
  return sizeof(State) + s.acks.capacity() * sizeof(std::uint32_t) +
         s.course->memory() / s.course->viewers;
}

}  // namespace kwind::replica
