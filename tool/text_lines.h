// Long texts in narrow columns.
#pragma once
#include <cstddef>
#include <string_view>

namespace kwind::tool {

/// Takes at most `width` bytes off the front of `left`, up to a blank if there is one.
std::string_view text_part(std::string_view& left, std::size_t width);

}  // namespace kwind::tool
