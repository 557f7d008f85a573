// Constant tables that describe a protocol to the layers above the link. Generated code holds one
// ProtocolInfo; everything in it is static and may be kept by reference for ever.
#pragma once
#include <cstdint>
#include <span>
#include <string_view>

#include "kwind/bits/delivery.h"
#include "kwind/bits/digest.h"

namespace kwind::schema {

/// Who may send a message.
enum class Direction : std::uint8_t { from_client, from_server, both };

constexpr std::string_view name_of(Direction direction) {
  switch (direction) {
    case Direction::from_client: return "client -> server";
    case Direction::from_server: return "server -> client";
    case Direction::both: return "both ways";
  }
  return "";
}

struct FieldInfo {
  std::string_view name;
  std::string_view type;  ///< as the description spells it, quantities resolved
  std::uint32_t fewest_bits;
  std::uint32_t most_bits;
};

struct ChannelInfo {
  std::string_view name;
  Delivery delivery;
};

struct MessageInfo {
  std::string_view name;
  std::uint16_t kind;    ///< place in ProtocolInfo::messages
  std::uint8_t channel;  ///< place in ProtocolInfo::channels
  Direction direction;
  std::uint16_t at_most_per_second;  ///< 0: not limited
  std::uint32_t fewest_bits;         ///< of the fields, without kind code and framing
  std::uint32_t most_bits;
  std::span<const FieldInfo> fields;
};

struct ProtocolInfo {
  std::string_view name;
  std::uint32_t version;
  bits::Digest128 digest;  ///< of the canonical listing for `version`
  std::span<const ChannelInfo> channels;
  std::span<const MessageInfo> messages;
};

}  // namespace kwind::schema
