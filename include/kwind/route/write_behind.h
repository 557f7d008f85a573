// State worth keeping, written behind: when its owner leaves, and every so often while it changes;
// never for each change. What is due is handed to whoever writes, on a thread of its own if that
// waits for a disk. Pure; one thread.
#pragma once
#include <algorithm>
#include <functional>
#include <map>
#include <optional>
#include <utility>
#include <vector>

#include "kwind/core/time.h"

namespace kwind::route {

/// Says which states are due to be written.
template <class Key, class State>
class WriteBehind {
 public:
  /// A state that is to be written now.
  struct Due {
    Key key;
    State state;
  };
  /// A change is handed out at most `longest` after it was put: so much is lost if the process dies
  /// (and what the writer has not written yet).
  explicit WriteBehind(Duration longest) : longest_(longest) {}

  /// The newest state of `key`; what it was before is forgotten if it was not handed out yet.
  /// O(log keys).
  void put(const Key& key, State state, Time now) {
    const auto [entry, fresh] = dirty_.try_emplace(key);
    if (fresh) entry->second.since = now;
    entry->second.state = std::move(state);
  }
  /// `key` has left: what was put last is due at once.
  void leave(const Key& key) {
    const auto found = dirty_.find(key);
    if (found != dirty_.end()) found->second.leaving = true;
  }
  /// Takes out what is due at `now`, or all of it before an end. O(keys that changed).
  [[nodiscard]] std::vector<Due> take(Time now, bool all = false) {
    std::vector<Due> due;
    for (auto entry = dirty_.begin(); entry != dirty_.end();) {
      if (all || entry->second.leaving || now - entry->second.since >= longest_) {
        due.push_back({entry->first, std::move(entry->second.state)});
        entry = dirty_.erase(entry);
      } else {
        ++entry;
      }
    }
    return due;
  }
  /// What was put for `key` and is not handed out yet: newer than what a store holds.
  [[nodiscard]] const State* pending(const Key& key) const {
    const auto found = dirty_.find(key);
    return found == dirty_.end() ? nullptr : &found->second.state;
  }
  [[nodiscard]] std::size_t dirty() const { return dirty_.size(); }

 private:
  struct Entry {
    State state{};
    Time since{};
    bool leaving = false;
  };
  Duration longest_;
  std::map<Key, Entry> dirty_;
};

}  // namespace kwind::route
