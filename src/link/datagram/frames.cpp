// Reading and writing of frames. The reader checks all lengths before it returns a frame; the
// writer writes a frame whole or not at all.
//
// Grammar of a datagram's body, first bit first (docs/wire-format.md):
//   frame    = 1 message | 0 00 end | 0 01 piece | 0 10 payload | 0 11 control
//   message  = channel name length bits
//   piece    = channel name total first count bits
//   control  = type, then what belongs to it
// Lengths are exponential Golomb codes, whose order is chosen for the usual length.
#include "link/datagram/frames.h"

#include <algorithm>
#include <bit>

#include "kwind/core/printable.h"
#include "link/delivery/xor_repair.h"

namespace kwind::link {
namespace {

using bits::count_bits;

// A message starts with a one; the others with a zero and a kind.
enum class Other : std::uint8_t { end = 0, piece = 1, fill = 2, control = 3 };
constexpr unsigned kOtherBits = 3;
constexpr unsigned kControlBits = 3;

constexpr unsigned kLengthOrder = 6;  // messages of 64 to 190 bits: 9 bits of length
constexpr unsigned kTotalOrder = 10;
constexpr unsigned kFragmentOrder = 4;
constexpr unsigned kRunOrder = 3;
constexpr unsigned kBackOrder = 1;
constexpr unsigned kPlaceOrder = 0;
constexpr unsigned kReasonBits = 7;
constexpr unsigned kCloseCodeBits = 8;
constexpr unsigned kWindowBits = 32;
constexpr unsigned kParityNameBits = 16;
constexpr unsigned kParityLengthBits = 12;  // kSmallBytes * 8 is the most

// The leading zero says that no message follows.
void put_other(bits::Writer& out, Other kind) {
  out.put(static_cast<std::uint64_t>(kind) << 1, kOtherBits);
}

// How many bytes `count` fragments from `first` on have: the last one of a message may be
// shorter.
std::size_t bytes_from(std::size_t total_bits, std::size_t first, std::size_t count) {
  const std::size_t all = bits::bytes_for(total_bits);
  return std::min(count * kFragmentBytes, all - first * kFragmentBytes);
}

}  // namespace

// What a message adds to its payload: kind, channel, name, length. For `kwind check` and for
// budgets.
std::size_t message_head_bits(const std::vector<ChannelSpec>& channels, std::size_t channel,
                              std::size_t payload_bits) {
  std::size_t name = 0;
  switch (channels[channel].delivery) {
    case Delivery::unreliable: break;
    case Delivery::sequenced: name = 1; break;
    case Delivery::reliable:
    case Delivery::ordered: name = 17; break;
  }
  return 1 + bits::bits_for(channels.size()) + name + count_bits(payload_bits, kLengthOrder);
}

// A frame is written whole or not at all: where the datagram ends in the middle of it, the writer
// goes back to where it stood. Returns the bits that the frame took, or 0.
std::size_t FrameWriter::attempt(auto&& write) {
  const bits::Writer before = out_;
  write();
  if (out_.ok()) return out_.bit_count() - before.bit_count();
  out_ = before;
  return 0;
}

// All messages but pieces: kind, channel, name, length, payload.
std::size_t FrameWriter::message(std::size_t channel, std::span<const std::byte> payload,
                                 std::size_t bits, auto&& write_name) {
  if (full(channel)) return 0;
  const std::size_t size = attempt([&] {
    out_.put_bool(true);
    put_channel(channel);
    write_name();
    out_.put_count(bits, kLengthOrder);
    out_.put_bits(payload, bits);
  });
  if (size > 0) ++count_[channel];
  return size;
}

void FrameWriter::put_channel(std::size_t channel) {
  out_.put(channel, bits::bits_for(channels_.size()));
}

// Unreliable messages have no name: nothing refers to them.
std::size_t FrameWriter::unreliable(std::size_t channel, std::span<const std::byte> payload,
                                    std::size_t bits) {
  return message(channel, payload, bits, [] {});
}

// A sequenced message is named by its datagram's number and its place among those of its
// channel: the datagram says the first and order the second, so that the name takes one bit.
std::size_t FrameWriter::sequenced(std::size_t channel, std::span<const std::byte> payload,
                                   std::size_t bits, Origin& origin) {
  const std::size_t size = message(channel, payload, bits, [&] { out_.put_bool(true); });
  if (size > 0) origin = Origin(packet_, places_[channel]++);
  return size;
}

// A copy in a later datagram says how many datagrams back its original was.
std::size_t FrameWriter::copy(std::size_t channel, Origin origin,
                              std::span<const std::byte> payload, std::size_t bits) {
  KWIND_ASSERT(origin.packet() < packet_);
  const std::uint64_t back = packet_ - origin.packet() - 1;
  return message(channel, payload, bits, [&] {
    out_.put_bool(false);
    out_.put_count(back, kBackOrder);
    out_.put_count(origin.place(), kPlaceOrder);
  });
}

// A message that follows the one before in its channel needs no number: one bit instead of
// seventeen.
std::size_t FrameWriter::reliable(std::size_t channel, std::uint64_t index,
                                  std::span<const std::byte> payload, std::size_t bits) {
  const bool follows = any_index_[channel] && next_index_[channel] == index;
  const std::size_t size = message(channel, payload, bits, [&] {
    out_.put_bool(follows);
    if (!follows) out_.put(index, 16);
  });
  if (size > 0) {
    any_index_[channel] = true;
    next_index_[channel] = index + 1;
  }
  return size;
}

// As many fragments from `first` on as fit; moves `first` behind them. Ends: each round tries fewer.
std::size_t FrameWriter::put_piece(std::size_t channel, std::span<const std::byte> payload,
                                   std::size_t bits, std::size_t& first, std::size_t end,
                                   auto&& write_name) {
  // Invariant: frames before this one are untouched by an attempt that fails.
  KWIND_ASSERT(end > first);
  if (full(channel)) return 0;
  const std::size_t max = out_.room_bits() / (kFragmentBytes * 8) + 1;
  // Larger counts first.
  for (std::size_t count = std::min(end - first, max); count > 0; --count) {
    const auto part = payload.subspan(first * kFragmentBytes, bytes_from(bits, first, count));
    if (part.size() * 8 > out_.room_bits()) continue;
    const std::size_t size = attempt([&] {
      put_other(out_, Other::piece);
      put_channel(channel);
      write_name();
      out_.put_count(bits, kTotalOrder);
      out_.put_count(first, kFragmentOrder);
      out_.put_count(count - 1, kRunOrder);
      out_.put_bits(part, part.size() * 8);
    });
    if (size == 0) continue;
    first += count;
    ++count_[channel];
    return size;
  }
  return 0;
}

// A fragment of a reliable message is named by the message's index.
std::size_t FrameWriter::piece(std::size_t channel, std::uint64_t index,
                               std::span<const std::byte> payload, std::size_t bits,
                               std::size_t& first, std::size_t end) {
  return put_piece(channel, payload, bits, first, end, [&] { out_.put(index, 16); });
}

// A fragment of an unreliable message is named by the datagram and the place of the message's first
// fragment, as sequenced messages are. `origin` is set when the first fragment is written.
std::size_t FrameWriter::piece(std::size_t channel, Origin& origin, bool started,
                               std::span<const std::byte> payload, std::size_t bits,
                               std::size_t& first, std::size_t end) {
  const Origin name = started ? origin : Origin(packet_, places_[channel]);
  const std::uint64_t back = packet_ - name.packet();
  const std::size_t size = put_piece(channel, payload, bits, first, end, [&] {
    out_.put_count(back, kBackOrder);
    out_.put_count(name.place(), kPlaceOrder);
  });
  if (size > 0 && !started) {
    origin = name;
    ++places_[channel];
  }
  return size;
}

// What a PayloadSource wrote: opaque bits, one frame a datagram.
std::size_t FrameWriter::fill(std::span<const std::byte> payload, std::size_t bits) {
  return attempt([&] {
    put_other(out_, Other::fill);
    out_.put_count(bits, kLengthOrder);
    out_.put_bits(payload, bits);
  });
}

// The XOR of several messages, with the XOR of their lengths: who has all of them but one
// computes that one.
std::size_t FrameWriter::parity(std::size_t channel, std::uint64_t index, ParityMembers others,
                                std::size_t lengths, std::size_t bits,
                                std::span<const std::byte> combined) {
  if (full(channel)) return 0;
  const std::size_t size = control(Control::parity, [&] {
    put_channel(channel);
    out_.put(index, kParityNameBits);
    out_.put(others, kParityReach);
    out_.put(lengths, kParityLengthBits);
    out_.put_count(bits, kLengthOrder);
    out_.put_bits(combined, bits);
  });
  if (size > 0) ++count_[channel];
  return size;
}

// What belongs to the connection and not to a message.
std::size_t FrameWriter::control(Control kind, auto&& write) {
  return attempt([&] {
    put_other(out_, Other::control);
    out_.put(static_cast<std::uint64_t>(kind), kControlBits);
    write();
  });
}

// A ping has no content: any frame but an ack asks for an ack.
std::size_t FrameWriter::ping() {
  return control(Control::ping, [] {});
}
// The number must come back in a response from the address that is being validated (RFC 9000, 8.2).
std::size_t FrameWriter::challenge(std::uint64_t number) {
  return control(Control::challenge, [&] { out_.put(number, 64); });
}
// A response repeats the number of the challenge.
std::size_t FrameWriter::response(std::uint64_t number) {
  return control(Control::response, [&] { out_.put(number, 64); });
}

// The limit's low 32 bits; the receiver widens them.
std::size_t FrameWriter::window(std::size_t channel, std::uint64_t limit) {
  return control(Control::window, [&] {
    put_channel(channel);
    out_.put(limit & bits::low_mask(kWindowBits), kWindowBits);
  });
}

// The reason is cut to the characters that a frame holds.
std::size_t FrameWriter::close(std::string_view reason, Errc code) {
  const std::string text = printable(reason);
  const std::size_t length = valid_utf8_prefix(text, kMaxReasonBytes);
  return control(Control::close, [&] {
    out_.put(static_cast<std::uint64_t>(code), kCloseCodeBits);
    out_.put(length, kReasonBits);
    out_.put_bits(std::as_bytes(std::span(text)).first(length), length * 8);
  });
}

// Zeros to the end of the datagram: nothing can stand behind them.
void FrameWriter::padding(std::size_t bits) {
  if (out_.room_bits() < kOtherBits + kControlBits) return;
  put_other(out_, Other::control);
  out_.put(static_cast<std::uint64_t>(Control::padding), kControlBits);
  // 64 bits at a time.
  for (std::size_t left = std::min(bits, out_.room_bits()); left > 0;) {
    const auto step = static_cast<unsigned>(std::min<std::size_t>(64, left));
    out_.put(0, step);
    left -= step;
  }
}

namespace {

// What frames say relative to those before them in the same datagram.
struct FrameReader {
  bits::Reader in;
  const std::vector<ChannelSpec>& channels;
  std::uint64_t packet = 0;
  std::array<std::uint8_t, kMaxChannels> count{};
  std::array<std::uint8_t, kMaxChannels> places{};
  std::array<std::uint16_t, kMaxChannels> next_index{};
  std::array<bool, kMaxChannels> any_index{};

  // Before a number from the network is used as an index it is compared with what there is.
  Errc channel_of(Frame& frame) {
    const std::uint64_t channel = in.get(bits::bits_for(channels.size()));
    if (!in.ok()) return Errc::truncated;
    if (channel >= channels.size()) return Errc::unknown_channel;
    frame.channel = static_cast<std::uint8_t>(channel);
    return Errc::none;
  }
  // A datagram has at most so many frames of one channel: places and memory are bounded by it.
  Errc counted(const Frame& frame) {
    return ++count[frame.channel] > kMaxPerDatagram ? Errc::too_long : Errc::none;
  }

  // The name of a copy: nothing comes from a datagram that is yet to be sent.
  Errc origin_of(Frame& frame, std::uint64_t back) {
    const std::uint64_t place = in.get_count(kPlaceOrder);
    // Checked before the subtraction: a number below 0 would name a datagram of the future.
    if (!in.ok()) return Errc::truncated;
    if (back > packet || place >= kMaxPerDatagram) return Errc::value_range;
    frame.origin = Origin(packet - back, place);
    return Errc::none;
  }

  // The head of a message by its delivery: sequenced ones have the packet as their number, reliable
  // and ordered ones a number of 16 bits that may follow from the one before.
  Errc message(Frame& frame) {
    frame.kind = FrameKind::message;
    if (const Errc error = channel_of(frame); error != Errc::none) return error;
    const std::size_t c = frame.channel;
    switch (channels[c].delivery) {
      case Delivery::unreliable: break;
      case Delivery::sequenced:
        if (in.get_bool()) {
          frame.origin = Origin(packet, places[c]++);
        } else if (const Errc error = origin_of(frame, in.get_count(kBackOrder) + 1);
                   error != Errc::none) {
          return error;
        }
        break;
      case Delivery::reliable:
      case Delivery::ordered: {
        const bool follows = in.get_bool();
        // The first message of a channel in a datagram has nothing to follow.
        // `follows` is one bit in place of 16.
        if (follows && !any_index[c]) return in.ok() ? Errc::value_range : Errc::truncated;
        frame.index = follows ? next_index[c] : static_cast<std::uint16_t>(in.get(16));
        any_index[c] = true;
        next_index[c] = static_cast<std::uint16_t>(frame.index + 1);
        break;
      }
    }
    frame.bits = in.get_count(kLengthOrder);
    if (!in.ok()) return Errc::truncated;
    return counted(frame);
  }

  // The description says how large a message may be in this direction: what claims more is
  // refused before any memory is taken for it.
  Errc piece(Frame& frame) {
    frame.kind = FrameKind::piece;
    if (const Errc error = channel_of(frame); error != Errc::none) return error;
    const ChannelSpec& spec = channels[frame.channel];
    if (is_reliable(spec.delivery)) {
      frame.index = static_cast<std::uint16_t>(in.get(16));
    } else {
      const std::uint64_t back = in.get_count(kBackOrder);
      if (const Errc error = origin_of(frame, back); error != Errc::none) return error;
      if (back == 0) {
        places[frame.channel] =
            std::max(places[frame.channel], static_cast<std::uint8_t>(frame.origin.place() + 1));
      }
    }
    frame.total_bits = in.get_count(kTotalOrder);
    // A piece is a run of chunks of the message, all of the same size but the last.
    frame.first_chunk = in.get_count(kFragmentOrder);
    const std::size_t count_minus_one = in.get_count(kRunOrder);
    if (!in.ok()) return Errc::truncated;
    if (!is_reliable(spec.delivery) && (!spec.split || spec.largest_in_bytes == 0)) {
      return Errc::bad_piece;
    }
    if (frame.total_bits > spec.largest_in_bytes * 8) return Errc::split_too_large;
    // Written so that neither sum nor difference can overflow.
    const std::size_t chunks = chunks_of(frame.total_bits);
    if (frame.first_chunk >= chunks || count_minus_one >= chunks - frame.first_chunk) {
      return Errc::bad_piece;
    }
    frame.bits = bytes_from(frame.total_bits, frame.first_chunk, count_minus_one + 1) * 8;
    return counted(frame);
  }

  // Frames that belong to the connection. Each has its limits, and unknown ones close it: versions
  // are agreed in the handshake, so an unknown frame is no newer one.
  Errc control(Frame& frame) {
    switch (in.get(kControlBits)) {
      case static_cast<std::uint64_t>(Control::ping): frame.kind = FrameKind::ping; break;
      case static_cast<std::uint64_t>(Control::close):
        frame.kind = FrameKind::close;
        frame.value = in.get(kCloseCodeBits);
        frame.bits = in.get(kReasonBits) * 8;
        if (frame.bits > kMaxReasonBytes * 8) return Errc::too_long;
        break;
      case static_cast<std::uint64_t>(Control::window):
        frame.kind = FrameKind::window;
        if (const Errc error = channel_of(frame); error != Errc::none) return error;
        if (!is_reliable(channels[frame.channel].delivery)) return Errc::unknown_channel;
        frame.value = in.get(kWindowBits);
        break;
      case static_cast<std::uint64_t>(Control::parity):
        frame.kind = FrameKind::parity;
        if (const Errc error = channel_of(frame); error != Errc::none) return error;
        if (!is_reliable(channels[frame.channel].delivery)) return Errc::unknown_channel;
        frame.index = static_cast<std::uint16_t>(in.get(kParityNameBits));
        frame.others = static_cast<ParityMembers>(in.get(kParityReach));
        frame.value = in.get(kParityLengthBits);
        frame.bits = in.get_count(kLengthOrder);
        if (in.ok() && frame.bits > kSmallBytes * 8) return Errc::too_long;
        return in.ok() ? counted(frame) : Errc::truncated;
      case static_cast<std::uint64_t>(Control::challenge):
        frame.kind = FrameKind::challenge;
        frame.value = in.get(64);
        break;
      case static_cast<std::uint64_t>(Control::response):
        frame.kind = FrameKind::response;
        frame.value = in.get(64);
        break;
      // Padding reaches to the end of the datagram. Bits that are not zero would be a covert
      // channel and are refused.
      case static_cast<std::uint64_t>(Control::padding):
        frame.kind = FrameKind::padding;
        while (in.left_bits() > 0) {
          if (in.get(static_cast<unsigned>(std::min<std::size_t>(64, in.left_bits()))) != 0) {
            return Errc::trailing_bits;
          }
        }
        break;
      default: return in.ok() ? Errc::unknown_frame : Errc::truncated;
    }
    return in.ok() ? Errc::none : Errc::truncated;
  }
};

}  // namespace

// Reads a whole datagram before any frame takes effect: an invalid last frame discards the frames
// before it, too.
Errc read_frames(bits::Reader in, const std::vector<ChannelSpec>& channels, std::uint64_t packet,
                 std::vector<Frame>& out) {
  out.clear();
  FrameReader reader{in, channels, packet};
  // Each pass consumes at least one bit, so the loop ends.
  while (reader.in.left_bits() >= kOtherBits) {
    Frame frame;
    Errc error = Errc::none;
    const std::size_t left_before = reader.in.left_bits();
    if (reader.in.get_bool()) {
      error = reader.message(frame);
    } else {
      switch (static_cast<Other>(reader.in.get(2))) {
        case Other::end: {
          if (reader.in.left_bits() + kOtherBits >= 8) return Errc::trailing_bits;
          // Less than a byte may follow the end, and must be zero.
          const auto left = static_cast<unsigned>(reader.in.left_bits());
          return reader.in.get(left) == 0 ? Errc::none : Errc::trailing_bits;
        }
        case Other::piece: error = reader.piece(frame); break;
        case Other::fill:
          frame.kind = FrameKind::payload;
          frame.bits = reader.in.get_count(kLengthOrder);
          if (!reader.in.ok()) error = Errc::truncated;
          break;
        case Other::control: error = reader.control(frame); break;
      }
    }
    if (error != Errc::none) return error;
    // A view of the datagram: nothing is copied.
    frame.payload = reader.in;
    frame.head_bits = left_before - reader.in.left_bits();
    if (frame.bits > reader.in.left_bits()) return Errc::truncated;
    reader.in.skip(frame.bits);
    out.push_back(frame);
  }
  if (!reader.in.ok()) return Errc::truncated;
  const auto left = static_cast<unsigned>(reader.in.left_bits());
  return reader.in.get(left) == 0 ? Errc::none : Errc::trailing_bits;
}

// A peer may say why it refuses, and nothing else: other codes would look like findings of this
// end.
Errc close_code(const Frame& frame) {
  const Errc code = error_from_number(frame.value, Errc::closed_by_peer);
  return error_info(code).verdict == Verdict::refuse ? code : Errc::closed_by_peer;
}

// The reason may end in a log or on a terminal, and the peer chose it.
std::string close_reason(const Frame& frame) {
  std::string text(frame.bits / 8, '\0');
  bits::Reader in = frame.payload;
  in.get_bits(std::as_writable_bytes(std::span(text)), text.size() * 8);
  return printable(text);
}

}  // namespace kwind::link
