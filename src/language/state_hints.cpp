// What replication makes of a field follows from its type and its words (docs/state-format.md).
// A hint says where another choice sends less and loses nothing. How often a field changes is not
// known here; `kwind budget` knows it, and says more.
#include "language/state_hints.h"

#include <fmt/format.h>

#include <algorithm>

namespace kwind::language {
namespace {

using schema::Field;
using schema::TypeKind;

bool changes(const Field& field) {
  return field.words.local == schema::Local::no && !field.words.at_spawn;
}

}  // namespace

void hint_at_state(const schema::Protocol& protocol, const EntitySyntax& syntax,
                   const schema::Entity& entity, Reporter& reporter) {
  const bool moves = std::any_of(entity.fields.begin(), entity.fields.end(),
                                 [](const Field& field) { return field.words.predict(); });
  for (const FieldSyntax& written : syntax.fields) {
    const auto field =
        std::find_if(entity.fields.begin(), entity.fields.end(),
                     [&](const Field& each) { return each.name == written.name.text; });
    if (field == entity.fields.end() || !changes(*field)) continue;
    if (moves && !field->words.predict() && !entity.is_speed(*field) &&
        schema::can_be_extrapolated(field->type)) {
      reporter.hint(written.name,
                    fmt::format("`{0}` of an entity that moves is expected to stay as it is; if it "
                                "turns or moves in most ticks, `smooth` sends less of it",
                                field->name));
    }
    if (field->type.kind != TypeKind::list) continue;
    const schema::Size item = schema::size_of(protocol, field->type.element.front());
    if (item.min_bits == item.max_bits) continue;
    reporter.hint(written.name,
                  fmt::format("items of `{}` differ in size: a change sends all between the first "
                              "and the last difference; of items of one size it sends those that "
                              "changed",
                              field->name));
  }
}

}  // namespace kwind::language
