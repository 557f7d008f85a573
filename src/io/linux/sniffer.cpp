// A packet socket (AF_PACKET) that sees the IP packets of all interfaces. Packets that the system
// shows twice, on loopback, bridges and VLANs, are given out once.
#include "kwind/io/sniffer.h"

#include <linux/if_packet.h>
#include <net/ethernet.h>
#include <net/if.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>

#include "io/linux/copy_filter.h"
#include "io/sockets.h"
#include "kwind/io/clock.h"

namespace kwind::io {

struct Sniffer::State {
  int fd = -1;
  unsigned loopback = 0;
  std::uint64_t missed = 0;
  std::array<std::byte, 65536> packet{};
  CopyFilter copies;

  State() = default;
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State() {
    if (fd >= 0) ::close(fd);
  }
};

Sniffer::Sniffer(std::unique_ptr<State> state) : state_(std::move(state)) {}
Sniffer::~Sniffer() = default;

// Needs CAP_NET_RAW. A large buffer: packets that do not fit are counted by the kernel.
Result<std::unique_ptr<Sniffer>> Sniffer::open() {
  auto state = std::make_unique<State>();
  state->fd = ::socket(AF_PACKET, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, htons(ETH_P_ALL));
  if (state->fd < 0) return fail(from_system_error(errno));
  const int bytes = 8 << 20;
  (void)::setsockopt(state->fd, SOL_SOCKET, SO_RCVBUF, &bytes, sizeof bytes);
  state->loopback = ::if_nametoindex("lo");
  return std::unique_ptr<Sniffer>(new Sniffer(std::move(state)));
}

// Passes over packets that are no IP, and copies; waits in poll() until `until`, a second at a
// time.
std::optional<std::span<const std::byte>> Sniffer::next(Time until) {
  State& state = *state_;
  for (;;) {
    sockaddr_ll from{};
    socklen_t size = sizeof from;
    const ssize_t got = ::recvfrom(state.fd, state.packet.data(), state.packet.size(), MSG_TRUNC,
                                   reinterpret_cast<sockaddr*>(&from), &size);
    if (got >= 0) {
      // On loopback each packet passes twice, on its way out and in.
      if (from.sll_pkttype == PACKET_OUTGOING &&
          static_cast<unsigned>(from.sll_ifindex) == state.loopback) {
        continue;
      }
      const std::uint16_t protocol = ntohs(from.sll_protocol);
      if (protocol != ETH_P_IP && protocol != ETH_P_IPV6) continue;
      const auto packet = std::span(state.packet)
                              .first(std::min(static_cast<std::size_t>(got), state.packet.size()));
      // A bridge or a VLAN repeats the packets of the interface below it.
      if (state.copies.is_copy(now(), static_cast<unsigned>(from.sll_ifindex), packet)) continue;
      return packet;
    }
    if (errno != EAGAIN && errno != EINTR) return std::nullopt;
    const Duration left = until - now();
    if (left <= Duration{0}) return std::nullopt;
    pollfd file{state.fd, POLLIN, 0};
    const auto ms = std::chrono::ceil<std::chrono::milliseconds>(left).count();
    (void)::poll(&file, 1, static_cast<int>(std::min<std::int64_t>(ms, 1000)));
  }
}

// The kernel's counter starts anew with each reading.
std::uint64_t Sniffer::missed() {
  tpacket_stats stats{};
  socklen_t size = sizeof stats;
  if (::getsockopt(state_->fd, SOL_PACKET, PACKET_STATISTICS, &stats, &size) == 0) {
    state_->missed += stats.tp_drops;
  }
  return state_->missed;
}

}  // namespace kwind::io
