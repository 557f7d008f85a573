// Winsock 2.2.
#include "io/sockets.h"

#include <mstcpip.h>

#include <algorithm>
#include <climits>

namespace kwind::io {
namespace {

// Winsock handles are unsigned and wider; their significant bits fit an int.
SOCKET handle(int descriptor) {
  return static_cast<SOCKET>(static_cast<unsigned>(descriptor));
}

// Makes a socket non-blocking, or closes it. Keeps the error of the failed call.
int prepared(SOCKET socket) {
  if (socket == INVALID_SOCKET) return -1;
  u_long on = 1;
  if (::ioctlsocket(socket, FIONBIO, &on) == 0 && socket <= static_cast<SOCKET>(INT_MAX)) {
    return static_cast<int>(socket);
  }
  const int error = ::WSAGetLastError();
  ::closesocket(socket);
  ::WSASetLastError(error);
  return -1;
}

}  // namespace

// Never ended: sockets may be used until the process ends.
bool start_sockets() {
  static const bool started = [] {
    WSADATA data{};
    return ::WSAStartup(MAKEWORD(2, 2), &data) == 0;
  }();
  return started;
}

int open_socket(int family, int type) {
  if (!start_sockets()) return -1;
  const int descriptor = prepared(::socket(family, type, 0));
  if (descriptor >= 0 && type == SOCK_DGRAM) {
    // Otherwise a refusal of an earlier datagram makes later receiving fail.
    BOOL off = FALSE;
    DWORD bytes = 0;
    (void)::WSAIoctl(handle(descriptor), _WSAIOW(IOC_VENDOR, 12), &off, sizeof off, nullptr, 0,
                     &bytes, nullptr, nullptr);
    // Otherwise another program may take the port, and what arrives there, by SO_REUSEADDR.
    set_option(descriptor, SOL_SOCKET, SO_EXCLUSIVEADDRUSE, 1);
  }
  return descriptor;
}
// Each call below has the meaning that sockets.h states.
void close_socket(int descriptor) {
  ::closesocket(handle(descriptor));
}
int socket_error() {
  return ::WSAGetLastError();
}

// Interrupted or not ready.
bool is_temporary(int error) {
  return error == WSAEWOULDBLOCK || error == WSAEINTR;
}
bool may_pass(int error) {
  return is_temporary(error) || is_exhaustion(error);
}
// A refusal of an earlier datagram, reported by a later call.
bool is_refusal(int error) {
  return error == WSAECONNRESET || error == WSAENETRESET || error == WSAECONNREFUSED;
}
// The system has no memory or no sockets left.
bool is_exhaustion(int error) {
  return error == WSAEMFILE || error == WSAENOBUFS;
}
// The peer gave up before the stream was accepted.
bool is_abandoned(int error) {
  return error == WSAEINTR || error == WSAECONNABORTED || error == WSAECONNRESET;
}
// A non-blocking connect has begun.
bool is_in_progress(int error) {
  return error == WSAEWOULDBLOCK || error == WSAEINPROGRESS || error == WSAENOTCONN;
}
bool is_family_unsupported(int error) {
  return error == WSAEAFNOSUPPORT;
}
bool is_too_long(int error) {
  return error == WSAEMSGSIZE;
}

// Errors that a user can do something about have codes of their own.
Errc from_system_error(int error) {
  switch (error) {
    case WSAEADDRINUSE: return Errc::address_in_use;
    case WSAEADDRNOTAVAIL:
    case WSAEAFNOSUPPORT:
    case WSAEINVAL: return Errc::bad_address;
    case WSAEACCES: return Errc::no_permission;
    default: return Errc::socket_failure;
  }
}

// Options are ints on Windows as elsewhere, behind a pointer to char.
bool set_option(int descriptor, int level, int name, int value) {
  return ::setsockopt(handle(descriptor), level, name, reinterpret_cast<const char*>(&value),
                      sizeof value) == 0;
}

// The don't-fragment bit, by family: path MTU discovery needs datagrams that are dropped, not cut.
void forbid_fragments(int descriptor, int family) {
  if (family == AF_INET) set_option(descriptor, IPPROTO_IP, IP_DONTFRAGMENT, 1);
  if (family == AF_INET6) set_option(descriptor, IPPROTO_IPV6, IPV6_DONTFRAG, 1);
}

// Winsock takes lengths as int.
std::ptrdiff_t send_bytes(int descriptor, std::span<const std::byte> bytes) {
  return ::send(handle(descriptor), reinterpret_cast<const char*>(bytes.data()),
                static_cast<int>(std::min<std::size_t>(bytes.size(), INT_MAX)), 0);
}
std::ptrdiff_t receive_bytes(int descriptor, std::span<std::byte> into) {
  return ::recv(handle(descriptor), reinterpret_cast<char*>(into.data()),
                static_cast<int>(std::min<std::size_t>(into.size(), INT_MAX)), 0);
}

// Datagrams are short: their lengths fit an int.
std::ptrdiff_t send_to(int descriptor, std::span<const std::byte> bytes, const Address& to) {
  return ::sendto(handle(descriptor), reinterpret_cast<const char*>(bytes.data()),
                  static_cast<int>(bytes.size()), 0, to.data(), to.length);
}
std::ptrdiff_t receive_from(int descriptor, std::span<std::byte> into, Address& from) {
  from.length = sizeof from.storage;
  return ::recvfrom(handle(descriptor), reinterpret_cast<char*>(into.data()),
                    static_cast<int>(into.size()), 0, from.data(), &from.length);
}

// Windows has no limit for each process.
std::size_t max_descriptors() {
  return static_cast<std::size_t>(-1);
}

// The accepted socket inherits nothing: it is made non-blocking here.
int accept_socket(int door, Address& peer) {
  peer.length = sizeof peer.storage;
  return prepared(::accept(handle(door), peer.data(), &peer.length));
}

// Rounded up, so that a wait never ends before its time and spins.
int poll_sockets(std::span<pollfd> files, Duration longest) {
  const auto milliseconds = std::chrono::ceil<std::chrono::milliseconds>(longest).count();
  // WSAPoll refuses an empty list.
  if (files.empty()) {
    ::Sleep(static_cast<DWORD>(milliseconds));
    return 0;
  }
  return ::WSAPoll(files.data(), static_cast<ULONG>(files.size()), static_cast<INT>(milliseconds));
}

}  // namespace kwind::io
