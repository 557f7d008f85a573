// The constant tables of an entity in generated C++: columns, follows, grids, and what holds them.
// Golden files hold the text.
#include "language/cpp_tables.h"

#include <algorithm>
#include <vector>

#include "kwind/schema/columns.h"
#include "language/cpp_names.h"

namespace kwind::language {
namespace {

std::string row_of(const schema::ColumnInfo& column) {
  Members members;
  members.add("field", column.field)
      .add("form", fmt::format("kwind::schema::ColumnForm::{}", name_of(column.form)))
      .add_unless(0, "bits", column.bits)
      .add("last", column.last)
      .add_unless(false, "at_spawn", column.at_spawn)
      .add_unless(false, "owner_only", column.owner_only)
      .add_unless(false, "smooth", column.smooth)
      .add_unless(0, "zero", column.zero)
      .add_unless(0, "step", column.step)
      .add_unless(-1, "grid", column.grid)
      .add_unless(0U, "max_items", column.max_items)
      .add_unless(0U, "item_bits", column.item_bits);
  if (column.group != schema::ColumnGroup::none) {
    members.add("group", fmt::format("kwind::schema::ColumnGroup::{}", name_of(column.group)))
        .add_unless(0, "group_place", column.group_place);
  }
  if (column.freshness != schema::Freshness::usual) {
    members.add("freshness",
                fmt::format("kwind::schema::Freshness::{}", name_of(column.freshness)));
  }
  return members.text();
}
std::string row_of(const schema::FollowInfo& follow) {
  Members members;
  members.add("first", follow.first)
      .add("axes", follow.axes)
      .add("speed", follow.speed)
      .add("along", follow.along)
      .add("angle_steps", follow.angle_steps)
      .add_unless(0, "speed_zero", follow.speed_zero)
      .add("speed_step", follow.speed_step)
      .add("place_step", follow.place_step)
      .add_unless(0, "within", follow.within);
  if (follow.form != schema::FollowForm::angle) {
    members.add("form", fmt::format("kwind::schema::FollowForm::{}", name_of(follow.form)));
  }
  return members.text();
}
std::string row_of(const schema::AttachmentInfo& attachment) {
  return Members()
      .add("first", attachment.first)
      .add("axes", attachment.axes)
      .add("carrier", attachment.carrier)
      .text();
}
std::string row_of(const schema::GridShape& grid) {
  return Members()
      .add("width", grid.width)
      .add("height", grid.height)
      .add("count", grid.count)
      .add("named", grid.named)
      .text();
}

template <class Row>
std::string array_of(std::string_view type, const std::string& name, const std::vector<Row>& rows) {
  std::string made = fmt::format("inline constexpr std::array<kwind::schema::{}, {}> {} = {{{{\n",
                                 type, rows.size(), name);
  for (const Row& row : rows) made += "    " + row_of(row) + ",\n";
  return made + "}};\n";
}

}  // namespace

std::string life_of(const schema::Life& life) {
  return fmt::format("{{{}, {}}}", life.since, life.until);
}

// An entity without follows, grids or attachments has no table of them.
std::string entity_tables(const schema::Protocol& protocol, const schema::Entity& entity,
                          std::size_t type) {
  const schema::Columns all = schema::columns_of(protocol, entity);
  std::string made = "namespace tables {\n";
  made += array_of("ColumnInfo", "columns_of_" + entity.name, all.columns);
  Members members;
  members.add("name", cpp_string(entity.name)).add("type", type);
  const bool fields = std::any_of(
      entity.fields.begin(), entity.fields.end(),
      [](const schema::Field& field) { return field.words.local == schema::Local::no; });
  if (fields) members.add("fields", "fields_of_" + entity.name);
  members.add("columns", "columns_of_" + entity.name);
  if (!all.follows.empty()) {
    made += array_of("FollowInfo", "follows_of_" + entity.name, all.follows);
    members.add("follows", "follows_of_" + entity.name);
  }
  if (!all.grids.empty()) {
    made += array_of("GridShape", "grids_of_" + entity.name, all.grids);
    members.add("grids", "grids_of_" + entity.name);
  }
  members.add_unless(kAlways, "life", life_of(entity.life))
      .add_unless(0, "at_most_per_second", entity.at_most_per_second);
  if (entity.freshness != schema::Freshness::usual) {
    members.add("freshness",
                fmt::format("kwind::schema::Freshness::{}", name_of(entity.freshness)));
  }
  if (!all.attachments.empty()) {
    made += array_of("AttachmentInfo", "attachments_of_" + entity.name, all.attachments);
    members.add("attachments", "attachments_of_" + entity.name);
  }
  return made + fmt::format(
                    "inline constexpr kwind::schema::EntityInfo info_of_{0} =\n    {1};\n"
                    "}}  // namespace tables\n"
                    "constexpr const kwind::schema::EntityInfo& {0}::entity_info() {{ "
                    "return tables::info_of_{0}; }}\n",
                    entity.name, members.text());
}

}  // namespace kwind::language
