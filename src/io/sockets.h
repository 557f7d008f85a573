// Socket calls that each system spells in its own way, and its addresses and errors as ours. One
// declaration; posix/sockets.cpp and windows/sockets.cpp define them. Private to io.
#pragma once
#ifdef _WIN32
#include <winsock2.h>
#include <ws2tcpip.h>
#else
#include <arpa/inet.h>
#include <netdb.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#endif

#include <array>
#include <cstddef>
#include <cstring>
#include <span>

#include "kwind/core/endpoint.h"
#include "kwind/core/errors.h"
#include "kwind/core/time.h"

namespace kwind::io {

// A descriptor is an int everywhere: of a Windows SOCKET 32 bits are significant, as of any handle.

// An IPv6 socket carries IPv4 as well, in mapped addresses; where the system has no IPv6, there is
// only the other.
struct Address {
  sockaddr_storage storage{};
  socklen_t length = sizeof(sockaddr_storage);

  [[nodiscard]] sockaddr* data() { return reinterpret_cast<sockaddr*>(&storage); }
  [[nodiscard]] const sockaddr* data() const { return reinterpret_cast<const sockaddr*>(&storage); }
};

/// Before the first socket: Windows must load its sockets. False if it cannot.
bool start_sockets();
/// Non-blocking, and closed in programs that this one starts. Negative: see socket_error().
int open_socket(int family, int type);
void close_socket(int descriptor);
/// The number of the last failed call.
int socket_error();
/// Nothing can be read or written now, or the call was interrupted: try again later.
bool is_temporary(int error);
/// A fault of this machine that may pass: no memory, a packet filter, an interface that is down. A
/// stream outlasts it, as nothing was taken from or added to the stream.
bool may_pass(int error);
/// A datagram that was sent before was refused by its receiver: nothing to do with this call.
bool is_refusal(int error);
/// The system has no memory or no descriptors left.
bool is_exhaustion(int error);
/// The other end closed a stream before it was accepted.
bool is_abandoned(int error);
bool is_in_progress(int error);
bool is_family_unsupported(int error);
/// A datagram was longer than the memory for it.
bool is_too_long(int error);
Errc from_system_error(int error);

bool set_option(int descriptor, int level, int name, int value);
/// Datagrams are not to be cut on their way: how large they may be is found by probing (RFC 8899).
void forbid_fragments(int descriptor, int family);
/// Negative: see socket_error().
std::ptrdiff_t send_bytes(int descriptor, std::span<const std::byte> bytes);
std::ptrdiff_t receive_bytes(int descriptor, std::span<std::byte> into);
std::ptrdiff_t send_to(int descriptor, std::span<const std::byte> bytes, const Address& to);
std::ptrdiff_t receive_from(int descriptor, std::span<std::byte> into, Address& from);
/// How many sockets this process may have.
std::size_t max_descriptors();

/// A stream that waits at `door`, non-blocking. Negative: see socket_error().
int accept_socket(int door, Address& peer);
/// Waits for one of `files`, for `longest` at most. Negative, 0 or how many have events.
int poll_sockets(std::span<pollfd> files, Duration longest);

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

/// The address that a socket has; `fallback` if the system does not say.
inline Endpoint local_address(int descriptor, const Endpoint& fallback) {
  Address own;
  if (::getsockname(descriptor, own.data(), &own.length) != 0) return fallback;
  return from_system(own.storage);
}

}  // namespace kwind::io
