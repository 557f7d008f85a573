// The one way to lay out a .kw file. Pure; safe anywhere.
#pragma once
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"

namespace kwind::language {

/// The text laid out anew: a declaration a line, fields below each other with their colons aligned,
/// single blanks, at most one empty line. Comments stay with what they stand before or behind.
/// Law: format(format(x)) == format(x), and both mean what x means.
/// Requires: compile(text) finds no error in this file; included files do not matter.
KWIND_API std::string format(std::string_view text);

}  // namespace kwind::language
