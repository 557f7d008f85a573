// Writes pcapng with one interface of raw IP in nanoseconds; reads pcapng and pcap of either byte
// order and several link types. A reader takes lengths from a file that may be damaged or hostile:
// each is checked before it is used, and numbers past the end are zero and remembered
// (Bytes::ok()).
//
// Formats: the pcapng draft of the IETF (draft-ietf-opsawg-pcapng), blocks of type, length, body,
// length; and the older pcap, a header and then packets.
#include "kwind/capture/pcapng.h"

#include <algorithm>
#include <optional>

#include "kwind/core/assert.h"
#include "kwind/core/printable.h"

namespace kwind::capture {
namespace {

constexpr std::uint32_t kSection = 0x0a0d0d0a;
constexpr std::uint32_t kByteOrder = 0x1a2b3c4d;
constexpr std::uint32_t kInterface = 1;
constexpr std::uint32_t kEnhancedPacket = 6;
constexpr std::uint32_t kSimplePacket = 3;
constexpr std::uint16_t kOptionComment = 1;
constexpr std::uint16_t kOptionResolution = 9;
constexpr std::uint16_t kOptionOffset = 14;

// Registered link types.
constexpr std::uint32_t kNull = 0;
constexpr std::uint32_t kEthernet = 1;
constexpr std::uint32_t kRawIp = 101;
constexpr std::uint32_t kLoop = 108;
constexpr std::uint32_t kLinuxCooked = 113;
constexpr std::uint32_t kLinuxCooked2 = 276;
constexpr std::uint8_t kUdp = 17;
constexpr std::size_t kMaxPayload = 65507;

// Blocks are written little-endian; their first number says so.
std::string little(std::uint64_t value, int bytes) {
  std::string out;
  for (int i = 0; i < bytes; ++i) out += static_cast<char>(value >> (8 * i) & 0xff);
  return out;
}
// Network byte order, as the headers of IP and UDP have it.
std::string big16(std::size_t value) {
  return {static_cast<char>(value >> 8 & 0xff), static_cast<char>(value & 0xff)};
}
// Blocks and options end at multiples of four bytes.
void pad(std::string& text) {
  text.resize((text.size() + 3) / 4 * 4);
}

// The length stands before and after the body, so that a file can be read backwards.
std::string block(std::uint32_t type, std::string_view body) {
  const std::string length = little(body.size() + 12, 4);
  return little(type, 4) + length + std::string(body) + length;
}

// Options are padded to 32 bits.
std::string option(std::uint16_t code, std::string_view value) {
  std::string out = little(code, 2) + little(value.size(), 2) + std::string(value);
  pad(out);
  return out;
}

// Mapped addresses have the four bytes of IPv4 last.
std::string ip_of(const Endpoint& endpoint, bool v4) {
  const auto* first = endpoint.ip.data() + (v4 ? 12 : 0);
  return {reinterpret_cast<const char*>(first), v4 ? std::size_t{4} : std::size_t{16}};
}

// The ones' complement sum of RFC 1071.
std::uint16_t checksum(std::string_view bytes) {
  std::uint32_t sum = 0;
  // 16-bit words, high byte first; an odd last byte counts as the high one.
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    const auto byte = static_cast<unsigned char>(bytes[i]);
    sum += i % 2 == 0 ? std::uint32_t{byte} << 8 : byte;
  }
  // Carries are added until none is left.
  while (sum > 0xffff) sum = (sum & 0xffff) + (sum >> 16);
  return static_cast<std::uint16_t>(~sum);
}

}  // namespace

// Section and interface description: raw IP packets, times in nanoseconds.
std::string pcapng_start(std::string_view comment) {
  const std::string end = little(0, 4);
  std::string section = little(kByteOrder, 4) + little(1, 2) + little(0, 2) + little(~0ULL, 8);
  if (!comment.empty())
    section += option(kOptionComment, comment.substr(0, valid_utf8_prefix(comment, 1000))) + end;
  const std::string nanoseconds(1, 9);
  return block(kSection, section) +
         block(kInterface, little(kRawIp, 2) + little(0, 2) + little(65535, 4) +
                               option(kOptionResolution, nanoseconds) + end);
}

// Addresses and ports in headers of IP and UDP that are made here; checksums included.
std::string pcapng_packet(const Packet& packet) {
  KWIND_ASSERT(packet.payload.size() <= kMaxPayload);
  // An IPv4 packet if either address is one.
  const bool v4 = packet.from.is_v4() || packet.to.is_v4();
  const std::size_t udp_bytes = packet.payload.size() + 8;
  const std::string addresses = ip_of(packet.from, v4) + ip_of(packet.to, v4);
  // The length field of UDP counts its own header.
  const std::string ports = big16(packet.from.port) + big16(packet.to.port) + big16(udp_bytes);
  const std::string_view payload(reinterpret_cast<const char*>(packet.payload.data()),
                                 packet.payload.size());
  std::string ip;
  if (v4) {
    // Version 4 and 20 bytes of header; do not fragment; 64 hops.
    const std::string before = std::string{0x45, 0} + big16(udp_bytes + 20) + big16(0) +
                               big16(0x4000) + std::string{64, kUdp};
    ip = before + big16(checksum(before + big16(0) + addresses)) + addresses;
  } else {
    // Version 6, no flow label; 64 hops.
    ip = std::string{0x60, 0, 0, 0} + big16(udp_bytes) + std::string{kUdp, 64} + addresses;
  }
  // The checksum covers the addresses as well: the pseudo header of RFC 768.
  const std::string pseudo = addresses + std::string{0, kUdp} + big16(udp_bytes) + ports + big16(0);
  std::uint16_t sum = checksum(pseudo + std::string(payload));
  if (sum == 0) sum = 0xffff;  // RFC 768: zero would mean that there is none
  std::string whole = ip + ports + big16(sum) + std::string(payload);
  // Both lengths: captured and original are equal here.
  const std::string length = little(whole.size(), 4);
  pad(whole);
  const auto time = static_cast<std::uint64_t>(packet.unix_ns);
  return block(kEnhancedPacket,
               little(0, 4) + little(time >> 32, 4) + little(time, 4) + length + length + whole);
}

namespace {

// Numbers out of a file of either byte order. Past the end they are zero, and it is remembered.
class Bytes {
 public:
  Bytes(std::span<const std::byte> bytes, bool swapped) : bytes_(bytes), swapped_(swapped) {}

  std::uint64_t number(std::size_t size) { return take(size, swapped_); }
  std::uint64_t network(std::size_t size) { return take(size, true); }
  std::span<const std::byte> rest() const { return bytes_; }
  // The next bytes; none once the end was passed.
  std::span<const std::byte> part(std::size_t size) {
    ok_ = ok_ && size <= bytes_.size();
    const auto out = bytes_.first(ok_ ? size : 0);
    bytes_ = bytes_.subspan(out.size());
    return out;
  }
  void skip(std::size_t size) { (void)part(size); }
  bool ok() const { return ok_; }

 private:
  // A number of either byte order; 0 beyond the end, which is noted.
  std::uint64_t take(std::size_t size, bool high_first) {
    const auto bytes = part(size);
    std::uint64_t value = 0;
    // At most 8 bytes; the order is that of the file, or of the network.
    for (std::size_t i = 0; i < bytes.size(); ++i) {
      const std::size_t place = high_first ? bytes.size() - 1 - i : i;
      value |= std::to_integer<std::uint64_t>(bytes[i]) << (8 * place);
    }
    return value;
  }
  std::span<const std::byte> bytes_;
  bool swapped_;
  bool ok_ = true;
};

struct Interface {
  std::uint32_t link = 0;
  std::uint64_t ticks_per_second = 1000000;
  std::int64_t offset_s = 0;
};

// What of a frame is IP; nothing if it is none.
std::optional<std::span<const std::byte>> ip_in(std::span<const std::byte> frame,
                                                std::uint32_t link) {
  // The type that the link layer names: 0x0800 is IPv4, 0x86dd IPv6.
  Bytes in(frame, false);
  std::uint64_t type = 0x0800;
  switch (link) {
    case kRawIp: break;
    case kNull:
    case kLoop: in.skip(4); break;
    case kEthernet:
      in.skip(12);
      type = in.network(2);
      // Several tags can be nested (802.1ad). Ends with the frame.
      while (type == 0x8100 || type == 0x88a8) {  // tags of virtual LANs
        in.skip(2);
        type = in.network(2);
      }
      break;
    case kLinuxCooked:
      in.skip(14);
      type = in.network(2);
      break;
    case kLinuxCooked2:
      type = in.network(2);
      in.skip(18);
      break;
    default: return std::nullopt;
  }
  if (!in.ok() || (type != 0x0800 && type != 0x86dd)) return std::nullopt;
  return in.rest();
}

enum class Kind : std::uint8_t { whole, other, cut };

// A UDP datagram in an IP packet, not a fragment of one.
Kind udp_in(std::span<const std::byte> ip, Packet& out) {
  Bytes in(ip, false);
  const std::uint64_t first = in.network(1);
  std::uint64_t protocol = 0;
  const auto address = [&](Endpoint& endpoint, std::size_t size) {
    const auto bytes = in.part(size);
    if (size == 4) endpoint = Endpoint::v4(0, 0, 0, 0, 0);
    for (std::size_t i = 0; i < bytes.size(); ++i) {
      // The last `size` bytes of the 16.
      endpoint.ip[16 - size + i] = std::to_integer<std::uint8_t>(bytes[i]);
    }
  };
  if (first >> 4 == 4) {
    const std::size_t head = (first & 0xf) * 4;
    in.skip(5);
    const std::uint64_t fragment = in.network(2);
    in.skip(1);
    protocol = in.network(1);
    in.skip(2);
    address(out.from, 4);
    address(out.to, 4);
    // The first fragment has the ports but not all of the payload, later ones have no ports.
    if (head < 20 || (fragment & 0x3fff) != 0) return Kind::other;
    in.skip(head - 20);
  } else if (first >> 4 == 6) {
    in.skip(5);
    protocol = in.network(1);
    in.skip(1);
    // Extension headers of IPv6 are not followed: such packets count as other traffic.
    address(out.from, 16);
    address(out.to, 16);
  } else {
    return Kind::other;
  }
  if (!in.ok() || protocol != kUdp) return Kind::other;
  out.from.port = static_cast<std::uint16_t>(in.network(2));
  out.to.port = static_cast<std::uint16_t>(in.network(2));
  const std::uint64_t bytes = in.network(2);
  in.skip(2);
  // More than IPv4 can carry is nothing that this could write again.
  if (!in.ok() || bytes < 8 || bytes - 8 > kMaxPayload) return Kind::other;
  if (in.rest().size() < bytes - 8) return Kind::cut;
  const auto payload = in.rest().first(bytes - 8);
  out.payload.assign(payload.begin(), payload.end());
  return Kind::whole;
}

// Frames that are no UDP are counted, and frames that were cut when they were captured.
void take_frame(std::span<const std::byte> frame, const Interface& interface, std::uint64_t ticks,
                Contents& out) {
  const auto ip = ip_in(frame, interface.link);
  Packet packet;
  const Kind kind = ip ? udp_in(*ip, packet) : Kind::other;
  if (kind == Kind::other) {
    ++out.other;
    return;
  }
  if (kind == Kind::cut) {
    ++out.cut;
    return;
  }
  // Seconds and their fraction apart: nanoseconds times ticks would not fit 64 bits.
  // Integer division keeps the seconds exact; only the fraction is rounded.
  const std::uint64_t whole = ticks / interface.ticks_per_second;
  const std::uint64_t part = ticks % interface.ticks_per_second;
  // Unsigned arithmetic: a time beyond 64 bits of nanoseconds wraps instead of overflowing.
  const auto fraction_ns = static_cast<std::uint64_t>(
      static_cast<double>(part) * 1e9 / static_cast<double>(interface.ticks_per_second));
  const std::uint64_t offset_ns = static_cast<std::uint64_t>(interface.offset_s) * 1000000000;
  packet.unix_ns = static_cast<std::int64_t>(whole * 1000000000 + fraction_ns + offset_ns);
  out.packets.push_back(std::move(packet));
}

// Link type and time resolution; microseconds where no option says otherwise.
Interface read_interface(Bytes in) {
  Interface out;
  out.link = static_cast<std::uint32_t>(in.number(2));
  in.skip(6);
  // One option in each pass; a length beyond the block ends it.
  while (in.ok() && !in.rest().empty()) {
    const std::uint64_t code = in.number(2);
    const std::uint64_t size = in.number(2);
    if (code == 0) break;
    if (code == kOptionResolution && size == 1) {
      const std::uint64_t value = in.number(1);
      in.skip(3);
      out.ticks_per_second = 1;
      // A power of ten, or with the highest bit set of two; beyond these a clock has no use.
      const std::uint64_t base = (value & 0x80) != 0 ? 2 : 10;
      const std::uint64_t max = base == 2 ? 40 : 12;
      // At most 40 multiplications, so the product fits 64 bits.
      for (std::uint64_t i = std::min(value & 0x7f, max); i > 0; --i) out.ticks_per_second *= base;
    } else if (code == kOptionOffset && size == 8) {
      // A clock that starts in another century than ours says nothing.
      const auto offset = static_cast<std::int64_t>(in.number(8));
      out.offset_s = offset > -4000000000 && offset < 4000000000 ? offset : 0;
    } else {
      in.skip((size + 3) / 4 * 4);
    }
  }
  return out;
}

// Block by block. A section may have another byte order than the one before.
Result<Contents> read_pcapng(std::span<const std::byte> file) {
  Contents out;
  bool swapped = false;
  std::vector<Interface> interfaces;
  // Consumes at least 12 bytes in each pass.
  while (file.size() >= 12) {
    Bytes head(file, swapped);
    std::uint64_t type = head.number(4);
    if (type == kSection || Bytes(file, !swapped).number(4) == kSection) {
      Bytes order(file.subspan(8), false);
      swapped = order.number(4) != kByteOrder;
      interfaces.clear();
      type = kSection;
    }
    Bytes length_in(file.subspan(4), swapped);
    const std::uint64_t length = length_in.number(4);
    // A length that cannot be right ends the file here; what was read before is kept.
    if (length < 12 || length % 4 != 0 || length > file.size()) break;
    const auto body = file.subspan(8, length - 12);
    file = file.subspan(length);
    Bytes in(body, swapped);
    if (type == kInterface) {
      interfaces.push_back(read_interface(in));
    } else if (type == kEnhancedPacket || type == kSimplePacket) {
      // A simple packet has no interface and no time: it belongs to the first interface.
      const bool simple = type == kSimplePacket;
      const std::uint64_t which = simple ? 0 : in.number(4);
      const std::uint64_t high = simple ? 0 : in.number(4);
      const std::uint64_t low = simple ? 0 : in.number(4);
      const std::uint64_t size = in.number(4);
      if (!simple) in.skip(4);
      const auto frame =
          simple ? in.part(std::min<std::size_t>(size, in.rest().size())) : in.part(size);
      if (!in.ok() || which >= interfaces.size()) {
        ++out.other;
        continue;
      }
      take_frame(frame, interfaces[which], high << 32 | low, out);
    }
  }
  out.ends_early = !file.empty();
  return out;
}

// The older format: one header, then packets.
Result<Contents> read_pcap(std::span<const std::byte> file, bool swapped, bool nanoseconds) {
  Bytes in(file, swapped);
  in.skip(20);
  Interface interface;
  interface.link = static_cast<std::uint32_t>(in.number(4)) & 0x0fffffff;
  interface.ticks_per_second = nanoseconds ? 1000000000 : 1000000;
  if (!in.ok()) return fail(Errc::bad_capture);
  Contents out;
  // Consumes at least 16 bytes in each pass, or ends.
  while (!in.rest().empty()) {
    const std::uint64_t seconds = in.number(4);
    const std::uint64_t part = in.number(4);
    const std::uint64_t size = in.number(4);
    in.skip(4);
    const auto frame = in.part(size);
    if (!in.ok()) {
      out.ends_early = true;
      break;
    }
    take_frame(frame, interface,
               seconds * interface.ticks_per_second +
                   // A fraction of a second or more is a damaged one.
                   std::min<std::uint64_t>(part, interface.ticks_per_second - 1),
               out);
  }
  return out;
}

}  // namespace

// For packets that the system shows, without a frame around them.
std::optional<Packet> udp_of_ip(std::span<const std::byte> ip) {
  Packet packet;
  if (udp_in(ip, packet) != Kind::whole) return std::nullopt;
  return packet;
}

// The first four bytes tell the format and its byte order.
Result<Contents> read_capture(std::span<const std::byte> file) {
  const std::uint64_t magic = Bytes(file, false).number(4);
  const std::uint64_t turned = Bytes(file, true).number(4);
  if (magic == kSection) {
    const std::uint64_t order = file.size() < 12 ? 0 : Bytes(file.subspan(8), false).number(4);
    const std::uint64_t order_turned =
        file.size() < 12 ? 0 : Bytes(file.subspan(8), true).number(4);
    if (order != kByteOrder && order_turned != kByteOrder) return fail(Errc::bad_capture);
    return read_pcapng(file);
  }
  for (const bool nanoseconds : {false, true}) {
    const std::uint64_t wanted = nanoseconds ? 0xa1b23c4d : 0xa1b2c3d4;
    if (magic == wanted) return read_pcap(file, false, nanoseconds);
    if (turned == wanted) return read_pcap(file, true, nanoseconds);
  }
  return fail(Errc::bad_capture);
}

}  // namespace kwind::capture
