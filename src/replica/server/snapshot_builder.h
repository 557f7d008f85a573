// Makes the next snapshot of a baseline history, in four steps: begin() takes the view and the
// acknowledgements and gathers candidates, that is, entities whose state differs from what the
// client is assumed to have; plan() chooses among them what fits; encode() writes the bits;
// commit() enters the snapshot into the history. A builder may be dropped before commit(): until
// then the history took the view and the acknowledgements, and plan() may have cut an entity that no
// datagram holds into fragments; no update counts as sent. One thread; works in the memory that the
// clients of a world share, so that there is one builder at a time.
#pragma once
#include <cstdint>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "kwind/replica/client_replicator.h"
#include "kwind/replica/explanation.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/delta_codec.h"
#include "replica/coding/fragmented_entity.h"
#include "replica/coding/snapshot_head.h"
#include "replica/server/baseline_history.h"

namespace kwind::replica {

/// The head of a snapshot without the inputs, which are each client's own.
struct SnapshotHead {
  SnapshotMark mark;
  SnapshotNumber named;  ///< the snapshot that it builds on
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

class SnapshotBuilder {
 public:
  /// Borrows all. `symbol_counts`: counts what is written; nullptr: nothing does.
  SnapshotBuilder(BaselineHistory& history, ClientsShared& shared, SymbolCounts* symbol_counts);

  /// False if there is nothing to say. Otherwise `heading` is complete but for its sections.
  bool begin(InterestQuery* query, std::vector<SnapshotNumber>& acks, SnapshotHead& heading);
  /// Nothing if not even one update fits.
  std::optional<SnapshotPlan> plan(const SnapshotHead& heading, Room& room_of_client);
  /// Puts all behind the head into body(). Returns the bits.
  std::size_t encode(const SnapshotPlan& plan);
  [[nodiscard]] const std::vector<std::byte>& body() const { return shared_.scratch.snapshot; }
  /// Returns whether another room would have made another snapshot.
  bool commit(const SnapshotHead& heading, const SnapshotPlan& plan, std::size_t bits);

  /// Why the snapshot at hand has or lacks an update of an entity. `gathered`: what begin()
  /// returned; if it was true, plan() is to come before this call.
  [[nodiscard]] UpdateExplanation explain(schema::AnyRef entity, bool gathered) const;

 private:
  // ---- Candidates: snapshot_builder.cpp ----
  [[nodiscard]] std::size_t find_unsettled();
  void gather();
  void consider(std::size_t index, const WorldState::Brief& brief);
  // The list of continuing entities in a snapshot.
  struct ContinuingList {
    bool goes = false;
    bool all_fit = false;  // every change fits beside it, though it has hardly room
  };
  ContinuingList fit_continuing(const Sent* named, std::size_t& room, SnapshotPlan& plan);
  struct ContinuingBits {
    std::size_t unchanged = 0;
    std::size_t changed = 0;
  };
  void find_expected(const Sent& named);
  ContinuingBits mark_continuing();
  void rank(bool with_continuing);
  [[nodiscard]] Sections sections_of_taken(bool with_continuing) const;
  [[nodiscard]] std::optional<std::uint32_t> digest(SnapshotNumber base) const;
  void note_sent(const SnapshotMark& mark);
  void note_sent(const SnapshotMark& mark, const Candidate& each);

  // ---- The choice: snapshot_plan.cpp ----
  void cancel_unneeded_fragments();
  void fragment_largest_pending(std::size_t roomiest);
  bool narrow(std::size_t room, std::size_t& deferred);
  bool limit_repeats();
  [[nodiscard]] std::size_t size_of(const Candidate& each) const;
  [[nodiscard]] bool fit_all(std::size_t room);
  [[nodiscard]] std::size_t bits_of_places() const;
  std::size_t choose(std::size_t room);
  std::size_t choose_by_priority(Candidate* in_fragments, std::size_t& room);
  void choose_fragments(Candidate& in_fragments, std::size_t max);

  // ---- Bits: snapshot_writer.cpp ----
  // The codes of what the client knows under an id.
  [[nodiscard]] const CodeTables::Inside::Type& codes_of(const Baseline& baseline) const {
    return codes_.inside().types[baseline.type];
  }
  [[nodiscard]] std::size_t masks_of(const Baseline& baseline) const {
    return world_.models[baseline.type].masks();
  }
  // That of its symbols, at the age of what the client knows.
  [[nodiscard]] const PrefixCode& alphabet_of(const Baseline& baseline, bool is_continuing) const {
    const auto& alphabets =
        is_continuing ? codes_of(baseline).continuing : codes_of(baseline).unexpected;
    return alphabets[age_of(tick() - baseline.ticks[0])];
  }
  std::size_t states_known(EntityId id, const Baseline& baseline, KnownStates& known) const;
  [[nodiscard]] Basis basis_of(const Candidate& each, KnownStates& known) const;
  [[nodiscard]] std::uint32_t values_of(EntityId id, bool owner) const;
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
  void write_body(bits::Writer& out, const Candidate& each);
  void write_continuing(bits::Writer& out);
  void write_unexpected(bits::Writer& out);
  void write_spawns(bits::Writer& out, bool with_parts);
  void write_fragments(bits::Writer& out, const FragmentRun& run) const;

  // ---- Why: explanation.cpp ----
  void answer_without_update(std::size_t index, const WorldState::Brief& brief,
                             UpdateExplanation& answer) const;
  [[nodiscard]] std::vector<std::string_view> fields_of(const Candidate& each) const;

  [[nodiscard]] Tick tick() const { return history_.tick(); }

  BaselineHistory& history_;
  ClientsShared& shared_;
  SymbolCounts* symbol_counts_;
  const WorldState& world_;
  const CodeTables& codes_;
  // Of the history:
  ClientEntities& entities_;
  const SentSnapshots& sent_;
  FragmentedEntity& fragmented_;
  // For the snapshot at hand, in memory of the world:
  std::vector<std::uint32_t>& unsettled_;
  std::vector<Candidate>& candidates_;
  std::vector<ExpectedEntity>& expected_;
  std::vector<ContinuingEntity>& continuing_;
  std::vector<Candidate*>& by_priority_;
  std::vector<Entry>& entries_;
  std::vector<std::byte>& bodies_;
  std::size_t bodies_end_ = 0;
  std::size_t edits_left_ = 0;  // of the snapshot that is written, see kMaxEditedSize
};

}  // namespace kwind::replica
