// Types that are numbers: from what was written to exact ranges, or an error that says what would
// do. Composed by the resolver. Pure.
#pragma once
#include <optional>

#include "language/reporter.h"
#include "language/syntax.h"

namespace kwind::language {

std::optional<schema::Type> integer_type(const TypeSyntax& syntax, Reporter& reporter);
std::optional<schema::Type> real_type(const TypeSyntax& syntax, Reporter& reporter);
/// angle and direction2.
std::optional<schema::Type> angle_type(const TypeSyntax& syntax, Reporter& reporter);
/// direction3 and rotation.
std::optional<schema::Type> unit_vector_type(const TypeSyntax& syntax, Reporter& reporter);

/// Whether `count` values take a bit more than one value less would: 2^k + 1, from 5 values on.
bool one_too_many(std::uint64_t count);

/// `number` in lowest terms.
schema::Fraction reduced(const Number& number);

}  // namespace kwind::language
