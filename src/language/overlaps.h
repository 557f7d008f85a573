// Checks that life spans which depend on each other overlap: a field and its message, a ref and its
// entity, an owner field and its message, a default and its enum value. Called by the resolver.
// Pure.
#pragma once
#include "kwind/schema/protocol.h"
#include "language/reporter.h"
#include "language/syntax.h"

namespace kwind::language {

/// Reports every use of a declaration in a version that lacks the declaration. `protocol` is
/// resolved, `file` its syntax.
/// O(size of the protocol, records spelled out where they are used).
void check_overlaps(const schema::Protocol& protocol, const FileSyntax& file, Reporter& reporter);

}  // namespace kwind::language
