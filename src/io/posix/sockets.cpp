// Sockets as POSIX.1-2008 has them; of extensions only MSG_NOSIGNAL, where it is there.
#include "io/sockets.h"

#include <fcntl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <cerrno>

namespace kwind::io {
namespace {

// Not inherited by programs that this process starts, and never blocking.
bool make_nonblocking(int descriptor) {
  const int flags = ::fcntl(descriptor, F_GETFL);
  return flags >= 0 && ::fcntl(descriptor, F_SETFL, flags | O_NONBLOCK) == 0 &&
         ::fcntl(descriptor, F_SETFD, FD_CLOEXEC) == 0;
}

// A descriptor that is ready for use, or -1.
int prepared(int descriptor) {
  if (descriptor < 0) return -1;
  if (make_nonblocking(descriptor)) {
#ifdef SO_NOSIGPIPE
    set_option(descriptor, SOL_SOCKET, SO_NOSIGPIPE, 1);
#endif
    return descriptor;
  }
  const int error = errno;
  ::close(descriptor);
  errno = error;
  return -1;
}

#ifdef MSG_NOSIGNAL
constexpr int kSendFlags = MSG_NOSIGNAL;
#else
constexpr int kSendFlags = 0;
#endif

}  // namespace

// Nothing to load, unlike on Windows.
bool start_sockets() {
  return true;
}
// Each function below has the meaning that sockets.h states.
int open_socket(int family, int type) {
  return prepared(::socket(family, type, 0));
}
void close_socket(int descriptor) {
  ::close(descriptor);
}
int socket_error() {
  return errno;
}

// Not ready, or interrupted by a signal.
bool is_temporary(int error) {
  return error == EAGAIN || error == EWOULDBLOCK || error == EINTR;
}
// ENETDOWN and EPERM come from interfaces and packet filters, and pass.
bool may_pass(int error) {
  return is_temporary(error) || is_exhaustion(error) || error == EPERM || error == ENETDOWN;
}
// An ICMP "port unreachable" for an earlier datagram.
bool is_refusal(int error) {
  return error == ECONNREFUSED;
}
// No memory, or no descriptors in the process or the system.
bool is_exhaustion(int error) {
  return error == EMFILE || error == ENFILE || error == ENOMEM || error == ENOBUFS;
}
// The peer closed its stream before it was accepted.
bool is_abandoned(int error) {
  return error == EINTR || error == ECONNABORTED;
}
// A non-blocking connect has begun.
bool is_in_progress(int error) {
  return error == EINPROGRESS || error == ENOTCONN;
}
bool is_family_unsupported(int error) {
  return error == EAFNOSUPPORT;
}
// A datagram is longer than the path's MTU, and may not be cut.
bool is_too_long(int error) {
  return error == EMSGSIZE;
}

// Errors that a user can do something about have codes of their own.
Errc from_system_error(int error) {
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

// False if the system refused: options are wishes where the caller ignores it.
bool set_option(int descriptor, int level, int name, int value) {
  return ::setsockopt(descriptor, level, name, &value, sizeof value) == 0;
}

// The don't-fragment bit without the kernel's own path MTU discovery: the link probes (RFC 8899).
void forbid_fragments([[maybe_unused]] int descriptor, [[maybe_unused]] int family) {
#ifdef IP_PMTUDISC_PROBE
  set_option(descriptor, IPPROTO_IP, IP_MTU_DISCOVER, IP_PMTUDISC_PROBE);
  set_option(descriptor, IPPROTO_IPV6, IPV6_MTU_DISCOVER, IPV6_PMTUDISC_PROBE);
#elif defined(IP_DONTFRAG)
  if (family == AF_INET) set_option(descriptor, IPPROTO_IP, IP_DONTFRAG, 1);
  if (family == AF_INET6) set_option(descriptor, IPPROTO_IPV6, IPV6_DONTFRAG, 1);
#endif
}

// MSG_NOSIGNAL: a broken stream is an error here, not a signal that ends the process.
std::ptrdiff_t send_bytes(int descriptor, std::span<const std::byte> bytes) {
  return ::send(descriptor, bytes.data(), bytes.size(), kSendFlags);
}
std::ptrdiff_t receive_bytes(int descriptor, std::span<std::byte> into) {
  return ::recv(descriptor, into.data(), into.size(), 0);
}

// The kernel copies the datagram before it returns.
std::ptrdiff_t send_to(int descriptor, std::span<const std::byte> bytes, const Address& to) {
  return ::sendto(descriptor, bytes.data(), bytes.size(), kSendFlags, to.data(), to.length);
}
// `from` holds the sender's address, whatever its family.
std::ptrdiff_t receive_from(int descriptor, std::span<std::byte> into, Address& from) {
  from.length = sizeof from.storage;
  return ::recvfrom(descriptor, into.data(), into.size(), 0, from.data(), &from.length);
}

// Unlimited counts as the largest number.
std::size_t max_descriptors() {
  rlimit limit{};
  if (::getrlimit(RLIMIT_NOFILE, &limit) != 0 || limit.rlim_cur == RLIM_INFINITY) {
    return static_cast<std::size_t>(-1);
  }
  return static_cast<std::size_t>(limit.rlim_cur);
}

// The new descriptor is made non-blocking, or closed.
int accept_socket(int door, Address& peer) {
  peer.length = sizeof peer.storage;
  return prepared(::accept(door, peer.data(), &peer.length));
}

}  // namespace kwind::io
