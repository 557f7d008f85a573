// Takes the fields of an entity apart into columns of whole numbers, see entity_info.h: for the
// code generator, and for tools that have a description alone. Pure.
#pragma once
#include <memory>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/schema/entity_info.h"
#include "kwind/schema/protocol.h"

namespace kwind::schema {

/// The columns of one entity type, with its follows, grids and attachments.
struct Columns {
  std::vector<ColumnInfo> columns;
  std::vector<FollowInfo> follows;
  std::vector<GridShape> grids;
  std::vector<AttachmentInfo> attachments;
};

/// Those of the newest version, in the order in which it encodes them. A field that it lacks has
/// none.
[[nodiscard]] KWIND_API Columns columns_of(const Protocol& protocol, const Entity& entity);

/// The same tables that generated code holds, of a description that is there only as data. Owns all
/// of them.
class KWIND_API EntityTables {
 public:
  /// Borrows the protocol.
  explicit EntityTables(const Protocol& protocol);
  EntityTables(const EntityTables&) = delete;
  EntityTables& operator=(const EntityTables&) = delete;

  [[nodiscard]] const EntitiesInfo& info() const { return info_; }

 private:
  struct Kind {
    Columns columns;
    std::vector<FieldInfo> fields;
    EntityInfo info{};
  };
  std::vector<std::unique_ptr<Kind>> kinds_;
  std::vector<const EntityInfo*> infos_;
  EntitiesInfo info_{};
};

}  // namespace kwind::schema
