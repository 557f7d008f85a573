// Writes the C header of a protocol, for kwind/c/kwind.h. Pure; safe anywhere.
#pragma once
#include <span>
#include <string>
#include <string_view>
#include <tl/expected.hpp>

#include "kwind/core/compiler.h"
#include "kwind/language/compile.h"
#include "kwind/language/generate_cpp.h"

namespace kwind::language {

/// One header, `harbour_c.h`: the description as text, enums, one struct for each message, entity
/// and record, and for each a kwind_layout. The same texts give the same header. Error: a sentence,
/// if a struct would be larger than kMaxStructBytes.
KWIND_API tl::expected<GeneratedFile, std::string> generate_c(const Compiled& source);

/// Lists, texts and grids lie within their structs, with room for the most that they can hold.
inline constexpr std::size_t kMaxStructBytes = std::size_t{1} << 20;

}  // namespace kwind::language
