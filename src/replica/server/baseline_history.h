// Baseline history: all that one client was sent and has acknowledged. Clients with equal history
// share one, see shared_histories.h. snapshot_plan.cpp chooses the updates of a snapshot,
// snapshot_writer.cpp encodes them, acknowledgements.cpp moves the baselines. One thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "kwind/replica/client_replicator.h"
#include "kwind/replica/explanation.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/delta_codec.h"
#include "replica/coding/fragmented_entity.h"
#include "replica/coding/snapshot_head.h"
#include "replica/server/client_entities.h"
#include "replica/server/sent_snapshots.h"
#include "replica/server/world_state.h"

namespace kwind::replica {

/// Whether replicators with these options write the same snapshots to clients that heard the same.
bool are_same(const ReplicatorOptions& a, const ReplicatorOptions& b);

/// All that is particular to a history.
struct HistoryValue {
  ClientEntities entities_known;
  SentSnapshots sent;
  FragmentedEntity fragmented;
  std::uint32_t last_snapshot = 0;
  std::uint32_t start = 1;                   // the first snapshot since the last full resync
  std::uint32_t sure = 0;                    // the newest snapshot that is known to have arrived
  std::uint32_t continuing_complete_at = 0;  // tick whose continuing entities were told of
  std::uint32_t repeated_at = 0;             // tick in which what is in flight was sent again
  std::uint32_t complete_at = 0;  // tick of which there is nothing more to say, unless `news`
  bool news = true;
  bool lost_any = false;            // speculative_baselines: what was built on has gone
  std::uint32_t digested = 0;       // snapshot that had the last digest
  std::uint64_t seen_revision = 0;  // of the query that was last asked; 0: none
  ReplicatorCounts counts;
};

/// What stands before the values of a snapshot, but for what differs between clients in step.
struct SnapshotHead {
  SnapshotMark mark;
  std::uint32_t named = 0;  ///< the snapshot that it builds on, 0: none
  SnapshotMark named_mark;
  std::optional<std::uint32_t> digest;
  Sections sections;             ///< of the plan, once there is one
  bool needs_heartbeat = false;  ///< it goes even if it says nothing
};

/// The chosen updates of a snapshot: the candidates that are `taken`, and what follows from them.
struct SnapshotPlan {
  std::size_t max_bits = 0;  ///< behind the head
  std::size_t taken = 0;     ///< candidates
  std::size_t deferred = 0;  ///< candidates that found no room
  bool limited = false;      ///< in another room the list of continuing entities might differ
  Sections sections;
  FragmentRun fragments{};
};

/// What a client's snapshots have for entities, in bits.
struct Room {
  std::size_t now = 0;       ///< behind the head
  std::size_t roomiest = 0;  ///< that one had of late
  std::size_t lost = 0;      ///< of `now`, to what is said in any case

  /// Notes what the snapshot at hand has.
  void note() {
    constexpr std::size_t kFades = 16;  // what so many snapshots ago had counts for little
    roomiest = std::max(now - lost, roomiest - roomiest / kFades);
  }
};

struct BaselineHistory;

/// What the first replicator did that went on from a history in a tick, for those that heard the
/// same.
struct Step {
  std::uint64_t view = 0;  // revision of the query; 0: there is none
  std::vector<std::uint32_t> acks;
  BaselineHistory* to = nullptr;
  bool says = false;  // there is a snapshot
  SnapshotHead heading;
  std::vector<std::byte> body;
  std::size_t bits = 0;       // of it
  Room room;                  // as it had it
  bool limited = false;       // another room would have made another snapshot
  std::uint64_t changes = 0;  // in it
};

struct BaselineHistory : HistoryValue {
  BaselineHistory(World::State& of, ReplicatorOptions options_in)
      : world(&of),
        options(std::move(options_in)),
        codes(options.codes != nullptr ? options.codes.get() : of.options.codes.get()),
        ids(of.ids) {}
  BaselineHistory(const BaselineHistory&) = delete;
  BaselineHistory& operator=(const BaselineHistory&) = delete;
  ~BaselineHistory() { release(); }

  World::State* world;
  ReplicatorOptions options;
  const CodeTables* codes;
  std::shared_ptr<EntityIds> ids;
  SymbolCounts* symbol_counts = nullptr;
  // The world's, for the snapshot at hand.
  std::vector<std::uint32_t>& unsettled = world->scratch.unsettled;
  std::vector<Candidate>& candidates = world->scratch.candidates;
  std::vector<ExpectedEntity>& expected = world->scratch.expected;
  std::vector<ContinuingEntity>& continuing = world->scratch.continuing;
  std::vector<Candidate*>& by_priority = world->scratch.by_priority;
  std::vector<Entry>& entries = world->scratch.entries;
  std::vector<std::byte>& bodies = world->scratch.bodies;
  std::size_t bodies_end = 0;
  std::size_t edits_left = 0;  // of the snapshot that is written, see kMaxEditedSize
  bool limited = false;        // the last snapshot would be another one in another room

  // Who is on it: see histories.h.
  std::size_t replicators = 0;
  std::size_t holds = 0;
  std::size_t leads = 0;       // steps that lead here
  bool kept = false;           // as it is, for others to join
  bool apart = false;          // it parted from others, once in flight
  std::uint32_t compared = 0;  // tick in which it was, and found to be the ...
  BaselineHistory* same_as = nullptr;
  std::vector<Step> steps;  // from here, in this tick: the first `steps_used`
  std::size_t steps_used = 0;

  /// Whether others are here, or may come: then it is not to be changed.
  [[nodiscard]] bool is_shared() const { return replicators > 1 || leads > 0 || kept; }
  /// As `other` is. Requires: the same world.
  void take_over(const BaselineHistory& other) {
    release();
    static_cast<HistoryValue&>(*this) = static_cast<const HistoryValue&>(other);
    options = other.options;
    codes = other.codes;
    symbol_counts = nullptr;
    for (std::size_t i = 0; i < entities_known.size(); ++i) {
      if (entities_known[i].counted) ids->learn(entities_known.id(i));
    }
  }
  /// Counts for nobody any more.
  void release() {
    for (std::size_t i = 0; i < entities_known.size(); ++i) {
      if (entities_known[i].counted) ids->forget(entities_known.id(i));
      entities_known[i].counted = false;
    }
  }
  /// Whether all that is to come will be the same for both, whatever was before.
  [[nodiscard]] bool is_like(const BaselineHistory& other);

  void see(std::span<const RelevantEntity> in_view);
  void see(InterestQuery& query);
  /// Whether see() would change nothing.
  [[nodiscard]] bool sees(std::span<const RelevantEntity> in_view);
  /// A snapshot is four steps: begin(), plan(), encode(), commit(). The first takes the view and
  /// the acknowledgements and gathers candidates; false if there is nothing to say.
  bool begin(InterestQuery* query, std::vector<std::uint32_t>& acks, SnapshotHead& heading);
  /// Chooses among the candidates; nothing if none fits.
  std::optional<SnapshotPlan> plan(const SnapshotHead& heading, Room& room);
  /// Puts all behind the head into EncodeScratch::snapshot. Returns the bits.
  std::size_t encode(const SnapshotPlan& plan);
  /// Records the snapshot.
  void commit(const SnapshotHead& heading, const SnapshotPlan& plan, std::size_t bits);
  /// Why the snapshot at hand has or lacks an update of an entity. `gathered`: what begin()
  /// returned; if it was true, plan() is to come before this call.
  [[nodiscard]] UpdateExplanation explain(schema::AnyRef entity, bool gathered) const;
  void lose(std::uint32_t snapshot);
  [[nodiscard]] bool may_lose(std::uint32_t snapshot);
  [[nodiscard]] bool may_still_be_read(std::uint32_t snapshot) const;
  /// Asks for the memory that begin() and write() will need: first the lists, then what is in them.
  void prefetch(bool entities);
  [[nodiscard]] std::size_t memory() const {
    return sizeof(BaselineHistory) + entities_known.memory() + sent.memory() + fragmented.memory();
  }

  [[nodiscard]] World::State& all() const { return *world; }
  [[nodiscard]] std::uint32_t tick() const { return all().tick - 1; }
  // The snapshot that the next one builds on; 0: none.
  [[nodiscard]] std::uint32_t base() {
    if (!options.speculative_baselines || sure == 0) return sure;
    for (std::uint32_t snapshot = last_snapshot; snapshot > sure; --snapshot) {
      const Sent* const slot = sent.find(snapshot);
      if (slot != nullptr && !slot->lost) return snapshot;
    }
    return sure;
  }

  [[nodiscard]] bool assumed_delivered(const Sent& snapshot) const {
    return snapshot.arrived || (options.speculative_baselines && !snapshot.lost);
  }
  // Whether what is in flight is sent again in each tick until it is acknowledged. Not where the
  // next snapshot builds on it, not where values may be a little off, and not to a client that has
  // not answered for long.
  [[nodiscard]] bool repeats(std::size_t index) const {
    constexpr std::uint32_t kMaxUnanswered = 32;  // snapshots
    return !options.speculative_baselines && last_snapshot - sure < kMaxUnanswered &&
           !all().models[all().briefs[entities_known.id(index)].type].tolerant();
  }
  bool limit_repeats();
  // To be called where a copy may have come to be known, or known no more.
  void count_holders(std::size_t index) {
    ClientEntity& copy = entities_known[index];
    const bool known = copy.may_be_known();
    if (known == copy.counted) return;
    copy.counted = known;
    known ? ids->learn(entities_known.id(index)) : ids->forget(entities_known.id(index));
  }
  void hear(std::vector<std::uint32_t>& acks);
  void mark_delivered(Sent& snapshot);
  void lose(Sent& snapshot);
  void discard(Sent& snapshot);
  [[nodiscard]] bool depends_on_lost(const SnapshotMark& mark);
  [[nodiscard]] std::uint32_t share_of_sure(std::size_t index);
  void build_again();
  void full_resync();
  [[nodiscard]] bool needs_heartbeat();
  std::size_t states_known(std::uint32_t id, const Baseline& baseline, KnownStates& known) const;
  [[nodiscard]] std::size_t find_unsettled();
  void gather();
  // How an entity in view stands with the client: UpdateReason::sent if it is a candidate.
  struct Pending {
    UpdateReason reason = UpdateReason::sent;
    bool whole = false;      // a full update
    bool packed = false;     // it is the fragmented entity
    bool complete = false;   // ... whose last bits go
    bool in_flight = false;  // all of it was sent already
  };
  [[nodiscard]] Pending assess(std::size_t index, const World::State::Brief& brief) const;
  void consider(std::size_t index, const World::State::Brief& brief);
  void answer_without_update(std::size_t index, const World::State::Brief& brief,
                             UpdateExplanation& answer) const;
  [[nodiscard]] std::vector<std::string_view> fields_of(const Candidate& each) const;
  [[nodiscard]] bool is_packed(std::size_t index) const {
    const std::uint32_t id = entities_known.id(index);
    return fragmented.is_of(id, all().briefs[id].generation, entities_known.look(index).owner);
  }
  void cancel_unneeded_fragments();
  void fragment_largest_pending(std::size_t roomiest);
  bool narrow(std::size_t room, std::size_t& deferred);
  // The codes of what the client knows under an id.
  [[nodiscard]] const CodeTables::Inside::Type& codes_of(const Baseline& baseline) const {
    return codes->inside().types[baseline.type];
  }
  [[nodiscard]] std::size_t masks_of(const Baseline& baseline) const {
    return all().models[baseline.type].masks();
  }
  // That of its symbols, at the age of what the client knows.
  [[nodiscard]] const PrefixCode& alphabet_of(const Baseline& baseline, bool is_continuing) const {
    const auto& alphabets =
        is_continuing ? codes_of(baseline).continuing : codes_of(baseline).unexpected;
    return alphabets[age_of(tick() - baseline.ticks[0])];
  }
  // Says of a mover that there is nothing to say.
  void write_nothing(bits::Writer& out, const Baseline& baseline);
  void write_symbol(bits::Writer& out, const Baseline& baseline, bool is_continuing,
                    std::size_t symbol);
  void write_bodies();
  void add_body(Candidate& each);
  void write_last_fragment(bits::Writer& out, Candidate& each) const;
  void write_whole_body(bits::Writer& out, Candidate& each) const;
  void grant_edits(Candidate& each);
  bool share_change(Candidate& each);
  void write_change_body(bits::Writer& out, const Candidate& each);
  [[nodiscard]] Basis basis_of(const Candidate& each, KnownStates& known) const;
  // The list of continuing entities in a snapshot.
  struct ContinuingList {
    bool goes = false;
    bool all_fit = false;  // every change fits beside it, though it has hardly room
  };
  ContinuingList fit_continuing(const Sent* named, std::size_t& room, SnapshotPlan& plan);
  [[nodiscard]] Sections sections_of_taken(bool with_continuing) const;
  struct ContinuingBits {
    std::size_t unchanged = 0;
    std::size_t changed = 0;
  };
  // The first snapshot of the tick of `snapshot`.
  [[nodiscard]] std::uint32_t first_of_tick(std::uint32_t snapshot) const;
  void find_expected(const Sent& named);
  ContinuingBits mark_continuing();
  [[nodiscard]] std::size_t size_of(const Candidate& each) const;
  [[nodiscard]] bool fit_all(std::size_t room);
  void rank(bool with_continuing);
  [[nodiscard]] std::size_t bits_of_places() const;
  std::size_t choose(std::size_t room);
  std::size_t choose_by_priority(Candidate* in_fragments, std::size_t& room);
  void choose_fragments(Candidate& in_fragments, std::size_t max);
  void tell(const SnapshotMark& mark);
  void tell(const SnapshotMark& mark, const Candidate& each);
  void write_body(bits::Writer& out, const Candidate& each);
  void write_continuing(bits::Writer& out);
  void write_unexpected(bits::Writer& out);
  void write_spawns(bits::Writer& out, bool with_parts);
  void write_fragments(bits::Writer& out, const FragmentRun& run) const;
  // Digest of what an entity has by the newest tick.
  [[nodiscard]] std::uint32_t values_of(std::uint32_t id, bool owner) const;
  [[nodiscard]] std::optional<std::uint32_t> digest(std::uint32_t base) const;
  Desync repair(std::uint32_t id, std::string_view field);
};

}  // namespace kwind::replica
