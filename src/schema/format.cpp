// Prints values of generated structs for logs and tests.
#include "kwind/schema/format.h"

#include <cmath>

namespace kwind::schema::format_detail {

// A text in quotes, with control characters escaped: for people.
void put_text(std::string& out, std::string_view text) {
  out += '"';
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (byte < 0x20 || byte == 0x7f || c == '"' || c == '\\') {
      out += fmt::format("\\x{:02x}", byte);  // a peer's text must not spoil a log
    } else {
      out += c;
    }
  }
  out += '"';
}

// The same for JSON (RFC 8259, 7).
void put_json_text(std::string& out, std::string_view text) {
  out += '"';
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (byte < 0x20 || byte == 0x7f) {
      out += fmt::format("\\u{:04x}", byte);
    } else {
      if (c == '"' || c == '\\') out += '\\';
      out += c;
    }
  }
  out += '"';
}

void put_json_number(std::string& out, double value) {
  out += std::isfinite(value) ? fmt::format("{}", value) : "null";
}

}  // namespace kwind::schema::format_detail
