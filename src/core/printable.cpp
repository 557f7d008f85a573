// Decoding of UTF-8, one character at a time.
#include "kwind/core/printable.h"

#include <array>

namespace kwind {
namespace {

struct Character {
  std::uint32_t code_point = 0;
  std::size_t bytes = 0;  // 0: the text does not begin with a character
};

// One character of UTF-8, or one byte that begins none.
Character first_of(std::string_view text) {
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
  const std::uint32_t lead = byte(0);
  if (lead < 0x80) return {lead, 1};
  const std::size_t size = lead >= 0xf0 ? 4 : lead >= 0xe0 ? 3 : 2;
  if (lead < 0xc2 || lead > 0xf4 || text.size() < size) return {};
  std::uint32_t made = lead & (0xffU >> (size + 1));
  for (std::size_t i = 1; i < size; ++i) {
    if ((byte(i) & 0xc0U) != 0x80) return {};
    made = made << 6 | (byte(i) & 0x3fU);
  }
  // Longer than needed, half of a surrogate pair, or beyond Unicode.
  constexpr std::array<std::uint32_t, 5> kSmallest{0, 0, 0x80, 0x800, 0x10000};
  if (made < kSmallest[size] || (made >= 0xd800 && made <= 0xdfff) || made > 0x10ffff) return {};
  return {made, size};
}

}  // namespace

bool moves_text(std::uint32_t c) {
  return c < 0x20 || (c >= 0x7f && c <= 0x9f) || (c >= 0x200b && c <= 0x200f) ||
         (c >= 0x2028 && c <= 0x202e) || (c >= 0x2066 && c <= 0x2069) || c == 0xfeff;
}

// Control characters, and characters that turn the direction of text, become visible escapes.
std::string printable(std::string_view text) {
  std::string made;
  while (!text.empty()) {
    const Character next = first_of(text);
    const bool shows = next.bytes > 0 && !moves_text(next.code_point);
    made += shows ? text.substr(0, next.bytes) : std::string_view("\xef\xbf\xbd");
    text.remove_prefix(next.bytes > 0 ? next.bytes : 1);
  }
  return made;
}

// Whole valid characters that fit into `limit` bytes.
std::size_t valid_utf8_prefix(std::string_view text, std::size_t limit) {
  std::size_t used = 0;
  while (used < text.size()) {
    const std::size_t length = first_of(text.substr(used)).bytes;
    if (length == 0 || used + length > limit) break;
    used += length;
  }
  return used;
}

}  // namespace kwind
