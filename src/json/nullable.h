// Which types have null among their JSON values.
#pragma once
#include "kwind/schema/protocol.h"

namespace kwind::json {

/// Returns whether JSON of the type can be null, so that a `maybe` of the type needs another way to
/// say none.
inline bool can_be_null(const schema::Type& type) {
  return type.kind == schema::TypeKind::ref ||
         (type.kind == schema::TypeKind::maybe && !can_be_null(type.element.front()));
}

}  // namespace kwind::json
