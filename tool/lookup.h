// What the commands that take a message by name share: finding it, and bits written as text.
#pragma once
#include <cstddef>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kwind/schema/protocol.h"

namespace kwind::tool {

/// The fields of a message, entity or record; nullptr if there is none of this name, which is said
/// on stderr with the nearest.
const std::vector<schema::Field>* find_body(const schema::Protocol& protocol,
                                            const std::string& name);

/// Bits as a person writes them: hexadecimal bytes, blanks ignored, and behind a colon how many
/// bits they hold: "1f 03:11". Without the colon the last byte may be padded with zeros.
struct BitText {
  std::vector<std::byte> bytes;
  std::optional<std::size_t> bits;
};
/// Nothing if the text is not that.
std::optional<BitText> parse_bits(const std::string& text);
std::string bits_text(std::span<const std::byte> bytes, std::size_t bits);

/// 0 stands for the newest. False if the protocol does not speak the version, which is said on
/// stderr.
bool check_version(const schema::Protocol& protocol, std::uint32_t& version);

}  // namespace kwind::tool
