#include "kwind/replica/mirror.h"

#include <algorithm>
#include <array>
#include <utility>

#include "drift_digest.h"
#include "frame_code.h"
#include "report_code.h"
#include "state_code.h"

namespace kwind::replica {
namespace {

// Records are kept while a frame may still come that builds on them: it may be a window old, and
// name one that is a window older than it.
constexpr std::uint32_t kRecordsKept = 2 * kFrameWindow;
constexpr std::size_t kScratchBytes = std::size_t{64} * 1024;

// What a frame told of an entity.
struct Record {
  enum class Told : std::uint8_t { whole, change, gone };
  std::uint32_t frame = 0;
  std::uint32_t at = 0;    // tick of the frame
  std::uint32_t tick = 0;  // of the values
  Told told = Told::whole;
  std::uint8_t generation = 0;
  std::uint16_t kind = 0;
  bool owner = false;
  OwnRow row;
};

struct Entity {
  std::vector<Record> records;  // by frame
  bool there = false;
  std::uint8_t generation = 0;
  std::uint16_t kind = 0;
  bool owner = false;
  bool restless = false;   // as of the frame at hand: it changed since it appeared
  std::uint32_t at = 0;    // tick of the frame that told the newest of it
  std::uint32_t tick = 0;  // of `now`
  OwnRow now;
};

// Of a frame that came.
struct Told {
  std::uint32_t frame = 0;
  std::vector<std::uint32_t> ids;    // of all entities that it spoke of, ascending
  std::vector<std::uint32_t> there;  // of those that were not said to be gone
};

// A frame that builds on one that is not here yet.
struct Waiting {
  std::uint32_t frame = 0;  // 0: nothing here
  std::size_t bits = 0;
  std::vector<std::byte> bytes;
};

struct Staged {
  std::uint32_t id;
  Record record;
};

}  // namespace

struct Mirror::State {
  State(const schema::EntitiesInfo& entities_in, double ticks_per_second,
        std::shared_ptr<const CodeSet> codes_in)
      : info(entities_in),
        codes(codes_in != nullptr ? std::move(codes_in) : built_in_codes(info)),
        entities(entities_in.up_to + 1),
        told(std::size_t{2} * kRecordsKept),
        waiting(kFrameWindow),
        scratch(kScratchBytes) {
    for (const schema::EntityInfo* kind : info.kinds) shapes.emplace_back(*kind, ticks_per_second);
  }

  const schema::EntitiesInfo& info;
  std::shared_ptr<const CodeSet> codes;
  std::vector<KindShape> shapes;
  std::vector<Entity> entities;             // by id
  std::vector<std::uint32_t> with_records;  // ids, ascending
  FrameMarks marks;
  std::vector<Told> told;      // by frame
  std::uint32_t latest = 0;    // frame
  std::uint32_t resolved = 0;  // frame up to which all that the server gave up is void
  std::uint32_t start = 0;
  std::uint32_t tick = 0;
  std::size_t there = 0;
  Arrivals arrivals;  // as the maker of the frame at hand knew them
  std::vector<Waiting> waiting;
  std::size_t waiting_now = 0;
  std::uint32_t input = 0;  // FrameMark::input of the newest frame
  MirrorCounts counts;
  std::optional<FrameMark> drifted;  // the frame whose digest differed
  Tally* tally = nullptr;
  std::vector<Staged> staged;
  std::vector<std::uint32_t> known_ids;
  std::vector<Happening> happenings;
  mutable std::vector<std::byte> scratch;

  // The states of an entity that the maker of `mark` knew to be here, newest first; the newest
  // record of these in `last`.
  std::size_t states_known(const FrameMark& mark, std::uint32_t id, KnownStates& known,
                           const Record*& last) const {
    std::size_t count = 0;
    last = nullptr;
    const std::vector<Record>& records = entities[id].records;
    for (auto record = records.rbegin(); record != records.rend() && count < known.size();
         ++record) {
      // What is so old and was not given up is what all frames to come, and those still under way,
      // build on.
      const bool settled = latest >= kRecordsKept && record->frame <= latest - kRecordsKept;
      if (!settled && !arrivals.contain(record->frame)) continue;
      if (record->told == Record::Told::gone) break;
      if (count > 0 && mark.tick - record->tick > kLongestMemory) break;
      if (count == 0) last = &*record;
      known[count++] = {record->tick, record->row};
      if (record->told == Record::Told::whole) break;
    }
    return count;
  }

  void restore(const Entity& entity, const Known& known, std::uint32_t to,
               const std::function<void(schema::Decoder&)>& decode) const;
  Errc take_frame(std::span<const std::byte> payload, std::size_t bits);
  void keep(std::span<const std::byte> payload, std::size_t bits);
  bool take_waiting();
  Errc read(bits::Reader& in, const FrameMark& mark);
  void check(const FrameMark& mark, std::uint32_t digest);
  bool read_known(bits::Reader& in, const FrameMark& mark, std::uint32_t id, bool mover);
  bool read_arrival(bits::Reader& in, const FrameMark& mark, std::uint32_t id);
  // Whether the server has given the frame up, as far as the newest frame knows.
  [[nodiscard]] bool is_void(std::uint32_t frame) const {
    if (latest > frame && latest - frame >= kFrameWindow) return true;
    const FrameMark* const newest = marks.find(latest);
    return newest != nullptr && frame <= newest->newest && !marks.arrived(*newest, frame);
  }
  static bool read_tick(bits::Reader& in, const KindShape& shape, std::uint32_t& tick);
  void make_void(std::uint32_t frame);
  void note_records(std::uint32_t id, bool has);
  void find_known(const FrameMark& mark);
  void take(const FrameMark& mark);
  // `record`: nullptr if nothing is known of it (any more).
  void show(std::uint32_t id, const Record* record);
  void start_anew(std::uint32_t frame);
  void forget(std::uint32_t frame);
};

Mirror::Mirror(const schema::EntitiesInfo& entities, double ticks_per_second,
               std::shared_ptr<const CodeSet> codes)
    : state_(std::make_unique<State>(entities, ticks_per_second, std::move(codes))) {}
Mirror::Mirror(Mirror&&) noexcept = default;
Mirror& Mirror::operator=(Mirror&&) noexcept = default;
Mirror::~Mirror() = default;

Errc Mirror::receive(std::span<const std::byte> payload, std::size_t bits) {
  State& s = *state_;
  const Errc error = s.take_frame(payload, bits);
  if (error == Errc::unexpected) {
    s.keep(payload, bits);
    return Errc::none;
  }
  if (error != Errc::none) return error;
  while (s.waiting_now > 0 && s.take_waiting()) {
  }
  return Errc::none;
}

// Errors: those of receive(); unexpected if it builds on a frame that is not here.
Errc Mirror::State::take_frame(std::span<const std::byte> payload, std::size_t bits) {
  bits::Reader in(payload, bits);
  std::optional<std::uint32_t> digest;
  const auto mark = read_head(in, marks, latest, digest);
  if (!mark) return mark.error();
  if (mark->start < start) return Errc::replayed;
  const bool anew = mark->start > start;
  if (!anew && (marks.find(mark->frame) != nullptr || is_void(mark->frame))) {
    return Errc::replayed;
  }
  if (!all_here(marks, *mark)) return Errc::unexpected;
  staged.clear();
  arrivals = Arrivals(marks, *mark);
  if (const Errc error = read(in, *mark); error != Errc::none) return error;
  if (anew) {
    start_anew(mark->start);
  } else if (digest) {
    check(*mark, *digest);
  }
  ++counts.frames;
  take(*mark);
  return Errc::none;
}

// It can be read once what it builds on has come. There is room for all that can be under way.
void Mirror::State::keep(std::span<const std::byte> payload, std::size_t bits) {
  constexpr std::size_t kLargest = 2048;
  if (payload.size() > kLargest) return;
  const std::uint32_t frame = frame_number(payload, latest);
  Waiting& place = waiting[frame % waiting.size()];
  if (place.frame == 0) ++waiting_now;
  place.frame = frame;
  place.bits = bits;
  place.bytes.assign(payload.begin(), payload.end());
  ++counts.waited;
}

// False if none could be taken.
bool Mirror::State::take_waiting() {
  bool any = false;
  for (std::uint32_t i = 0; i < waiting.size(); ++i) {
    // From the oldest that may wait, to the newest.
    Waiting& place = waiting[(latest + i) % waiting.size()];
    if (place.frame == 0) continue;
    const bool old =
        place.frame < start || (latest > place.frame && latest - place.frame >= kFrameWindow);
    const Errc error = old ? Errc::replayed : take_frame(place.bytes, place.bits);
    if (error == Errc::unexpected) continue;
    place.frame = 0;
    --waiting_now;
    any = any || error == Errc::none;
  }
  return any;
}

Errc Mirror::State::read(bits::Reader& in, const FrameMark& mark) {
  const auto wrong = [&] { return in.ok() ? Errc::value_range : Errc::truncated; };
  const Sections sections = read_sections(in, mark);
  if (!in.ok()) return Errc::truncated;
  const std::vector<std::uint32_t>& movers = told[mark.newest % told.size()].there;
  if (sections.movers) {
    for (const std::uint32_t id : movers) {
      if (!read_known(in, mark, id, true)) return wrong();
    }
  }
  if (sections.others) {
    find_known(mark);
    if (sections.movers) {
      std::erase_if(known_ids, [&](std::uint32_t id) {
        return std::binary_search(movers.begin(), movers.end(), id);
      });
    }
    // First those that changed since they appeared.
    std::stable_partition(known_ids.begin(), known_ids.end(),
                          [&](std::uint32_t id) { return entities[id].restless; });
    std::size_t rank = 0;
    do {
      rank += in.get_count(kRankOrder);
      if (!in.ok() || rank >= known_ids.size()) return wrong();
      if (!read_known(in, mark, known_ids[rank++], false)) return wrong();
    } while (in.get_bool());
  }
  if (sections.arrivals) {
    std::uint64_t id = 0;
    do {
      id += in.get_count(kIdOrder) + 1;
      if (!in.ok() || id > info.up_to) return wrong();
      if (!read_arrival(in, mark, static_cast<std::uint32_t>(id))) return wrong();
    } while (in.get_bool());
  }
  if (!in.ok()) return Errc::truncated;
  if (in.left_bits() > 0) return Errc::trailing_bits;
  std::stable_sort(staged.begin(), staged.end(),
                   [](const Staged& a, const Staged& b) { return a.id < b.id; });
  const bool twice =
      std::adjacent_find(staged.begin(), staged.end(),
                         [](const auto& a, const auto& b) { return a.id == b.id; }) != staged.end();
  return twice ? Errc::value_range : Errc::none;
}

bool Mirror::State::read_known(bits::Reader& in, const FrameMark& mark, std::uint32_t id,
                               bool mover) {
  KnownStates known;
  const Record* last = nullptr;
  const std::size_t count = states_known(mark, id, known, last);
  if (count == 0 || mark.tick < last->tick) return false;
  const KindShape& shape = shapes[last->kind];
  const CodeSet::Inside::Kind& kind_codes = codes->inside().kinds[last->kind];
  const std::size_t age = age_of(mark.tick - last->tick);
  const auto symbol = (mover ? kind_codes.movers : kind_codes.others)[age].read(in);
  if (!symbol) return false;
  Tally::Kind* const counted = tally != nullptr ? &tally->kinds()[last->kind] : nullptr;
  if (counted != nullptr) ++(mover ? counted->movers : counted->others)[age][*symbol];
  const std::size_t masks = shape.masks();
  Record made{mark.frame,       mark.tick,  mark.tick,   Record::Told::change,
              last->generation, last->kind, last->owner, {}};
  if (*symbol < masks) {
    if (!read_tick(in, shape, made.tick) || made.tick < last->tick) return false;
    const Basis basis{shape, kind_codes, std::span(known).first(count), made.tick, {last->owner}};
    if (!read_change(in, basis, static_cast<std::uint32_t>(*symbol), made.row, counted)) {
      return false;
    }
  } else if (mover && *symbol == masks) {
    return true;  // nothing, here
  } else {
    made.told = Record::Told::gone;
  }
  staged.push_back({id, std::move(made)});
  return true;
}

bool Mirror::State::read_arrival(bits::Reader& in, const FrameMark& mark, std::uint32_t id) {
  Record made{mark.frame, mark.tick, mark.tick, Record::Told::whole, 0, 0, false, {}};
  made.generation = static_cast<std::uint8_t>(in.get(kGenerationBits));
  made.kind = static_cast<std::uint16_t>(in.get(bits::bits_for(shapes.size())));
  made.owner = in.get_bool();
  if (!in.ok() || made.kind >= shapes.size()) return false;
  if (!read_tick(in, shapes[made.kind], made.tick)) return false;
  if (!read_whole(in, shapes[made.kind], made.row, {made.owner})) return false;
  staged.push_back({id, std::move(made)});
  return true;
}

// Values with a tolerance may be older than their frame.
bool Mirror::State::read_tick(bits::Reader& in, const KindShape& shape, std::uint32_t& tick) {
  if (!shape.tolerant()) return true;
  const std::uint64_t lag = in.get_count(kTickLagOrder);
  if (!in.ok() || lag > kMostTickLag || lag >= tick) return false;
  tick -= static_cast<std::uint32_t>(lag);
  return true;
}

// Whether what is here is what the server takes it for.
void Mirror::State::check(const FrameMark& mark, std::uint32_t digest) {
  find_known(mark);
  DriftDigest made;
  KnownStates known;
  const Record* last = nullptr;
  for (const std::uint32_t id : known_ids) {
    states_known(mark, id, known, last);
    made.add(id, last->generation, last->owner, last->tick, shapes[last->kind], last->row);
  }
  ++counts.digests;
  if (made.bits(kDigestBits) == digest) return;
  ++counts.drifts;
  drifted = mark;
}

std::size_t Mirror::report(bits::Writer& out) {
  State& s = *state_;
  if (!s.drifted) return 0;
  const FrameMark mark = *std::exchange(s.drifted, std::nullopt);
  const std::size_t before = out.bit_count();
  std::vector<ReportedEntity> entities;
  s.arrivals = Arrivals(s.marks, mark);
  s.find_known(mark);
  KnownStates known;
  const Record* last = nullptr;
  for (const std::uint32_t id : s.known_ids) {
    s.states_known(mark, id, known, last);
    const KindShape& shape = s.shapes[last->kind];
    ReportedEntity each{id, last->generation, last->tick & kReportTickMask, {}};
    each.columns.reserve(shape.columns());
    for (std::size_t c = 0; c < shape.columns(); ++c) {
      each.columns.push_back(column_hash(shape, last->row, c, last->owner));
    }
    entities.push_back(std::move(each));
  }
  write_report(out, entities);
  return out.bit_count() - before;
}

void Mirror::State::note_records(std::uint32_t id, bool has) {
  const auto place = std::lower_bound(with_records.begin(), with_records.end(), id);
  if (has) {
    with_records.insert(place, id);
  } else if (place != with_records.end() && *place == id) {
    with_records.erase(place);
  }
}

void Mirror::State::find_known(const FrameMark& mark) {
  known_ids.clear();
  KnownStates known;
  const Record* last = nullptr;
  for (const std::uint32_t id : with_records) {
    if (states_known(mark, id, known, last) == 0) continue;
    known_ids.push_back(id);
    entities[id].restless = last->told == Record::Told::change;
  }
}

void Mirror::State::start_anew(std::uint32_t frame) {
  for (std::uint32_t id = 1; id < entities.size(); ++id) {
    Entity& entity = entities[id];
    if (entity.there) {
      happenings.push_back({Happening::Kind::vanished, {id, entity.generation}, entity.kind});
    }
    entity = {};
  }
  with_records.clear();
  marks = {};
  for (Told& each : told) each = {};
  there = 0;
  latest = tick = 0;
  input = 0;
  resolved = frame - 1;
  start = frame;
}

void Mirror::State::take(const FrameMark& mark) {
  marks.add(mark);
  Told& here = told[mark.frame % told.size()];
  here.frame = mark.frame;
  here.ids.clear();
  here.there.clear();
  for (Staged& each : staged) {
    here.ids.push_back(each.id);
    if (each.record.told != Record::Told::gone) here.there.push_back(each.id);
    if (each.record.at >= entities[each.id].at) show(each.id, &each.record);
    std::vector<Record>& records = entities[each.id].records;
    if (records.empty()) note_records(each.id, true);
    auto place = records.end();
    while (place != records.begin() && (place - 1)->frame > mark.frame) --place;
    records.insert(place, std::move(each.record));
  }
  tick = std::max(tick, mark.tick);
  if (mark.frame <= latest) return;
  const std::uint32_t before = latest;
  latest = mark.frame;
  input = mark.input;
  // Numbers may leap when all is told anew: of frames further back than `told` reaches nothing is
  // left.
  const auto reach = static_cast<std::uint32_t>(told.size());
  const auto first_after = [&](std::uint32_t done, std::uint32_t last) {
    return std::max(done, last > reach ? last - reach : 0) + 1;
  };
  for (std::uint32_t f = first_after(resolved, mark.newest); f <= mark.newest; ++f) {
    if (!marks.arrived(mark, f)) make_void(f);
  }
  resolved = std::max(resolved, mark.newest);
  if (latest <= kRecordsKept) return;
  const std::uint32_t forgotten = before > kRecordsKept ? before - kRecordsKept : 0;
  const std::uint32_t last = latest - kRecordsKept;
  for (std::uint32_t f = first_after(forgotten, last); f <= last; ++f) forget(f);
}

// The server will never build on what it takes for lost, and may never say the like again: what is
// shown is what the frames that count have said.
void Mirror::State::make_void(std::uint32_t frame) {
  Told& voided = told[frame % told.size()];
  if (voided.frame != frame) return;
  for (const std::uint32_t id : voided.ids) {
    std::vector<Record>& records = entities[id].records;
    std::erase_if(records, [&](const Record& each) { return each.frame == frame; });
    if (records.empty()) note_records(id, false);
    const auto newest =
        std::max_element(records.begin(), records.end(),
                         [](const Record& a, const Record& b) { return a.at < b.at; });
    show(id, newest != records.end() ? &*newest : nullptr);
  }
  voided = {};
}

// Nothing builds on what came before `frame` any more.
void Mirror::State::forget(std::uint32_t frame) {
  const Told& old = told[frame % told.size()];
  if (old.frame != frame) return;
  for (const std::uint32_t id : old.ids) {
    std::vector<Record>& records = entities[id].records;
    const auto place = std::lower_bound(
        records.begin(), records.end(), frame,
        [](const Record& each, std::uint32_t wanted) { return each.frame < wanted; });
    if (place == records.end() || place->frame != frame) continue;
    const auto end = place->told == Record::Told::gone ? place + 1 : place;
    // Not each time: what stays has to be moved. That older ones are still here harms nobody.
    if ((end - records.begin()) * 2 >= records.end() - records.begin()) {
      records.erase(records.begin(), end);
      if (records.empty()) note_records(id, false);
    }
  }
}

void Mirror::State::show(std::uint32_t id, const Record* record) {
  Entity& entity = entities[id];
  const bool was_there = entity.there;
  const bool is_there = record != nullptr && record->told != Record::Told::gone;
  const bool other = was_there && is_there && entity.generation != record->generation;
  const auto happened = [&](Happening::Kind what) {
    happenings.push_back({what, {id, entity.generation}, entity.kind});
  };
  entity.at = record != nullptr ? record->at : 0;
  entity.tick = record != nullptr ? record->tick : 0;
  if (was_there && (other || !is_there)) happened(Happening::Kind::vanished);
  entity.there = is_there;
  if (is_there && !was_there) ++there;
  if (was_there && !is_there) --there;
  if (!is_there) return;
  const bool changed = !was_there || other || !same(entity.now, record->row);
  entity.generation = record->generation;
  entity.kind = record->kind;
  entity.owner = record->owner;
  entity.now.assign(record->row);
  if (changed) {
    happened(was_there && !other ? Happening::Kind::changed : Happening::Kind::appeared);
  }
}

std::span<const Happening> Mirror::happenings() const {
  return state_->happenings;
}
void Mirror::clear_happenings() {
  state_->happenings.clear();
}
std::optional<std::uint16_t> Mirror::input_used() const {
  if (state_->input == 0) return std::nullopt;
  return static_cast<std::uint16_t>(state_->tick + state_->input - 1);
}
void Mirror::count_into(Tally* tally) {
  state_->tally = tally;
}
const MirrorCounts& Mirror::counts() const {
  return state_->counts;
}
std::size_t Mirror::waiting() const {
  return state_->waiting_now;
}
std::uint32_t Mirror::tick() const {
  return state_->tick;
}
std::size_t Mirror::size() const {
  return state_->there;
}

std::uint32_t Mirror::told_at(schema::AnyRef entity) const {
  if (entity.id >= state_->entities.size()) return 0;
  const Entity& held = state_->entities[entity.id];
  return held.there && held.generation == entity.generation ? held.tick : 0;
}

void Mirror::spoil(schema::AnyRef entity, std::size_t column, std::uint32_t flip) {
  for (Record& record : state_->entities[entity.id].records) record.row.numbers[column] ^= flip;
}

std::vector<schema::AnyRef> Mirror::entities() const {
  std::vector<schema::AnyRef> all;
  for (std::uint32_t id = 1; id < state_->entities.size(); ++id) {
    if (state_->entities[id].there) all.emplace_back(id, state_->entities[id].generation);
  }
  return all;
}

void Mirror::restore(schema::AnyRef wanted, const schema::EntityInfo& info,
                     const std::function<void(schema::Decoder&)>& decode) const {
  const State& s = *state_;
  if (wanted.id == 0 || wanted.id >= s.entities.size()) return;
  const Entity& entity = s.entities[wanted.id];
  if (!entity.there || entity.generation != wanted.generation || entity.kind != info.kind) return;
  s.restore(entity, {entity.tick, entity.now}, entity.tick, decode);
}

// The columns of `known`, moved on to `tick` if that is later, in the bits of a message.
void Mirror::State::restore(const Entity& entity, const Known& known, std::uint32_t to,
                            const std::function<void(schema::Decoder&)>& decode) const {
  const KindShape& shape = shapes[entity.kind];
  bits::Writer out(scratch);
  for (std::size_t c = 0; c < shape.columns(); ++c) {
    const schema::ColumnInfo& column = shape.info().columns[c];
    if (column.owner_only && !entity.owner) continue;
    if (column.form != schema::ColumnForm::varying) {
      const bool later = to > known.tick && !column.at_spawn;
      out.put(later ? shape.moved_on(c, known, to) : known.row.numbers[c], column.bits);
    } else if (const SharedBits& held = known.row.varying[shape.varying_place(c)]) {
      out.put_bits(held->bytes, held->bits);
    }
  }
  KWIND_ASSERT(out.ok());
  out.finish();
  schema::Decoder in(bits::Reader(scratch, out.bit_count()), schema::kNewest, tick,
                     entity.owner ? schema::View::owner : schema::View::others);
  decode(in);
}

double Mirror::restore_around(schema::AnyRef wanted, const schema::EntityInfo& info, double tick,
                              const Decode& from, const Decode& to) const {
  const State& s = *state_;
  if (wanted.id == 0 || wanted.id >= s.entities.size()) return 0;
  const Entity& entity = s.entities[wanted.id];
  if (!entity.there || entity.generation != wanted.generation || entity.kind != info.kind) return 0;
  const KindShape& shape = s.shapes[entity.kind];
  // The states of this entity before and after.
  const Record* before = nullptr;
  const Record* after = nullptr;
  for (const Record& record : entity.records) {
    // A server may call another kind by the same generation.
    const bool of_it = record.told != Record::Told::gone &&
                       record.generation == entity.generation && record.kind == entity.kind;
    if (!of_it) {
      before = after = nullptr;
    } else if (record.tick <= tick) {
      if (before == nullptr || record.tick >= before->tick) before = &record;
    } else if (after == nullptr || record.tick < after->tick) {
      after = &record;
    }
  }
  if (after != nullptr) {
    // It came into view later, or was told long ago and stood still.
    const double start =
        std::max<double>(before != nullptr ? before->tick : 0,
                         after->tick > kLongestBlend ? after->tick - kLongestBlend : 0);
    if (before == nullptr) before = after;
    if (before == after || shape.leaps(before->row, after->row)) {
      s.restore(entity, {before->tick, before->row}, before->tick, from);
      return 0;
    }
    const auto begin = static_cast<std::uint32_t>(start);
    s.restore(entity, {before->tick, before->row}, shape.tolerant() ? begin : before->tick, from);
    s.restore(entity, {after->tick, after->row}, after->tick, to);
    return std::clamp((tick - start) / (after->tick - start), 0.0, 1.0);
  }
  const Known newest{entity.tick, entity.now};
  double reach = std::max<double>(tick, newest.tick);
  if (!shape.tolerant()) {
    // Silence means that it stands: what moves is told of in each tick.
    const double ahead = reach - newest.tick;
    const double back = std::max(2.0 * kMostAhead - ahead, 0.0);
    reach = newest.tick + (ahead <= kMostAhead ? ahead : back);
    if (entity.tick + kMostAhead < s.tick) reach = newest.tick;
  }
  const auto whole = static_cast<std::uint32_t>(reach);
  s.restore(entity, newest, whole, from);
  s.restore(entity, newest, whole + 1, to);
  return reach - whole;
}

std::optional<std::uint16_t> Mirror::kind_of(schema::AnyRef entity) const {
  if (entity.id >= state_->entities.size()) return std::nullopt;
  const Entity& held = state_->entities[entity.id];
  if (!held.there || held.generation != entity.generation) return std::nullopt;
  return held.kind;
}

bool Mirror::owns(schema::AnyRef entity) const {
  if (entity.id >= state_->entities.size()) return false;
  const Entity& held = state_->entities[entity.id];
  return held.there && held.generation == entity.generation && held.owner;
}

bits::Digest128 Mirror::digest() const {
  std::vector<std::byte> all;
  const auto add = [&](std::uint32_t value) {
    for (unsigned i = 0; i < 4; ++i) all.push_back(static_cast<std::byte>(value >> (8 * i)));
  };
  for (std::uint32_t id = 1; id < state_->entities.size(); ++id) {
    const Entity& entity = state_->entities[id];
    if (!entity.there) continue;
    add(id);
    add(entity.generation);
    for (const std::uint32_t number : entity.now.numbers) add(number);
    for (const SharedBits& held : entity.now.varying) {
      add(held != nullptr ? static_cast<std::uint32_t>(held->bits) : 0);
      if (held != nullptr) all.insert(all.end(), held->bytes.begin(), held->bytes.end());
    }
  }
  return bits::blake2b_128(all);
}

}  // namespace kwind::replica
