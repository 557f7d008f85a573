// The one table of names that generated C++ may not have.
#pragma once
#include <string_view>

namespace kwind::language {

/// Of a field, or of a value of an enum or set of flags: keywords, macros, and what each generated
/// struct has.
[[nodiscard]] bool is_reserved_member(std::string_view name);
/// Of a protocol, whose name becomes a namespace: keywords, macros, functions and types of the C
/// library, and functions that are found by their arguments.
[[nodiscard]] bool is_reserved_namespace(std::string_view name);
/// Of a type: a macro of the headers that generated ones are included with.
[[nodiscard]] bool is_macro(std::string_view name);

}  // namespace kwind::language
