// The state of a ClientWorld. client_world.cpp applies snapshots, client_world_sample.cpp
// interpolates. One thread.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "kwind/replica/client_world.h"
#include "replica/client/entity_table.h"
#include "replica/client/received_states.h"
#include "replica/coding/acked_snapshots.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/entity_model.h"
#include "replica/coding/entity_type_codes.h"
#include "replica/coding/fragmented_entity.h"
#include "replica/coding/snapshot_head.h"

namespace kwind::replica {

// ReceivedStates are kept while a snapshot may still come that builds on them: it may be a window
// old, and name one that is a window older than it.
inline constexpr std::uint32_t kRecordsKept = 2 * kSnapshotWindow;

struct ClientWorld::State {
  struct Entity {
    ReceivedStates received;
    bool there = false;
    std::uint8_t generation = 0;
    std::uint16_t type = 0;
    bool owner = false;
    Tick at;    // of the snapshot that had the newest of it
    Tick tick;  // of `now`
    OwnRow now;
  };

  // Of a snapshot that came.
  struct Taken {
    SnapshotNumber snapshot;
    std::vector<EntityId> ids;    // of all entities that it spoke of, ascending
    std::vector<EntityId> there;  // of those that were not said to be gone
  };

  // A snapshot that builds on one that is not here yet.
  struct Waiting {
    SnapshotNumber snapshot;  // none: nothing here
    std::size_t bits = 0;
    std::vector<std::byte> bytes;
  };

  // Of the snapshot at hand: nothing counts until all of it could be read.
  struct Staged {
    EntityId id;
    ReceivedState record;
    std::size_t row = 0;  // place in `rows`
  };

  State(const schema::EntitiesInfo& newest, std::uint16_t version, double ticks_per_second,
        std::shared_ptr<const CodeTables> codes_in)
      : info(newest.in_version(version)),
        type_codes(info),
        codes(codes_in != nullptr ? std::move(codes_in) : built_in_codes(info)),
        terms{0, static_cast<std::uint16_t>(codes->digest())},
        received_snapshots(std::size_t{2} * kRecordsKept),
        waiting(kSnapshotWindow) {
    set_rate(tick_rate_of(ticks_per_second));
    for (const schema::EntityInfo* type : info.types) {
      const EntityModel& model = models[type->type];
      widths.numbers = std::max(widths.numbers, model.columns());
      widths.varying = std::max(widths.varying, model.varying());
      std::uint64_t bits = 0;
      for (const schema::ColumnInfo& column : type->columns) {
        bits += column.form == schema::ColumnForm::varying ? std::uint64_t{column.last} + 64
                                                           : column.bits;
      }
      max_chunks = std::max(max_chunks, bits / kFragmentBits + 1);
    }
  }

  const schema::EntitiesInfo& info;  // of the version that is spoken
  EntityTypeCodes type_codes;
  std::shared_ptr<const CodeTables> codes;
  SnapshotTerms terms;
  Sections sections;  // of the snapshot at hand
  std::vector<EntityModel> models;
  Widths widths;
  std::uint64_t max_chunks = 0;  // of the largest entity
  EntityTable<Entity> entities;
  std::vector<EntityId> with_records;  // ids, ascending
  SnapshotMarks marks;
  std::vector<Taken> received_snapshots;  // by snapshot
  SnapshotNumber latest;
  SnapshotNumber resolved;  // up to which all that the server gave up is void
  SnapshotNumber start;     // the first since the last full resync
  Tick tick;
  std::size_t there = 0;
  KnownStates baselines;           // known of the entity at hand
  AckedSnapshots acked_snapshots;  // as the maker of the snapshot at hand knew them
  std::vector<Waiting> waiting;
  std::size_t waiting_now = 0;
  std::uint32_t input = 0;  // SnapshotMark::input of the newest snapshot
  ClientWorldCounts counts;
  std::optional<SnapshotMark> desynced;  // the snapshot whose digest differed
  std::size_t edits_left = 0;            // of the snapshot that is read, see kMaxEditedSize
  SymbolCounts* symbol_counts = nullptr;
  std::vector<Staged> staged;
  std::vector<Staged> staged_by_id;  // scratch
  std::vector<OwnRow> rows;          // the largest number that a snapshot needed
  std::size_t rows_used = 0;
  FragmentRun staged_chunks;
  std::vector<std::byte> staged_bytes;
  bool of_no_use = false;  // it ends a fragmented entity that is not here
  FragmentAssembly unpacking;
  std::vector<std::byte> unpacked;
  std::vector<EntityId> continuing;
  std::vector<EntityId> known_ids;
  std::vector<EntityId> still_ids;
  std::vector<EntityEvent> entity_events;
  std::vector<EntityEvent> handed_out;
  bool broken = false;                   // an exception left it half changed
  std::optional<std::uint32_t> blocked;  // low bits of the newest snapshot that could not be read
  mutable std::vector<std::byte> value_bits;

  /// Predicts as a server with so many ticks a second does.
  void set_rate(TickRate rate) {
    terms.rate = rate;
    models.clear();
    for (const schema::EntityInfo* type : info.types) models.emplace_back(*type, rate / 16.0);
  }
  // For who goes through all of with_records, and is at the i-th.
  void prefetch_states(std::size_t i) const {
    const std::size_t last = with_records.size() - 1;
    kwind::prefetch(&entities[with_records[std::min(i + 10, last)]], 1);
    entities[with_records[std::min(i + 5, last)]].received.prefetch();
  }
  // Who is there under that id and generation; nullptr if nobody is.
  [[nodiscard]] const Entity* find(schema::AnyRef wanted) const {
    const Entity* const held = entities.find(EntityId(wanted.id));
    const bool is_there = held != nullptr && held->there && held->generation == wanted.generation;
    return is_there ? held : nullptr;
  }
  [[nodiscard]] Row row_of(const ReceivedStates& states, const ReceivedState& record) const {
    const Row wide = states.row(record, widths);
    const EntityModel& model = models[record.type];
    return {wide.numbers.first(model.columns()), wide.varying.first(model.varying())};
  }
  // The states of an entity that the maker of `mark` knew to be here, newest first; the newest
  // record of these in `last`.
  std::size_t states_known(const SnapshotMark& mark, EntityId id, KnownStates& found,
                           const ReceivedState*& last) const {
    std::size_t count = 0;
    last = nullptr;
    const ReceivedStates& states = entities[id].received;
    for (auto record = states.rbegin(); record != states.rend() && count < found.size(); ++record) {
      // A state that is so old and was not discarded is a baseline of all snapshots to come, and of
      // those in flight, build on.
      const bool settled =
          latest.raw() >= kRecordsKept && record->snapshot <= latest - kRecordsKept;
      if (!settled && !acked_snapshots.contain(record->snapshot)) continue;
      if (record->update == Update::despawn) break;
      if (count > 0 && mark.tick - record->tick > kLongestMemory) break;
      if (count == 0) last = &*record;
      found[count++] = {record->tick, row_of(states, *record)};
      if (record->update == Update::full) break;
    }
    return count;
  }

  // A state, moved on to a tick.
  struct Shown {
    Known known;
    bool owner = false;
    Tick at;
  };
  struct Around {
    Shown from;
    std::optional<Shown> to;
    double part = 0;  // of the way from one to the other
  };
  [[nodiscard]] Around around(const Entity& entity, double at) const;
  [[nodiscard]] static Around moved_on(const Known& known, bool owner, double to);
  [[nodiscard]] std::array<double, 3> position_between(const EntityModel& model,
                                                       const Around& around, std::size_t first,
                                                       std::size_t axes) const;
  void restore(const Entity& entity, const Known& known, bool owner, Tick to,
               const std::function<void(schema::Decoder&)>& decode) const;
  void note(const EntityEvent& entity_event) {
    if (entity_events.size() >= ClientWorld::kMaxEvents) {
      // Half at once: not each of them is to move all others.
      const std::size_t dropped = entity_events.size() / 2;
      entity_events.erase(entity_events.begin(),
                          entity_events.begin() + static_cast<std::ptrdiff_t>(dropped));
      counts.events_lost += dropped;
    }
    entity_events.push_back(entity_event);
  }
  Errc receive(std::span<const std::byte> payload, std::size_t bits);
  Errc take_snapshot(std::span<const std::byte> payload, std::size_t bits);
  void keep(std::span<const std::byte> payload, std::size_t bits);
  bool take_waiting();
  Errc read(bits::Reader& in, const SnapshotMark& mark);
  void find_continuing(const SnapshotMark& mark);
  void sort_staged(std::size_t sorted);
  void check(const SnapshotMark& mark, std::uint32_t digest);
  bool read_continuing(bits::Reader& in, const SnapshotMark& mark, EntityId id, bool is_continuing);
  bool read_arrival(bits::Reader& in, const SnapshotMark& mark, EntityId id);
  bool read_last_fragment(bits::Reader& in, const SnapshotMark& mark, EntityId id);
  bool read_fragments(bits::Reader& in);
  // Something new of an entity, with a row in `rows` for its values.
  Staged& stage(EntityId id, const SnapshotMark& mark, Update what) {
    if (rows_used == rows.size()) rows.emplace_back();
    Staged& made = staged.emplace_back();
    made.id = id;
    made.row = rows_used++;
    made.record.snapshot = mark.snapshot;
    made.record.at = made.record.tick = mark.tick;
    made.record.update = what;
    return made;
  }
  // Whether the server has given the snapshot up, as far as the newest snapshot knows.
  [[nodiscard]] bool is_void(SnapshotNumber snapshot) const {
    if (latest > snapshot && latest - snapshot >= kSnapshotWindow) return true;
    const SnapshotMark* const newest = marks.find(latest);
    return newest != nullptr && snapshot <= newest->newest && !marks.arrived(*newest, snapshot);
  }
  static bool read_tick(bits::Reader& in, const EntityModel& model, Tick& tick);
  [[nodiscard]] bool builds_on_void(const SnapshotMark& mark) const;
  bool make_void(SnapshotNumber snapshot);
  void note_records(EntityId id, bool has);
  void find_known(const SnapshotMark& mark);
  void rank_unexpected(const SnapshotMark& mark, std::span<const EntityId> continuing);
  void take(const SnapshotMark& mark);
  void apply_updates(const SnapshotMark& mark);
  // Requires: `mark` is newer than all that were taken.
  void settle_earlier(const SnapshotMark& mark);
  // `record`: nullptr if nothing is known of it (any more); `row`: its values.
  void show(EntityId id, const ReceivedState* record, const Row& row);
  void full_resync(SnapshotNumber snapshot);
  void forget(SnapshotNumber snapshot);
};

}  // namespace kwind::replica
