// The payload source of one client: finds a shared snapshot or encodes one, and takes delivery
// reports, desync reports and resync requests.
#include "kwind/replica/client_replicator.h"

#include <algorithm>
#include <utility>

#include "kwind/core/prefetch.h"
#include "kwind/replica/interest.h"
#include "replica/coding/desync_report.h"
#include "replica/coding/snapshot_head.h"
#include "replica/server/replicator_state.h"
#include "replica/server/shared_histories.h"

namespace kwind::replica {

ClientReplicator::ClientReplicator(const World& world, const ReplicatorOptions& options)
    : state_(std::make_unique<State>(*world.state_, options)) {
  // Tables that were trained on the other mode cost up to half more: an assertion and not a
  // surprise.
  const auto trained = state_->history->codes->trained_on();
  KWIND_ASSERT(!trained ||
               *trained == (options.speculative_baselines ? SnapshotModes::speculative_baselines
                                                          : SnapshotModes::exact));
}

ClientReplicator::ClientReplicator(ClientReplicator&&) noexcept = default;

ClientReplicator& ClientReplicator::operator=(ClientReplicator&&) noexcept = default;

ClientReplicator::~ClientReplicator() = default;

// A view that is the same as before keeps the replicator in its shared history.
void ClientReplicator::see(std::span<const RelevantEntity> in_view) {
  State& s = *state_;
  if (s.history->is_shared() && s.history->sees(in_view)) return;
  s.own().see(in_view);
}

// The query counts its revisions: a view that did not change costs one comparison.
void ClientReplicator::see(InterestQuery& query) {
  query.update();
  if (state_->history->seen_revision != query.revision()) state_->own().see(query);
}

void ClientReplicator::bind(InterestQuery* query) {
  state_->query = query;
}

// Steps follow the pointers, as those of LinkAccess::prefetch() do.
void ClientReplicator::prefetch(unsigned step) const {
  const State& s = *state_;
  if (step == 0) {
    kwind::prefetch(&s, State::kHotBytes);
  } else if (step == 1) {
    kwind::prefetch(s.acks.data(), 1);
    kwind::prefetch(s.history, sizeof(BaselineHistory));
  } else if (s.history->replicators == 1) {  // what clients share is in the cache already
    s.history->prefetch(step == 3);
  }
  if (s.query == nullptr) return;
  if (step == 1) kwind::prefetch(s.query, 1);
  if (step == 2) s.query->prefetch();
}

// Follows a step that another client with equal acks and view has taken in this tick, or makes one
// and leaves it for others. Whoever is alone encodes for itself.
std::optional<std::uint64_t> ClientReplicator::fill(Time, bits::Writer& out) {
  State& s = *state_;
  if (s.history->tick() == 0) return std::nullopt;
  s.rejoin();
  bool whole = false;
  if (!s.history->is_shared()) return s.tell(out, nullptr, whole);
  std::uint64_t view = 0;
  if (s.query != nullptr) {
    s.query->update();
    view = s.query->revision();
  }
  // A step leads from one shared history to the next. Equal history, view and acknowledgements give
  // equal snapshots, so the first client writes the snapshot and the others copy its bits.
  const Step* const step = s.histories->find(*s.history, view, s.acks);
  if (step != nullptr) {
    const auto snapshot = s.follow(*step, out);
    if (snapshot || !step->says) return snapshot;
  }
  BaselineHistory& before = *s.history;
  s.histories->hold(before);
  Step* const made = step == nullptr ? s.histories->begin_step(before) : nullptr;
  if (made != nullptr) {
    made->view = view;
    made->acks = s.acks;
  }
  s.own();
  const auto snapshot = s.tell(out, made, whole);
  if (made != nullptr && whole) s.histories->end_step(before, *made, *s.history);
  s.histories->drop(before);
  return snapshot;
}

// Counters go on as if the replicator had always been in that history.
void ClientReplicator::State::rejoin() {
  BaselineHistory& joined = histories->rejoin(*history);
  if (&joined == history) return;
  elsewhere.add(history->counts);
  elsewhere.subtract(joined.counts);
  histories->move(history, joined);
}

// Input numbers are the client's own. They are relative to the tick, in 16 bits; 0 stands for none.
ClientReplicator::State::Head ClientReplicator::State::head_of(const SnapshotHead& heading,
                                                               SymbolCounts* counter) const {
  SnapshotMark mark = heading.mark;
  SnapshotMark named = heading.named_mark;
  if (any_input) mark.input = 1 + ((input - mark.tick) & 0xffffU);
  if (any_input) named.input = inputs[heading.named % inputs.size()];
  Head head;
  head.input = mark.input;
  bits::Writer out(head.bytes);
  write_head(out, mark, heading.named > 0 ? &named : nullptr, heading.digest, heading.sections,
             {tick_rate_of(history->all().options.ticks_per_second),
              static_cast<std::uint16_t>(history->codes->digest()),
              history->options.speculative_baselines},
             history->codes->inside().heads, counter != nullptr ? &counter->heads() : nullptr);
  head.bits = out.bit_count();
  out.finish();
  return head;
}

// Bits of the head, whatever sections follow.
std::size_t ClientReplicator::State::longest_head(const SnapshotHead& heading) const {
  constexpr std::size_t kOtherSectionsBits = 6;
  // Written twice with different sections, because a prefix code may give the rarer head fewer
  // bits.
  SnapshotHead other = heading;
  other.sections = {true, false, false, false};
  const std::size_t usual = head_of(other, nullptr).bits;
  other.sections = {true, true, true, true};
  const std::size_t all = head_of(other, nullptr).bits;
  return std::max(usual, all) + (heading.named > 0 ? 0 : kOtherSectionsBits);
}

// The head is the client's own, because of its inputs; the body may be shared.
void ClientReplicator::State::send(bits::Writer& out, const SnapshotHead& heading, const Head& head,
                                   std::span<const std::byte> body, std::size_t bits) {
  out.put_bits(head.bytes, head.bits);
  out.put_bits(body, bits);
  if (any_input) inputs[heading.mark.snapshot % inputs.size()] = head.input;
  head_bits += head.bits;
}

// The body is written before the head, whose size depends on it: room for the longest head is kept.
std::optional<std::uint64_t> ClientReplicator::State::tell(bits::Writer& out, Step* made,
                                                           bool& whole) {
  SnapshotHead heading;
  // Nothing is due: for clients that share the history the step says so, too.
  if (!history->begin(query, acks, heading)) {
    if (made != nullptr) made->says = false;
    whole = true;
    return std::nullopt;
  }
  const std::size_t head_bits_max = longest_head(heading);
  if (out.room_bits() < head_bits_max) return std::nullopt;
  const SharedBitsCounts before = history->all().shared_bits;
  room.now = out.room_bits() - head_bits_max;
  if (made != nullptr) made->room = room;
  const auto plan = history->plan(heading, room);
  if (!plan) return std::nullopt;
  heading.sections = plan->sections;
  const std::size_t bits = history->encode(*plan);
  history->commit(heading, *plan, bits);
  const std::vector<std::byte>& body = history->all().scratch.snapshot;
  send(out, heading, head_of(heading, history->symbol_counts), body, bits);
  whole = true;
  if (made == nullptr) return heading.mark.snapshot;
  made->says = true;
  made->heading = heading;
  made->bits = bits;
  made->room.lost = room.lost;
  made->limited = history->limited;
  const SharedBitsCounts& after = history->all().shared_bits;
  made->changes = after.shared + after.written - before.shared - before.written;
  made->body.assign(body.begin(),
                    body.begin() + static_cast<std::ptrdiff_t>(bits::bytes_for(bits)));
  return heading.mark.snapshot;
}

// A body that was cut to its room fits only where there is exactly as much.
// Writes the snapshot of a step that another client made, after a head of its own.
std::optional<std::uint64_t> ClientReplicator::State::follow(const Step& step, bits::Writer& out) {
  if (step.says) {
    const std::size_t head_bits_max = longest_head(step.heading);
    if (out.room_bits() < head_bits_max + step.bits) return std::nullopt;
    room.now = out.room_bits() - head_bits_max;
    if (step.limited && !(room.now == step.room.now && room.roomiest == step.room.roomiest)) {
      return std::nullopt;
    }
    room.lost = step.room.lost;
    room.note();
    send(out, step.heading, head_of(step.heading, nullptr), step.body, step.bits);
    history->all().shared_bits.shared += step.changes;
  }
  acks.clear();
  const auto snapshot =
      step.says ? std::optional<std::uint64_t>(step.heading.mark.snapshot) : std::nullopt;
  histories->move(history, *step.to);
  return snapshot;
}

// Acks wait for the next fill(): until then clients that heard the same stay together.
void ClientReplicator::acked(std::uint64_t token) {
  state_->acks.push_back(static_cast<std::uint32_t>(token));
}

// The history is parted from those of other clients only if the loss changes anything.
void ClientReplicator::lost(std::uint64_t token) {
  State& s = *state_;
  const auto snapshot = static_cast<std::uint32_t>(token);
  if (s.history->may_lose(snapshot)) s.own().lose(snapshot);
}

// Travels in the head of each snapshot, for the client's prediction.
void ClientReplicator::last_processed_input(std::uint32_t number) {
  state_->input = number;
  state_->any_input = true;
}

void ClientReplicator::count_into(SymbolCounts* symbol_counts) {
  BaselineHistory& history = state_->own();
  history.symbol_counts = symbol_counts;
  if (symbol_counts != nullptr) {
    symbol_counts->count_snapshots_of(history.options.speculative_baselines
                                          ? SnapshotModes::speculative_baselines
                                          : SnapshotModes::exact);
  }
  history.apart = false;
}

void ClientReplicator::on_desync(std::function<void(const Desync&)> handler) {
  state_->desync_handler = std::move(handler);
}

// A report names entities that differ from a digest, with a hash of each column. What is found to
// differ is sent anew; if nothing is, the difference lies elsewhere, and everything is.
Errc ClientReplicator::receive_desync_report(std::span<const std::byte> payload, std::size_t bits) {
  const auto report = read_report(payload, bits);
  if (!report) return report.error();
  State& s = *state_;
  if (report->empty()) return Errc::value_range;
  const std::uint32_t now = s.history->tick();
  // Once a second, and only of a digest that was sent since the last one.
  if (s.reported_at != 0 && now - s.reported_at < a_second()) return Errc::rate_limited;
  // A client without a digest cannot know of a desync: such a report is an attack or a mistake.
  if (s.history->digested == 0 || s.history->digested == s.reported_digest) return Errc::unexpected;
  s.reported_at = std::max(now, 1U);
  s.reported_digest = s.history->digested;
  // The history is shared with others until something is found.
  std::vector<std::pair<std::uint32_t, std::string_view>> differing;
  for (const DesyncedEntity& each : *report) {
    bool fits = true;
    if (const auto field = s.differing_field(each, fits)) differing.emplace_back(each.id, *field);
    if (!fits) return Errc::value_range;
  }
  BaselineHistory& history = s.own();
  for (const auto& [id, field] : differing) {
    const Desync desync = history.repair(id, field);
    if (s.desync_handler) s.desync_handler(desync);
  }
  // It differs where the report does not reach.
  if (differing.empty()) {
    ++history.counts.desyncs;
    history.full_resync();
  }
  return Errc::none;
}

// The first field whose hash differs from the report, of an entity that is still the same one.
std::optional<std::string_view> ClientReplicator::State::differing_field(const DesyncedEntity& each,
                                                                         bool& fits) {
  const auto index = history->entities_known.find(each.id);
  if (!index) return std::nullopt;
  const Baseline& baseline = history->entities_known[*index].baseline();
  // It went meanwhile, or another came in its place.
  if (!baseline.known || baseline.generation != each.generation) return std::nullopt;
  if (history->all().briefs[each.id].generation != each.generation) return std::nullopt;
  const World::State::Entity& entity = history->all().entities[each.id];
  const EntityModel& model = *entity.model;
  const std::uint32_t now = history->tick();
  // The report has the low bits of the tick; the newest tick with these bits is meant.
  const std::uint32_t tick = now - ((now - each.tick_low) & kReportTickMask);
  if (tick == 0 || tick > now) return std::nullopt;
  const auto row = entity.history->at_or_before(tick);
  if (!row) return std::nullopt;
  fits = each.columns.size() == model.columns();
  for (std::size_t c = 0; fits && c < model.columns(); ++c) {
    if (column_hash(model, entity.history->row(*row), c, baseline.owner) == each.columns[c])
      continue;
    return model.info().fields[model.info().columns[c].field].name;
  }
  return std::nullopt;
}

std::uint32_t ClientReplicator::a_second() const {
  const double ticks = state_->history->all().options.ticks_per_second;
  return static_cast<std::uint32_t>(std::max(ticks, 1.0));
}
// The client cannot build on what arrives. Granted once a second, and not while a snapshot that the
// client waits for may still arrive or be repeated.
Errc ClientReplicator::receive_resync_request(std::uint32_t snapshot) {
  State& s = *state_;
  BaselineHistory& history = *s.history;
  const std::uint32_t now = history.tick();
  if (s.resynced_at != 0 && now - s.resynced_at < a_second()) return Errc::rate_limited;
  if (history.last_snapshot == 0) return Errc::unexpected;
  const std::uint32_t number =
      history.last_snapshot - ((history.last_snapshot - snapshot) & kSnapshotLowMask);
  if (number > 0 && history.may_still_be_read(number)) return Errc::unexpected;
  s.resynced_at = std::max(now, 1U);
  resync();
  ++s.history->counts.resyncs;
  return Errc::none;
}

// The next snapshot builds on nothing: the whole view is sent again.
void ClientReplicator::resync() {
  // Before the next snapshot a second one changes nothing.
  if (state_->history->sure == 0 && state_->history->start == state_->history->last_snapshot + 1)
    return;
  state_->own().full_resync();
}

// O(entities in view).
bool ClientReplicator::complete() const {
  BaselineHistory& history = *state_->history;
  history.gather();
  if (!history.candidates.empty() || history.fragmented.id != 0 || history.needs_heartbeat())
    return false;
  // A change that waits because an older one is in flight is no candidate.
  const auto& briefs = history.all().briefs;
  for (std::size_t i = 0; i < history.entities_known.size(); ++i) {
    const World::State::Brief& brief = briefs[history.entities_known.id(i)];
    if (!history.entities_known.look(i).in_view || !brief.alive) continue;
    const ClientEntity& copy = history.entities_known[i];
    const Baseline& baseline = copy.baseline();
    const bool sent =
        copy.sent_snapshot != 0 && !copy.sent_gone && copy.sent_generation == brief.generation;
    const bool has = baseline.known && baseline.generation == brief.generation;
    // What is in flight is sent again in the next tick.
    if (history.repeats(i) && !(has && brief.changed_at <= baseline.ticks[0])) return false;
    if (brief.changed_at > (sent ? copy.sent_tick : has ? baseline.ticks[0] : 0)) return false;
  }
  return true;
}

// Whether everything in view has been acknowledged at least once.
bool ClientReplicator::view_complete() const {
  BaselineHistory& history = *state_->history;
  const auto& briefs = history.all().briefs;
  for (std::size_t i = 0; i < history.entities_known.size(); ++i) {
    const ClientEntity& copy = history.entities_known[i];
    const World::State::Brief& brief = briefs[history.entities_known.id(i)];
    const bool there = copy.sure.known && copy.sure.generation == brief.generation;
    if (history.entities_known.look(i).in_view && brief.alive && !there) return false;
  }
  return true;
}

// Whether the client may know of the entity: surely, or by a snapshot in flight.
bool ClientReplicator::knows(schema::AnyRef entity) const {
  BaselineHistory& history = *state_->history;
  const auto index = history.entities_known.find(entity.id);
  if (!index || !history.all().briefs[entity.id].alive) return false;
  const auto is_it = [&](const Baseline& baseline) {
    return baseline.known && baseline.generation == entity.generation;
  };
  return is_it(history.entities_known[*index].sure) ||
         is_it(history.entities_known[*index].baseline());
}

// The longest wait, in ticks, of an entity in view that has a change to send. O(entities in view).
std::uint32_t ClientReplicator::oldest_wait() const {
  BaselineHistory& history = *state_->history;
  std::uint32_t longest = 0;
  for (std::size_t i = 0; i < history.entities_known.size(); ++i) {
    const ClientEntity& copy = history.entities_known[i];
    if (history.entities_known.look(i).in_view && copy.waiting_since != 0 &&
        copy.waiting_since <= history.tick()) {
      longest = std::max(longest, history.tick() - copy.waiting_since + 1);
    }
  }
  return longest;
}

void ReplicatorCounts::add(const ReplicatorCounts& other) {
  snapshots += other.snapshots;
  bits += other.bits;
  whole += other.whole;
  changed += other.changed;
  predicted += other.predicted;
  gone += other.gone;
  fragmented += other.fragmented;
  deferred += other.deferred;
  discarded += other.discarded;
  full_resyncs += other.full_resyncs;
  resyncs += other.resyncs;
  desyncs += other.desyncs;
  longest_wait = std::max(longest_wait, other.longest_wait);
}

void ReplicatorCounts::subtract(const ReplicatorCounts& other) {
  snapshots -= other.snapshots;
  bits -= other.bits;
  whole -= other.whole;
  changed -= other.changed;
  predicted -= other.predicted;
  gone -= other.gone;
  fragmented -= other.fragmented;
  deferred -= other.deferred;
  discarded -= other.discarded;
  full_resyncs -= other.full_resyncs;
  resyncs -= other.resyncs;
  desyncs -= other.desyncs;
}

const ReplicatorCounts& ClientReplicator::counts() const {
  State& s = *state_;
  s.counts = s.history->counts;
  s.counts.bits += s.head_bits;
  s.counts.add(s.elsewhere);
  return s.counts;
}

std::size_t ClientReplicator::memory() const {
  const State& s = *state_;
  return sizeof(State) + s.acks.capacity() * sizeof(std::uint32_t) +
         s.history->memory() / s.history->replicators;
}

}  // namespace kwind::replica
