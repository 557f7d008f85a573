#include "frames.h"

#include <algorithm>
#include <bit>

namespace kwind::link {
namespace {

constexpr unsigned kKindBits = 3;
constexpr unsigned kReasonBits = 7;
constexpr unsigned kLengthOrder = 6;  // messages of 64 to 190 bits: 9 bits of length

bool is_numbered(Delivery delivery) {
  return delivery != Delivery::unreliable;
}

}  // namespace

std::size_t message_head_bits(const std::vector<ChannelSpec>& channels, std::size_t channel,
                              std::size_t payload_bits) {
  const auto width = static_cast<std::size_t>(std::bit_width((payload_bits >> kLengthOrder) + 1));
  return kKindBits + bits::bits_for(channels.size()) +
         (is_numbered(channels[channel].delivery) ? 16 : 0) + 2 * width - 1 + kLengthOrder;
}

void write_message(bits::Writer& out, const std::vector<ChannelSpec>& channels, std::size_t channel,
                   std::uint16_t number, std::span<const std::byte> payload, std::size_t bits) {
  out.put(static_cast<std::uint64_t>(FrameKind::message), kKindBits);
  out.put(channel, bits::bits_for(channels.size()));
  if (is_numbered(channels[channel].delivery)) out.put(number, 16);
  out.put_count(bits, kLengthOrder);
  out.put_bits(payload, bits);
}

void write_ping(bits::Writer& out) {
  out.put(static_cast<std::uint64_t>(FrameKind::ping), kKindBits);
}

void write_close(bits::Writer& out, std::string_view reason) {
  const std::size_t size = std::min(reason.size(), kMostReasonBytes);
  out.put(static_cast<std::uint64_t>(FrameKind::close), kKindBits);
  out.put(size, kReasonBits);
  out.put_bits(std::as_bytes(std::span(reason)).first(size), size * 8);
}

Errc read_frames(bits::Reader in, const std::vector<ChannelSpec>& channels,
                 std::vector<Frame>& out) {
  out.clear();
  while (in.left_bits() >= kKindBits) {
    Frame frame;
    const std::uint64_t kind = in.get(kKindBits);
    switch (kind) {
      case static_cast<std::uint64_t>(FrameKind::end): {
        if (in.left_bits() + kKindBits >= 8) return Errc::trailing_bits;
        if (in.get(static_cast<unsigned>(in.left_bits())) != 0) return Errc::trailing_bits;
        return Errc::none;
      }
      case static_cast<std::uint64_t>(FrameKind::message): {
        const std::uint64_t channel = in.get(bits::bits_for(channels.size()));
        if (!in.ok()) return Errc::truncated;
        if (channel >= channels.size()) return Errc::unknown_channel;
        frame.channel = static_cast<std::uint8_t>(channel);
        if (is_numbered(channels[channel].delivery)) {
          frame.number = static_cast<std::uint16_t>(in.get(16));
        }
        frame.bits = in.get_count(kLengthOrder);
        if (!in.ok()) return Errc::truncated;
        break;
      }
      case static_cast<std::uint64_t>(FrameKind::ping): break;
      case static_cast<std::uint64_t>(FrameKind::close):
        frame.bits = in.get(kReasonBits) * 8;
        if (frame.bits > kMostReasonBytes * 8) return Errc::too_long;
        break;
      default: return Errc::unknown_frame;
    }
    frame.kind = static_cast<FrameKind>(kind);
    frame.payload = in;
    if (frame.bits > in.left_bits()) return Errc::truncated;
    for (std::size_t left = frame.bits; left > 0;) {
      const auto step = static_cast<unsigned>(std::min<std::size_t>(64, left));
      in.get(step);
      left -= step;
    }
    out.push_back(frame);
  }
  if (!in.ok()) return Errc::truncated;
  return in.get(static_cast<unsigned>(in.left_bits())) == 0 ? Errc::none : Errc::trailing_bits;
}

std::string close_reason(const Frame& frame) {
  std::string text(frame.bits / 8, '\0');
  bits::Reader in = frame.payload;
  for (char& c : text) {
    const auto byte = static_cast<unsigned char>(in.get(8));
    c = byte < 0x20 || byte == 0x7f ? '?' : static_cast<char>(byte);
  }
  return text;
}

}  // namespace kwind::link
