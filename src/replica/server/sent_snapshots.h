// The snapshots in flight of one client, with their updates. Pure.
#pragma once
#include <algorithm>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "kwind/core/prefetch.h"
#include "replica/coding/acked_snapshots.h"
#include "replica/coding/entity_update.h"
#include "replica/coding/fragmented_entity.h"

namespace kwind::replica {

/// What a snapshot had of an entity.
struct Entry {
  EntityId id;
  Tick tick;  ///< of the values
  std::uint16_t type = 0;
  std::uint8_t generation = 0;
  Update update = Update::full;
  bool owner = false;
  std::uint32_t share = 0;  ///< of the digest, see state_digest.h
  std::uint32_t index = 0;  ///< of its copy, as long as none came or went
  friend bool operator==(const Entry&, const Entry&) = default;
};

struct Sent {
  SnapshotMark mark;
  bool lost = false;     ///< discarded: no delta uses it any more
  bool arrived = false;  ///< and what it builds on had arrived
  bool acked = false;
  FragmentRun fragments{};                  ///< that it carried
  bool has_full = false;                    ///< of some entity all
  std::optional<std::uint8_t> completed{};  ///< number of a fragmented entity that it made appear
  std::uint64_t first = 0;  ///< of its entries, counted from the first snapshot's on
  std::uint32_t count = 0;
};

class SentSnapshots {
 public:
  SentSnapshots() : snapshots_(kKept) {}

  [[nodiscard]] Sent* find(SnapshotNumber snapshot) {
    Sent& slot = snapshots_[snapshot % kKept];
    return snapshot && slot.mark.snapshot == snapshot ? &slot : nullptr;
  }
  [[nodiscard]] const Sent* find(SnapshotNumber snapshot) const {
    const Sent& slot = snapshots_[snapshot % kKept];
    return snapshot && slot.mark.snapshot == snapshot ? &slot : nullptr;
  }
  /// By id. Nothing for snapshots that were forgotten.
  [[nodiscard]] std::span<const Entry> entries(const Sent& snapshot) const {
    if (snapshot.first < forgotten_) return {};
    return std::span(entries_).subspan(snapshot.first - forgotten_, snapshot.count);
  }
  Sent& add(const SnapshotMark& mark, std::span<const Entry> entries) {
    Sent& sent = snapshots_[mark.snapshot % kKept];
    sent = {};
    sent.mark = mark;
    sent.first = forgotten_ + entries_.size();
    sent.count = newest_count_ = static_cast<std::uint32_t>(entries.size());
    entries_.insert(entries_.end(), entries.begin(), entries.end());
    return sent;
  }
  /// Nobody will ask for the entries of snapshots before this one.
  void drop_before(SnapshotNumber snapshot) {
    const Sent* const first = find(snapshot);
    if (first == nullptr || first->first <= forgotten_) return;
    const std::uint64_t passed = first->first - forgotten_;
    // Not each time: what stays has to be moved.
    if (passed * 2 < entries_.size()) return;
    entries_.erase(entries_.begin(), entries_.begin() + static_cast<std::ptrdiff_t>(passed));
    forgotten_ += passed;
  }
  void clear() {
    for (Sent& snapshot : snapshots_) snapshot = {};
    forgotten_ += entries_.size();
    entries_.clear();
  }
  /// What the snapshot behind `last` will need, if those behind `sure` are in flight.
  void prefetch(SnapshotNumber last, SnapshotNumber sure) const {
    kwind::prefetch(&snapshots_[(last + 1) % kKept], sizeof(Sent));
    kwind::prefetch(&snapshots_[last % kKept], sizeof(Sent));
    kwind::prefetch(&snapshots_[(last + kKept - kSnapshotWindow + 1) % kKept], 1);
    const std::size_t entries =
        std::min<std::size_t>(entries_.size(), (last - sure) * std::size_t{newest_count_});
    kwind::prefetch(entries_.data() + entries_.size() - entries, entries * sizeof(Entry));
  }
  [[nodiscard]] std::size_t memory() const {
    return snapshots_.capacity() * sizeof(Sent) + entries_.capacity() * sizeof(Entry);
  }

 private:
  // A mark reaches back over twice the window: to the named snapshot, and from there to what that
  // named.
  static constexpr std::uint32_t kKept = 2 * kSnapshotWindow;
  std::vector<Sent> snapshots_;
  std::vector<Entry> entries_;
  std::uint64_t forgotten_ = 0;  // entries that are no longer kept
  std::uint32_t newest_count_ = 0;
};

}  // namespace kwind::replica
