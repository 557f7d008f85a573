// The three updates that a snapshot can hold of an entity.
#pragma once
#include <cstdint>

namespace kwind::replica {

enum class Update : std::uint8_t {
  full,     ///< all values, with type and generation
  delta,    ///< the change against an acknowledged baseline
  despawn,  ///< the entity despawned or left the client's view
};

}  // namespace kwind::replica
