// UDP with one system call for each datagram: what every system has. linux/udp_transport.cpp sends
// and receives many at once.
#include "kwind/io/udp_transport.h"

#include <algorithm>
#include <array>
#include <vector>

#include "io/sockets.h"
#include "kwind/core/assert.h"
#include "kwind/io/clock.h"

namespace kwind::io {
namespace {

constexpr std::size_t kSlotBytes = kMaxDatagramBytes;
constexpr std::size_t kMaxQueued = 64;  // then they are sent without a flush()
constexpr int kBufferBytes = 1 << 20;   // 64 KiB by default is 40 ms of 1000 busy clients

}  // namespace

struct UdpTransport::State {
  struct Queued {
    Address to;
    std::size_t size = 0;
    std::array<std::byte, kSlotBytes> bytes{};
  };
  int fd = -1;
  int family = AF_INET6;
  Endpoint local;
  TransportCounts counts;
  std::vector<Queued> out;
  // One byte more than a datagram may have: where the system cuts in silence, the length tells.
  std::array<std::byte, kSlotBytes + 1> in{};

  State() { out.reserve(kMaxQueued); }
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State() {
    if (fd >= 0) close_socket(fd);
  }
};

UdpTransport::UdpTransport(std::unique_ptr<State> state) : state_(std::move(state)) {}
UdpTransport::~UdpTransport() = default;

// As on Linux: one socket for both families, or one for IPv4.
Result<std::unique_ptr<UdpTransport>> UdpTransport::open(const Endpoint& local) {
  auto state = std::make_unique<State>();
  const bool any = local.ip == Endpoint::any(0).ip;
  // An IPv4 address reaches IPv4 alone, for which its own sockets are quicker.
  if (!local.is_v4()) state->fd = open_socket(AF_INET6, SOCK_DGRAM);
  if (local.is_v4() || (state->fd < 0 && is_family_unsupported(socket_error()) && any)) {
    state->family = AF_INET;
    state->fd = open_socket(AF_INET, SOCK_DGRAM);
  }
  if (state->fd < 0) return fail(from_system_error(socket_error()));
  if (state->family == AF_INET6) set_option(state->fd, IPPROTO_IPV6, IPV6_V6ONLY, 0);
  // Larger buffers are a wish: the system may cap them.
  set_option(state->fd, SOL_SOCKET, SO_RCVBUF, kBufferBytes);
  set_option(state->fd, SOL_SOCKET, SO_SNDBUF, kBufferBytes);
  forbid_fragments(state->fd, state->family);
  const Address address = to_system(local, state->family);
  if (::bind(state->fd, address.data(), address.length) != 0) {
    return fail(from_system_error(socket_error()));
  }
  state->local = local_address(state->fd, local);
  if (any) state->local.ip = local.ip;
  return std::unique_ptr<UdpTransport>(new UdpTransport(std::move(state)));
}

Endpoint UdpTransport::local() const {
  return state_->local;
}
const TransportCounts& UdpTransport::counts() const {
  return state_->counts;
}

// One system call a datagram.
std::optional<ReceivedDatagram> UdpTransport::receive(Time) {
  State& state = *state_;
  // Skips refusals, at most kMaxQueued of them. Unusable datagrams are returned empty: a flood of
  // them counts against the receiver's budget, and does not look like an empty socket.
  for (std::size_t i = 0; i < kMaxQueued; ++i) {
    Address from;
    const std::ptrdiff_t got = receive_from(state.fd, state.in, from);
    if (got < 0) {
      const int error = socket_error();
      if (is_refusal(error)) continue;
      if (!is_too_long(error)) return std::nullopt;
      ++state.counts.too_long;
      return ReceivedDatagram{from_system(from.storage), {}};
    }
    const auto size = static_cast<std::size_t>(got);
    ++state.counts.datagrams_received;
    state.counts.bytes_received += size;
    const Endpoint peer = from_system(from.storage);
    if (size > kSlotBytes) ++state.counts.too_long;
    if (size > kSlotBytes || peer.port == 0) return ReceivedDatagram{peer, {}};
    return ReceivedDatagram{peer, std::span<const std::byte>(state.in).first(size)};
  }
  return std::nullopt;
}

// Waits for flush(), or leaves when as many wait as may.
void UdpTransport::send(Time now, const Endpoint& to, std::span<const std::byte> bytes) {
  KWIND_ASSERT(bytes.size() <= kSlotBytes);
  if (state_->family == AF_INET && !to.is_v4()) {
    ++state_->counts.send_failures;
    return;
  }
  if (state_->out.size() == kMaxQueued) flush(now);
  State::Queued& queued = state_->out.emplace_back();
  to_system(to, state_->family, queued.to);
  queued.size = bytes.size();
  std::copy(bytes.begin(), bytes.end(), queued.bytes.begin());
}

// One call for each datagram. One that cannot go is lost, as any datagram may be.
void UdpTransport::flush(Time) {
  for (const State::Queued& each : state_->out) {
    const auto bytes = std::span<const std::byte>(each.bytes).first(each.size);
    if (send_to(state_->fd, bytes, each.to) <
        0) {  // a datagram may be lost, so it is, and the next is tried
      ++state_->counts.send_failures;
      continue;
    }
    ++state_->counts.datagrams_sent;
    state_->counts.bytes_sent += each.size;
  }
  state_->out.clear();
}

// Each datagram takes a system call: none is there without one.
bool UdpTransport::holds_some() const {
  return false;
}
void UdpTransport::add_waits(std::vector<Waiting>& out) const {
  out.push_back({state_->fd, false});
}

}  // namespace kwind::io
