#include "kwind/schema/format.h"

namespace kwind::schema::format_detail {

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

}  // namespace kwind::schema::format_detail
