// The entities of one client with their baselines and pending updates, in parallel arrays sorted by
// id. Pure.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>
#include <optional>
#include <vector>

#include "kwind/core/prefetch.h"
#include "replica/coding/column_row.h"
#include "replica/server/sent_snapshots.h"

namespace kwind::replica {

/// What a client knows of an entity.
struct Baseline {
  KnownTicks ticks{};      ///< of the newest states that it has
  std::uint16_t type = 0;  ///< with the generation: what it takes it for
  std::uint8_t generation = 0;
  bool known : 1 = false;
  bool owner : 1 = false;
  bool changing : 1 = false;  ///< it changed since it appeared
  friend bool operator==(const Baseline&, const Baseline&) = default;

  void apply(const Entry& entry) {
    if (entry.update == Update::despawn) {
      known = false;
      ticks = {};
      return;
    }
    known = true;
    if (entry.update == Update::delta) {
      for (std::size_t i = ticks.size() - 1; i > 0; --i) ticks[i] = ticks[i - 1];
      ticks[0] = entry.tick;
      changing = true;
      return;
    }
    ticks = {entry.tick};
    changing = false;
    type = entry.type;
    generation = entry.generation;
    owner = entry.owner;
  }
};

/// A cache line.
struct alignas(kCacheLineBytes) ClientEntity {
  SnapshotNumber despawn_snapshot;  ///< that is in flight and says that it is gone
  Tick waiting_since;               ///< at which an update was first deferred; none: none is
  // Of what was sent last, while nothing speaks against its arriving.
  SnapshotNumber sent_snapshot;  ///< none: nothing is in flight
  Tick sent_tick;
  std::uint8_t sent_generation = 0;
  bool sent_owner : 1 = false;
  bool sent_gone : 1 = false;
  bool resend : 1 = false;   ///< a desync was reported: the entity is sent in full again
  bool counted : 1 = false;  ///< see EntityIds: the client may know of it
  /// Snapshots in flight that have all of it, to others and to its owner: a change that builds
  /// on what the client was before would be read behind them.
  std::array<std::uint8_t, 2> wholes{};
  Baseline sure;  ///< what the client has for certain
  [[nodiscard]] const Baseline& baseline() const { return baseline_; }
  [[nodiscard]] bool may_be_known() const {
    return baseline_.known || sure.known || wholes[0] > 0 || wholes[1] > 0;
  }
  /// What was in flight has arrived, or is lost.
  void mark_sent(const Entry& entry) {
    std::uint8_t& count = wholes[entry.owner ? 1 : 0];
    if (entry.update == Update::full && count > 0) --count;
  }

 private:
  friend class ClientEntities;
  Baseline baseline_;        // what the next snapshot builds on
  std::uint32_t share_ = 0;  // of the digest over that; 0: not to be had any more
};

static_assert(sizeof(ClientEntity) == kCacheLineBytes);

/// How it is looked at.
struct Look {
  float priority = 1;
  bool in_view = false;
  bool owner = false;
  friend bool operator==(const Look&, const Look&) = default;
};

/// How an entity stands with a client, as its place in a snapshot depends on it.
enum class MotionState : std::uint8_t { unknown, still, changing };

/// By id, and by their places in that order. What is looked at of all of them in every tick lies
/// apart from the rest: with a thousand clients no cache holds it all.
class ClientEntities {
 public:
  [[nodiscard]] std::size_t size() const { return ids_.size(); }
  [[nodiscard]] EntityId id(std::size_t index) const { return ids_[index]; }
  [[nodiscard]] MotionState standing(std::size_t index) const { return standings_[index]; }
  /// All that changed up to this tick is there, or in flight.
  [[nodiscard]] Tick& settled(std::size_t index) { return settled_[index]; }
  [[nodiscard]] Tick settled(std::size_t index) const { return settled_[index]; }
  [[nodiscard]] Look& look(std::size_t index) { return looks_[index]; }
  [[nodiscard]] const Look& look(std::size_t index) const { return looks_[index]; }
  [[nodiscard]] ClientEntity& operator[](std::size_t index) { return all_[index]; }
  [[nodiscard]] const ClientEntity& operator[](std::size_t index) const { return all_[index]; }

  /// Where it is if it is there; fast if that is at `hint`.
  [[nodiscard]] std::optional<std::size_t> find(std::size_t hint, EntityId id) const {
    return hint < ids_.size() && ids_[hint] == id ? std::optional(hint) : find(id);
  }
  /// The first place from `from` on whose id is not below; size() if there is none.
  [[nodiscard]] std::size_t walk(std::size_t from, EntityId id) const {
    while (from < ids_.size() && ids_[from] < id) ++from;
    return from;
  }
  [[nodiscard]] std::optional<std::size_t> find(EntityId id) const {
    const std::size_t index = lower(id);
    return index < ids_.size() && ids_[index] == id ? std::optional(index) : std::nullopt;
  }
  /// Its place. O(copies) if it is new.
  std::size_t at(std::size_t hint, EntityId id) {
    if (hint < ids_.size() && ids_[hint] == id) return hint;
    const std::size_t index = lower(id);
    if (index == ids_.size() || ids_[index] != id) insert(index, id);
    return index;
  }
  /// Requires: `id` belongs there. O(copies).
  void insert(std::size_t index, EntityId id) {
    const auto offset = static_cast<std::ptrdiff_t>(index);
    ids_.insert(ids_.begin() + offset, id);
    settled_.insert(settled_.begin() + offset, Tick{});
    standings_.insert(standings_.begin() + offset, MotionState::unknown);
    looks_.insert(looks_.begin() + offset, Look{});
    all_.emplace(all_.begin() + offset);
  }
  /// `share`: of the digest, see state_digest.h; 0 if what it is of has gone.
  void hold(std::size_t index, const Baseline& baseline, std::uint32_t share) {
    change(index, share, [&](Baseline& here) { here = baseline; });
  }
  void apply(std::size_t index, const Entry& entry) {
    change(index, entry.share, [&](Baseline& here) { here.apply(entry); });
  }
  /// Of the shares of all that is held; nothing if one of them is not to be had.
  [[nodiscard]] std::optional<std::uint32_t> sum_of_shares() const {
    return shareless_ == 0 ? std::optional(sum_) : std::nullopt;
  }
  template <class Unneeded>
  void drop(const Unneeded& unneeded) {
    std::size_t kept = 0;
    for (std::size_t i = 0; i < ids_.size(); ++i) {
      if (unneeded(i)) continue;
      if (kept != i) {
        ids_[kept] = ids_[i];
        settled_[kept] = settled_[i];
        standings_[kept] = standings_[i];
        looks_[kept] = looks_[i];
        all_[kept] = all_[i];
      }
      ++kept;
    }
    ids_.resize(kept);
    settled_.resize(kept);
    standings_.resize(kept);
    looks_.resize(kept);
    all_.resize(kept);
  }
  /// What is looked at in every tick, but for the copies themselves.
  void prefetch() const {
    kwind::prefetch(ids_.data(), ids_.size() * sizeof(EntityId));
    kwind::prefetch(settled_.data(), settled_.size() * sizeof(Tick));
    kwind::prefetch(standings_.data(), standings_.size() * sizeof(MotionState));
  }
  [[nodiscard]] std::size_t memory() const {
    return all_.capacity() * sizeof(ClientEntity) +
           ids_.capacity() * (sizeof(std::uint32_t) * 2 + sizeof(MotionState) + sizeof(Look));
  }

 private:
  // In place: a copy of what was just written would wait for its stores.
  template <class Change>
  void change(std::size_t index, std::uint32_t share, const Change& make) {
    ClientEntity& copy = all_[index];
    Baseline& baseline = copy.baseline_;
    if (baseline.known && copy.share_ == 0) --shareless_;
    sum_ -= copy.share_;
    make(baseline);
    copy.share_ = baseline.known ? share : 0;
    sum_ += copy.share_;
    if (baseline.known && share == 0) ++shareless_;
    standings_[index] = !baseline.known     ? MotionState::unknown
                        : baseline.changing ? MotionState::changing
                                            : MotionState::still;
  }
  [[nodiscard]] std::size_t lower(EntityId id) const {
    return static_cast<std::size_t>(std::lower_bound(ids_.begin(), ids_.end(), id) - ids_.begin());
  }
  std::vector<EntityId> ids_;
  std::vector<Tick> settled_;
  std::vector<MotionState> standings_;
  std::vector<Look> looks_;
  std::vector<ClientEntity> all_;
  std::uint32_t sum_ = 0;
  std::size_t shareless_ = 0;
};

}  // namespace kwind::replica
