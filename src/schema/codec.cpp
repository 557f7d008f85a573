#include "kwind/schema/codec.h"

#include <algorithm>

namespace kwind::schema {
namespace {

bool is_continuation(unsigned char byte) {
  return (byte & 0xc0) == 0x80;
}

// Length of the well-formed character at the start of `text`, or 0 (RFC 3629, section 4).
std::size_t character_length(std::string_view text) {
  const auto at = [&](std::size_t i) -> unsigned char {
    return i < text.size() ? static_cast<unsigned char>(text[i]) : 0;
  };
  const unsigned char first = at(0);
  if (first < 0x80) return 1;
  if (first >= 0xc2 && first <= 0xdf) return is_continuation(at(1)) ? 2 : 0;
  if (first >= 0xe0 && first <= 0xef) {
    if (first == 0xe0 && at(1) < 0xa0) return 0;  // overlong
    if (first == 0xed && at(1) > 0x9f) return 0;  // surrogates
    return is_continuation(at(1)) && is_continuation(at(2)) ? 3 : 0;
  }
  if (first >= 0xf0 && first <= 0xf4) {
    if (first == 0xf0 && at(1) < 0x90) return 0;
    if (first == 0xf4 && at(1) > 0x8f) return 0;  // beyond U+10FFFF
    return is_continuation(at(1)) && is_continuation(at(2)) && is_continuation(at(3)) ? 4 : 0;
  }
  return 0;
}

}  // namespace

std::size_t valid_utf8_prefix(std::string_view text, std::size_t limit) {
  std::size_t used = 0;
  while (used < text.size()) {
    const std::size_t length = character_length(text.substr(used));
    if (length == 0 || used + length > limit) break;
    used += length;
  }
  return used;
}

void Encoder::fault() {
  ++out_of_range_;
  KWIND_ASSERT(policy_ != bits::Policy::assert_range);
  if (policy_ == bits::Policy::refuse) error_ = Errc::out_of_range;
}

void Encoder::text(std::uint32_t limit, std::string_view value) {
  const std::size_t size = valid_utf8_prefix(value, limit);
  if (size != value.size()) fault();
  out_.put(size, bits::bits_for(std::uint64_t{limit} + 1));
  out_.put_bits(std::as_bytes(std::span(value.data(), size)), size * 8);
}

std::size_t Decoder::length(std::uint32_t limit) {
  const std::uint64_t size = in_.get(bits::bits_for(std::uint64_t{limit} + 1));
  if (size <= limit) return static_cast<std::size_t>(size);
  set_error(Errc::too_long);
  return 0;
}

void Decoder::text(std::uint32_t limit, std::string& value) {
  const std::size_t size = length(limit);
  if (size * 8 > in_.left_bits()) {  // before the resize: a lie about the length costs no memory
    in_.set_failed();
    value.clear();
    return;
  }
  value.resize(size);
  in_.get_bits(std::as_writable_bytes(std::span(value.data(), size)), size * 8);
  if (valid_utf8_prefix(value, size) != size) set_error(Errc::text_encoding);
}

}  // namespace kwind::schema
