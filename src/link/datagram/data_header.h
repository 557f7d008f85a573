// The first bytes of a data datagram: flags, connection id (client to server only), packet number.
// All of it is authenticated, none of it encrypted. Pure functions.
#pragma once
#include <cstdint>
#include <optional>
#include <span>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/link/spec.h"
#include "link/packet_number.h"

namespace kwind::link {

/// Flags, id, a short packet number and a check: no datagram of a client is shorter.
inline constexpr std::size_t kMinDataBytes = 9 + 9;

struct DataHeader {
  bool phase = false;     ///< which of two keys in turn
  bool has_acks = false;  ///< the body starts with an ack block
  bool wide = false;      ///< 16 bits of packet number follow, not 8
  ConnectionId id{};      ///< client to server
  std::uint64_t number_low = 0;
  std::size_t bytes = 0;
};

/// Requires: at least four bytes, the first of a data datagram.
inline ConnectionId connection_id_of(std::span<const std::byte> datagram) {
  bits::Reader in(datagram);
  in.get(4);
  return static_cast<ConnectionId>(in.get(kConnectionIdBits));
}

inline std::size_t write(const DataHeader& header, bool from_client, bits::Writer& out) {
  out.put_bool(true);
  out.put_bool(header.phase);
  out.put_bool(header.has_acks);
  out.put_bool(header.wide);
  out.put(from_client ? static_cast<std::uint32_t>(header.id) : 0, from_client ? 28 : 4);
  out.put(header.number_low, header.wide ? 16 : 8);
  return (from_client ? 4U : 1U) + (header.wide ? 2U : 1U);
}

/// nothing if it is too short or not data.
inline std::optional<DataHeader> read_data_header(std::span<const std::byte> datagram,
                                                  bool from_client) {
  bits::Reader in(datagram);
  DataHeader header;
  if (!in.get_bool()) return std::nullopt;
  header.phase = in.get_bool();
  header.has_acks = in.get_bool();
  header.wide = in.get_bool();
  const std::uint64_t id = in.get(from_client ? kConnectionIdBits : 4);
  header.id = static_cast<ConnectionId>(id);
  header.number_low = in.get(header.wide ? 16 : 8);
  header.bytes = (from_client ? 4U : 1U) + (header.wide ? 2U : 1U);
  if (!in.ok() || (!from_client && id != 0)) return std::nullopt;
  return header;
}

}  // namespace kwind::link
