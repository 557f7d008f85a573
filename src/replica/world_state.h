// The inside of a World, which viewers read. One thread.
#pragma once
#include <array>
#include <deque>
#include <optional>
#include <vector>

#include "kind_shape.h"
#include "kwind/replica/world.h"
#include "rows.h"

namespace kwind::replica {

/// So many changes of an entity are remembered: a client whose baseline is older gets all of it.
inline constexpr std::size_t kHistoryRows = 32;

struct World::State {
  struct Entity {
    const KindShape* shape = nullptr;
    bool alive = false;
    bool put = false;  // since the last tick
    std::uint8_t generation = 0;
    OwnRow now;
    std::optional<Rows> history;
  };

  State(const schema::EntitiesInfo& entities, WorldOptions options);

  const schema::EntitiesInfo& info;
  WorldOptions options;
  std::vector<KindShape> shapes;                                    // by kind
  std::vector<Entity> entities;                                     // by id; 0 is nobody
  std::deque<std::uint32_t> free_ids;                               // never used, or long free
  std::deque<std::pair<std::uint32_t, std::uint32_t>> resting_ids;  // tick of their end, id
  std::vector<std::uint32_t> put_ids;
  std::vector<std::byte> scratch;
  std::uint32_t tick = 1;
  std::size_t alive = 0;
  std::uint64_t out_of_range = 0;
};

}  // namespace kwind::replica
