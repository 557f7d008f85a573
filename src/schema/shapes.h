// Predicates of types that sizes and the runtime codec share.
#pragma once
#include "kwind/schema/grid.h"
#include "kwind/schema/protocol.h"

namespace kwind::schema {

/// Values of a type that a grid cell may have: bool, int, real, angle, enum. In `version`.
std::uint64_t cell_count(const Protocol& protocol, const Type& cell, std::uint16_t version);

/// Requires: type.kind is grid.
GridShape grid_shape(const Protocol& protocol, const Type& type, std::uint16_t version);

}  // namespace kwind::schema
