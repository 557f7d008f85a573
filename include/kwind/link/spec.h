// What a link is told at its start: channels, limits, who both ends are. Plain values.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "kwind/bits/delivery.h"
#include "kwind/bits/digest.h"
#include "kwind/bits/time.h"

namespace kwind::link {

/// The layout of datagrams that this library speaks; see docs/wire-format.md.
inline constexpr std::uint16_t kLinkVersion = 1;
/// No datagram is larger: 1280 bytes, the least that every IPv6 path carries, less IPv6 and UDP
/// headers (48 bytes), rounded down.
inline constexpr std::size_t kMaxDatagramBytes = 1200;
/// Largest payload of one message. The rest of the datagram is header, acks, frame head and check.
inline constexpr std::size_t kMaxMessageBytes = 1104;
inline constexpr std::size_t kMaxChannels = 16;

enum class ConnectionId : std::uint32_t {};

struct ChannelSpec {
  Delivery delivery = Delivery::unreliable;
  /// First version of the protocol that has it. Requires: not below that of the channel before it,
  /// so that in each version the channels are the first few.
  std::uint16_t since = 1;
};

struct VersionDigest {
  std::uint16_t version = 0;
  bits::Digest128 digest{};
};

/// A part of the protocol from some version on. Rows of one part stand together, oldest first.
struct DeclarationDigest {
  std::string name;
  std::uint16_t from = 1;
  std::uint32_t digest = 0;  ///< 0: from here on it does not exist
};

/// The protocol above the link, as both ends compare it: the link does not look inside.
struct Identity {
  std::string name;                     ///< at most 64 bytes
  std::vector<VersionDigest> versions;  ///< 1 to 16, newest first
  /// What refusals name; it does not travel whole.
  std::vector<DeclarationDigest> declarations{};
};

struct LinkOptions {
  std::vector<ChannelSpec> channels;            ///< the same on both ends; at most kMaxChannels
  std::size_t tags = 0;                         ///< accounting classes of messages, see Link::send
  Duration timeout = std::chrono::seconds(10);  ///< silence that ends the connection
  Duration handshake_timeout = std::chrono::seconds(5);  ///< silence that ends the attempt
  Duration keepalive = std::chrono::seconds(5);          ///< longest pause between datagrams sent
  /// Longest wait of an ack for a datagram that leaves anyway: one tick at 20 a second.
  Duration ack_delay = std::chrono::milliseconds(50);
  Duration linger =
      std::chrono::seconds(1);        ///< how long close() waits for reliable and ordered messages
  std::size_t queue_messages = 4096;  ///< send queue of each reliable or ordered channel
  std::size_t outbox_bytes = 65536;   ///< unsent unreliable and sequenced messages, all channels
};

}  // namespace kwind::link
