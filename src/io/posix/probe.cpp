// A connected UDP socket hears ICMP errors of its peer: "connection refused" means that a machine
// is there and nobody listens, silence that something drops the datagrams.
#include "kwind/io/probe.h"

#include <array>
#include <cerrno>

#include "io/sockets.h"
#include "kwind/io/clock.h"

namespace kwind::io {
namespace {

// A descriptor that is closed with its scope.
class Socket {
 public:
  explicit Socket(int family) : fd_(open_socket(family, SOCK_DGRAM)) {}
  Socket(const Socket&) = delete;
  Socket& operator=(const Socket&) = delete;
  ~Socket() {
    if (fd_ >= 0) close_socket(fd_);
  }
  [[nodiscard]] int fd() const { return fd_; }

 private:
  int fd_;
};

// What an error of a connected socket says about the other end.
bool tells(int error, Probe& out) {
  switch (error) {
    case ECONNREFUSED: out.how = ProbeResult::nobody_listens; return true;
    case ENETUNREACH:
    case EHOSTUNREACH:
    case EACCES:
    case EPERM: out.how = ProbeResult::unreachable; return true;
    default: return false;
  }
}

}  // namespace

// The copies leave at doubling intervals, beginning with 250 ms; any answer ends the probe.
Result<Probe> probe(const Endpoint& server, std::span<const std::byte> datagram, unsigned copies) {
  // Only a connected socket hears what routers and the other machine say about its datagrams.
  const int family = server.is_v4() ? AF_INET : AF_INET6;
  const Socket socket(family);
  if (socket.fd() < 0) return fail(from_system_error(errno));
  Probe out;
  const Address to = to_system(server, family);
  if (::connect(socket.fd(), to.data(), to.length) != 0) {
    if (tells(errno, out)) return out;
    return fail(from_system_error(errno));
  }
  out.from = local_address(socket.fd(), out.from);
  // Which copy an answer is to cannot be told: the first left at this time.
  const Time first = now();
  Duration pause = std::chrono::milliseconds(250);
  for (unsigned i = 0; i < copies; ++i, pause *= 2) {
    const Time sent = now();
    ++out.copies;
    if (::send(socket.fd(), datagram.data(), datagram.size(), 0) < 0 && tells(errno, out)) {
      return out;
    }
    while (now() < sent + pause) {
      pollfd file{socket.fd(), POLLIN, 0};
      const auto left = std::chrono::ceil<std::chrono::milliseconds>(sent + pause - now()).count();
      if (::poll(&file, 1, static_cast<int>(left)) <= 0) continue;
      std::array<std::byte, 2048> answer{};
      const ssize_t got = ::recv(socket.fd(), answer.data(), answer.size(), 0);
      if (got < 0 && tells(errno, out)) return out;
      if (got <= 0) continue;
      out.how = ProbeResult::answered;
      out.round_trip = now() - first;
      out.answer.assign(answer.begin(), answer.begin() + got);
      return out;
    }
  }
  return out;
}

}  // namespace kwind::io
