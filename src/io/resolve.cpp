// Names to addresses, by the system's resolver.
#include <algorithm>
#include <charconv>
#include <cstring>
#include <string>

#include "io/sockets.h"
#include "kwind/io/udp_transport.h"

namespace kwind::io {

// A client's socket is bound to loopback for a server on loopback, so that no other machine reaches
// it.
Endpoint local_for(const Endpoint& remote) {
  if (!remote.is_loopback()) return Endpoint::any(0);
  return remote.is_v4() ? Endpoint::loopback(0) : Endpoint::loopback_v6(0);
}
// "0.0.0.0" and "::" name no destination: on the same machine loopback reaches the listener.
Endpoint reachable(const Endpoint& address) {
  return address.is_any() ? Endpoint::loopback(address.port) : address;
}

namespace {
// A link-local address (fe80::/10) needs an interface, which an Endpoint does not hold.
Result<Endpoint> without_interface(const Endpoint& endpoint) {
  const bool is_link_local = endpoint.ip[0] == 0xfe && (endpoint.ip[1] & 0xc0) == 0x80;
  if (is_link_local) return fail(Errc::bad_address);
  return endpoint;
}
}  // namespace

// Literal addresses first; otherwise the part before the last colon is a host name. The first
// address that the resolver returns is taken.
Result<Endpoint> resolve(std::string_view host_and_port) {
  if (const auto plain = Endpoint::parse(host_and_port)) return without_interface(*plain);
  const std::size_t colon = host_and_port.rfind(':');
  if (colon == std::string_view::npos || colon == 0) return fail(Errc::bad_address);
  const std::string_view port_text = host_and_port.substr(colon + 1);
  std::uint16_t port = 0;
  const auto [end, error] =
      std::from_chars(port_text.data(), port_text.data() + port_text.size(), port);
  if (error != std::errc{} || end != port_text.data() + port_text.size()) {
    return fail(Errc::bad_address);
  }
  if (!start_sockets()) return fail(Errc::socket_failure);
  addrinfo hints{};
  hints.ai_family = AF_UNSPEC;
  hints.ai_socktype = SOCK_DGRAM;
  addrinfo* found = nullptr;
  const std::string host(host_and_port.substr(0, colon));
  if (::getaddrinfo(host.c_str(), nullptr, &hints, &found) != 0 || found == nullptr) {
    return fail(Errc::bad_address);
  }
  sockaddr_storage address{};
  std::memcpy(&address, found->ai_addr, std::min<std::size_t>(found->ai_addrlen, sizeof address));
  ::freeaddrinfo(found);
  Endpoint endpoint = from_system(address);
  endpoint.port = port;
  return without_interface(endpoint);
}

}  // namespace kwind::io
