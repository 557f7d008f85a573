// The frames of a data datagram: messages, pieces of messages, payload, control frames. Layout in
// docs/wire-format.md. The whole datagram is read before a frame takes effect. Pure functions.
#pragma once
#include <array>
#include <span>
#include <string>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/core/errors.h"
#include "kwind/link/spec.h"

namespace kwind::link {

/// Messages that parity is of, beside the first: bit i is for the one i + 1 after it.
using ParityMembers = std::uint8_t;
inline constexpr unsigned kParityReach = 4;

enum class FrameKind : std::uint8_t {
  message,
  piece,      ///< of a message too large for one datagram
  payload,    ///< opaque bits of the layer above, under a token that stays with the sender
  ping,       ///< asks for an ack
  close,      ///< with a reason
  window,     ///< how far the peer may send on a reliable channel
  challenge,  ///< to an address that has not proven itself
  response,   ///< ... and its proof
  padding,    ///< zeros to the end: probes of the path's MTU
  parity,     ///< exclusive or of several small messages of a reliable channel
};

inline constexpr std::size_t kMaxReasonBytes = 96;
/// Pieces start at multiples of this.
inline constexpr std::size_t kFragmentBytes = 64;
inline constexpr std::size_t kMaxPerDatagram = 48;  ///< messages of one channel

/// Names a message of an unreliable or sequenced channel: by the packet it first left in and its
/// place among those of its channel there. Unique, and newer means greater.
class Origin {
 public:
  Origin() = default;
  Origin(std::uint64_t packet, std::size_t place) : key_(packet * 64 + place) {}
  [[nodiscard]] std::uint64_t packet() const { return key_ / 64; }
  [[nodiscard]] std::uint64_t place() const { return key_ % 64; }
  [[nodiscard]] std::uint64_t key() const { return key_; }
  static Origin from_key(std::uint64_t key) { return {key / 64, key % 64}; }

 private:
  std::uint64_t key_ = 0;
};

struct Frame {
  FrameKind kind = FrameKind::ping;
  std::uint8_t channel = 0;
  std::uint16_t index = 0;      ///< reliable and ordered: low 16 bits
  Origin origin;                ///< unreliable and sequenced
  std::size_t bits = 0;         ///< of the payload
  std::size_t head_bits = 0;    ///< before it
  std::size_t total_bits = 0;   ///< piece: of the whole message
  std::size_t first_chunk = 0;  ///< piece
  /// Of a parity frame: the messages after the first.
  ParityMembers others = 0;
  /// window: limit; challenge, response: its number; parity: exclusive or of the numbers of bits
  std::uint64_t value = 0;
  bits::Reader payload{std::span<const std::byte>{}};  ///< stands at the payload
};

/// Frames that belong to the connection and not to a message.
enum class Control : std::uint8_t {
  ping = 0,
  close = 1,
  window = 2,
  challenge = 3,
  response = 4,
  padding = 5,
  parity = 6
};

/// Writes frames of one datagram, and knows what those before say about the next. One datagram.
class FrameWriter {
 public:
  FrameWriter(bits::Writer& out, const std::vector<ChannelSpec>& channels, std::uint64_t packet)
      : out_(out), channels_(channels), packet_(packet) {}

  [[nodiscard]] std::size_t room_bits() const { return out_.room_bits(); }
  [[nodiscard]] bool full(std::size_t channel) const { return count_[channel] >= kMaxPerDatagram; }

  // Each returns the bits that it took, or 0, having written nothing, if there is no room.

  std::size_t unreliable(std::size_t channel, std::span<const std::byte> payload, std::size_t bits);
  /// A message's first copy; `origin` is set to its name.
  std::size_t sequenced(std::size_t channel, std::span<const std::byte> payload, std::size_t bits,
                        Origin& origin);
  std::size_t copy(std::size_t channel, Origin origin, std::span<const std::byte> payload,
                   std::size_t bits);
  std::size_t reliable(std::size_t channel, std::uint64_t index, std::span<const std::byte> payload,
                       std::size_t bits);
  /// As many chunks from `first` up to before `end` as fit; `first` is moved on.
  std::size_t piece(std::size_t channel, std::uint64_t index, std::span<const std::byte> payload,
                    std::size_t bits, std::size_t& first, std::size_t end);
  /// Likewise for an unreliable or sequenced message; for its first piece `started` is false and
  /// `origin` is set.
  std::size_t piece(std::size_t channel, Origin& origin, bool started,
                    std::span<const std::byte> payload, std::size_t bits, std::size_t& first,
                    std::size_t end);
  std::size_t fill(std::span<const std::byte> payload, std::size_t bits);
  /// The parity of message `index` and of those after it that `others` names, see ParityMembers.
  /// `lengths`: the exclusive or of their numbers of bits. Requires: `combined` holds `bits`, as
  /// many as the longest of them has.
  std::size_t parity(std::size_t channel, std::uint64_t index, ParityMembers others,
                     std::size_t lengths, std::size_t bits, std::span<const std::byte> combined);

  std::size_t ping();
  /// `code`: why the connection may not be, Errc::none if it was.
  std::size_t close(std::string_view reason, Errc code);
  std::size_t window(std::size_t channel, std::uint64_t limit);
  std::size_t challenge(std::uint64_t number);
  std::size_t response(std::uint64_t number);
  /// Zeros to the end of the datagram: `bits` of them, or fewer if there is less room. The last
  /// frame.
  void padding(std::size_t bits);

 private:
  std::size_t attempt(auto&& write);
  void put_channel(std::size_t channel);
  std::size_t message(std::size_t channel, std::span<const std::byte> payload, std::size_t bits,
                      auto&& write_name);
  std::size_t put_piece(std::size_t channel, std::span<const std::byte> payload, std::size_t bits,
                        std::size_t& first, std::size_t end, auto&& write_name);
  std::size_t control(Control kind, auto&& write);

  bits::Writer& out_;
  const std::vector<ChannelSpec>& channels_;
  std::uint64_t packet_;
  std::array<std::uint8_t, kMaxChannels> count_{};        // messages
  std::array<std::uint8_t, kMaxChannels> places_{};       // origins given
  std::array<std::uint64_t, kMaxChannels> next_index_{};  // after the last reliable one
  std::array<bool, kMaxChannels> any_index_{};
};

/// Bits of a whole message's frame before its payload, when it stands alone in its datagram.
std::size_t message_head_bits(const std::vector<ChannelSpec>& channels, std::size_t channel,
                              std::size_t payload_bits);

/// Reads all frames of packet `packet` up to the end of the datagram. Errors: truncated,
/// trailing_bits, unknown_frame, unknown_channel, too_long, bad_piece, split_too_large.
Errc read_frames(bits::Reader in, const std::vector<ChannelSpec>& channels, std::uint64_t packet,
                 std::vector<Frame>& out);
/// Why the connection of a close frame may not be; closed_by_peer if it was.
Errc close_code(const Frame& frame);
/// The reason of a close frame, control characters replaced by '?'.
std::string close_reason(const Frame& frame);

constexpr std::size_t chunks_of(std::size_t bits) {
  return (bits::bytes_for(bits) + kFragmentBytes - 1) / kFragmentBytes;
}

}  // namespace kwind::link
