// The frames inside a data datagram: messages, ping, close. Layout in docs/wire-format.md.
// Reading checks the whole datagram before anything of it takes effect. Pure functions.
#pragma once
#include <span>
#include <string>
#include <vector>

#include "kwind/bits/errors.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/link/spec.h"

namespace kwind::link {

enum class FrameKind : std::uint8_t { end = 0, message = 1, ping = 2, close = 3 };

inline constexpr std::size_t kMostReasonBytes = 96;

struct Frame {
  FrameKind kind = FrameKind::end;
  std::uint8_t channel = 0;
  std::uint16_t number = 0;  ///< ordered: index, sequenced: sequence; low 16 bits
  std::size_t bits = 0;      ///< of the payload
  bits::Reader payload{std::span<const std::byte>{}};  ///< stands at the payload
};

/// The bits that a message frame takes before its payload.
std::size_t message_head_bits(const std::vector<ChannelSpec>& channels, std::size_t channel,
                              std::size_t payload_bits);
void write_message(bits::Writer& out, const std::vector<ChannelSpec>& channels, std::size_t channel,
                   std::uint16_t number, std::span<const std::byte> payload, std::size_t bits);
void write_ping(bits::Writer& out);
void write_close(bits::Writer& out, std::string_view reason);

/// Reads all frames up to the end of the datagram. Errors: truncated, trailing_bits, unknown_frame,
/// unknown_channel, too_long.
Errc read_frames(bits::Reader in, const std::vector<ChannelSpec>& channels,
                 std::vector<Frame>& out);
/// The reason of a close frame, control characters replaced by '?'.
std::string close_reason(const Frame& frame);

}  // namespace kwind::link
