// The name that somebody probably meant. Pure; safe anywhere.
#pragma once
#include <span>
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"

namespace kwind::bits {

/// The candidate with the smallest edit distance to `name` (insert, delete, replace or swap of
/// neighbours), if it is at most a third of the name's length, at least 1; otherwise "".
/// O(candidates * length^2).
KWIND_API std::string nearest(std::string_view name, std::span<const std::string> candidates);

}  // namespace kwind::bits
