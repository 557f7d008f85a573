// Hints at entity types that cost more than they have to.
#pragma once
#include "kwind/schema/protocol.h"
#include "language/reporter.h"
#include "language/syntax.h"

namespace kwind::language {

/// Hints at the fields of an entity type without errors. `entity.fields` may lack some of `syntax`.
void hint_at_state(const schema::Protocol& protocol, const EntitySyntax& syntax,
                   const schema::Entity& entity, Reporter& reporter);

}  // namespace kwind::language
