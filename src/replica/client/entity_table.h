// Entities by id, in pages that exist once an id of theirs is in use: a hostile server that names
// the largest id makes the client take memory for a page, not for all ids below. One thread.
#pragma once
#include <algorithm>
#include <array>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

#include "replica/coding/strong_numbers.h"

namespace kwind::replica {

template <class Entity>
class EntityTable {
 public:
  /// Makes room for an entity. O(1) but for the table of pages, which has 8 bytes for 16 ids.
  void make(EntityId id) {
    const std::uint32_t page = id.raw() / kPageEntities;
    if (page >= pages_.size()) pages_.resize(page + std::size_t{1});
    if (pages_[page] != nullptr) return;
    pages_[page] = std::make_unique<Page>();
    is_sorted_ = is_sorted_ && (used_.empty() || used_.back() < page);
    used_.push_back(page);
  }
  /// Requires: make() was called for the id, or one of its page.
  [[nodiscard]] Entity& operator[](EntityId id) {
    return (*pages_[id.raw() / kPageEntities])[id % kPageEntities];
  }
  [[nodiscard]] const Entity& operator[](EntityId id) const {
    return (*pages_[id.raw() / kPageEntities])[id % kPageEntities];
  }
  /// nullptr if there is no room for it.
  [[nodiscard]] const Entity* find(EntityId id) const {
    const std::size_t page = id.raw() / kPageEntities;
    return page < pages_.size() && pages_[page] != nullptr ? &(*this)[id] : nullptr;
  }
  /// Calls visit(id, entity) for all that there is room for, by id. O(pages in use).
  template <class Visit>
  void for_each(const Visit& visit) const {
    if (!is_sorted_) std::sort(used_.begin(), used_.end());
    is_sorted_ = true;
    for (const std::uint32_t page : used_) {
      for (std::uint32_t i = 0; i < kPageEntities; ++i) {
        visit(EntityId(page * kPageEntities + i), (*pages_[page])[i]);
      }
    }
  }
  /// O(pages in use).
  void clear() {
    for (const std::uint32_t page : used_) pages_[page] = nullptr;
    used_.clear();
    is_sorted_ = true;
  }

 private:
  static constexpr std::uint32_t kPageEntities = 16;
  using Page = std::array<Entity, kPageEntities>;
  std::vector<std::unique_ptr<Page>> pages_;
  mutable std::vector<std::uint32_t> used_;  // pages that exist
  mutable bool is_sorted_ = true;
};

}  // namespace kwind::replica
