// The received states of one entity that later deltas may refer to. One entity, one thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <vector>

#include "kwind/core/prefetch.h"
#include "replica/coding/column_row.h"
#include "replica/coding/entity_update.h"
#include "replica/coding/strong_numbers.h"

namespace kwind::replica {

struct ReceivedState {
  SnapshotNumber snapshot;
  Tick at;    ///< of the snapshot
  Tick tick;  ///< of the values
  Update update = Update::full;
  std::uint8_t generation = 0;
  std::uint16_t type = 0;
  bool owner = false;
  std::uint16_t slot = 0;  ///< of its values, see ReceivedStates
};

/// Columns of the widest kind of a protocol.
struct Widths {
  std::size_t numbers = 0;
  std::size_t varying = 0;
};

/// By snapshot. The values of one entity lie together, in places that are used again: what the next
/// snapshot builds on is near, and nothing is allocated for it once there are enough places.
class ReceivedStates {
 public:
  [[nodiscard]] bool empty() const { return states_.empty(); }
  /// The next one takes more memory.
  [[nodiscard]] bool full() const { return free_.empty(); }
  [[nodiscard]] auto begin() const { return states_.begin(); }
  [[nodiscard]] auto end() const { return states_.end(); }
  [[nodiscard]] auto rbegin() const { return states_.rbegin(); }
  [[nodiscard]] auto rend() const { return states_.rend(); }
  [[nodiscard]] Row row(const ReceivedState& record, const Widths& widths) const {
    return {std::span(numbers_).subspan(record.slot * widths.numbers, widths.numbers),
            std::span(varying_).subspan(record.slot * widths.varying, widths.varying)};
  }
  void insert(const ReceivedState& record, const Row& row, const Widths& widths) {
    if (free_.empty()) grow(widths);
    const std::uint16_t slot = free_.back();
    free_.pop_back();
    std::copy(row.numbers.begin(), row.numbers.end(),
              numbers_.begin() + offset(slot * widths.numbers));
    std::copy(row.varying.begin(), row.varying.end(),
              varying_.begin() + offset(slot * widths.varying));
    auto place = states_.end();
    while (place != states_.begin() && (place - 1)->snapshot > record.snapshot) --place;
    states_.insert(place, record)->slot = slot;
  }
  void erase(SnapshotNumber snapshot) {
    const auto place = find(snapshot);
    if (place != states_.end()) drop(place, place + 1);
  }
  /// Drops the states before the newest one up to `snapshot`. Not each time: what stays has to be
  /// moved. That older ones are still here harms nobody.
  void trim(SnapshotNumber snapshot) {
    const std::size_t half = states_.size() / 2;
    if (states_.size() < 2 || states_[half].snapshot > snapshot) return;
    auto keep = states_.begin() + offset(half);
    while (keep + 1 != states_.end() && (keep + 1)->snapshot <= snapshot) ++keep;
    drop(states_.begin(), keep);
  }
  /// Drops all states up to the one of `snapshot`.
  void drop_through(SnapshotNumber snapshot) {
    const auto place = find(snapshot);
    if (place != states_.end()) drop(states_.begin(), place + 1);
  }
  /// What the next snapshot will be built on, for who comes to it soon.
  void prefetch() const {
    const std::size_t newest = std::min<std::size_t>(states_.size(), kKnownStates);
    kwind::prefetch(states_.data() + states_.size() - newest, newest * sizeof(ReceivedState));
  }
  void prefetch_values(const Widths& widths) const {
    for (std::size_t i = 0; i < std::min<std::size_t>(states_.size(), kKnownStates); ++i) {
      const std::size_t slot = states_[states_.size() - 1 - i].slot;
      kwind::prefetch(numbers_.data() + slot * widths.numbers, 1);
    }
  }
  /// What insert() will write to.
  void prefetch_free_slot() const {
    if (!free_.empty()) kwind::prefetch(&free_.back(), 1);
    kwind::prefetch(states_.data() + states_.size(), sizeof(ReceivedState));
  }
  void prefetch_free_values(const Widths& widths) const {
    if (!free_.empty()) kwind::prefetch(numbers_.data() + free_.back() * widths.numbers, 1);
  }
  /// For ClientWorld::spoil().
  void flip(std::size_t column, std::uint32_t bits, const Widths& widths) {
    for (const ReceivedState& record : states_)
      numbers_[record.slot * widths.numbers + column] ^= bits;
  }

 private:
  using Place = std::vector<ReceivedState>::iterator;
  static std::ptrdiff_t offset(std::size_t at) { return static_cast<std::ptrdiff_t>(at); }
  [[nodiscard]] Place find(SnapshotNumber snapshot) {
    const auto place = std::lower_bound(
        states_.begin(), states_.end(), snapshot,
        [](const ReceivedState& each, SnapshotNumber wanted) { return each.snapshot < wanted; });
    return place != states_.end() && place->snapshot == snapshot ? place : states_.end();
  }
  void drop(Place from, Place to) {
    const std::size_t width = varying_.size() / slots_;
    for (auto each = from; each != to; ++each) {
      free_.push_back(each->slot);
      // Texts and lists may be large: they do not wait for the next use of the place.
      for (std::size_t i = 0; i < width; ++i) varying_[each->slot * width + i] = nullptr;
    }
    states_.erase(from, to);
  }
  void grow(const Widths& widths) {
    const std::size_t more = std::max<std::size_t>(2, slots_);
    for (std::size_t i = slots_ + more; i-- > slots_;) {
      free_.push_back(static_cast<std::uint16_t>(i));
    }
    slots_ += more;
    free_.reserve(slots_);
    numbers_.resize(slots_ * widths.numbers);
    varying_.resize(slots_ * widths.varying);
  }

  std::vector<ReceivedState> states_;
  std::size_t slots_ = 0;
  std::vector<std::uint16_t> free_;
  std::vector<std::uint32_t> numbers_;
  std::vector<SharedBits> varying_;
};

}  // namespace kwind::replica
