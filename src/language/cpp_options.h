// Writes the enums, flags and variants of a description. Composed by the generator. Pure.
#pragma once
#include <string_view>

#include "language/cpp_header.h"
#include "language/cpp_types.h"

namespace kwind::language {

/// Of the integer that an enum is kept in: 8 or 16.
unsigned enum_bits(const schema::Options& made);
/// `indent` is that of the struct in which it stands, "" at namespace scope.
void write_enum(CppHeader& header, const schema::Options& made, std::string_view indent);
void write_flags(CppHeader& header, const schema::Options& made, std::string_view indent);
void write_one_of(CppHeader& header, const schema::Protocol& protocol, const CppTypes& types,
                  const schema::Options& made);

}  // namespace kwind::language
