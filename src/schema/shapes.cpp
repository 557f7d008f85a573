// Predicates of types that sizes and the runtime codec share.
#include "schema/shapes.h"

namespace kwind::schema {

std::uint64_t cell_count(const Protocol& protocol, const Type& cell, std::uint16_t version) {
  switch (cell.kind) {
    case TypeKind::boolean: return 2;
    case TypeKind::integer: return cell.integer.last_index() + 1;
    case TypeKind::real: return cell.real.count;
    case TypeKind::angle: return cell.angle.count;
    case TypeKind::enumeration: return protocol.enums[cell.index].alive(version);
    default: return 0;  // the compiler of .kw files lets no other type into a grid
  }
}

GridShape grid_shape(const Protocol& protocol, const Type& type, std::uint16_t version) {
  const Type& cell = type.element.front();
  const bool named = cell.kind == TypeKind::enumeration || cell.kind == TypeKind::boolean;
  return {type.limit, type.height, cell_count(protocol, cell, version), named};
}

}  // namespace kwind::schema
