// A queue between messages that come in bursts and people who read one at a time: hands out one
// item per dwell time. Time is a parameter; one queue, one thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <deque>
#include <functional>
#include <optional>
#include <utility>

#include "kwind/core/assert.h"
#include "kwind/core/compiler.h"
#include "kwind/core/time.h"

namespace kwind::route {

/// What becomes of an item for which there is no room.
enum class WhenFull : std::uint8_t {
  drop_oldest,  ///< of the lowest priority; the new one itself if all others rank above it
  drop_newest,  ///< the new one
};

/// How long an item is shown, and how many wait.
struct PacedOptions {
  Duration dwell = std::chrono::seconds(2);  ///< least time between two items
  std::size_t capacity = 64;                 ///< items that may wait; at least 1
  WhenFull when_full = WhenFull::drop_oldest;
};

/// What became of the items.
struct PacedCounts {
  std::uint64_t handed_out = 0;
  std::uint64_t dropped = 0;  ///< no room
  std::uint64_t merged = 0;   ///< took the place of one that waited
  std::uint64_t skipped = 0;  ///< by skip_to_newest()
};

/// Hands out one item after the other, each for a while.
template <class T>
class Paced {
 public:
  using Options = PacedOptions;
  explicit Paced(Options options) : options_(options) {
    KWIND_ASSERT(options.capacity >= 1 && options.dwell >= Duration{0});
  }

  /// Items for which `same(waiting, fresh)` holds are one: the fresh one takes the place of the one
  /// that waits. For "the wind is now 12 knots" after "the wind is now 11 knots".
  void merge_by(std::function<bool(const T&, const T&)> same) { same_ = std::move(same); }

  /// Adds an item. Higher priority is handed out first, equal in the order of arrival. false: it,
  /// or another in its place, was dropped. O(items).
  bool put(T item, int priority = 0) {
    if (same_) {
      const auto found = std::find_if(items_.begin(), items_.end(),
                                      [&](const Entry& entry) { return same_(entry.item, item); });
      if (found != items_.end()) {
        ++counts_.merged;
        if (found->priority >= priority) {
          found->item = std::move(item);
          found->number = ++last_number_;
          return true;
        }
        items_.erase(found);  // it goes further to the front
      }
    }
    bool room = true;
    if (items_.size() >= options_.capacity) {
      room = false;
      ++counts_.dropped;
      // The queue is sorted: the lowest rank stands at its end, its oldest first.
      if (options_.when_full == WhenFull::drop_newest || items_.back().priority > priority) {
        return false;
      }
      const int lowest = items_.back().priority;
      items_.erase(std::find_if(items_.begin(), items_.end(),
                                [&](const Entry& entry) { return entry.priority == lowest; }));
    }
    const auto place = std::find_if(items_.begin(), items_.end(),
                                    [&](const Entry& entry) { return entry.priority < priority; });
    items_.insert(place, Entry{priority, ++last_number_, std::move(item)});
    return room;
  }

  /// The next item, if one waits and the last one has had its time.
  std::optional<T> take(Time now) {
    if (items_.empty() || now < next_time()) return std::nullopt;
    T item = std::move(items_.front().item);
    items_.pop_front();
    last_ = now;
    ++counts_.handed_out;
    return item;
  }
  /// When take() will give something; kNever if nothing waits.
  [[nodiscard]] Time next_wakeup() const { return items_.empty() ? kNever : next_time(); }

  /// Gives up all but the item that was put last; that one may be taken at once.
  void skip_to_newest() {
    last_.reset();
    if (items_.empty()) return;
    const auto newest =
        std::max_element(items_.begin(), items_.end(),
                         [](const Entry& a, const Entry& b) { return a.number < b.number; });
    counts_.skipped += items_.size() - 1;
    Entry kept = std::move(*newest);
    items_.clear();
    items_.push_back(std::move(kept));
  }
  void clear() { items_.clear(); }

  /// Items that wait.
  [[nodiscard]] std::size_t size() const { return items_.size(); }
  /// Whether none waits.
  [[nodiscard]] bool empty() const { return items_.empty(); }
  [[nodiscard]] const PacedCounts& counts() const { return counts_; }

 private:
  struct Entry {
    int priority;
    std::uint64_t number;  // in the order of put()
    T item;
  };
  [[nodiscard]] Time next_time() const { return last_ ? *last_ + options_.dwell : Time::min(); }

  Options options_;
  std::function<bool(const T&, const T&)> same_;
  std::deque<Entry> items_;  // by priority, then arrival
  std::uint64_t last_number_ = 0;
  std::optional<Time> last_;
  PacedCounts counts_;
};

}  // namespace kwind::route
