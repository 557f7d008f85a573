// UDP with many datagrams in one system call (recvmmsg, sendmmsg), and with segmentation offload
// for several to one peer.
//
// A batch of 64 datagrams costs one system call. Segmentation offload (UDP_SEGMENT) hands several
// datagrams of equal size to the kernel in one buffer.
#include "kwind/io/udp_transport.h"

#include <netinet/udp.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <unordered_map>
#include <vector>

#include "io/sockets.h"
#include "kwind/core/assert.h"
#include "kwind/io/clock.h"

namespace kwind::io {
namespace {

constexpr std::size_t kBatch = 64;
constexpr std::size_t kSlotBytes = kMaxDatagramBytes;
constexpr std::size_t kMaxSegmentedBytes = 64000;  // below what one IP packet could hold
constexpr int kBufferBytes = 1 << 20;  // 64 KiB by default is 40 ms of 1000 busy clients

}  // namespace

struct UdpTransport::State {
  int fd = -1;
  int family = AF_INET6;
  bool segments = true;  // the system takes several datagrams to one peer in one piece
  // Peers for which it did not, until when they are spared another try.
  std::unordered_map<Endpoint, Time> unsegmented;
  static constexpr std::size_t kMaxUnsegmented = 4096;
  static constexpr Duration kUnsegmentedFor = std::chrono::minutes(1);
  Endpoint local;
  TransportCounts counts;

  // Both batches keep fixed slots; the headers point into them for good.
  struct Batch {
    std::vector<std::byte> memory = std::vector<std::byte>(kBatch * kSlotBytes);
    std::array<mmsghdr, kBatch> headers{};
    std::array<iovec, kBatch> pieces{};
    std::array<Address, kBatch> addresses{};
    std::size_t count = 0;
    std::size_t next = 0;
  };
  Batch in;
  Batch out;
  alignas(cmsghdr) std::array<std::array<char, 64>, kBatch> control{};
  std::uint32_t overruns_seen = 0;

  // Each header of a batch points to its own piece of memory and its own address, once and for all.
  State() {
    // Done once: a batch then needs only lengths and addresses.
    for (Batch* batch : {&in, &out}) {
      for (std::size_t i = 0; i < kBatch; ++i) {
        batch->pieces[i] = {batch->memory.data() + i * kSlotBytes, kSlotBytes};
        batch->headers[i].msg_hdr.msg_iov = &batch->pieces[i];
        batch->headers[i].msg_hdr.msg_iovlen = 1;
        batch->headers[i].msg_hdr.msg_name = &batch->addresses[i].storage;
      }
    }
  }
  std::size_t run_length(Time now, std::size_t first);
  bool send_run(Time now, std::size_t first, std::size_t count);
  void send_singly(std::size_t first, std::size_t count);
  void note_sent(std::size_t first, std::size_t count);

  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State() {
    if (fd >= 0) ::close(fd);
  }

  // One call takes up to 64 datagrams. A refusal of an earlier datagram (ECONNREFUSED, by ICMP) is
  // no error of this call, and is passed over.
  void fill_in() {
    // The kernel overwrites these lengths, so they are set before each call.
    for (std::size_t i = 0; i < kBatch; ++i) {
      in.headers[i].msg_hdr.msg_namelen = sizeof(sockaddr_storage);
      in.headers[i].msg_hdr.msg_control = control[i].data();
      in.headers[i].msg_hdr.msg_controllen = control[i].size();
    }
    int got = -1;
    // Repeats after a signal, and after an ICMP error of an earlier datagram.
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
      // The counter wraps at 32 bits; unsigned subtraction gives the difference all the same.
      overruns_seen = total;
    }
  }
};

UdpTransport::UdpTransport(std::unique_ptr<State> state) : state_(std::move(state)) {}
UdpTransport::~UdpTransport() = default;

// Dual stack: one IPv6 socket takes IPv4 as mapped addresses. Where the system has no IPv6, an IPv4
// socket stands in for "any address".
Result<std::unique_ptr<UdpTransport>> UdpTransport::open(const Endpoint& local) {
  auto state = std::make_unique<State>();
  const bool any = local.ip == Endpoint::any(0).ip;
  // An IPv4 address reaches IPv4 alone, for which its own sockets are quicker.
  if (!local.is_v4()) {
    state->fd = ::socket(AF_INET6, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
  }
  if (local.is_v4() || (state->fd < 0 && errno == EAFNOSUPPORT && any)) {
    state->family = AF_INET;
    state->fd = ::socket(AF_INET, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
  }
  if (state->fd < 0) return fail(from_system_error(errno));
  const auto set = [&](int level, int name, int value) {
    (void)::setsockopt(state->fd, level, name, &value, sizeof value);
  };
  if (state->family == AF_INET6) set(IPPROTO_IPV6, IPV6_V6ONLY, 0);
  // Larger buffers are a wish: the system may cap them, and drops are counted.
  set(SOL_SOCKET, SO_RCVBUF, kBufferBytes);
  set(SOL_SOCKET, SO_SNDBUF, kBufferBytes);
  set(SOL_SOCKET, SO_RXQ_OVFL, 1);
  forbid_fragments(state->fd, state->family);
  Address address = to_system(local, state->family);
  if (::bind(state->fd, reinterpret_cast<sockaddr*>(&address.storage), address.length) != 0) {
    return fail(from_system_error(errno));
  }
  address.length = sizeof address.storage;
  if (::getsockname(state->fd, reinterpret_cast<sockaddr*>(&address.storage), &address.length) !=
      0) {
    return fail(from_system_error(errno));
  }
  state->local = from_system(address.storage);
  if (any) state->local.ip = local.ip;
  return std::unique_ptr<UdpTransport>(new UdpTransport(std::move(state)));
}

Endpoint UdpTransport::local() const {
  return state_->local;
}
const TransportCounts& UdpTransport::counts() const {
  return state_->counts;
}

// Hands out the batch one by one, and reads the next batch when it is used up.
std::optional<ReceivedDatagram> UdpTransport::receive(Time) {
  State::Batch& in = state_->in;
  if (in.next == in.count) state_->fill_in();
  if (in.next == in.count) return std::nullopt;
  const std::size_t i = in.next++;
  const std::size_t size = in.headers[i].msg_len;
  ++state_->counts.datagrams_received;
  state_->counts.bytes_received += size;
  const Endpoint from = from_system(in.addresses[i].storage);
  const bool too_long = (in.headers[i].msg_hdr.msg_flags & MSG_TRUNC) != 0;
  if (too_long) ++state_->counts.too_long;
  // The system refuses a whole batch that holds an answer to port 0. Unusable datagrams are
  // returned empty: a flood of them counts against the receiver's budget, and does not look like an
  // empty socket.
  if (too_long || from.port == 0) return ReceivedDatagram{from, {}};
  return ReceivedDatagram{from, std::span(in.memory).subspan(i * kSlotBytes, size)};
}

// The datagram is copied into the batch; a full batch is flushed first.
void UdpTransport::send(Time now, const Endpoint& to, std::span<const std::byte> bytes) {
  KWIND_ASSERT(bytes.size() <= kSlotBytes);
  if (state_->family == AF_INET && !to.is_v4()) {
    ++state_->counts.send_failures;
    return;
  }
  State::Batch& out = state_->out;
  if (out.count == kBatch) flush(now);
  const std::size_t i = out.count++;
  std::copy(bytes.begin(), bytes.end(),
            out.memory.begin() + static_cast<std::ptrdiff_t>(i * kSlotBytes));
  out.pieces[i].iov_len = bytes.size();
  to_system(to, state_->family, out.addresses[i]);
  out.headers[i].msg_hdr.msg_namelen = out.addresses[i].length;
}

// Datagrams that follow each other to one peer, all of one size but the last, which may be shorter:
// one call of the system cuts them apart (UDP segmentation offload).
std::size_t UdpTransport::State::run_length(Time now, std::size_t first) {
  if (!segments) return 1;
  if (!unsegmented.empty()) {
    const auto found = unsegmented.find(from_system(out.addresses[first].storage));
    if (found != unsegmented.end() && now < found->second) return 1;
    if (found != unsegmented.end()) unsegmented.erase(found);
  }
  const std::size_t size = out.pieces[first].iov_len;
  std::size_t bytes = size;
  std::size_t count = 1;
  while (first + count < out.count && out.pieces[first + count - 1].iov_len == size &&
         out.pieces[first + count].iov_len <= size && out.pieces[first + count].iov_len > 0 &&
         bytes + out.pieces[first + count].iov_len <= kMaxSegmentedBytes &&
         std::memcmp(&out.addresses[first].storage, &out.addresses[first + count].storage,
                     out.addresses[first].length) == 0) {
    bytes += out.pieces[first + count].iov_len;
    ++count;
  }
  return count;
}

// Counted when the system has taken the datagrams, not when they were queued.
void UdpTransport::State::note_sent(std::size_t first, std::size_t count) {
  for (std::size_t i = first; i < first + count; ++i) {
    ++counts.datagrams_sent;
    counts.bytes_sent += out.pieces[i].iov_len;
  }
}

// One sendmsg() with UDP_SEGMENT: the kernel cuts the bytes into datagrams of the first one's size.
bool UdpTransport::State::send_run(Time now, std::size_t first, std::size_t count) {
  alignas(cmsghdr) std::array<char, CMSG_SPACE(sizeof(std::uint16_t))> space{};
  msghdr header = out.headers[first].msg_hdr;
  header.msg_iov = &out.pieces[first];
  header.msg_iovlen = count;
  header.msg_control = space.data();
  header.msg_controllen = space.size();
  cmsghdr* const size_control = CMSG_FIRSTHDR(&header);
  size_control->cmsg_level = SOL_UDP;
  size_control->cmsg_type = UDP_SEGMENT;
  size_control->cmsg_len = CMSG_LEN(sizeof(std::uint16_t));
  const auto size = static_cast<std::uint16_t>(out.pieces[first].iov_len);
  std::memcpy(CMSG_DATA(size_control), &size, sizeof size);
  ssize_t sent = -1;
  do {
    sent = ::sendmsg(fd, &header, MSG_DONTWAIT);
  } while (sent < 0 && errno == EINTR);
  if (sent >= 0) {
    note_sent(first, count);
    counts.segmented += count;
    return true;
  }
  // A system or an interface without it: from now on one by one.
  if (errno == EIO || errno == ENOPROTOOPT) segments = false;
  // A path to that peer that is narrower than it knows: for a minute, and for that peer alone.
  if (errno == EINVAL || errno == EMSGSIZE) {
    if (unsegmented.size() >= kMaxUnsegmented) unsegmented.clear();
    unsegmented[from_system(out.addresses[first].storage)] = now + kUnsegmentedFor;
  }
  return false;
}

// One sendmmsg() takes many datagrams; it stops before the first that cannot go, which is counted.
void UdpTransport::State::send_singly(std::size_t first, std::size_t count) {
  for (std::size_t done = first; done < first + count;) {
    const int sent = ::sendmmsg(fd, out.headers.data() + done,
                                static_cast<unsigned>(first + count - done), MSG_DONTWAIT);
    if (sent < 0 && errno == EINTR) continue;
    if (sent <= 0) {  // this one cannot go; a datagram may be lost, so it is, and the next is tried
      ++counts.send_failures;
      ++done;
      continue;
    }
    note_sent(done, static_cast<std::size_t>(sent));
    done += static_cast<std::size_t>(sent);
  }
}

// Walks the batch in order: runs to one peer go in one piece, all between them in one call.
void UdpTransport::flush(Time now) {
  State& state = *state_;
  std::size_t single_from = 0;
  for (std::size_t i = 0; i < state.out.count;) {
    const std::size_t run = state.run_length(now, i);
    if (run > 1) {
      state.send_singly(single_from, i - single_from);
      if (!state.send_run(now, i, run)) state.send_singly(i, run);
      single_from = i + run;
    }
    i += run;
  }
  state.send_singly(single_from, state.out.count - single_from);
  state.out.count = 0;
}

// A datagram of the present batch is there without a system call.
bool UdpTransport::holds_some() const {
  return state_->in.next < state_->in.count;
}
void UdpTransport::add_waits(std::vector<Waiting>& out) const {
  out.push_back({state_->fd, false});
}

}  // namespace kwind::io
