// Whether lives that need each other meet: a field and its message, a ref and its entity, an owner
// and what it guards, a default and its name. Composed by the resolver. Pure.
#pragma once
#include "kwind/schema/protocol.h"
#include "reporter.h"
#include "syntax.h"

namespace kwind::language {

/// Reports every use of what some version does not have. `protocol` is resolved, `file` its syntax.
/// O(size of the protocol, records spelled out where they are used).
void check_overlaps(const schema::Protocol& protocol, const FileSyntax& file, Reporter& reporter);

}  // namespace kwind::language
