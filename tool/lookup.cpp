// Finds messages by name, with a guess at what was meant.
#include "lookup.h"

#include <fmt/format.h>

#include "kwind/bits/nearest.h"
#include "kwind/bits/writer.h"
#include "kwind/core/digest.h"

namespace kwind::tool {

// The fields of a message, an answer, an entity or a record; a near miss is suggested.
const std::vector<schema::Field>* find_body(const schema::Protocol& protocol,
                                            const std::string& name) {
  std::vector<std::string> known;
  const auto among = [&](const auto& all) -> const std::vector<schema::Field>* {
    for (const auto& each : all) {
      if (each.name == name) return &each.fields;
      known.push_back(each.name);
    }
    return nullptr;
  };
  if (const auto* found = among(protocol.messages)) return found;
  if (const auto* found = among(protocol.entities)) return found;
  if (const auto* found = among(protocol.records)) return found;
  const std::string near = bits::nearest(name, known);
  fmt::print(stderr, "{} has no message, entity or record {}; {}\n", protocol.name, name,
             near.empty() ? fmt::format("it has {}", fmt::join(known, ", "))
                          : fmt::format("did you mean {}?", near));
  return nullptr;
}

// Hexadecimal digits, or 0 and 1, with blanks between.
std::optional<BitText> parse_bits(const std::string& text) {
  BitText made;
  int half = -1;
  std::size_t at = 0;
  for (; at < text.size() && text[at] != ':'; ++at) {
    const char c = text[at];
    if (c == ' ' || c == '\t' || c == '\r') continue;
    const int digit = c >= '0' && c <= '9'   ? c - '0'
                      : c >= 'a' && c <= 'f' ? c - 'a' + 10
                      : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                             : -1;
    if (digit < 0) return std::nullopt;
    if (half < 0) {
      half = digit;
    } else {
      made.bytes.push_back(static_cast<std::byte>(half * 16 + digit));
      half = -1;
    }
  }
  if (half >= 0) return std::nullopt;
  if (at == text.size()) return made;
  std::size_t bits = 0;
  std::size_t digits = 0;
  for (++at; at < text.size(); ++at, ++digits) {
    if (text[at] == '\r') continue;
    if (text[at] < '0' || text[at] > '9' || digits > 8) return std::nullopt;
    bits = bits * 10 + static_cast<std::size_t>(text[at] - '0');
  }
  if (digits == 0 || bits::bytes_for(bits) != made.bytes.size()) return std::nullopt;
  made.bits = bits;
  return made;
}

std::string bits_text(std::span<const std::byte> bytes, std::size_t bits) {
  return fmt::format("{}:{}", to_hex(bytes, bits::bytes_for(bits)), bits);
}

// 0 stands for the newest version.
bool check_version(const schema::Protocol& protocol, std::uint32_t& version) {
  if (version == 0) version = protocol.version;
  const std::uint16_t oldest = schema::oldest_version(protocol);
  if (version >= oldest && version <= protocol.version) return true;
  fmt::print(stderr, "{} speaks versions {} to {}, not {}\n", protocol.name, oldest,
             protocol.version, version);
  return false;
}

}  // namespace kwind::tool
