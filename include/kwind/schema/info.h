// Constant tables that describe a protocol to the layers above the link. Generated code holds one
// ProtocolInfo; everything in it is static and may be kept by reference for ever.
#pragma once
#include <cstdint>
#include <span>
#include <string_view>

#include "kwind/core/delivery.h"
#include "kwind/core/digest.h"
#include "kwind/schema/life.h"

namespace kwind::schema {

/// Version of generated code: what headers made by one version of the generator expect of this
/// library. Generated headers compare it, so that they do not compile with another library.
inline constexpr int kGeneratorVersion = 1;
/// Version of snapshots, inputs and what else travels in opaque payload (docs/state-format.md).
/// The handshake refuses a peer with another one.
inline constexpr std::uint8_t kStateVersion = 6;

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

/// How a change of an entity or a field that is in flight is treated, in exact mode.
enum class Freshness : std::uint8_t {
  usual,   ///< sent again in each tick until acknowledged, as far as a budget for all goes
  urgent,  ///< ... whatever the budget
  lazy,    ///< sent again when it is lost
};

constexpr std::string_view name_of(Freshness freshness) {
  switch (freshness) {
    case Freshness::usual: return "usual";
    case Freshness::urgent: return "urgent";
    case Freshness::lazy: return "lazy";
  }
  return "";
}

/// A request and its answer are two kinds of message; the answer travels the other way.
enum class MessageRole : std::uint8_t { message, request, answer };

/// A field of a message.
struct FieldInfo {
  std::string_view name;
  std::string_view type;       ///< as the description spells it, quantities resolved
  std::string_view unit{};     ///< of its quantity; may be empty
  std::uint32_t min_bits = 0;  ///< in the newest version that has it
  std::uint32_t max_bits = 0;
  Life life{};
};

/// A channel as a description declares it.
struct ChannelInfo {
  std::string_view name;
  Delivery delivery = Delivery::unreliable;
  bool high = false;        ///< priority high
  bool bulk = false;        ///< fills only what the others leave
  std::uint8_t repeat = 0;  ///< copies of the last unacknowledged messages in each datagram
  Life life{};
};

/// A message type.
struct MessageInfo {
  std::string_view name;
  std::uint16_t type = 0;    ///< place in ProtocolInfo::messages
  std::uint8_t channel = 0;  ///< place in ProtocolInfo::channels
  Direction direction = Direction::both;
  std::uint16_t at_most_per_second = 0;  ///< 0: not limited
  std::uint32_t min_bits = 0;            ///< of the fields in the newest version, without framing
  std::uint32_t max_bits = 0;
  std::span<const FieldInfo> fields{};
  MessageRole role = MessageRole::message;
  Life life{};
  std::string_view owner_field{};  ///< the ref whose owner alone may send it; empty: anybody
};

/// What a version is called on the wire.
struct VersionInfo {
  std::uint16_t version;
  Digest128 digest;  ///< of the canonical listing for `version`
};

/// The short digest of a channel, message or entity from some version on; rows of one declaration
/// stand together, oldest first.
struct DeclarationInfo {
  std::string_view name;
  std::uint16_t from;    ///< the first version with this digest
  std::uint32_t digest;  ///< 0: from here on it does not exist
};

/// A protocol: all that host and replica need to know of a description.
struct ProtocolInfo {
  std::string_view name;
  std::uint16_t version;                  ///< the newest
  std::span<const VersionInfo> versions;  ///< all that it speaks, newest first; 1 to 16
  std::span<const ChannelInfo> channels;
  std::span<const MessageInfo> messages;
  std::span<const DeclarationInfo> declarations;
  /// Since which version the entities are as in the newest: code tables that were trained fit no
  /// older one.
  std::uint16_t entities_since = 1;
};

}  // namespace kwind::schema
