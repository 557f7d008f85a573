// Text that a peer chose, for a log or a terminal.
#pragma once
#include <cstdint>
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"

namespace kwind {

/// Whether printing a character changes the position of other text on a screen: controls (C0, DEL,
/// C1), zero-width characters, changes of writing direction.
[[nodiscard]] KWIND_API bool moves_text(std::uint32_t code_point);

/// `text` with U+FFFD for each character that moves text and for each byte that is not UTF-8
/// (RFC 3629), so that it stays within its line and cannot command a terminal. O(bytes).
[[nodiscard]] KWIND_API std::string printable(std::string_view text);

}  // namespace kwind
