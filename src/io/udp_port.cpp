#include "kwind/io/udp_port.h"

#include <arpa/inet.h>
#include <netdb.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <vector>

#include "kwind/bits/assert.h"
#include "kwind/io/clock.h"

namespace kwind::io {
namespace {

constexpr std::size_t kBatch = 64;
constexpr std::size_t kSlotBytes = 2048;  // more than any datagram of ours; longer ones are cut
constexpr int kBufferBytes = 1 << 20;     // 64 KiB by default is 40 ms of 1000 busy clients

sockaddr_in to_system(const Endpoint& endpoint) {
  sockaddr_in out{};
  out.sin_family = AF_INET;
  out.sin_port = htons(endpoint.port);
  std::memcpy(&out.sin_addr, endpoint.ip.data() + 12, 4);
  return out;
}

Endpoint from_system(const sockaddr_in& in) {
  std::array<std::uint8_t, 4> ip{};
  std::memcpy(ip.data(), &in.sin_addr, 4);
  return Endpoint::v4(ip[0], ip[1], ip[2], ip[3], ntohs(in.sin_port));
}

Errc from_errno(int error) {
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

}  // namespace

struct UdpPort::State {
  int fd = -1;
  Endpoint local;
  PortCounts counts;

  // Both batches keep fixed slots; the headers point into them for good.
  struct Batch {
    std::vector<std::byte> memory = std::vector<std::byte>(kBatch * kSlotBytes);
    std::array<mmsghdr, kBatch> headers{};
    std::array<iovec, kBatch> pieces{};
    std::array<sockaddr_in, kBatch> addresses{};
    std::size_t count = 0;
    std::size_t next = 0;
  };
  Batch in;
  Batch out;
  alignas(cmsghdr) std::array<std::array<char, 64>, kBatch> control{};
  std::uint32_t overruns_seen = 0;

  State() {
    for (Batch* batch : {&in, &out}) {
      for (std::size_t i = 0; i < kBatch; ++i) {
        batch->pieces[i] = {batch->memory.data() + i * kSlotBytes, kSlotBytes};
        batch->headers[i].msg_hdr.msg_iov = &batch->pieces[i];
        batch->headers[i].msg_hdr.msg_iovlen = 1;
        batch->headers[i].msg_hdr.msg_name = &batch->addresses[i];
        batch->headers[i].msg_hdr.msg_namelen = sizeof(sockaddr_in);
      }
    }
  }
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State() {
    if (fd >= 0) ::close(fd);
  }

  void fill_in() {
    for (std::size_t i = 0; i < kBatch; ++i) {
      in.headers[i].msg_hdr.msg_namelen = sizeof(sockaddr_in);
      in.headers[i].msg_hdr.msg_control = control[i].data();
      in.headers[i].msg_hdr.msg_controllen = control[i].size();
    }
    int got = -1;
    do {
      got = ::recvmmsg(fd, in.headers.data(), kBatch, MSG_DONTWAIT, nullptr);
    } while (got < 0 && (errno == EINTR || errno == ECONNREFUSED));
    in.count = got > 0 ? static_cast<std::size_t>(got) : 0;
    in.next = 0;
    for (std::size_t i = 0; i < in.count; ++i) note_overruns(in.headers[i].msg_hdr);
  }

  // SO_RXQ_OVFL: the kernel's running count of datagrams it dropped for lack of buffer.
  void note_overruns(msghdr& header) {
    for (cmsghdr* c = CMSG_FIRSTHDR(&header); c != nullptr; c = CMSG_NXTHDR(&header, c)) {
      if (c->cmsg_level != SOL_SOCKET || c->cmsg_type != SO_RXQ_OVFL) continue;
      std::uint32_t total = 0;
      std::memcpy(&total, CMSG_DATA(c), sizeof total);
      counts.receive_overruns += total - overruns_seen;
      overruns_seen = total;
    }
  }
};

UdpPort::UdpPort(std::unique_ptr<State> state) : state_(std::move(state)) {}
UdpPort::~UdpPort() = default;

Result<std::unique_ptr<UdpPort>> UdpPort::open(const Endpoint& local) {
  if (!local.is_v4()) return fail(Errc::bad_address);
  auto state = std::make_unique<State>();
  state->fd = ::socket(AF_INET, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
  if (state->fd < 0) return fail(from_errno(errno));
  const int on = 1;
  // Larger buffers are a wish: the system may cap them, and drops are counted.
  (void)::setsockopt(state->fd, SOL_SOCKET, SO_RCVBUF, &kBufferBytes, sizeof kBufferBytes);
  (void)::setsockopt(state->fd, SOL_SOCKET, SO_SNDBUF, &kBufferBytes, sizeof kBufferBytes);
  (void)::setsockopt(state->fd, SOL_SOCKET, SO_RXQ_OVFL, &on, sizeof on);
  sockaddr_in address = to_system(local);
  if (::bind(state->fd, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0) {
    return fail(from_errno(errno));
  }
  socklen_t length = sizeof address;
  if (::getsockname(state->fd, reinterpret_cast<sockaddr*>(&address), &length) != 0) {
    return fail(from_errno(errno));
  }
  state->local = from_system(address);
  return std::unique_ptr<UdpPort>(new UdpPort(std::move(state)));
}

Endpoint UdpPort::local() const {
  return state_->local;
}
const PortCounts& UdpPort::counts() const {
  return state_->counts;
}

std::optional<Received> UdpPort::receive(Time) {
  State::Batch& in = state_->in;
  if (in.next == in.count) state_->fill_in();
  if (in.next == in.count) return std::nullopt;
  const std::size_t i = in.next++;
  const std::size_t size = in.headers[i].msg_len;
  ++state_->counts.datagrams_received;
  state_->counts.bytes_received += size;
  return Received{from_system(in.addresses[i]), std::span(in.memory).subspan(i * kSlotBytes, size)};
}

void UdpPort::send(Time now, const Endpoint& to, std::span<const std::byte> bytes) {
  KWIND_ASSERT(bytes.size() <= kSlotBytes && to.is_v4());
  State::Batch& out = state_->out;
  if (out.count == kBatch) flush(now);
  const std::size_t i = out.count++;
  std::copy(bytes.begin(), bytes.end(),
            out.memory.begin() + static_cast<std::ptrdiff_t>(i * kSlotBytes));
  out.pieces[i].iov_len = bytes.size();
  out.addresses[i] = to_system(to);
}

void UdpPort::flush(Time) {
  State::Batch& out = state_->out;
  std::size_t done = 0;
  while (done < out.count) {
    const int sent = ::sendmmsg(state_->fd, out.headers.data() + done,
                                static_cast<unsigned>(out.count - done), MSG_DONTWAIT);
    if (sent < 0 && errno == EINTR) continue;
    if (sent <= 0) {  // this one cannot go; a datagram may be lost, so it is, and the next is tried
      ++state_->counts.send_failures;
      ++done;
      continue;
    }
    for (int i = 0; i < sent; ++i) {
      ++state_->counts.datagrams_sent;
      state_->counts.bytes_sent += out.pieces[done + static_cast<std::size_t>(i)].iov_len;
    }
    done += static_cast<std::size_t>(sent);
  }
  out.count = 0;
}

void UdpPort::wait(Time until) {
  if (state_->in.next < state_->in.count) return;
  const Duration left = until - now();
  if (left <= Duration{0}) return;
  const auto seconds =
      std::chrono::floor<std::chrono::seconds>(std::min<Duration>(left, std::chrono::seconds(1)));
  const Duration rest = std::min<Duration>(left, std::chrono::seconds(1)) - seconds;
  const timespec timeout{static_cast<time_t>(seconds.count()), static_cast<long>(rest.count())};
  pollfd waiting{state_->fd, POLLIN, 0};
  (void)::ppoll(&waiting, 1, &timeout, nullptr);
}

Result<Endpoint> resolve(std::string_view host_and_port) {
  if (const auto plain = Endpoint::parse(host_and_port)) return *plain;
  const std::size_t colon = host_and_port.rfind(':');
  if (colon == std::string_view::npos || colon == 0) return fail(Errc::bad_address);
  const std::string_view port_text = host_and_port.substr(colon + 1);
  std::uint16_t port = 0;
  const auto [end, error] =
      std::from_chars(port_text.data(), port_text.data() + port_text.size(), port);
  if (error != std::errc{} || end != port_text.data() + port_text.size()) {
    return fail(Errc::bad_address);
  }
  addrinfo hints{};
  hints.ai_family = AF_INET;
  hints.ai_socktype = SOCK_DGRAM;
  addrinfo* found = nullptr;
  const std::string host(host_and_port.substr(0, colon));
  if (::getaddrinfo(host.c_str(), nullptr, &hints, &found) != 0 || found == nullptr) {
    return fail(Errc::bad_address);
  }
  sockaddr_in address{};
  std::memcpy(&address, found->ai_addr, sizeof address);
  ::freeaddrinfo(found);
  Endpoint endpoint = from_system(address);
  endpoint.port = port;
  return endpoint;
}

}  // namespace kwind::io
