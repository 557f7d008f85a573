// What one client has, or is about to have, of each entity that concerns it. Pure.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>
#include <vector>

#include "rows.h"
#include "sent_frames.h"

namespace kwind::replica {

/// What a client knows of an entity.
struct Held {
  KnownTicks ticks{};      ///< of the newest states that it has
  std::uint16_t kind = 0;  ///< with the generation: what it takes it for
  std::uint8_t generation = 0;
  bool known = false;
  bool owner = false;
  bool restless = false;  ///< it changed since it appeared

  void apply(const Entry& entry) {
    if (entry.told == Told::gone) {
      known = false;
      ticks = {};
      return;
    }
    known = true;
    if (entry.told == Told::change) {
      std::copy_backward(ticks.begin(), ticks.end() - 1, ticks.end());
      ticks[0] = entry.tick;
      restless = true;
      return;
    }
    ticks = {entry.tick};
    restless = false;
    kind = entry.kind;
    generation = entry.generation;
    owner = entry.owner;
  }
};

struct Copy {
  std::uint32_t id = 0;
  std::uint32_t settled = 0;  ///< all that changed up to this tick is there, or under way
  bool in_view = false;
  bool owner = false;
  bool resend = false;  ///< it differs from what was told: all of it goes again
  // Of what was sent last, while nothing speaks against its arriving.
  bool sent_owner = false;
  bool sent_gone = false;
  std::uint8_t sent_generation = 0;
  std::uint32_t sent_frame = 0;  ///< 0: nothing is under way
  std::uint32_t sent_tick = 0;
  std::uint32_t gone_frame = 0;  ///< that is under way and says that it is gone
  std::uint32_t waiting_since =
      0;  ///< tick at which something to tell was first put off; 0: nothing
  float weight = 1;
  Held held;  ///< what the next frame builds on
  Held sure;  ///< what the client has for certain
};

/// By id.
class Copies {
 public:
  [[nodiscard]] Copy* find(std::uint32_t id) {
    const auto found = place(id);
    return found != all_.end() && found->id == id ? &*found : nullptr;
  }
  /// O(copies) if it is new.
  Copy& at(std::uint32_t id) {
    auto found = place(id);
    if (found == all_.end() || found->id != id) {
      found = all_.emplace(found);
      found->id = id;
    }
    return *found;
  }
  /// Requires: `id` belongs before `before`. O(copies).
  std::vector<Copy>::iterator insert(std::vector<Copy>::iterator before, std::uint32_t id) {
    before = all_.emplace(before);
    before->id = id;
    return before;
  }
  [[nodiscard]] auto begin() { return all_.begin(); }
  [[nodiscard]] auto end() { return all_.end(); }
  [[nodiscard]] std::size_t size() const { return all_.size(); }
  template <class Unneeded>
  void drop(const Unneeded& unneeded) {
    std::erase_if(all_, unneeded);
  }
  [[nodiscard]] std::size_t memory() const { return all_.capacity() * sizeof(Copy); }

 private:
  [[nodiscard]] std::vector<Copy>::iterator place(std::uint32_t id) {
    return std::lower_bound(
        all_.begin(), all_.end(), id,
        [](const Copy& copy, std::uint32_t wanted) { return copy.id < wanted; });
  }
  std::vector<Copy> all_;
};

}  // namespace kwind::replica
