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

/// Those of a version, in the order in which it encodes them. A field that the version lacks has
/// none; nor has an entity type that it lacks.
[[nodiscard]] KWIND_API Columns columns_of(const Protocol& protocol, const Entity& entity,
                                           std::uint16_t version = kNewest);

/// The same tables that generated code holds, of a description that is there only as data. Owns all
/// of them.
class KWIND_API EntityTables {
 public:
  /// Borrows the protocol.
  explicit EntityTables(const Protocol& protocol);
  EntityTables(const EntityTables&) = delete;
  EntityTables& operator=(const EntityTables&) = delete;

  [[nodiscard]] const EntitiesInfo& info() const { return newest_->info; }

 private:
  struct Type {
    Columns columns;
    EntityInfo info{};
  };
  // Of versions that have the same entities.
  struct Version {
    std::vector<std::unique_ptr<Type>> types;
    std::vector<const EntityInfo*> infos;
    EntitiesInfo info{};
  };
  [[nodiscard]] std::unique_ptr<Version> version_of(const Protocol& protocol,
                                                    std::uint16_t version) const;

  std::vector<std::vector<FieldInfo>> fields_;  // by type
  std::unique_ptr<Version> newest_;
  std::vector<std::unique_ptr<Version>> older_;
  std::vector<const EntitiesInfo*> older_infos_;
};

}  // namespace kwind::schema
