// The payload source of one client: finds a shared snapshot or encodes one, and takes delivery
// reports, desync reports and resync requests.
//
// Two clients with equal history, view and acknowledgements need equal snapshots. Such clients
// share a BaselineHistory (reference counted, copied on write); a Step is the way from one shared
// history to the next, with the bits of its snapshot. The first client of a group encodes and
// leaves the Step, the others copy its bits. A loss, an acknowledgement of its own or another view
// parts a client from the group; rejoin() finds a group that became equal again.
#include "kwind/replica/client_replicator.h"

#include <algorithm>
#include <utility>

#include "kwind/core/prefetch.h"
#include "kwind/replica/interest.h"
#include "replica/coding/desync_report.h"
#include "replica/coding/snapshot_head.h"
#include "replica/server/replicator_state.h"
#include "replica/server/shared_histories.h"
#include "replica/server/snapshot_builder.h"

namespace kwind::replica {

ClientReplicator::ClientReplicator(World& world, const ReplicatorOptions& options)
    : state_(std::make_unique<State>(world, options)) {
  // Tables that were trained on the other mode cost up to half more: an assertion and not a
  // surprise.
  const auto trained = state_->history->codes().trained_on();
  KWIND_ASSERT(!trained ||
               *trained == (options.speculative_baselines ? SnapshotModes::speculative_baselines
                                                          : SnapshotModes::exact));
}

ClientReplicator::ClientReplicator(ClientReplicator&&) noexcept = default;

ClientReplicator& ClientReplicator::operator=(ClientReplicator&&) noexcept = default;

ClientReplicator::~ClientReplicator() = default;

// A view that is the same as before keeps the replicator in its shared history.
void ClientReplicator::see(std::span<const RelevantEntity> in_view) {
  // A comparison of two lists; most views are those of the tick before.
  State& s = *state_;
  if (s.history.is_shared() && s.history->sees(in_view)) return;
  s.own().see(in_view);
}

// The query counts its revisions: a view that did not change costs one comparison.
void ClientReplicator::see(InterestQuery& query) {
  query.update();
  if (!state_->history->sees(query)) state_->own().see(query);
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
    kwind::prefetch(&*s.history, sizeof(BaselineHistory));
  } else if (s.history.clients() == 1) {  // what clients share is in the cache already
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
  if (!s.history->tick()) return std::nullopt;
  bool whole = false;
  if (s.symbol_counts != nullptr) {
    s.own();  // it counts its own snapshots, so that it makes each of them
  } else {
    s.rejoin();
  }
  if (!s.history.is_shared()) return s.make_snapshot(out, nullptr, whole);
  std::uint64_t view = 0;
  if (s.query != nullptr) {
    s.query->update();
    view = s.query->revision();
  }
  // A step leads from one shared history to the next. Equal history, view and acknowledgements give
  // equal snapshots, so the first client writes the snapshot and the others copy its bits.
  const HistoryRef before = s.history.ref();
  // The step carries the acknowledgements that it took in: they must be equal, in order.
  const Step* const step = before->find_step(view, s.acks);
  if (step != nullptr) {
    const auto snapshot = s.follow(*step, out);
    if (snapshot || !step->has_snapshot) return snapshot;
  }
  // A Step is made only if there is none yet for these inputs.
  Step* const made = step == nullptr ? before->begin_step() : nullptr;
  if (made != nullptr) {
    made->view = view;
    made->acks = s.acks;
  }
  s.own();
  const auto snapshot = s.make_snapshot(out, made, whole);
  if (made != nullptr && whole) s.histories->end_step(before, *made, s.history.ref());
  return snapshot;
}

// Counters go on as if the replicator had always been in that history.
void ClientReplicator::State::rejoin() {
  const HistoryRef joined = histories->group_like(history.ref());
  if (joined == history.ref()) return;
  elsewhere.add(history->replicator_counts());
  // Invariant: elsewhere + history.counts is what this client was sent, whichever history it is
  // in.
  elsewhere.subtract(joined->history.replicator_counts());
  history.move_to(joined);
}

// Input numbers are the client's own. They are relative to the tick, in 16 bits; 0 stands for none.
ClientReplicator::State::Head ClientReplicator::State::head_of(const SnapshotHead& heading,
                                                               SymbolCounts* counter) const {
  SnapshotMark mark = heading.mark;
  SnapshotMark named = heading.named_mark;
  // Wraps after 65,535 ticks; the client widens the number by the tick.
  if (any_input) mark.input = 1 + ((input - mark.tick.raw()) & 0xffffU);
  if (any_input) named.input = inputs[heading.named % inputs.size()];
  Head head;
  head.input = mark.input;
  bits::Writer out(head.bytes);
  write_head(out, mark, heading.named ? &named : nullptr, heading.digest, heading.sections,
             {tick_rate_of(history->world().options.ticks_per_second),
              static_cast<std::uint16_t>(history->codes().digest()),
              history->options().speculative_baselines},
             history->codes().inside().heads, counter != nullptr ? &counter->heads() : nullptr);
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
  return std::max(usual, all) + (heading.named ? 0 : kOtherSectionsBits);
}

// The head is the client's own, because of its inputs; the body may be shared.
void ClientReplicator::State::send(bits::Writer& out, const SnapshotHead& heading, const Head& head,
                                   std::span<const std::byte> body, std::size_t bits) {
  // Bits of the head never count as the body's room.
  out.put_bits(head.bytes, head.bits);
  out.put_bits(body, bits);
  if (any_input) inputs[heading.mark.snapshot % inputs.size()] = head.input;
  head_bits += head.bits;
}

// The body is written before the head, whose size depends on it: room for the longest head is kept.
std::optional<std::uint64_t> ClientReplicator::State::make_snapshot(bits::Writer& out, Step* made,
                                                                    bool& whole) {
  SnapshotBuilder builder(own(), *shared, symbol_counts);
  // The order of the four steps is that of SnapshotBuilder.
  SnapshotHead heading;
  // Nothing is due: for clients that share the history the step says so, too.
  if (!builder.begin(query, acks, heading)) {
    if (made != nullptr) made->has_snapshot = false;
    whole = true;
    return std::nullopt;
  }
  const std::size_t head_bits_max = longest_head(heading);
  if (out.room_bits() < head_bits_max) return std::nullopt;
  const SharedBitsCounts before = shared->counts;
  room.now = out.room_bits() - head_bits_max;
  if (made != nullptr) made->room = room;
  // Only a committed snapshot has a number that an acknowledgement can name.
  const auto plan = builder.plan(heading, room);
  if (!plan) return std::nullopt;
  heading.sections = plan->sections;
  const std::size_t bits = builder.encode(*plan);
  const bool limited = builder.commit(heading, *plan, bits);
  const std::vector<std::byte>& body = builder.body();
  send(out, heading, head_of(heading, symbol_counts), body, bits);
  whole = true;
  if (made == nullptr) return heading.mark.snapshot.raw();
  made->has_snapshot = true;
  made->heading = heading;
  made->bits = bits;
  made->room.lost = room.lost;
  made->limited = limited;
  const SharedBitsCounts& after = shared->counts;
  made->changes = after.shared + after.written - before.shared - before.written;
  made->body.assign(body.begin(),
                    body.begin() + static_cast<std::ptrdiff_t>(bits::bytes_for(bits)));
  return heading.mark.snapshot.raw();
}

// A body that was cut to its room fits only where there is exactly as much.
// Writes the snapshot of a step that another client made, after a head of its own.
std::optional<std::uint64_t> ClientReplicator::State::follow(const Step& step, bits::Writer& out) {
  if (step.has_snapshot) {
    const std::size_t head_bits_max = longest_head(step.heading);
    // The body is as long as when it was made; the head may be longer.
    if (out.room_bits() < head_bits_max + step.bits) return std::nullopt;
    room.now = out.room_bits() - head_bits_max;
    if (step.limited && !(room.now == step.room.now && room.roomiest == step.room.roomiest)) {
      return std::nullopt;
    }
    room.lost = step.room.lost;
    room.note();
    send(out, step.heading, head_of(step.heading, nullptr), step.body, step.bits);
    shared->counts.shared += step.changes;
  }
  acks.clear();
  const auto snapshot = step.has_snapshot
                            ? std::optional<std::uint64_t>(step.heading.mark.snapshot.raw())
                            : std::nullopt;
  history.move_to(step.to);
  return snapshot;
}

// Acks wait for the next fill(): until then clients that received the same stay together.
void ClientReplicator::acked(std::uint64_t token) {
  // Tokens are snapshot numbers: the link keeps them for each datagram.
  state_->acks.emplace_back(static_cast<std::uint32_t>(token));
}

// The history is parted from those of other clients only if the loss changes anything.
void ClientReplicator::lost(std::uint64_t token) {
  State& s = *state_;
  const SnapshotNumber snapshot(static_cast<std::uint32_t>(token));
  if (s.history->may_lose(snapshot)) s.own().lose(snapshot);
}

// Travels in the head of each snapshot, for the client's prediction.
void ClientReplicator::last_processed_input(std::uint32_t number) {
  state_->input = number;
  state_->any_input = true;
}

// Symbols are counted by mode: exact and speculative snapshots have different statistics.
void ClientReplicator::count_into(SymbolCounts* symbol_counts) {
  state_->symbol_counts = symbol_counts;
  if (symbol_counts == nullptr) return;
  symbol_counts->count_snapshots_of(state_->history->options().speculative_baselines
                                        ? SnapshotModes::speculative_baselines
                                        : SnapshotModes::exact);
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
  const Tick now = s.history->tick();
  // Once a second, and only of a digest that was sent since the last one.
  if (s.reported_at && now - s.reported_at < a_second()) return Errc::rate_limited;
  // A client without a digest cannot know of a desync: such a report is an attack or a mistake.
  if (!s.history->last_digest() || s.history->last_digest() == s.reported_digest)
    return Errc::unexpected;
  s.reported_at = std::max(now, Tick(1));
  s.reported_digest = s.history->last_digest();
  // The history is shared with others until something is found.
  std::vector<std::pair<EntityId, std::string_view>> differing;
  // read_report() has bounded the number of entities.
  for (const DesyncedEntity& each : *report) {
    bool fits = true;
    if (const auto field = s.history->differing_field(each, fits))
      differing.emplace_back(each.id, *field);
    if (!fits) return Errc::value_range;
  }
  BaselineHistory& history = s.own();
  for (const auto& [id, field] : differing) {
    const Desync desync = history.repair(id, field);
    if (s.desync_handler) s.desync_handler(desync);
  }
  // It differs where the report does not reach.
  if (differing.empty()) {
    history.count_desync();
    history.full_resync();
  }
  return Errc::none;
}

std::uint32_t ClientReplicator::a_second() const {
  const double ticks = state_->history->world().options.ticks_per_second;
  return static_cast<std::uint32_t>(std::max(ticks, 1.0));
}
// The client cannot build on what arrives. Granted once a second, and not while a snapshot that the
// client waits for may still arrive or be repeated.
Errc ClientReplicator::receive_resync_request(std::uint32_t snapshot) {
  State& s = *state_;
  const BaselineHistory& history = *s.history;
  const Tick now = history.tick();
  if (s.resynced_at && now - s.resynced_at < a_second()) return Errc::rate_limited;
  if (!history.newest_snapshot()) return Errc::unexpected;
  const SnapshotNumber last = history.newest_snapshot();
  const SnapshotNumber number = last - ((last.raw() - snapshot) & kSnapshotLowMask);
  if (number && history.may_still_be_read(number)) return Errc::unexpected;
  s.resynced_at = std::max(now, Tick(1));
  // The number has the low bits alone; the newest snapshot with these bits is meant.
  resync();
  s.own().count_resync();
  return Errc::none;
}

// The next snapshot builds on nothing: the whole view is sent again.
void ClientReplicator::resync() {
  // Before the next snapshot a second one changes nothing.
  // Invariant: full_resync() is idempotent until a snapshot was sent.
  if (state_->history->starts_anew()) return;
  state_->own().full_resync();
}

// What a bound query sees now, and not what it saw when the last snapshot was made.
bool ClientReplicator::complete() const {
  const State& s = *state_;
  if (s.query != nullptr && !s.history->has_in_view(s.query->update())) return false;
  return s.history->complete();
}
bool ClientReplicator::view_complete() const {
  return state_->history->view_complete();
}
bool ClientReplicator::knows(schema::AnyRef entity) const {
  return state_->history->knows(entity);
}
std::uint32_t ClientReplicator::oldest_wait() const {
  return state_->history->oldest_wait();
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
  s.counts = s.history->replicator_counts();
  s.counts.bits += s.head_bits;
  s.counts.add(s.elsewhere);
  return s.counts;
}

std::size_t ClientReplicator::memory() const {
  const State& s = *state_;
  return sizeof(State) + s.acks.capacity() * sizeof(std::uint32_t) +
         s.history->memory() / s.history.clients();
}

}  // namespace kwind::replica
