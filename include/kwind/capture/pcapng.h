// Captures as files: writes pcapng (draft-ietf-opsawg-pcapng), reads pcapng and its predecessor
// (draft-ietf-opsawg-pcap). Only UDP is of interest: what else a file holds is passed over and
// counted. Bytes in, bytes out; safe anywhere.
#pragma once
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "kwind/core/endpoint.h"
#include "kwind/core/errors.h"

namespace kwind::capture {

/// A UDP datagram that passed.
struct Packet {
  std::int64_t unix_ns = 0;  ///< nanoseconds since 1970
  Endpoint from;
  Endpoint to;
  std::vector<std::byte> payload;

  /// IP and UDP headers as they were, or as they would be: 28 bytes over IPv4, 48 over IPv6.
  [[nodiscard]] std::size_t header_bytes() const { return from.is_v4() || to.is_v4() ? 28 : 48; }
};

/// What a file starts with; `comment` says what it is, for people.
std::string pcapng_start(std::string_view comment);
/// A packet as one block, IP and UDP headers made for it. Requires: at most 65507 bytes of payload.
std::string pcapng_packet(const Packet& packet);

/// The UDP datagram in an IP packet; nothing if it is none, or not whole. Time is left at 0.
std::optional<Packet> udp_of_ip(std::span<const std::byte> ip);

/// What a capture file holds.
struct Contents {
  std::vector<Packet> packets;
  std::size_t other = 0;    ///< packets that are no whole UDP datagrams
  std::size_t cut = 0;      ///< UDP datagrams of which the capture kept only a part
  bool ends_early = false;  ///< the file's last block is not whole: its writer was interrupted
};
/// Reads a file with links of Ethernet, raw IP, Linux cooked (1 and 2) or loopback. What a hostile
/// file says is bounds-checked; a file that ends early gives what came before. Errors: bad_capture,
/// for something else than a capture. O(size).
Result<Contents> read_capture(std::span<const std::byte> file);

}  // namespace kwind::capture
