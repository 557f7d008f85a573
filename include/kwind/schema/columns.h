// Takes the fields of an entity apart into columns of whole numbers, see entity_info.h: for the
// code generator, and for tools that have a description alone. Pure.
#pragma once
#include <vector>

#include "kwind/schema/entity_info.h"
#include "kwind/schema/protocol.h"

namespace kwind::schema {

struct Columns {
  std::vector<ColumnInfo> columns;
  std::vector<FollowInfo> follows;
};

/// Those of the newest version, in the order in which it encodes them. A field that it lacks has
/// none.
[[nodiscard]] Columns columns_of(const Protocol& protocol, const Entity& entity);

}  // namespace kwind::schema
