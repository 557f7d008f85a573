// How names, texts and numbers are spelled in generated C++. Pure.
#pragma once
#include <cstdint>
#include <string>
#include <string_view>

namespace kwind::language {

/// The name itself, or with a trailing _ where C++ or a generated struct has that name already.
std::string cpp_name(std::string_view name);

/// The namespace of a protocol: its name, likewise.
std::string cpp_space(std::string_view protocol);
/// The struct around the cases of a `one of`, which holds their variant, OneOf.
std::string cpp_one_of(std::string_view one_of);
/// The struct of a case of the `one of` that is called `one_of`.
std::string cpp_case(std::string_view one_of, std::string_view name);

/// Doc comment lines, each with `indent` before it; nothing for an empty text.
std::string cpp_comment(std::string_view text, std::string_view indent);

/// A string literal.
std::string cpp_string(std::string_view text);

/// A literal of a whole number.
std::string cpp_whole(std::int64_t value);

}  // namespace kwind::language
