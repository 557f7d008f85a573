// The inside of a Mirror. mirror.cpp takes frames, mirror_showing.cpp shows what they told. One
// thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "code_set.h"
#include "frame_code.h"
#include "frame_marks.h"
#include "kind_shape.h"
#include "kwind/replica/mirror.h"
#include "parcel.h"
#include "records.h"

namespace kwind::replica {

// Records are kept while a frame may still come that builds on them: it may be a window old, and
// name one that is a window older than it.
inline constexpr std::uint32_t kRecordsKept = 2 * kFrameWindow;

struct Mirror::State {
  struct Entity {
    Records records;
    bool there = false;
    std::uint8_t generation = 0;
    std::uint16_t kind = 0;
    bool owner = false;
    std::uint32_t at = 0;    // tick of the frame that told the newest of it
    std::uint32_t tick = 0;  // of `now`
    OwnRow now;
  };

  // Of a frame that came.
  struct Taken {
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

  // Of the frame at hand: nothing counts until all of it could be read.
  struct Staged {
    std::uint32_t id = 0;
    Record record;
    std::size_t row = 0;  // place in `rows`
  };

  State(const schema::EntitiesInfo& entities_in, double ticks_per_second,
        std::shared_ptr<const CodeSet> codes_in)
      : info(entities_in),
        codes(codes_in != nullptr ? std::move(codes_in) : built_in_codes(info)),
        terms{tick_rate_of(ticks_per_second), static_cast<std::uint16_t>(codes->digest())},
        entities(1),
        told(std::size_t{2} * kRecordsKept),
        waiting(kFrameWindow) {
    for (const schema::EntityInfo* kind : info.kinds) {
      shapes.emplace_back(*kind, ticks_per_second);
      const KindShape& shape = shapes.back();
      widths.numbers = std::max(widths.numbers, shape.columns());
      widths.varying = std::max(widths.varying, shape.varying());
      std::uint64_t bits = 0;
      for (const schema::ColumnInfo& column : kind->columns) {
        bits += column.form == schema::ColumnForm::varying ? std::uint64_t{column.last} + 64
                                                           : column.bits;
      }
      most_chunks = std::max(most_chunks, bits / kChunkBits + 1);
    }
  }

  const schema::EntitiesInfo& info;
  std::shared_ptr<const CodeSet> codes;
  FrameTerms terms;
  std::vector<KindShape> shapes;
  Widths widths;
  std::uint64_t most_chunks = 0;            // of the largest entity
  std::vector<Entity> entities;             // by id, up to the largest that came
  std::vector<std::uint32_t> with_records;  // ids, ascending
  FrameMarks marks;
  std::vector<Taken> told;     // by frame
  std::uint32_t latest = 0;    // frame
  std::uint32_t resolved = 0;  // frame up to which all that the server gave up is void
  std::uint32_t start = 0;
  std::uint32_t tick = 0;
  std::size_t there = 0;
  KnownStates states;  // known of the entity at hand
  Arrivals arrivals;   // as the maker of the frame at hand knew them
  std::vector<Waiting> waiting;
  std::size_t waiting_now = 0;
  std::uint32_t input = 0;  // FrameMark::input of the newest frame
  MirrorCounts counts;
  std::optional<FrameMark> drifted;  // the frame whose digest differed
  Tally* tally = nullptr;
  std::vector<Staged> staged;
  std::vector<Staged> staged_by_id;  // scratch
  std::vector<OwnRow> rows;          // as many as any frame had use for
  std::size_t rows_used = 0;
  ChunkRun staged_chunks;
  std::vector<std::byte> staged_bytes;
  bool of_no_use = false;  // it ends a parcel that is not here
  Unpacking unpacking;
  std::vector<std::byte> unpacked;
  std::vector<std::uint32_t> known_ids;
  std::vector<std::uint32_t> still_ids;
  std::vector<Happening> happenings;
  std::vector<Happening> handed_out;
  bool broken = false;                   // an exception left it half changed
  std::optional<std::uint32_t> blocked;  // low bits of the newest frame that could not be read
  mutable std::vector<std::byte> scratch;

  // For who goes through all of with_records, and is at the i-th.
  void ask_for_records(std::size_t i) const {
    const std::size_t last = with_records.size() - 1;
    bits::ask_for(&entities[with_records[std::min(i + 10, last)]], 1);
    entities[with_records[std::min(i + 5, last)]].records.ask_for();
  }
  // Who is there under that id and generation; nullptr if nobody is.
  [[nodiscard]] const Entity* find(schema::AnyRef wanted) const {
    if (wanted.id >= entities.size()) return nullptr;
    const Entity& held = entities[wanted.id];
    return held.there && held.generation == wanted.generation ? &held : nullptr;
  }
  [[nodiscard]] Row row_of(const Records& records, const Record& record) const {
    const Row wide = records.row(record, widths);
    const KindShape& shape = shapes[record.kind];
    return {wide.numbers.first(shape.columns()), wide.varying.first(shape.varying())};
  }
  // The states of an entity that the maker of `mark` knew to be here, newest first; the newest
  // record of these in `last`.
  std::size_t states_known(const FrameMark& mark, std::uint32_t id, KnownStates& found,
                           const Record*& last) const {
    std::size_t count = 0;
    last = nullptr;
    const Records& records = entities[id].records;
    for (auto record = records.rbegin(); record != records.rend() && count < found.size();
         ++record) {
      // What is so old and was not given up is what all frames to come, and those still under way,
      // build on.
      const bool settled = latest >= kRecordsKept && record->frame <= latest - kRecordsKept;
      if (!settled && !arrivals.contain(record->frame)) continue;
      if (record->told == Told::gone) break;
      if (count > 0 && mark.tick - record->tick > kLongestMemory) break;
      if (count == 0) last = &*record;
      found[count++] = {record->tick, row_of(records, *record)};
      if (record->told == Told::whole) break;
    }
    return count;
  }

  void restore(const Entity& entity, const Known& known, bool owner, std::uint32_t to,
               const std::function<void(schema::Decoder&)>& decode) const;
  void note(const Happening& happening) {
    if (happenings.size() >= Mirror::kMostHappenings) {
      // Half at once: not each of them is to move all others.
      const std::size_t dropped = happenings.size() / 2;
      happenings.erase(happenings.begin(),
                       happenings.begin() + static_cast<std::ptrdiff_t>(dropped));
      counts.happenings_lost += dropped;
    }
    happenings.push_back(happening);
  }
  Errc receive(std::span<const std::byte> payload, std::size_t bits);
  Errc take_frame(std::span<const std::byte> payload, std::size_t bits);
  void keep(std::span<const std::byte> payload, std::size_t bits);
  bool take_waiting();
  Errc read(bits::Reader& in, const FrameMark& mark);
  void sort_staged(std::size_t sorted);
  void check(const FrameMark& mark, std::uint32_t digest);
  bool read_known(bits::Reader& in, const FrameMark& mark, std::uint32_t id, bool mover);
  bool read_arrival(bits::Reader& in, const FrameMark& mark, std::uint32_t id);
  bool read_last_of_parcel(bits::Reader& in, const FrameMark& mark, std::uint32_t id);
  bool read_chunks(bits::Reader& in);
  // Something new of an entity, with a row in `rows` for its values.
  Staged& stage(std::uint32_t id, const FrameMark& mark, Told what) {
    if (rows_used == rows.size()) rows.emplace_back();
    Staged& made = staged.emplace_back();
    made.id = id;
    made.row = rows_used++;
    made.record.frame = mark.frame;
    made.record.at = made.record.tick = mark.tick;
    made.record.told = what;
    return made;
  }
  // Whether the server has given the frame up, as far as the newest frame knows.
  [[nodiscard]] bool is_void(std::uint32_t frame) const {
    if (latest > frame && latest - frame >= kFrameWindow) return true;
    const FrameMark* const newest = marks.find(latest);
    return newest != nullptr && frame <= newest->newest && !marks.arrived(*newest, frame);
  }
  static bool read_tick(bits::Reader& in, const KindShape& shape, std::uint32_t& tick);
  [[nodiscard]] bool builds_on_void(const FrameMark& mark) const;
  bool make_void(std::uint32_t frame);
  void note_records(std::uint32_t id, bool has);
  void find_known(const FrameMark& mark);
  void rank_others(const FrameMark& mark, std::span<const std::uint32_t> movers);
  void take(const FrameMark& mark);
  // `record`: nullptr if nothing is known of it (any more); `row`: its values.
  void show(std::uint32_t id, const Record* record, const Row& row);
  void start_anew(std::uint32_t frame);
  void forget(std::uint32_t frame);
};

}  // namespace kwind::replica
