#include "text_lines.h"

#include <algorithm>

namespace kwind::tool {

std::string_view text_part(std::string_view& left, std::size_t width) {
  std::size_t size = std::min(width, left.size());
  if (size < left.size()) {
    const std::size_t blank = left.rfind(' ', size);
    if (blank != std::string_view::npos && blank > 0) size = blank;
  }
  const std::string_view made = left.substr(0, size);
  left.remove_prefix(std::min(left.size(), left.find_first_not_of(' ', size)));
  return made;
}

}  // namespace kwind::tool
