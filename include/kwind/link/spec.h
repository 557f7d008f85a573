// Options of a link: channels, limits, identities of both ends. Plain values.
#pragma once
#include <cstdint>
#include <functional>
#include <span>
#include <string>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/delivery.h"
#include "kwind/core/digest.h"
#include "kwind/core/secret.h"
#include "kwind/core/time.h"

namespace kwind::link {

/// The layout of datagrams that this library speaks; see docs/wire-format.md.
inline constexpr std::uint16_t kLinkVersion = 5;
/// What every path is trusted to carry: 1280 bytes, the least for IPv6, less IPv6 and UDP headers
/// (48 bytes), rounded down. Larger datagrams are used once a probe of their size was acked (RFC
/// 8899).
inline constexpr std::size_t kBaseDatagramBytes = 1200;
/// No datagram is larger: 1500 bytes of Ethernet less IPv4 and UDP headers.
inline constexpr std::size_t kMaxDatagramBytes = 1472;
/// A message up to here travels in one piece in one datagram; larger ones are split.
inline constexpr std::size_t kMaxWholeBytes = 1104;
/// Largest message on a channel that splits.
inline constexpr std::size_t kMaxMessageBytes = std::size_t{1} << 20;
inline constexpr std::size_t kMaxChannels = 16;
/// A ticket (JSON Web Token) is at most this long.
inline constexpr std::size_t kMaxTicketBytes = 700;

/// Server's number (4 bits), generation of the place (8), place (16).
enum class ConnectionId : std::uint32_t {};
inline constexpr unsigned kConnectionIdBits = 28;

/// How datagrams are protected.
enum class Mode : std::uint8_t {
  plaintext = 1,  ///< nothing is encrypted: for development, see docs/security.md
  encrypted = 2,  ///< Noise handshake, authenticated encryption of every datagram
};

/// What carries the datagrams.
enum class TransportKind : std::uint8_t {
  datagrams = 0,  ///< UDP, or the simulated network: they get lost, doubled, reordered
  stream = 1,     ///< TCP: each arrives once, in order, or the connection ends
};

/// Who goes first when not everything fits. State, which is what unreliable and sequenced channels
/// carry, goes with `high` unless it is marked bulk.
enum class Priority : std::uint8_t { high, normal, bulk };

/// What happens to a message for which a channel's queue has no room.
enum class AtLimit : std::uint8_t {
  refuse,       ///< Link::send says queue_full
  drop_oldest,  ///< unsent messages are discarded, oldest first, and counted as expired
  close,        ///< the connection ends with queue_full: this peer is too slow for the game
};

/// A channel: its delivery, its priority, its limits.
struct KWIND_API ChannelSpec {
  Delivery delivery = Delivery::unreliable;
  /// First version of the protocol that has it. Requires: not below that of the channel before it,
  /// so that in each version the channels are the first few.
  std::uint16_t since = 1;
  Priority priority = Priority::normal;
  /// Sequenced: every datagram carries the last `repeat` messages that are not acked, 1 to 8.
  std::uint8_t repeat = 1;
  /// Unreliable and sequenced: messages too large for a datagram are split. A lost piece loses all.
  bool split = false;
  /// The largest message that the peer may send in pieces; 0: none. Pieces of larger ones close.
  std::size_t largest_in_bytes = kMaxMessageBytes;
  /// What the queue's limits do. Unreliable and sequenced channels always drop their oldest.
  AtLimit at_limit = AtLimit::refuse;
  std::size_t queue_messages = 4096;  ///< that wait to be sent
  std::size_t queue_bytes = std::size_t{2} << 20;
  /// Reliable and ordered: bytes that the peer may have sent and the game not yet taken, messages
  /// counted with kMessageCost each. At least the largest message and 65536.
  std::size_t window_bytes = kMaxMessageBytes + 65536;
  /// Unreliable and sequenced: a message that waited this long to be sent is stale and dropped;
  /// one of which a piece has left is sent to its end.
  Duration expiry = std::chrono::milliseconds(500);
};
/// What a message costs of a receive window beyond its bytes, so that empty ones cost something.
inline constexpr std::size_t kMessageCost = 32;
/// The window of every channel before its receiver has stated one.
inline constexpr std::size_t kFirstWindowBytes = 65536;

/// A version of a protocol with the digest of its description.
struct VersionDigest {
  std::uint16_t version = 0;
  Digest128 digest{};
};

/// A part of the protocol from some version on. Rows of one part stand together, oldest first.
struct DeclarationDigest {
  std::string name;
  std::uint16_t from = 1;
  std::uint32_t digest = 0;  ///< 0: from here on it does not exist
};

/// Code sets that an end may connect.
inline constexpr std::size_t kMaxCodeTables = 8;

/// The protocol above the link, as both ends compare it: the link does not look inside.
struct Identity {
  std::string name;                     ///< at most 64 bytes
  std::vector<VersionDigest> versions;  ///< 1 to 16, newest first
  /// What refusals name; it does not travel whole.
  std::vector<DeclarationDigest> declarations{};
  /// Version of what travels in opaque payload; both ends must have the same. 0: nothing does.
  std::uint8_t payload_version = 0;
  /// Digests of the code tables held beside the built-in one, at most kMaxCodeTables, best first.
  std::vector<std::uint64_t> code_table_sets{};
  /// A server agrees on one of these sets from this version of the protocol on; with a client of an
  /// older one on the built-in set.
  std::uint16_t code_tables_since = 1;
};

/// A key as it comes into use: whoever holds it can open the datagrams of one direction of one
/// connection, until the next.
struct KeyNote {
  ConnectionId id{};
  std::uint16_t version = 0;       ///< agreed version of the protocol
  bool up = false;                 ///< client to server
  std::uint64_t phase = 0;         ///< how often the direction's key was changed before
  std::uint8_t cipher = 0;         ///< 0 ChaCha20-Poly1305, 1 AES-256-GCM
  std::span<const std::byte> key;  ///< 32 bytes; valid during the call
};

/// What both ends of a link are made with.
struct LinkOptions {
  std::vector<ChannelSpec> channels;            ///< the same on both ends; at most kMaxChannels
  std::size_t tags = 0;                         ///< accounting classes of messages, see Link::send
  Duration timeout = std::chrono::seconds(10);  ///< silence that ends the connection
  Duration handshake_timeout = std::chrono::seconds(5);  ///< silence that ends the attempt
  Duration keepalive = std::chrono::seconds(5);          ///< longest pause between datagrams sent
  /// Longest wait of an ack for a datagram that leaves anyway: a round trip, at least 25 ms, at
  /// most this. Every ack states how long it waited.
  Duration ack_delay = std::chrono::milliseconds(100);
  Duration linger = std::chrono::seconds(1);  ///< how long close() waits for reliable messages
  /// Memory for pieces of messages on unreliable and sequenced channels; oldest discarded first.
  std::size_t reassembly_bytes = std::size_t{1} << 20;
  /// Reliable and ordered messages take room in their channel's window until Link::consume() says
  /// otherwise, not only until an event hands them out: for hosts that let them wait.
  bool take_in_by_hand = false;
  bool discover_mtu = true;  ///< probe for datagrams above kBaseDatagramBytes
  /// The sender's key is replaced after this many datagrams, or this time, whichever comes first.
  std::uint64_t key_datagrams = std::uint64_t{1} << 20;
  Duration key_time = std::chrono::hours(1);
  /// Makes skipped packet numbers and path challenges unguessable: random, and another one for each
  /// connection.
  Secret32 secret{};
  /// Hands every datagram key to whoever sets it, for reading captures. The only way in which
  /// secrets leave; reports must show that it is set.
  std::function<void(const KeyNote&)> key_log;
};

}  // namespace kwind::link
