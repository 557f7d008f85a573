// Reads snapshots into staged updates, whole or not at all. client_world_apply.cpp applies them.
//
// A snapshot is applied only if everything that it builds on is here. One that arrives before its
// base waits in a ring, and is tried again after each snapshot that was taken. A snapshot counts
// whole or not at all: updates are read into `staged` first, and nothing of the world changes
// before all of them are read.
#include "kwind/replica/client_world.h"

#include <algorithm>
#include <utility>

#include "replica/client/client_world_state.h"
#include "replica/coding/delta_codec.h"
#include "replica/coding/desync_report.h"
#include "replica/coding/snapshot_head.h"
#include "replica/coding/state_digest.h"

namespace kwind::replica {

ClientWorld::ClientWorld(const schema::EntitiesInfo& entities, double ticks_per_second,
                         std::shared_ptr<const CodeTables> codes, std::uint16_t version)
    : state_(std::make_unique<State>(entities, version, ticks_per_second, std::move(codes))) {}
ClientWorld::ClientWorld(ClientWorld&& other) noexcept
    : state_(std::move(other.state_)), self_(std::move(other.self_)) {
  if (self_) *self_ = this;
}
// Views of the world follow it to its new place.
ClientWorld& ClientWorld::operator=(ClientWorld&& other) noexcept {
  if (this == &other) return *this;
  state_ = std::move(other.state_);
  if (other.self_) *other.self_ = nullptr;
  other.self_.reset();
  return *this;
}
ClientWorld::~ClientWorld() {
  if (self_) *self_ = nullptr;
}
std::shared_ptr<ClientWorld* const> ClientWorld::self() {
  if (!self_) self_ = std::make_shared<ClientWorld*>(this);
  return self_;
}

// A handler, or memory, that fails in the middle leaves a world of which some entities are new and
// others old. From then on only a full snapshot is taken, and the next request asks for one.
Errc ClientWorld::receive(std::span<const std::byte> payload, std::size_t bits) {
  try {
    return state_->receive(payload, bits);
  } catch (...) {
    state_->broken = true;
    state_->blocked = low_of_snapshot(payload);
    throw;
  }
}

// Takes a snapshot, and then those that waited for it. A snapshot whose base has not arrived yet is
// kept, and its number is what a resync request names until the base has come.
Errc ClientWorld::State::receive(std::span<const std::byte> payload, std::size_t bits) {
  const Errc error = take_snapshot(payload, bits);
  if (error == Errc::base_missing) {
    blocked = low_of_snapshot(payload);
    keep(payload, bits);
    return error;
  }
  if (error != Errc::none) return error;
  while (waiting_now > 0 && take_waiting()) {
  }
  if (waiting_now == 0) blocked.reset();
  return Errc::none;
}

std::optional<std::uint32_t> ClientWorld::wants_resync() const {
  return state_->blocked;
}

// In four steps: read the head, refuse what must not be taken, read all updates into `staged`,
// apply them. Nothing of the world changes before the last step, so a snapshot counts whole or not
// at all. Errors: those of receive().
Errc ClientWorld::State::take_snapshot(std::span<const std::byte> payload, std::size_t bits) {
  bits::Reader in(payload, bits);
  std::optional<std::uint32_t> digest;
  SnapshotTerms terms_in_head = terms;
  const auto mark =
      read_head(in, marks, latest, terms_in_head, digest, sections, codes->inside().heads,
                symbol_counts != nullptr ? &symbol_counts->heads() : nullptr);
  if (!mark) {
    // Of the time before a full resync that overtook it: the marks of that time are gone, and
    // nothing is to wait for them.
    const bool is_old =
        mark.error() == Errc::base_missing && snapshot_number(payload, latest) < start;
    return is_old ? Errc::replayed : mark.error();
  }
  // Of the time before a full resync: the server has started its history anew since.
  if (mark->start < start) return Errc::replayed;
  if (broken && mark->newest) return Errc::base_missing;
  // A full snapshot that begins another history replaces the world.
  const bool anew = mark->start > start || broken;
  if (!anew && (marks.find(mark->snapshot) != nullptr || is_void(mark->snapshot))) {
    return Errc::replayed;
  }
  if (terms_in_head.rate != terms.rate) {
    if (!anew) return Errc::value_range;
    set_rate(terms_in_head.rate);
  }
  terms = terms_in_head;
  // The mark names every snapshot that the server assumed delivered: predictions and ranks follow
  // from all of them.
  if (!all_here(marks, *mark)) return Errc::base_missing;
  if (!anew && builds_on_void(*mark)) return Errc::replayed;  // then nothing builds on it, either
  staged.clear();
  rows_used = 0;
  staged_chunks = {};
  of_no_use = false;
  acked_snapshots = AckedSnapshots(marks, *mark);
  if (const Errc error = read(in, *mark); error != Errc::none) return error;
  if (anew) {
    full_resync(mark->start);
    broken = false;
  } else if (digest) {
    check(*mark, *digest);
  }
  ++counts.snapshots;
  if (symbol_counts != nullptr) {
    symbol_counts->count_snapshots_of(
        terms.speculative_baselines ? SnapshotModes::speculative_baselines : SnapshotModes::exact);
  }
  take(*mark);
  return Errc::none;
}

// It can be read once what it builds on has come. There is room for all that can be in flight.
void ClientWorld::State::keep(std::span<const std::byte> payload, std::size_t bits) {
  constexpr std::size_t kLargest = 2048;
  if (payload.size() > kLargest) return;
  const SnapshotNumber snapshot = snapshot_number(payload, latest);
  Waiting& place = waiting[snapshot % waiting.size()];
  if (!place.snapshot) {
    ++waiting_now;
  } else {
    ++counts.unread;
  }
  place.snapshot = snapshot;
  place.bits = bits;
  place.bytes.assign(payload.begin(), payload.end());
  ++counts.waited;
}

// False if none could be taken.
bool ClientWorld::State::take_waiting() {
  bool any = false;
  // One that is taken may be the base of others, so receive() calls this until nothing more is
  // taken. From the oldest that may wait, to the newest.
  const SnapshotNumber first = latest;
  for (std::uint32_t i = 0; i < waiting.size(); ++i) {
    Waiting& place = waiting[(first + i) % waiting.size()];
    if (!place.snapshot) continue;
    const bool old = place.snapshot < start ||
                     (latest > place.snapshot && latest - place.snapshot >= kSnapshotWindow);
    const Errc error = old ? Errc::replayed : take_snapshot(place.bytes, place.bits);
    if (error == Errc::base_missing) continue;
    if (error != Errc::none) ++counts.unread;
    place.snapshot = {};
    --waiting_now;
    any = any || error == Errc::none;
  }
  return any;
}

// All sections of a snapshot into staging; nothing takes effect before all of it was read.
Errc ClientWorld::State::read(bits::Reader& in, const SnapshotMark& mark) {
  const auto wrong = [&] {
    if (!in.ok()) return Errc::truncated;
    return of_no_use ? Errc::replayed : Errc::value_range;
  };
  edits_left = kMaxEditedSize;
  // The sections stand in the order of docs/state-format.md: continuing, unexpected, spawns,
  // fragments.
  find_continuing(mark);
  if (sections.continuing) {
    // Between two snapshots others use the caches: memory is asked for ahead of its use.
    const auto ahead = [&](std::size_t i, std::size_t by) -> Entity& {
      return entities[continuing[std::min(i + by, continuing.size() - 1)]];
    };
    for (std::size_t i = 0; i < continuing.size(); ++i) {
      kwind::prefetch(&ahead(i, 12), sizeof(Entity));
      ahead(i, 8).received.prefetch();
      ahead(i, 4).received.prefetch_values(widths);
      if (!read_continuing(in, mark, continuing[i], true)) return wrong();
    }
  }
  const std::size_t continuing_staged = staged.size();
  if (sections.unexpected) {
    rank_unexpected(mark,
                    sections.continuing ? std::span(continuing) : std::span<const EntityId>{});
    std::size_t rank = 0;
    do {
      // A rank counts among the entities that are known and not listed as continuing.
      rank += in.get_count(kRankOrder);
      if (!in.ok() || rank >= known_ids.size()) return wrong();
      if (!read_continuing(in, mark, known_ids[rank++], false)) return wrong();
    } while (in.get_bool());
  }
  if (sections.spawns) {
    std::uint64_t id = 0;
    do {
      id += in.get_count(kIdOrder) + 1;
      if (!in.ok() || id > info.up_to) return wrong();
      // Its bits came in fragments before, or stand here.
      const bool unpacks = sections.fragments && in.get_bool();
      const EntityId arrived(static_cast<std::uint32_t>(id));
      if (unpacks ? !read_last_fragment(in, mark, arrived) : !read_arrival(in, mark, arrived)) {
        return wrong();
      }
    } while (in.get_bool());
  }
  if (sections.fragments && !read_fragments(in)) return wrong();
  if (!in.ok()) return Errc::truncated;
  if (in.left_bits() > 0) return Errc::trailing_bits;
  sort_staged(continuing_staged);
  // Two updates of one entity: no server writes that.
  const bool twice =
      std::adjacent_find(staged.begin(), staged.end(),
                         [](const auto& a, const auto& b) { return a.id == b.id; }) != staged.end();
  return twice ? Errc::value_range : Errc::none;
}

// Those that the snapshots of the base's tick speak of, as far as the server assumes them
// delivered.
void ClientWorld::State::find_continuing(const SnapshotMark& mark) {
  continuing.clear();
  const SnapshotMark* const named = marks.find(mark.newest);
  if (named == nullptr) return;
  SnapshotNumber first = mark.newest;
  for (std::uint32_t back = 1; back < kSnapshotWindow && back < mark.newest.raw(); ++back) {
    const SnapshotMark* const before = marks.find(mark.newest - back);
    if (before == nullptr) continue;  // lost
    if (before->tick != named->tick) break;
    first = mark.newest - back;
  }
  for (SnapshotNumber snapshot = first; snapshot <= mark.newest; ++snapshot) {
    // A snapshot that arrived here may be one that the server took for lost: it does not count on
    // it.
    if (snapshot != mark.newest && !acked_snapshots.contain(snapshot)) continue;
    const Taken& taken = received_snapshots[snapshot % received_snapshots.size()];
    if (taken.snapshot != snapshot) continue;
    if (continuing.empty()) {
      continuing = taken.there;
      continue;
    }
    for (const EntityId id : taken.ids) {
      // A later snapshot of the same tick: an entity that it updated joins, one that it despawned
      // leaves.
      const auto place = std::lower_bound(continuing.begin(), continuing.end(), id);
      const bool here = place != continuing.end() && *place == id;
      const bool speaks = std::binary_search(taken.there.begin(), taken.there.end(), id);
      if (speaks && !here) continuing.insert(place, id);
      if (!speaks && here) continuing.erase(place);
    }
  }
}

// By id. Most are continuing, and these stand in order already.
void ClientWorld::State::sort_staged(std::size_t sorted) {
  const auto by_id = [](const Staged& a, const Staged& b) { return a.id < b.id; };
  const auto rest = staged.begin() + static_cast<std::ptrdiff_t>(sorted);
  std::sort(rest, staged.end(), by_id);
  staged_by_id.resize(staged.size());
  std::merge(staged.begin(), rest, rest, staged.end(), staged_by_id.begin(), by_id);
  std::swap(staged, staged_by_id);
}

// Bits of one entity that the server expects to change: none, a delta, or a despawn.
bool ClientWorld::State::read_continuing(bits::Reader& in, const SnapshotMark& mark, EntityId id,
                                         bool is_continuing) {
  const ReceivedState* last = nullptr;
  // The states that the server predicted from: those of snapshots that it knows to have arrived.
  const std::size_t count = states_known(mark, id, baselines, last);
  if (count == 0 || mark.tick < last->tick) return false;
  const EntityModel& model = models[last->type];
  const CodeTables::Inside::Type& type_tables = codes->inside().types[last->type];
  const std::size_t age = age_of(mark.tick - last->tick);
  const auto symbol =
      (is_continuing ? type_tables.continuing : type_tables.unexpected)[age].read(in);
  if (!symbol) return false;
  SymbolCounts::Type* const counted =
      symbol_counts != nullptr ? &symbol_counts->types()[last->type] : nullptr;
  const std::size_t masks = model.masks();
  if (counted != nullptr && *symbol >= masks)
    ++(is_continuing ? counted->continuing : counted->unexpected)[age][*symbol];
  // One symbol says which columns changed, or nothing at all, or that the entity despawned.
  if (is_continuing && *symbol == masks) return true;  // nothing, here
  Staged& each = stage(id, mark, *symbol < masks ? Update::delta : Update::despawn);
  OwnRow& row = rows[each.row];
  // Generation, type and owner stay those of the newest state: only a spawn has others.
  // Field by field: a copy of a whole record would wait for its stores.
  ReceivedState& made = each.record;
  made.generation = last->generation;
  made.type = last->type;
  made.owner = last->owner;
  if (made.update == Update::despawn) {
    row.numbers.clear();
    row.varying.clear();
    return true;
  }
  if (!read_tick(in, model, made.tick) || made.tick < last->tick) return false;
  const Basis basis{model,
                    type_tables,
                    type_tables.predictors,
                    std::span(baselines).first(count),
                    made.tick,
                    {last->owner},
                    false,
                    &edits_left};
  if (!read_change(in, basis, static_cast<std::uint32_t>(*symbol), row)) return false;
  if (counted != nullptr) count_change(basis, row, is_continuing, *counted);
  return true;
}

// All columns of an entity that comes into view.
bool ClientWorld::State::read_arrival(bits::Reader& in, const SnapshotMark& mark, EntityId id) {
  Staged& each = stage(id, mark, Update::full);
  ReceivedState& made = each.record;
  made.generation = static_cast<std::uint8_t>(in.get(kGenerationBits));
  const auto type = type_codes.type_of(in.get(type_codes.bits()));
  made.owner = in.get_bool();
  if (!in.ok() || !type) return false;
  made.type = *type;
  if (!read_tick(in, models[made.type], made.tick)) return false;
  return read_whole(in, models[made.type], rows[each.row], {made.owner});
}

// The last part of a fragmented entity: its number, how many fragments it has, how long ago it was
// packed, and the rest of its bits.
// The bits that came ahead, and behind them those here.
bool ClientWorld::State::read_last_fragment(bits::Reader& in, const SnapshotMark& mark,
                                            EntityId id) {
  const auto number = static_cast<std::uint8_t>(in.get(kFragmentedNumberBits));
  const std::uint64_t fragments = in.get_count(kFragmentOrder);
  const std::uint64_t lag = in.get_count(kFragmentedLagOrder);
  const std::uint64_t rest = in.get(kRestBits);
  if (!in.ok() || fragments == 0 || fragments > max_chunks || lag >= mark.tick.raw()) return false;
  const auto ahead = unpacking.first(number, static_cast<std::size_t>(fragments));
  // The server has discarded both that snapshot and this one.
  of_no_use = ahead.empty();
  if (of_no_use) return false;
  unpacked.assign(ahead.begin(), ahead.end());
  unpacked.resize(ahead.size() + kFragmentBytes);
  if (!in.get_bits(std::span(unpacked).subspan(ahead.size()), static_cast<std::size_t>(rest))) {
    return false;
  }
  bits::Reader body(unpacked, ahead.size() * 8 + static_cast<std::size_t>(rest));
  // The values are those of the tick at which the server packed them.
  SnapshotMark packed = mark;
  packed.tick = mark.tick - static_cast<std::uint32_t>(lag);
  if (!read_arrival(body, packed, id) || body.left_bits() > 0) return false;
  staged.back().record.at = mark.tick;
  return true;
}

// Fragments of an entity that no datagram holds. They are staged as everything else is: a snapshot
// that fails later leaves none behind.
bool ClientWorld::State::read_fragments(bits::Reader& in) {
  const std::uint64_t count = in.get_count(kFragmentsOrder);
  if (!in.ok() || count > max_chunks) return false;
  if (count == 0) return true;
  staged_chunks.number = static_cast<std::uint8_t>(in.get(kFragmentedNumberBits));
  const std::uint64_t first = in.get_count(kFragmentOrder);
  if (!in.ok() || first + count > max_chunks || count * kFragmentBits > in.left_bits() ||
      !unpacking.reaches(staged_chunks.number, first)) {
    return false;
  }
  staged_chunks.first = static_cast<std::uint32_t>(first);
  staged_chunks.count = static_cast<std::uint32_t>(count);
  staged_bytes.resize(count * kFragmentBytes);
  return in.get_bits(staged_bytes, count * kFragmentBits);
}

// Values with a tolerance may be older than their snapshot.
bool ClientWorld::State::read_tick(bits::Reader& in, const EntityModel& model, Tick& tick) {
  if (!model.tolerant()) return true;
  const std::uint64_t lag = in.get_count(kTickLagOrder);
  if (!in.ok() || lag > kMaxTickLag || lag >= tick.raw()) return false;
  tick -= static_cast<std::uint32_t>(lag);
  return true;
}

// Whether what is here is what the server takes it for.
void ClientWorld::State::check(const SnapshotMark& mark, std::uint32_t digest) {
  find_known(mark);
  std::uint32_t sum = 0;
  const ReceivedState* last = nullptr;
  for (const EntityId id : known_ids) {
    states_known(mark, id, baselines, last);
    const std::uint32_t values = digest_of(models[last->type], baselines.front().row, last->owner);
    sum += share_of(values, id, last->generation, last->owner, last->tick);
  }
  ++counts.digests;
  // The sum of one share for each entity, so that the order does not matter and the server can keep
  // it up to date in O(1) a change.
  if (digest_of_sum(sum) == digest) return;
  ++counts.desyncs;
  desynced = mark;
}

// The report that the server asked for by its digest: what this client holds of each entity.
std::size_t ClientWorld::report(bits::Writer& out) {
  State& s = *state_;
  if (!s.desynced) return 0;
  const SnapshotMark mark = *std::exchange(s.desynced, std::nullopt);
  const std::size_t before = out.bit_count();
  std::vector<DesyncedEntity> entities;
  s.acked_snapshots = AckedSnapshots(s.marks, mark);
  s.find_known(mark);
  const ReceivedState* last = nullptr;
  for (const EntityId id : s.known_ids) {
    s.states_known(mark, id, s.baselines, last);
    const EntityModel& model = s.models[last->type];
    DesyncedEntity each{id, last->generation, last->tick.raw() & kReportTickMask, {}};
    each.columns.reserve(model.columns());
    for (std::size_t c = 0; c < model.columns(); ++c) {
      each.columns.push_back(column_hash(model, s.baselines.front().row, c, last->owner));
    }
    entities.push_back(std::move(each));
  }
  if (entities.empty()) {  // nothing to compare: only all of it can help
    s.blocked = mark.snapshot.raw() & kSnapshotLowMask;
    return 0;
  }
  write_report(out, entities);
  return out.bit_count() - before;
}

// Ids with states, kept sorted.
void ClientWorld::State::note_records(EntityId id, bool has) {
  const auto place = std::lower_bound(with_records.begin(), with_records.end(), id);
  if (has) {
    with_records.insert(place, id);
  } else if (place != with_records.end() && *place == id) {
    with_records.erase(place);
  }
}

// Entities of which the server assumes a state here, in the order in which snapshots name them.
void ClientWorld::State::find_known(const SnapshotMark& mark) {
  known_ids.clear();
  const ReceivedState* last = nullptr;
  for (std::size_t i = 0; i < with_records.size(); ++i) {
    prefetch_states(i);
    const EntityId id = with_records[i];
    if (states_known(mark, id, baselines, last) == 0) continue;
    known_ids.push_back(id);
  }
}

// Those known that are not listed as continuing: first those that changed since they appeared.
void ClientWorld::State::rank_unexpected(const SnapshotMark& mark,
                                         std::span<const EntityId> listed) {
  known_ids.clear();
  still_ids.clear();
  auto next_listed = listed.begin();
  const ReceivedState* last = nullptr;
  for (std::size_t i = 0; i < with_records.size(); ++i) {
    prefetch_states(i);
    const EntityId id = with_records[i];
    while (next_listed != listed.end() && *next_listed < id) ++next_listed;
    if (next_listed != listed.end() && *next_listed == id) continue;
    if (states_known(mark, id, baselines, last) == 0) continue;
    (last->update == Update::delta ? known_ids : still_ids).push_back(id);
  }
  known_ids.insert(known_ids.end(), still_ids.begin(), still_ids.end());
}

}  // namespace kwind::replica
