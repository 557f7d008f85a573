// Probes a UDP address and says why no answer came: a machine refuses a port where nobody listens
// (ICMP); a firewall is silent. Blocks; for tools.
#pragma once
#include <span>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/endpoint.h"
#include "kwind/core/errors.h"
#include "kwind/core/time.h"

namespace kwind::io {

/// What came back from an address.
enum class ProbeResult : std::uint8_t {
  answered,
  silent,          ///< nothing came back
  nobody_listens,  ///< the machine is there and says that the port is closed (ICMP)
  unreachable,     ///< a router on the way, or this machine, knows no way there
};

/// What a probe found.
struct Probe {
  ProbeResult how = ProbeResult::silent;
  Endpoint from;                    ///< this machine's address on the route to it
  std::vector<std::byte> answer{};  ///< the first datagram that came back
  Duration round_trip{0};           ///< since the first copy was sent
  unsigned copies = 0;              ///< of the datagram, sent
};

/// Sends `datagram` up to `copies` times, a quarter, half, ... second apart, until an answer comes.
/// Errors: socket_failure.
KWIND_API Result<Probe> probe(const Endpoint& server, std::span<const std::byte> datagram,
                              unsigned copies);

}  // namespace kwind::io
