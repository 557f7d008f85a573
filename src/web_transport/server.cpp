// A server's end of many WebTransport connections: which packet belongs to which, who may come in,
// and the transport interface.
//
// A first packet costs nothing before its sender has shown that it receives at its address: it is
// answered by a Retry packet with a token (RFC 9000, 8.1.2) that only this server can make. With a
// good token limits come next, then the budget of TLS handshakes, then the connection.
//
// The rest follows RFC 9000 (QUIC), RFC 9114 (HTTP/3) and the draft of WebTransport over HTTP/3;
// connection.cpp has what belongs to one connection.
#include <gnutls/crypto.h>
#include <ngtcp2/ngtcp2_crypto.h>

#include <algorithm>
#include <utility>

#include "kwind/core/assert.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "web_transport/connection.h"

namespace kwind::web {
namespace {

// So that a flood of packets without datagrams cannot keep the program here.
constexpr int kPacketsPerTurn = 64;
constexpr Duration kSweepEvery = std::chrono::milliseconds(250);
constexpr Duration kTokenLifetime = std::chrono::seconds(10);
// RFC 9000, 14.1: first packets are at least so long; shorter ones are not answered.
constexpr std::size_t kMinFirstPacket = 1200;
// RFC 9000, 10.3: a reset is shorter than what it answers, and long enough to look like a packet.
constexpr std::size_t kMinReset = 21;
constexpr std::size_t kLongestReset = 43;
constexpr double kResetsPerSecond = 200;

const std::uint8_t* data_of(std::span<const std::byte> bytes) {
  return reinterpret_cast<const std::uint8_t*>(bytes.data());
}

// A token bucket: `rate` tokens a second, at most `burst` of them.
class Bucket {
 public:
  Bucket(double rate, double burst) : rate_(rate), burst_(burst), tokens_(burst) {}
  bool take(Time now) {
    // Time that is negative or zero adds nothing.
    const double passed = std::chrono::duration<double>(now - at_).count();
    at_ = std::max(at_, now);
    tokens_ = std::min(burst_, tokens_ + std::max(passed, 0.0) * rate_);
    if (tokens_ < 1) return false;
    tokens_ -= 1;
    return true;
  }

 private:
  double rate_;
  double burst_;
  double tokens_;
  Time at_{};
};

Secret32 random_secret() {
  std::array<std::byte, 32> bytes{};
  KWIND_ASSERT(gnutls_rnd(GNUTLS_RND_KEY, bytes.data(), bytes.size()) >= 0);
  return Secret32(std::span<const std::byte, 32>(bytes));
}

}  // namespace

struct WebTransportServer::State {
  State(std::unique_ptr<Transport> udp_in, const WebTransportOptions& options)
      : udp(std::move(udp_in)),
        handshakes(options.handshakes_per_second, std::max(1.0, options.handshakes_per_second / 4)),
        resets(kResetsPerSecond, kResetsPerSecond / 10) {
    KWIND_ASSERT(options.handshakes_per_second > 0 && options.unsent_datagrams > 0);
    shared.options = options;
    shared.local = udp->local();
    const Secret32 secret = options.secret ? *options.secret : random_secret();
    token_secret = derive(secret, "quic retry");
    shared.reset_secret = derive(secret, "quic reset");
    shared.send_packet = [this](const Endpoint& to, std::span<const std::byte> packet) {
      udp->send(now, to, packet);
    };
  }

  // Without files the server makes a certificate of its own, which pages accept by its hash.
  // Connections that exist keep the certificate that they began with.
  Errc load_certificate() {
    const WebTransportOptions& options = shared.options;
    const std::int64_t unix_now = options.unix_now ? options.unix_now() : io::unix_now();
    auto made = options.certificate_file.empty() && options.private_key_file.empty()
                    ? Certificate::make(unix_now)
                    : Certificate::load(options.certificate_file, options.private_key_file);
    if (!made) return made.error();
    certificate = std::move(*made);
    return Errc::none;
  }

  void on_packet(const Endpoint& from, std::span<const std::byte> packet);
  void accept(const Endpoint& from, std::span<const std::byte> packet);
  void send_retry(const Endpoint& from, const ngtcp2_pkt_hd& header);
  void send_versions(const Endpoint& from, const ngtcp2_version_cid& ids);
  void send_reset(const Endpoint& from, std::span<const std::byte> packet);
  [[nodiscard]] bool has_room(const Endpoint& from) const;
  void sweep();
  Connection* find(const Endpoint& peer) {
    const auto found = by_peer.find(peer);
    return found == by_peer.end() ? nullptr : found->second;
  }

  std::unique_ptr<Transport> udp;
  io::PollableTransport* pollable = nullptr;  // the same, where it can be waited for
  Time now{};
  Shared shared;
  Secret32 token_secret;
  std::shared_ptr<const Certificate> certificate;
  Bucket handshakes;
  Bucket resets;
  std::vector<std::unique_ptr<Connection>> connections;
  std::unordered_map<Endpoint, Connection*> by_peer;
  std::vector<std::byte> handed_out;
  Time next_sweep{};
  bool may_have_more = false;
};

// ---- packets ----

// Packets find their connection by its id, not by their address: clients change addresses.
void WebTransportServer::State::on_packet(const Endpoint& from, std::span<const std::byte> packet) {
  // The part of the packet that no version changes (RFC 8999): connection ids and version.
  ngtcp2_version_cid ids{};
  const int error = ngtcp2_pkt_decode_version_cid(&ids, data_of(packet), packet.size(), kIdBytes);
  if (error == NGTCP2_ERR_VERSION_NEGOTIATION) return send_versions(from, ids);
  if (error != 0) {
    ++shared.counts.bad_packets;
    return;
  }
  // Ids are chosen by this server, kIdBytes each, so the lookup is one hash.
  const std::string id(reinterpret_cast<const char*>(ids.dcid), ids.dcidlen);
  if (const auto found = shared.by_id.find(id); found != shared.by_id.end()) {
    return found->second->read(now, from, packet);
  }
  // Long headers begin connections; a short one belongs to a connection that is gone.
  const bool is_long = (std::to_integer<unsigned>(packet[0]) & 0x80) != 0;
  if (is_long) return accept(from, packet);
  send_reset(from, packet);
}

// Only what a server must remember comes after the token.
void WebTransportServer::State::accept(const Endpoint& from, std::span<const std::byte> packet) {
  Connection::First first{};
  if (packet.size() < kMinFirstPacket ||
      ngtcp2_accept(&first.header, data_of(packet), packet.size()) != 0) {
    ++shared.counts.bad_packets;
    return;
  }
  const ngtcp2_pkt_hd& header = first.header;
  if (header.token.len == 0) return send_retry(from, header);
  first.token.assign(header.token.base, header.token.base + header.token.len);
  const SocketAddress remote(from);
  // The token proves that the sender receives at `from`, and brings the id of the first packet
  // back.
  const auto secret = token_secret.bytes();
  const int error = ngtcp2_crypto_verify_retry_token(
      &first.original_id, first.token.data(), first.token.size(), data_of(secret), secret.size(),
      header.version, remote.get().addr, remote.get().addrlen, &header.dcid,
      static_cast<ngtcp2_duration>(std::chrono::nanoseconds(kTokenLifetime).count()), to_quic(now));
  if (error != 0) {
    ++shared.counts.bad_packets;
    return;
  }
  // Checks in the order of their cost: token, limits, rate, TLS.
  if (!has_room(from)) {
    ++shared.counts.turned_away;
    return;
  }
  if (!handshakes.take(now)) {
    ++shared.counts.too_many_handshakes;
    return;
  }
  auto made = Connection::accept(shared, now, from, certificate, first);
  if (!made) {
    ++shared.counts.tls_failures;
    return;
  }
  ++shared.counts.accepted;
  // The peer moved away from this address, or its connection broke, and the server has not noticed.
  if (Connection* const old = find(from)) old->close(now);
  by_peer[from] = made.get();
  made->read(now, from, packet);
  connections.push_back(std::move(made));
}

// Three limits: connections, those that no client has opened yet (half of all), and those of one
// network. O(connections), behind the check of the address.
bool WebTransportServer::State::has_room(const Endpoint& from) const {
  const WebTransportOptions& options = shared.options;
  // Loops over all connections: only senders whose address is proved come here.
  const auto pending = std::count_if(connections.begin(), connections.end(),
                                     [](const auto& each) { return !each->is_kept(); });
  const Endpoint network = from.network();
  const auto of_network =
      std::count_if(connections.begin(), connections.end(),
                    [&](const auto& each) { return each->peer().network() == network; });
  return connections.size() < options.connections &&
         static_cast<std::size_t>(pending) < (options.connections + 1) / 2 &&
         static_cast<std::size_t>(of_network) < options.connections_per_address;
}

// Proof of address without memory (RFC 9000, 8.1.2): the token holds the address, the ids and the
// time, authenticated with a secret. The answer is smaller than the packet that it answers.
void WebTransportServer::State::send_retry(const Endpoint& from, const ngtcp2_pkt_hd& header) {
  ngtcp2_cid id{};
  // The id that the client shall use from now on.
  std::array<std::uint8_t, kIdBytes> random{};
  if (gnutls_rnd(GNUTLS_RND_NONCE, random.data(), random.size()) < 0) return;
  ngtcp2_cid_init(&id, random.data(), random.size());
  const SocketAddress remote(from);
  const auto secret = token_secret.bytes();
  std::array<std::uint8_t, NGTCP2_CRYPTO_MAX_RETRY_TOKENLEN> token{};
  const ngtcp2_ssize token_bytes = ngtcp2_crypto_generate_retry_token(
      token.data(), data_of(secret), secret.size(), header.version, remote.get().addr,
      remote.get().addrlen, &id, &header.dcid, to_quic(now));
  if (token_bytes < 0) return;
  // A Retry packet holds the token, two ids and a tag of 16 bytes.
  std::array<std::uint8_t, 256> packet{};
  const ngtcp2_ssize size =
      ngtcp2_crypto_write_retry(packet.data(), packet.size(), header.version, &header.scid, &id,
                                &header.dcid, token.data(), static_cast<std::size_t>(token_bytes));
  if (size <= 0) return;
  ++shared.counts.retries;
  shared.send_packet(from, std::as_bytes(std::span(packet)).first(static_cast<std::size_t>(size)));
}

// RFC 9000, 6.1.
void WebTransportServer::State::send_versions(const Endpoint& from, const ngtcp2_version_cid& ids) {
  ++shared.counts.unknown_versions;
  // Version 1 of QUIC is the only one.
  const std::uint32_t known[] = {NGTCP2_PROTO_VER_V1};
  std::array<std::uint8_t, 256> packet{};
  std::uint8_t random = 0;
  (void)gnutls_rnd(GNUTLS_RND_NONCE, &random, 1);
  const ngtcp2_ssize size = ngtcp2_pkt_write_version_negotiation(
      packet.data(), packet.size(), random, ids.scid, ids.scidlen, ids.dcid, ids.dcidlen, known, 1);
  if (size <= 0) return;
  shared.send_packet(from, std::as_bytes(std::span(packet)).first(static_cast<std::size_t>(size)));
}

// A stateless reset (RFC 9000, 10.3): ends a connection of which only the client knows still. The
// token follows from the connection id, which the first byte of a short header precedes.
void WebTransportServer::State::send_reset(const Endpoint& from,
                                           std::span<const std::byte> packet) {
  // A reset is shorter than the packet that it answers, so that two ends cannot answer each other
  // for ever.
  const std::size_t size = std::min(packet.size() - 1, kLongestReset);
  if (packet.size() <= kIdBytes + 1 || size < kMinReset || !resets.take(now)) {
    ++shared.counts.bad_packets;
    return;
  }
  ngtcp2_cid id{};
  ngtcp2_cid_init(&id, data_of(packet) + 1, kIdBytes);
  std::array<std::uint8_t, NGTCP2_STATELESS_RESET_TOKENLEN> token{};
  const auto secret = shared.reset_secret.bytes();
  if (ngtcp2_crypto_generate_stateless_reset_token(token.data(), data_of(secret), secret.size(),
                                                   &id) != 0) {
    return;
  }
  std::array<std::uint8_t, kLongestReset> reset{};
  if (gnutls_rnd(GNUTLS_RND_NONCE, reset.data(), size) < 0) return;
  reset[0] = static_cast<std::uint8_t>((reset[0] & 0x3f) | 0x40);  // looks like a short header
  // The token is the end of the packet (RFC 9000, 10.3); the rest is random.
  std::copy(token.begin(), token.end(),
            reset.begin() + static_cast<std::ptrdiff_t>(size - token.size()));
  ++shared.counts.resets;
  shared.send_packet(from, std::as_bytes(std::span(reset)).first(size));
}

// Connections without a peer in time end; connections that are over are freed.
void WebTransportServer::State::sweep() {
  next_sweep = now + kSweepEvery;
  // Closes those whose handshake takes too long.
  for (const auto& connection : connections) {
    if (connection->is_kept() || connection->is_over() ||
        now - connection->since() < shared.options.handshake_timeout) {
      continue;
    }
    ++shared.counts.timeouts;
    connection->close(now);
    connection->keep();  // counted once; it does not take a pending place while it closes
  }
  // Frees those that are over, with their address.
  for (const auto& connection : connections) {
    if (!connection->is_over()) continue;
    const auto found = by_peer.find(connection->peer());
    if (found != by_peer.end() && found->second == connection.get()) by_peer.erase(found);
  }
  std::erase_if(connections, [](const auto& each) { return each->is_over(); });
}

// ---- the transport ----

WebTransportServer::WebTransportServer(std::unique_ptr<State> state) : state_(std::move(state)) {}

WebTransportServer::~WebTransportServer() {
  // Pages notice the end at once, not by their timeout.
  for (const auto& connection : state_->connections) connection->close(state_->now);
  state_->udp->flush(state_->now);
}

Result<std::unique_ptr<WebTransportServer>> WebTransportServer::listen(
    const Endpoint& local, const WebTransportOptions& options) {
  auto udp = io::UdpTransport::open(local);
  if (!udp) return fail(udp.error());
  return listen_over(std::move(*udp), options);
}

Result<std::unique_ptr<WebTransportServer>> WebTransportServer::listen_over(
    std::unique_ptr<Transport> udp, const WebTransportOptions& options) {
  auto state = std::make_unique<State>(std::move(udp), options);
  state->pollable = dynamic_cast<io::PollableTransport*>(state->udp.get());
  if (const Errc error = state->load_certificate(); error != Errc::none) return fail(error);
  return std::unique_ptr<WebTransportServer>(new WebTransportServer(std::move(state)));
}

Endpoint WebTransportServer::local() const {
  return state_->udp->local();
}
const TransportCounts& WebTransportServer::counts() const {
  return state_->shared.transport_counts;
}
const WebTransportCounts& WebTransportServer::web_transport_counts() const {
  return state_->shared.counts;
}
std::size_t WebTransportServer::connections() const {
  return state_->connections.size();
}
const std::array<std::byte, 32>& WebTransportServer::certificate_hash() const {
  return state_->certificate->hash();
}
std::int64_t WebTransportServer::certificate_expires() const {
  return state_->certificate->expires();
}
Errc WebTransportServer::reload_certificate() {
  return state_->load_certificate();
}

// Reads packets until one yields a datagram, and at most kPacketsPerTurn of them: packets without
// datagrams would otherwise keep the program here.
std::optional<ReceivedDatagram> WebTransportServer::receive(Time now) {
  State& state = *state_;
  state.now = now;
  std::deque<InboundDatagram>& inbox = state.shared.inbox;
  int packets = 0;
  // Ends with a datagram, without packets, or at the limit.
  while (inbox.empty() && packets < kPacketsPerTurn) {
    const auto packet = state.udp->receive(now);
    if (!packet) break;
    ++packets;
    if (!packet->bytes.empty()) state.on_packet(packet->from, packet->bytes);
  }
  state.may_have_more = packets == kPacketsPerTurn;
  if (inbox.empty()) return std::nullopt;
  state.handed_out = std::move(inbox.front().bytes);
  const Endpoint from = inbox.front().from;
  inbox.pop_front();
  TransportCounts& counts = state.shared.transport_counts;
  ++counts.datagrams_received;
  counts.bytes_received += state.handed_out.size();
  // A longer one has no meaning for the link: as of every transport, it comes as an empty one.
  if (state.handed_out.size() > kMaxDatagramBytes) {
    ++counts.too_long;
    state.handed_out.clear();
  }
  return ReceivedDatagram{from, state.handed_out};
}

void WebTransportServer::send(Time now, const Endpoint& to, std::span<const std::byte> bytes) {
  State& state = *state_;
  state.now = now;
  TransportCounts& counts = state.shared.transport_counts;
  Connection* const connection = state.find(to);
  // A datagram for a peer that is gone is counted, as on every transport.
  if (connection == nullptr || !connection->send(bytes)) {
    ++counts.send_failures;
    return;
  }
  ++counts.datagrams_sent;
  counts.bytes_sent += bytes.size();
}

void WebTransportServer::flush(Time now) {
  State& state = *state_;
  state.now = now;
  for (const auto& connection : state.connections) connection->flush(now);
  if (now >= state.next_sweep) state.sweep();
  state.udp->flush(now);
}

void WebTransportServer::keep(const Endpoint& peer) {
  if (Connection* const connection = state_->find(peer)) connection->keep();
}
void WebTransportServer::end(const Endpoint& peer) {
  if (Connection* const connection = state_->find(peer)) connection->end(state_->now);
}

std::optional<Endpoint> WebTransportServer::take_ended() {
  std::deque<Endpoint>& ended = state_->shared.ended;
  if (ended.empty()) return std::nullopt;
  const Endpoint peer = ended.front();
  ended.pop_front();
  return peer;
}

// O(connections).
Time WebTransportServer::next_wakeup() const {
  Time next = state_->udp->next_wakeup();
  // O(connections), each a read of one number.
  if (!state_->connections.empty()) next = std::min(next, state_->next_sweep);
  for (const auto& connection : state_->connections) {
    next = std::min(next, connection->next_wakeup());
  }
  return next;
}

bool WebTransportServer::holds_some() const {
  return state_->may_have_more || !state_->shared.inbox.empty() || !state_->shared.ended.empty() ||
         (state_->pollable != nullptr && holds_some_of(*state_->pollable));
}

void WebTransportServer::add_waits(std::vector<Waiting>& out) const {
  if (state_->pollable != nullptr) add_waits_of(*state_->pollable, out);
}

}  // namespace kwind::web
