// The system's socket addresses and errors as ours. Private to io.
#pragma once
#include <arpa/inet.h>
#include <netinet/in.h>
#include <sys/socket.h>

#include <cerrno>
#include <cstring>

#include "kwind/core/endpoint.h"
#include "kwind/core/errors.h"

namespace kwind::io {

// An IPv6 socket carries IPv4 as well, in mapped addresses; where the system has no IPv6, there is
// only the other.
struct Address {
  sockaddr_storage storage{};
  socklen_t length = 0;
};

inline void to_system(const Endpoint& endpoint, int family, Address& out) {
  if (family == AF_INET) {
    sockaddr_in v4{};
    v4.sin_family = AF_INET;
    v4.sin_port = htons(endpoint.port);
    std::memcpy(&v4.sin_addr, endpoint.ip.data() + 12, 4);
    std::memcpy(&out.storage, &v4, sizeof v4);
    out.length = sizeof v4;
  } else {
    sockaddr_in6 v6{};
    v6.sin6_family = AF_INET6;
    v6.sin6_port = htons(endpoint.port);
    std::memcpy(&v6.sin6_addr, endpoint.ip.data(), 16);
    std::memcpy(&out.storage, &v6, sizeof v6);
    out.length = sizeof v6;
  }
}
inline Address to_system(const Endpoint& endpoint, int family) {
  Address out;
  to_system(endpoint, family, out);
  return out;
}

inline Endpoint from_system(const sockaddr_storage& in) {
  if (in.ss_family == AF_INET) {
    sockaddr_in v4{};
    std::memcpy(&v4, &in, sizeof v4);
    std::array<std::uint8_t, 4> ip{};
    std::memcpy(ip.data(), &v4.sin_addr, 4);
    return Endpoint::v4(ip[0], ip[1], ip[2], ip[3], ntohs(v4.sin_port));
  }
  sockaddr_in6 v6{};
  std::memcpy(&v6, &in, sizeof v6);
  Endpoint out;
  std::memcpy(out.ip.data(), &v6.sin6_addr, 16);
  out.port = ntohs(v6.sin6_port);
  return out;
}

inline Errc from_errno(int error) {
  switch (error) {
    case EADDRINUSE: return Errc::address_in_use;
    case EADDRNOTAVAIL:
    case EAFNOSUPPORT:
    case EINVAL: return Errc::bad_address;
    case EACCES:
    case EPERM: return Errc::no_permission;
    default: return Errc::socket_failure;
  }
}

}  // namespace kwind::io
