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

namespace {

// The listing of an entity in a version; empty if the version lacks it.
std::string listed(const schema::Protocol& protocol, const schema::Entity& entity,
                   std::uint16_t version) {
  for (schema::Listed& each : schema::listing(protocol, version)) {
    if (each.name == entity.name && each.text.starts_with("entity ")) return std::move(each.text);
  }
  return {};
}

// The tables of one version. An entity without follows, grids or attachments has no table of them.
std::string version_tables(const schema::Protocol& protocol, const schema::Entity& entity,
                           std::size_t type, std::uint16_t version, const std::string& suffix) {
  const schema::Columns all = schema::columns_of(protocol, entity, version);
  std::string made;
  Members members;
  // Adds a table and the member that names it.
  const auto table = [&](std::string_view row, const char* member, const auto& rows) {
    if (rows.empty()) return;
    const std::string name = fmt::format("{}_of_{}{}", member, entity.name, suffix);
    made += array_of(row, name, rows);
    members.add(member, name);
  };
  members.add("name", cpp_string(entity.name)).add("type", type);
  const bool fields = std::any_of(
      entity.fields.begin(), entity.fields.end(),
      [](const schema::Field& field) { return field.words.local == schema::Local::no; });
  if (fields) members.add("fields", "fields_of_" + entity.name);
  table("ColumnInfo", "columns", all.columns);
  table("FollowInfo", "follows", all.follows);
  table("GridShape", "grids", all.grids);
  members.add_unless(kAlways, "life", life_of(entity.life))
      .add_unless(0, "at_most_per_second", entity.at_most_per_second);
  if (entity.freshness != schema::Freshness::usual) {
    members.add("freshness",
                fmt::format("kwind::schema::Freshness::{}", name_of(entity.freshness)));
  }
  table("AttachmentInfo", "attachments", all.attachments);
  return made + fmt::format("inline constexpr kwind::schema::EntityInfo info_of_{}{} =\n    {};\n",
                            entity.name, suffix, members.text());
}

}  // namespace

std::vector<std::string> entity_info_names(const schema::Protocol& protocol,
                                           const schema::Entity& entity) {
  std::vector<std::string> names;
  std::string newer;
  for (const schema::VersionRange& range : schema::entity_versions(protocol)) {
    std::string text = listed(protocol, entity, range.newest);
    if (names.empty()) {
      names.push_back("info_of_" + entity.name);
    } else {
      names.push_back(text == newer ? names.back()
                                    : fmt::format("info_of_{}_in_{}", entity.name, range.newest));
    }
    newer = std::move(text);
  }
  return names;
}

std::string entity_tables(const schema::Protocol& protocol, const schema::Entity& entity,
                          std::size_t type) {
  std::string made = "namespace tables {\n";
  const auto ranges = schema::entity_versions(protocol);
  const auto names = entity_info_names(protocol, entity);
  for (std::size_t i = 0; i < ranges.size(); ++i) {
    // Versions in which it is as in the next newer one have no tables of their own.
    if (i > 0 && names[i] == names[i - 1]) continue;
    made += version_tables(protocol, entity, type, i == 0 ? schema::kNewest : ranges[i].newest,
                           i == 0 ? "" : fmt::format("_in_{}", ranges[i].newest));
  }
  return made + fmt::format(
                    "}}  // namespace tables\n"
                    "constexpr const kwind::schema::EntityInfo& {0}::entity_info() {{ "
                    "return tables::info_of_{0}; }}\n",
                    entity.name);
}

}  // namespace kwind::language
