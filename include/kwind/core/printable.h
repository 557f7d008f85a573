// UTF-8: text that a peer chose, for a log or a terminal, and text that is cut.
#pragma once
#include <cstddef>
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

/// The length of the longest start of `text` that is valid UTF-8 (RFC 3629) and at most `limit`
/// bytes: a text that is cut there ends with a whole character. O(bytes).
[[nodiscard]] KWIND_API std::size_t valid_utf8_prefix(std::string_view text, std::size_t limit);

}  // namespace kwind
