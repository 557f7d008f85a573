// How names, texts and numbers are spelled in generated C++. Pure.
#pragma once
#include <cstdint>
#include <string>
#include <string_view>

namespace kwind::language {

/// The name itself, or with a _ behind it where C++ or a generated struct has that name already.
std::string cpp_name(std::string_view name);

/// Doc comment lines, each with `indent` before it; nothing for an empty text.
std::string cpp_comment(std::string_view text, std::string_view indent);

/// A string literal.
std::string cpp_string(std::string_view text);

/// A literal of a whole number.
std::string cpp_whole(std::int64_t value);

}  // namespace kwind::language
