// Sockets as POSIX.1-2008 has them; of extensions only MSG_NOSIGNAL, where it is there.
#include "io/sockets.h"

#include <fcntl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <cerrno>

namespace kwind::io {
namespace {

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

bool start_sockets() {
  return true;
}
int open_socket(int family, int type) {
  return prepared(::socket(family, type, 0));
}
void close_socket(int descriptor) {
  ::close(descriptor);
}
int socket_error() {
  return errno;
}

bool is_temporary(int error) {
  return error == EAGAIN || error == EWOULDBLOCK || error == EINTR;
}
bool may_pass(int error) {
  return is_temporary(error) || is_exhaustion(error) || error == EPERM || error == ENETDOWN;
}
bool is_refusal(int error) {
  return error == ECONNREFUSED;
}
bool is_exhaustion(int error) {
  return error == EMFILE || error == ENFILE || error == ENOMEM || error == ENOBUFS;
}
bool is_abandoned(int error) {
  return error == EINTR || error == ECONNABORTED;
}
bool is_in_progress(int error) {
  return error == EINPROGRESS || error == ENOTCONN;
}
bool is_family_unsupported(int error) {
  return error == EAFNOSUPPORT;
}
bool is_too_long(int error) {
  return error == EMSGSIZE;
}

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

bool set_option(int descriptor, int level, int name, int value) {
  return ::setsockopt(descriptor, level, name, &value, sizeof value) == 0;
}

void forbid_fragments([[maybe_unused]] int descriptor, [[maybe_unused]] int family) {
#ifdef IP_PMTUDISC_PROBE
  set_option(descriptor, IPPROTO_IP, IP_MTU_DISCOVER, IP_PMTUDISC_PROBE);
  set_option(descriptor, IPPROTO_IPV6, IPV6_MTU_DISCOVER, IPV6_PMTUDISC_PROBE);
#elif defined(IP_DONTFRAG)
  if (family == AF_INET) set_option(descriptor, IPPROTO_IP, IP_DONTFRAG, 1);
  if (family == AF_INET6) set_option(descriptor, IPPROTO_IPV6, IPV6_DONTFRAG, 1);
#endif
}

std::ptrdiff_t send_bytes(int descriptor, std::span<const std::byte> bytes) {
  return ::send(descriptor, bytes.data(), bytes.size(), kSendFlags);
}
std::ptrdiff_t receive_bytes(int descriptor, std::span<std::byte> into) {
  return ::recv(descriptor, into.data(), into.size(), 0);
}

std::ptrdiff_t send_to(int descriptor, std::span<const std::byte> bytes, const Address& to) {
  return ::sendto(descriptor, bytes.data(), bytes.size(), kSendFlags, to.data(), to.length);
}
std::ptrdiff_t receive_from(int descriptor, std::span<std::byte> into, Address& from) {
  from.length = sizeof from.storage;
  return ::recvfrom(descriptor, into.data(), into.size(), 0, from.data(), &from.length);
}

std::size_t max_descriptors() {
  rlimit limit{};
  if (::getrlimit(RLIMIT_NOFILE, &limit) != 0 || limit.rlim_cur == RLIM_INFINITY) {
    return static_cast<std::size_t>(-1);
  }
  return static_cast<std::size_t>(limit.rlim_cur);
}

int accept_socket(int door, Address& peer) {
  peer.length = sizeof peer.storage;
  return prepared(::accept(door, peer.data(), &peer.length));
}

}  // namespace kwind::io
