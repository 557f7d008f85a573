// Datagrams over TCP streams, each behind its length. What a peer does not read waits here up to a
// limit, then its stream ends.
//
// Streams take turns: each is read once and hands out kTurn datagrams, then it is the next one's. A
// stream of the smallest datagrams would otherwise take thousands of turns of the others.
//
// Invariant 1: while a datagram is handed out its stream is not freed. Only receive(), flush() and
//   the destructor free streams.
#include "kwind/io/tcp_transport.h"

#include <algorithm>
#include <array>
#include <deque>
#include <unordered_map>
#include <utility>

#include "io/poller.h"
#include "io/sockets.h"
#include "kwind/core/assert.h"
#include "kwind/io/clock.h"
#include "kwind/io/stream_deframer.h"

namespace kwind::io {
namespace {

constexpr std::size_t kReadBytes = 16384;
constexpr std::size_t kTurn = 16;       // datagrams that a stream hands out in a row
constexpr std::size_t kLookEvery = 64;  // datagrams, so that nobody waits for a long queue
// Thousands of streams that come, or are too slow, at once took more than 10 ms in one look.
constexpr std::size_t kAcceptsPerLook = 64;
constexpr std::size_t kEndsPerLook = 64;
constexpr Duration kSweepEvery = std::chrono::seconds(1);
constexpr Duration kPause = std::chrono::seconds(1);  // of accepting

// Half of the descriptors that the process may have: files, pipes and other sockets take theirs.
std::size_t permitted_streams(std::size_t wanted) {
  return std::clamp<std::size_t>(max_descriptors() / 2, 1, wanted);
}

}  // namespace

struct TcpTransport::State {
  struct Stream {
    int fd = -1;
    Endpoint peer;
    StreamDeframer deframer;
    std::vector<std::byte> unsent{};
    std::size_t sent = 0;  // of unsent
    Time since{};
    bool kept = false;        // it belongs to a connection
    bool ending = false;      // at the next flush
    bool broken = false;      // likewise, and takes nothing any more
    bool listed = false;      // in `readable`
    bool wants_room = false;  // the system is asked to tell when it takes more
    bool dirty = false;       // in `to_flush`
  };

  TcpLimits limits;
  Poller poller;
  int door = -1;
  Endpoint local;
  TransportCounts counts;
  TcpCounts tcp;
  std::unordered_map<Endpoint, std::unique_ptr<Stream>> streams;
  std::unordered_map<Endpoint, std::size_t> per_address;
  std::vector<Endpoint> ended;
  std::vector<Endpoint> to_flush;
  std::deque<Endpoint> readable;  // streams that the system, or their deframer, has bytes of
  std::vector<Endpoint> to_end;
  std::vector<Endpoint> late;       // strangers whose time is over, to be ended some at a time
  std::size_t strangers = 0;        // streams that are not kept
  std::optional<Time> door_opens;   // it is shut: the system is out of descriptors
  std::optional<Endpoint> cutting;  // the stream whose datagrams are being handed out
  std::size_t handed_out = 0;       // in its turn
  std::size_t since_look = 0;       // datagrams handed out
  Time next_sweep{};

  explicit State(const TcpLimits& wanted) : limits(wanted) {
    limits.streams = permitted_streams(limits.streams);
  }
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State() {
    for (const auto& [peer, stream] : streams) close_socket(stream->fd);
    if (door >= 0) close_socket(door);
  }

  // nullptr if no stream to that address is open.
  Stream* find(const Endpoint& peer) {
    const auto found = streams.find(peer);
    return found == streams.end() ? nullptr : found->second.get();
  }

  // The poller reports descriptors, the transport is asked for addresses: by_fd leads from one to
  // the other.
  void add(int fd, const Endpoint& peer, Time now) {
    // Small datagrams must not wait for the acks of those before them.
    set_option(fd, IPPROTO_TCP, TCP_NODELAY, 1);
    auto stream = std::make_unique<Stream>(Stream{fd, peer, StreamDeframer(limits.datagram_bytes)});
    stream->since = now;
    ++strangers;
    by_fd[fd] = peer;
    poller.add(fd);
    ++per_address[peer.network()];
    streams[peer] = std::move(stream);
  }

  // The address goes to `ended`, from where the host learns that the connection is over.
  void end(Endpoint peer) {  // by value: it may be the stream's own
    const auto found = streams.find(peer);
    if (found == streams.end()) return;
    if (!found->second->kept) --strangers;
    by_fd.erase(found->second->fd);
    poller.remove(found->second->fd);
    close_socket(found->second->fd);
    streams.erase(found);
    const auto address = per_address.find(peer.network());
    if (--address->second == 0) per_address.erase(address);
    ended.push_back(peer);
  }

  // Takes some of the streams that wait, or turns them away by a limit: of all streams, of those
  // that no connection keeps, of one address. The listening socket stays readable while more wait,
  // so the next look goes on with them.
  void accept_some(Time now) {
    for (std::size_t i = 0; i < kAcceptsPerLook; ++i) {
      Address address;
      const int fd = accept_socket(door, address);
      const int error = fd < 0 ? socket_error() : 0;
      if (fd < 0 && is_abandoned(error)) continue;
      if (fd < 0) {
        // The door stays readable: without a pause the loop would spin for as long as this lasts.
        if (is_exhaustion(error)) {
          poller.change(door, false, false);
          door_opens = now + kPause;
          ++tcp.pauses;
        }
        return;
      }
      const Endpoint peer = from_system(address.storage);
      end(peer);  // it broke a stream and came back before that was noticed
      const auto others = per_address.find(peer.network());
      if (streams.size() >= limits.streams || strangers >= (limits.streams + 1) / 2 ||
          (others != per_address.end() && others->second >= limits.streams_per_address)) {
        ++tcp.turned_away;
        close_socket(fd);
        continue;
      }
      ++tcp.accepted;
      add(fd, peer, now);
    }
  }

  // Asks the system what there is.
  void look(Time now) {
    if (now >= next_sweep) note_late(now);
    end_late(now);
    for (const Poller::Event& event : poller.look()) {
      if (event.descriptor == door) {
        accept_some(now);
        continue;
      }
      const auto peer = by_fd.find(event.descriptor);
      if (peer == by_fd.end()) continue;
      Stream& stream = *streams.at(peer->second);
      if (event.writable && !push(stream)) continue;
      if (event.readable) list(stream);
    }
  }

  // Streams with something to read, in the order of their turns. A stream is listed once.
  void list(Stream& stream) {
    if (std::exchange(stream.listed, true)) return;
    readable.push_back(stream.peer);
  }

  // The next datagram of the stream whose turn it is; nothing when its turn is over.
  std::optional<ReceivedDatagram> next_of_turn() {
    Stream* const stream = find(*cutting);
    if (stream == nullptr || stream->ending) return std::nullopt;
    if (handed_out == kTurn) {
      list(*stream);
      return std::nullopt;
    }
    if (const auto datagram = stream->deframer.next()) {
      ++handed_out;
      ++since_look;
      ++counts.datagrams_received;
      counts.bytes_received += datagram->size();
      return ReceivedDatagram{stream->peer, *datagram};
    }
    if (stream->deframer.error() != Errc::none) {
      ++tcp.bad_streams;
      end(stream->peer);
    }
    return std::nullopt;
  }
  // Gives the turn to the first stream that waits for one.
  void begin_turn() {
    const Endpoint peer = readable.front();
    readable.pop_front();
    Stream* const stream = find(peer);
    if (stream == nullptr || stream->ending) return;
    stream->listed = false;
    handed_out = 0;
    // Buffered datagrams go out before more is read.
    if (stream->deframer.has_next() || read(*stream)) cutting = peer;
  }

  // Reads what the system has of a stream. False if it ended.
  bool read(Stream& stream) {
    std::array<std::byte, kReadBytes> bytes;  // NOLINT: recv fills it
    const std::ptrdiff_t got = receive_bytes(stream.fd, bytes);
    if (got < 0 && may_pass(socket_error())) return true;
    if (got <= 0) {
      end(stream.peer);
      return false;
    }
    stream.deframer.take(std::span(bytes).first(static_cast<std::size_t>(got)));
    return true;
  }

  // Hands to the system what it takes. False if the stream ended.
  bool push(Stream& stream) {
    while (stream.sent < stream.unsent.size()) {
      const std::ptrdiff_t put =
          send_bytes(stream.fd, std::span<const std::byte>(stream.unsent).subspan(stream.sent));
      // What was interrupted goes with the next look at the stream.
      const int error = put < 0 ? socket_error() : 0;
      if (put < 0 && (may_pass(error) || is_in_progress(error))) break;
      if (put <= 0) {
        end(stream.peer);
        return false;
      }
      stream.sent += static_cast<std::size_t>(put);
    }
    stream.unsent.erase(stream.unsent.begin(),
                        stream.unsent.begin() + static_cast<std::ptrdiff_t>(stream.sent));
    stream.sent = 0;
    const bool wants_room = !stream.unsent.empty();
    if (wants_room != stream.wants_room) {
      stream.wants_room = wants_room;
      poller.change(stream.fd, true, wants_room);
    }
    return true;
  }

  // Notes the streams that no connection has kept within the handshake's time. Those noted before
  // are among them, if they are still there.
  void note_late(Time now) {
    next_sweep = now + kSweepEvery;
    if (door < 0) return;  // the only stream is the one that this end opened
    late.clear();
    for (const auto& [peer, stream] : streams) {
      if (is_late(*stream, now)) late.push_back(peer);
    }
  }
  // Ends some of those that were noted. A connection may have kept one since, or its address may
  // have come back with a new stream.
  void end_late(Time now) {
    for (std::size_t i = 0; i < kEndsPerLook && !late.empty(); ++i) {
      const Stream* const stream = find(late.back());
      if (stream != nullptr && is_late(*stream, now)) {
        ++tcp.strangers;
        end(late.back());
      }
      late.pop_back();
    }
  }
  [[nodiscard]] bool is_late(const Stream& stream, Time now) const {
    return !stream.kept && now - stream.since >= limits.handshake;
  }
  // After an exhaustion of descriptors the listening socket is polled again when the pause is over.
  void open_door(Time now) {
    if (!door_opens || now < *door_opens) return;
    door_opens.reset();
    poller.change(door, true, false);
  }

  std::unordered_map<int, Endpoint> by_fd;
};

TcpTransport::TcpTransport(std::unique_ptr<State> state) : state_(std::move(state)) {}
TcpTransport::~TcpTransport() = default;

// One IPv6 socket takes IPv4 too, as mapped addresses; without IPv6 in the system an IPv4 socket
// stands in.
Result<std::unique_ptr<TcpTransport>> TcpTransport::listen(const Endpoint& local,
                                                           const TcpLimits& limits) {
  auto state = std::make_unique<State>(limits);
  const bool any = local.ip == Endpoint::any(0).ip;
  int family = AF_INET6;
  state->door = open_socket(AF_INET6, SOCK_STREAM);
  if (state->door < 0 && is_family_unsupported(socket_error()) && (local.is_v4() || any)) {
    family = AF_INET;
    state->door = open_socket(AF_INET, SOCK_STREAM);
  }
  if (state->door < 0) return fail(from_system_error(socket_error()));
  if (family == AF_INET6) set_option(state->door, IPPROTO_IPV6, IPV6_V6ONLY, 0);
#ifndef _WIN32
  // A port whose last connections are not forgotten yet may be taken; on Windows this would permit
  // to take a port from another program.
  set_option(state->door, SOL_SOCKET, SO_REUSEADDR, 1);
#endif
  const Address address = to_system(local, family);
  if (::bind(state->door, address.data(), address.length) != 0 ||
      ::listen(state->door, SOMAXCONN) != 0) {
    return fail(from_system_error(socket_error()));
  }
  state->local = local_address(state->door, local);
  if (any) state->local.ip = local.ip;
  if (const Errc error = state->poller.open(); error != Errc::none) return fail(error);
  state->poller.add(state->door);
  return std::unique_ptr<TcpTransport>(new TcpTransport(std::move(state)));
}

// The stream is being opened when this returns. A failure shows in take_ended(), as a later one
// would.
Result<std::unique_ptr<TcpTransport>> TcpTransport::connect(const Endpoint& server,
                                                            const TcpLimits& limits) {
  auto state = std::make_unique<State>(limits);
  const int family = server.is_v4() ? AF_INET : AF_INET6;
  if (const Errc error = state->poller.open(); error != Errc::none) return fail(error);
  const int fd = open_socket(family, SOCK_STREAM);
  if (fd < 0) return fail(from_system_error(socket_error()));
  state->add(fd, server, now());
  const Address address = to_system(server, family);
  if (::connect(fd, address.data(), address.length) != 0) {
    const int error = socket_error();
    if (!is_in_progress(error)) {
      if (from_system_error(error) == Errc::bad_address) return fail(Errc::bad_address);
      state->end(server);
      return std::unique_ptr<TcpTransport>(new TcpTransport(std::move(state)));
    }
  }
  state->local = local_address(fd, state->local);
  return std::unique_ptr<TcpTransport>(new TcpTransport(std::move(state)));
}

Endpoint TcpTransport::local() const {
  return state_->local;
}
const TransportCounts& TcpTransport::counts() const {
  return state_->counts;
}
const TcpCounts& TcpTransport::tcp_counts() const {
  return state_->tcp;
}
std::size_t TcpTransport::streams() const {
  return state_->streams.size();
}

// Turns: the stream in turn hands out its datagrams, then the next one has its turn. The system is
// asked when no stream is known to have bytes, and every kLookEvery datagrams.
std::optional<ReceivedDatagram> TcpTransport::receive(Time now) {
  State& state = *state_;
  state.open_door(now);
  bool looked = false;
  for (;;) {
    if (state.cutting) {
      if (const auto datagram = state.next_of_turn()) return datagram;
      state.cutting.reset();
    }
    if ((state.readable.empty() && !looked) || state.since_look >= kLookEvery) {
      state.since_look = 0;
      state.look(now);
      looked = true;
    }
    if (state.readable.empty()) return std::nullopt;
    state.begin_turn();
  }
}

// A peer that does not read fills `unsent` up to a limit. More ends its stream: a queue of old
// state helps nobody.
void TcpTransport::send(Time, const Endpoint& to, std::span<const std::byte> bytes) {
  State& state = *state_;
  KWIND_ASSERT(!bytes.empty() && bytes.size() <= state.limits.datagram_bytes);
  State::Stream* const stream = state.find(to);
  if (stream == nullptr || stream->broken) {
    ++state.counts.send_failures;
    return;
  }
  const bool stranger = !stream->kept && state.door >= 0;
  const std::size_t max = stranger ? state.limits.unsent_to_strangers : state.limits.unsent_bytes;
  if (stream->unsent.size() + bytes.size() > max) {
    ++state.tcp.too_slow;
    ++state.counts.send_failures;
    stream->broken = true;
    end(to);
    return;
  }
  std::array<std::byte, StreamDeframer::kHeadBytes> head{};
  StreamDeframer::write_head(bytes.size(), head);
  stream->unsent.insert(stream->unsent.end(), head.begin(), head.end());
  stream->unsent.insert(stream->unsent.end(), bytes.begin(), bytes.end());
  ++state.counts.datagrams_sent;
  state.counts.bytes_sent += bytes.size();
  if (!stream->dirty) {
    stream->dirty = true;
    state.to_flush.push_back(to);
  }
}

// Streams with new bytes are pushed; a stream whose socket was full is pushed when the poller
// reports room.
void TcpTransport::flush(Time) {
  State& state = *state_;
  for (const Endpoint& peer : state.to_flush) {
    State::Stream* const stream = state.find(peer);
    if (stream == nullptr) continue;
    stream->dirty = false;
    if (!stream->wants_room) state.push(*stream);
  }
  state.to_flush.clear();
  for (const Endpoint& peer : std::exchange(state.to_end, {})) {
    const State::Stream* const stream = state.find(peer);
    if (stream != nullptr && stream->ending) state.end(peer);
  }
}

void TcpTransport::keep(const Endpoint& peer) {
  State::Stream* const stream = state_->find(peer);
  if (stream == nullptr || stream->kept) return;
  stream->kept = true;
  --state_->strangers;
}

void TcpTransport::end(const Endpoint& peer) {
  State::Stream* const stream = state_->find(peer);
  if (stream == nullptr || stream->ending) return;
  stream->ending = true;
  state_->to_end.push_back(peer);
}

Time TcpTransport::next_wakeup() const {
  return state_->door_opens.value_or(kNever);
}

std::optional<Endpoint> TcpTransport::take_ended() {
  if (state_->ended.empty()) return std::nullopt;
  const Endpoint peer = state_->ended.back();
  state_->ended.pop_back();
  return peer;
}

bool TcpTransport::holds_some() const {
  return state_->cutting.has_value() || !state_->readable.empty() || !state_->ended.empty() ||
         !state_->late.empty();
}
void TcpTransport::add_waits(std::vector<Waiting>& out) const {
  state_->poller.each_wait([&](int descriptor, bool to_write) {
    out.push_back({descriptor, to_write});
  });
}

}  // namespace kwind::io
