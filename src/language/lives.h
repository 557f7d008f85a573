// `since`, `until` and `else`: which versions have what, and what stands in. Composed by the
// resolver. Pure.
#pragma once
#include "language/reporter.h"
#include "language/syntax.h"

namespace kwind::language {

/// The life span as written, held to the versions of the protocol.
schema::Life life_of(const LifeSyntax& syntax, std::uint16_t newest, Reporter& reporter);

/// Looks up what each value or case that some version lacks has behind `else`. Afterwards every
/// version from 1 to `newest` has at least one of them, and each way of stand-ins ends.
void resolve_stand_ins(const Token& place, const std::vector<OptionSyntax>& syntax,
                       std::vector<schema::Option>& options, std::uint16_t newest,
                       Reporter& reporter);

/// A flag that a version lacks is not set there, so it has no `else`.
void check_flags(const std::vector<OptionSyntax>& syntax, Reporter& reporter);

}  // namespace kwind::language
