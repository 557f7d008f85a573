// Entity ownership: which peer owns which entity. `from owner of` in a description is checked
// against it. One thread.
#pragma once
#include <unordered_map>

#include "kwind/schema/references.h"

namespace kwind::route {

/// Which peer owns which entity.
template <class Peer>
class Owners {
 public:
  /// `peer` owns `entity` from now on, and alone. A ref of another generation is another entity.
  void give(const schema::AnyRef& entity, Peer peer) { owners_[entity.id] = {entity, peer}; }
  /// Nobody owns it any more.
  void take(const schema::AnyRef& entity) {
    const auto found = owners_.find(entity.id);
    if (found != owners_.end() && found->second.entity == entity) owners_.erase(found);
  }
  /// The peer owns nothing any more, for instance since it is gone. O(entities with an owner).
  void take_all(Peer peer) {
    std::erase_if(owners_, [&](const auto& entry) { return entry.second.peer == peer; });
  }
  /// O(1).
  [[nodiscard]] bool owns(Peer peer, const schema::AnyRef& entity) const {
    const auto found = owners_.find(entity.id);
    return entity && found != owners_.end() && found->second.entity == entity &&
           found->second.peer == peer;
  }

 private:
  struct Owned {
    schema::AnyRef entity;
    Peer peer{};
  };
  std::unordered_map<std::uint32_t, Owned> owners_;  // by id
};

}  // namespace kwind::route
