// WebTransport over HTTP/3 (drafts 02 to 13 agree on what is used here): a session is an extended
// CONNECT request (RFC 9220) whose stream stays open; its datagrams are QUIC DATAGRAM frames
// (RFC 9221) that begin with a quarter of the stream's id (RFC 9297).
//
// ngtcp2 is a state machine without sockets or clock: packets and times go in, packets come out.
// Its callbacks run within read(), and must not call it again but for credit of flow control.
//
// Invariant 1: a peer is in Shared::ended at most once, and only if its session was open.
// Invariant 2: a client keeps the server from freeing at most what flow control permits: 64 KiB of
//   streams, of which RecordReader keeps 8 KiB each, and its datagrams in one batch of packets.
#include "web_transport/connection.h"

#include <gnutls/crypto.h>
#include <ngtcp2/ngtcp2_crypto_gnutls.h>

#include <algorithm>
#include <cstring>

namespace kwind::web {
namespace {

// Of HTTP/3 a client needs a control stream, two of QPACK, one request; browsers add one for
// unknown types. Further streams would be those of a session, which this server ignores.
constexpr std::uint64_t kMaxStreams = 8;
constexpr std::uint64_t kStreamWindow = 16384;
constexpr std::uint64_t kConnectionWindow = 65536;
constexpr std::uint64_t kDatagramFrameBytes = 65535;
constexpr int kPacketsPerFlush = 128;
// Type, length, packet number and tag: what a packet with one datagram has besides.
constexpr std::size_t kPacketOverhead = 1 + 4 + 16 + 3;
constexpr char kPriority[] =
    "NORMAL:-VERS-ALL:+VERS-TLS1.3:-CIPHER-ALL:+AES-128-GCM:+CHACHA20-POLY1305:+AES-256-GCM:"
    "-GROUP-ALL:+GROUP-X25519:+GROUP-SECP256R1:%DISABLE_TLS13_COMPAT_MODE";

std::string id_text(const ngtcp2_cid& id) {
  return {reinterpret_cast<const char*>(id.data), id.datalen};
}

std::span<const std::byte> as_bytes(std::span<const std::uint8_t> bytes) {
  return std::as_bytes(bytes);
}

Duration to_duration(ngtcp2_duration quic) {
  return Duration(static_cast<Duration::rep>(quic));
}

}  // namespace

SocketAddress::SocketAddress(const Endpoint& endpoint) {
  v6.sin6_family = AF_INET6;
  v6.sin6_port = htons(endpoint.port);
  std::memcpy(&v6.sin6_addr, endpoint.ip.data(), endpoint.ip.size());
}
ngtcp2_addr SocketAddress::get() const {
  // ngtcp2 takes a pointer to what it does not write.
  return {const_cast<sockaddr*>(reinterpret_cast<const sockaddr*>(&v6)), sizeof v6};
}
// Addresses are IPv6 throughout; IPv4 addresses are mapped (RFC 4291, 2.5.5.2).
Endpoint to_endpoint(const ngtcp2_addr& address) {
  sockaddr_in6 v6{};
  std::memcpy(&v6, address.addr, sizeof v6);
  Endpoint made;
  std::memcpy(made.ip.data(), &v6.sin6_addr, made.ip.size());
  made.port = ntohs(v6.sin6_port);
  return made;
}
ngtcp2_tstamp to_quic(Time now) {
  return static_cast<ngtcp2_tstamp>(now.time_since_epoch().count());
}

// ---- the start ----

Connection::Connection(Shared& shared, Time now, const Endpoint& from,
                       std::shared_ptr<const Certificate> certificate)
    : shared_(shared), certificate_(std::move(certificate)), peer_(from), since_(now), now_(now) {}

// A peer may know the connection by several ids: all of them lead here no more.
Connection::~Connection() {
  std::erase_if(shared_.by_id, [this](const auto& entry) { return entry.second == this; });
  if (quic_ != nullptr) ngtcp2_conn_del(quic_);
  if (tls_ != nullptr) gnutls_deinit(tls_);
}

// Made only after the address was validated by a Retry: before that a server keeps nothing of a
// stranger (RFC 9000, 8.1.2).
std::unique_ptr<Connection> Connection::accept(Shared& shared, Time now, const Endpoint& from,
                                               std::shared_ptr<const Certificate> certificate,
                                               const First& first) {
  std::unique_ptr<Connection> made(new Connection(shared, now, from, std::move(certificate)));
  if (!made->start(first)) return nullptr;
  return made;
}

// ngtcp2 does QUIC (RFC 9000) and calls back for cryptography, ids, stream bytes and datagrams. The
// functions of ngtcp2_crypto serve for all cryptography.
ngtcp2_callbacks Connection::callbacks() {
  ngtcp2_callbacks all{};
  all.recv_client_initial = ngtcp2_crypto_recv_client_initial_cb;
  all.recv_crypto_data = ngtcp2_crypto_recv_crypto_data_cb;
  all.encrypt = ngtcp2_crypto_encrypt_cb;
  all.decrypt = ngtcp2_crypto_decrypt_cb;
  all.hp_mask = ngtcp2_crypto_hp_mask_cb;
  all.update_key = ngtcp2_crypto_update_key_cb;
  all.delete_crypto_aead_ctx = ngtcp2_crypto_delete_crypto_aead_ctx_cb;
  all.delete_crypto_cipher_ctx = ngtcp2_crypto_delete_crypto_cipher_ctx_cb;
  all.get_path_challenge_data = ngtcp2_crypto_get_path_challenge_data_cb;
  all.version_negotiation = ngtcp2_crypto_version_negotiation_cb;
  all.rand = [](std::uint8_t* out, std::size_t bytes, const ngtcp2_rand_ctx*) {
    (void)gnutls_rnd(GNUTLS_RND_NONCE, out, bytes);
  };
  all.get_new_connection_id = [](ngtcp2_conn*, ngtcp2_cid* id, std::uint8_t* token,
                                 std::size_t bytes,
                                 void* user) { return of(user).new_id(*id, token, bytes); };
  all.remove_connection_id = [](ngtcp2_conn*, const ngtcp2_cid* id, void* user) {
    of(user).shared_.by_id.erase(id_text(*id));
    return 0;
  };
  all.handshake_completed = [](ngtcp2_conn*, void* user) {
    return of(user).on_handshake_completed();
  };
  all.recv_stream_data = [](ngtcp2_conn* quic, std::uint32_t flags, std::int64_t id, std::uint64_t,
                            const std::uint8_t* data, std::size_t size, void* user, void*) {
    // Every byte is read at once: there is nothing that flow control would hold back.
    (void)ngtcp2_conn_extend_max_stream_offset(quic, id, size);
    ngtcp2_conn_extend_max_offset(quic, size);
    const std::string_view bytes(reinterpret_cast<const char*>(data), size);
    return of(user).on_stream_data(id, bytes, (flags & NGTCP2_STREAM_DATA_FLAG_FIN) != 0);
  };
  all.acked_stream_data_offset = [](ngtcp2_conn*, std::int64_t id, std::uint64_t offset,
                                    std::uint64_t size, void* user, void*) {
    of(user).on_acked(id, offset + size);
    return 0;
  };
  all.stream_close = [](ngtcp2_conn*, std::uint32_t, std::int64_t id, std::uint64_t, void* user,
                        void*) {
    of(user).on_stream_closed(id);
    return 0;
  };
  all.recv_datagram = [](ngtcp2_conn*, std::uint32_t, const std::uint8_t* data, std::size_t size,
                         void* user) {
    of(user).on_datagram({reinterpret_cast<const char*>(data), size});
    return 0;
  };
  return all;
}

// Settings and transport parameters of a server's end. False if ngtcp2 or GnuTLS refuse the packet;
// the connection is discarded then.
bool Connection::start(const First& first) {
  ngtcp2_settings settings;
  ngtcp2_settings_default(&settings);
  settings.initial_ts = to_quic(now_);
  settings.handshake_timeout = static_cast<ngtcp2_duration>(
      std::chrono::nanoseconds(shared_.options.handshake_timeout).count());
  // Losses that have no cause in a queue must not slow down a game: not CUBIC.
  settings.cc_algo = NGTCP2_CC_ALGO_BBR;
  // An ack rides with the next datagram; by default most would leave in packets of their own.
  settings.ack_thresh = 1;
  settings.token = {const_cast<std::uint8_t*>(first.token.data()), first.token.size()};
  ngtcp2_transport_params parameters;
  ngtcp2_transport_params_default(&parameters);
  parameters.initial_max_stream_data_bidi_local = kStreamWindow;
  parameters.initial_max_stream_data_bidi_remote = kStreamWindow;
  parameters.initial_max_stream_data_uni = kStreamWindow;
  parameters.initial_max_data = kConnectionWindow;
  parameters.initial_max_streams_bidi = kMaxStreams;
  parameters.initial_max_streams_uni = kMaxStreams;
  parameters.max_idle_timeout =
      static_cast<ngtcp2_duration>(std::chrono::nanoseconds(shared_.options.idle_timeout).count());
  parameters.max_datagram_frame_size = kDatagramFrameBytes;
  parameters.original_dcid = first.original_id;
  parameters.retry_scid = first.header.dcid;
  parameters.retry_scid_present = 1;
  parameters.stateless_reset_token_present = 1;
  ngtcp2_cid id{};
  if (new_id(id, parameters.stateless_reset_token, kIdBytes) != 0) return false;
  const SocketAddress local(shared_.local);
  const SocketAddress remote(peer_);
  const ngtcp2_path path{local.get(), remote.get(), nullptr};
  const ngtcp2_callbacks handlers = callbacks();
  if (ngtcp2_conn_server_new(&quic_, &first.header.scid, &id, &path, first.header.version,
                             &handlers, &settings, &parameters, nullptr, this) != 0) {
    return false;
  }
  // Until the client knows the id that was chosen here it sends to the one of the Retry.
  shared_.by_id[id_text(first.header.dcid)] = this;
  return start_tls();
}

// TLS 1.3 without session tickets and early data: a page connects once, and early data can be
// replayed (RFC 8446, 8).
bool Connection::start_tls() {
  if (gnutls_init(&tls_, GNUTLS_SERVER | GNUTLS_NO_AUTO_SEND_TICKET | GNUTLS_NO_END_OF_EARLY_DATA) <
          0 ||
      gnutls_priority_set_direct(tls_, kPriority, nullptr) < 0 ||
      gnutls_credentials_set(tls_, GNUTLS_CRD_CERTIFICATE, certificate_->credentials()) < 0 ||
      ngtcp2_crypto_gnutls_configure_server_session(tls_) != 0) {
    return false;
  }
  reference_.user_data = this;
  reference_.get_conn = [](ngtcp2_crypto_conn_ref* reference) {
    return of(reference->user_data).quic_;
  };
  gnutls_session_set_ptr(tls_, &reference_);
  unsigned char name[] = "h3";
  const gnutls_datum_t protocol{name, 2};
  if (gnutls_alpn_set_protocols(tls_, &protocol, 1, GNUTLS_ALPN_MANDATORY) < 0) return false;
  ngtcp2_conn_set_tls_native_handle(quic_, tls_);
  return true;
}

// Another id for the peer to send to, with the token of its stateless reset. The token follows from
// the id and a secret, so that a restarted server can reset connections that it knows nothing of.
int Connection::new_id(ngtcp2_cid& id, std::uint8_t* token, std::size_t bytes) {
  std::array<std::uint8_t, NGTCP2_MAX_CIDLEN> random{};
  if (gnutls_rnd(GNUTLS_RND_NONCE, random.data(), bytes) < 0) return NGTCP2_ERR_CALLBACK_FAILURE;
  ngtcp2_cid_init(&id, random.data(), bytes);
  const auto secret = shared_.reset_secret.bytes();
  if (ngtcp2_crypto_generate_stateless_reset_token(
          token, reinterpret_cast<const std::uint8_t*>(secret.data()), secret.size(), &id) != 0) {
    return NGTCP2_ERR_CALLBACK_FAILURE;
  }
  shared_.by_id[id_text(id)] = this;
  return 0;
}

// HTTP/3 begins with the settings, on a stream of the server's own (RFC 9114, 6.2.1).
int Connection::on_handshake_completed() {
  phase_ = Phase::waiting;
  std::int64_t control = 0;
  if (ngtcp2_conn_open_uni_stream(quic_, &control, nullptr) != 0) {
    return NGTCP2_ERR_CALLBACK_FAILURE;
  }
  queue(control, control_stream_start(), false);
  return 0;
}

// ---- datagrams ----

// A datagram begins with a quarter of the id of its session's stream (RFC 9297, 2.1). Only the one
// open session has datagrams.
void Connection::on_datagram(std::string_view bytes) {
  const auto quarter = take_varint(bytes);
  if (!quarter || !session_ || phase_ != Phase::open ||
      *quarter != static_cast<std::uint64_t>(*session_) / 4) {
    ++shared_.counts.stray_datagrams;
    return;
  }
  const auto* const data = reinterpret_cast<const std::byte*>(bytes.data());
  shared_.inbox.push_back({peer_, {data, data + bytes.size()}});
}

// Room of one packet of the path's present MTU, less the number of the session.
std::size_t Connection::max_datagram_bytes() const {
  const ngtcp2_transport_params* const theirs = ngtcp2_conn_get_remote_transport_params(quic_);
  const std::size_t packet = ngtcp2_conn_get_path_max_tx_udp_payload_size(quic_);
  std::string quarter;
  put_varint(quarter, static_cast<std::uint64_t>(*session_) / 4);
  const std::size_t overhead =
      kPacketOverhead + ngtcp2_conn_get_dcid(quic_)->datalen + quarter.size();
  const std::uint64_t frame = theirs == nullptr ? 0 : theirs->max_datagram_frame_size;
  const std::uint64_t frame_overhead = 3 + quarter.size();
  if (packet <= overhead || frame <= frame_overhead) return 0;
  return static_cast<std::size_t>(
      std::min<std::uint64_t>(packet - overhead, frame - frame_overhead));
}

// State grows old: where congestion control lets fewer datagrams out than are sent, the oldest ones
// are dropped, not the newest.
bool Connection::send(std::span<const std::byte> bytes) {
  if (phase_ != Phase::open) return false;
  if (bytes.size() > max_datagram_bytes()) {
    ++shared_.counts.too_long;
    return false;
  }
  if (datagrams_.size() >= shared_.options.unsent_datagrams) {
    datagrams_.pop_front();
    ++shared_.counts.congested;
  }
  std::string& made = datagrams_.emplace_back();
  put_varint(made, static_cast<std::uint64_t>(*session_) / 4);
  made.append(reinterpret_cast<const char*>(bytes.data()), bytes.size());
  return true;
}

// ---- streams out ----

// Bytes of a stream stay until they are acknowledged: ngtcp2 keeps no copy for retransmissions.
void Connection::queue(std::int64_t id, std::string bytes, bool fin) {
  Outgoing& stream = outgoing_[id];
  stream.end += bytes.size();
  stream.chunks.push_back(std::move(bytes));
  stream.fin = stream.fin || fin;
}

// Frees the chunks that were acknowledged whole.
void Connection::on_acked(std::int64_t id, std::uint64_t up_to) {
  const auto found = outgoing_.find(id);
  if (found == outgoing_.end()) return;
  Outgoing& stream = found->second;
  while (!stream.chunks.empty() && stream.first + stream.chunks.front().size() <= up_to) {
    stream.first += stream.chunks.front().size();
    stream.chunks.pop_front();
  }
}

// ---- packets ----

// Hands a packet to ngtcp2. An error of the peer closes the connection with the code that the RFC
// names; a peer that closed needs no answer.
void Connection::read(Time now, const Endpoint& from, std::span<const std::byte> packet) {
  now_ = now;
  if (phase_ == Phase::closing) {
    // RFC 9000, 10.2.1: fewer and fewer answers, after 1, 2, 4, ... packets.
    ++packets_while_closing_;
    const bool is_power = (packets_while_closing_ & (packets_while_closing_ - 1)) == 0;
    if (is_power && !close_packet_.empty()) shared_.send_packet(close_to_, close_packet_);
    return;
  }
  if (phase_ == Phase::draining || phase_ == Phase::gone) return;
  const SocketAddress local(shared_.local);
  const SocketAddress remote(from);
  const ngtcp2_path path{local.get(), remote.get(), nullptr};
  const ngtcp2_pkt_info info{};
  const int error = ngtcp2_conn_read_pkt(quic_, &path, &info,
                                         reinterpret_cast<const std::uint8_t*>(packet.data()),
                                         packet.size(), to_quic(now));
  if (error == 0) return;
  if (error == NGTCP2_ERR_DRAINING) return leave(now, Phase::draining);
  if (error == NGTCP2_ERR_DROP_CONN) return leave(now, Phase::gone);
  fail_with(now, error);
}

// Timers first, then as many packets as congestion control permits.
void Connection::flush(Time now) {
  now_ = now;
  if (phase_ == Phase::gone) return;
  if (phase_ == Phase::closing || phase_ == Phase::draining) {
    if (now >= gone_at_) phase_ = Phase::gone;
    return;
  }
  if (close_at_ && now >= *close_at_) return close(now);
  if (now >= next_wakeup()) {
    const int error = ngtcp2_conn_handle_expiry(quic_, to_quic(now));
    if (error == NGTCP2_ERR_IDLE_CLOSE || error == NGTCP2_ERR_HANDSHAKE_TIMEOUT) {
      ++shared_.counts.timeouts;
      return leave(now, Phase::gone);
    }
    if (error != 0) return fail_with(now, error);
  }
  write_packets(to_quic(now));
}

// The timer of ngtcp2 covers losses, probes, pacing and idling.
Time Connection::next_wakeup() const {
  if (phase_ == Phase::gone) return kNever;
  if (phase_ == Phase::closing || phase_ == Phase::draining) return gone_at_;
  const ngtcp2_tstamp expiry = ngtcp2_conn_get_expiry(quic_);
  const Time next = expiry >= static_cast<ngtcp2_tstamp>(kNever.time_since_epoch().count())
                        ? kNever
                        : Time(Duration(static_cast<Duration::rep>(expiry)));
  return close_at_ ? std::min(next, *close_at_) : next;
}

// Datagrams go before streams: only they have no later. 0: congestion control, the path's
// validation or an empty queue ends this turn.
void Connection::write_packets(ngtcp2_tstamp at) {
  for (auto& [id, stream] : outgoing_) stream.is_blocked = false;
  std::array<std::uint8_t, kMaxPacketBytes> packet;  // NOLINT: written before it is read
  for (int count = 0; count < kPacketsPerFlush; ++count) {
    ngtcp2_path_storage path;
    ngtcp2_path_storage_zero(&path);
    const ngtcp2_ssize size = datagrams_.empty() ? write_stream(packet, path.path, at)
                                                 : write_datagram(packet, path.path, at);
    if (size < 0) return fail_with(now_, static_cast<int>(size));
    if (size == 0) break;
    send_packet(path.path, std::span(packet).first(static_cast<std::size_t>(size)));
  }
  ngtcp2_conn_update_pkt_tx_time(quic_, at);
}

// A packet may leave without the datagram, which did not fit beside something more urgent.
ngtcp2_ssize Connection::write_datagram(std::span<std::uint8_t> packet, ngtcp2_path& path,
                                        ngtcp2_tstamp at) {
  while (!datagrams_.empty()) {
    std::string& first = datagrams_.front();
    const ngtcp2_vec bytes{reinterpret_cast<std::uint8_t*>(first.data()), first.size()};
    ngtcp2_pkt_info info{};
    int is_accepted = 0;
    const ngtcp2_ssize size =
        ngtcp2_conn_writev_datagram(quic_, &path, &info, packet.data(), packet.size(), &is_accepted,
                                    NGTCP2_WRITE_DATAGRAM_FLAG_NONE, next_datagram_, &bytes, 1, at);
    if (is_accepted != 0) {
      ++next_datagram_;
      datagrams_.pop_front();
    }
    if (size != NGTCP2_ERR_INVALID_ARGUMENT && size != NGTCP2_ERR_INVALID_STATE) return size;
    // The path's MTU has shrunk since the datagram was queued.
    ++shared_.counts.too_long;
    datagrams_.pop_front();
  }
  return write_stream(packet, path, at);
}

// Without a stream to write, the packet has acks, probes or handshake bytes, if any are due.
ngtcp2_ssize Connection::write_stream(std::span<std::uint8_t> packet, ngtcp2_path& path,
                                      ngtcp2_tstamp at) {
  ngtcp2_pkt_info info{};
  for (;;) {
    const auto found = std::find_if(outgoing_.begin(), outgoing_.end(), [](const auto& entry) {
      return entry.second.has_unsent() && !entry.second.is_blocked;
    });
    if (found == outgoing_.end()) {
      return ngtcp2_conn_writev_stream(quic_, &path, &info, packet.data(), packet.size(), nullptr,
                                       NGTCP2_WRITE_STREAM_FLAG_NONE, -1, nullptr, 0, at);
    }
    auto& [id, stream] = *found;
    // The chunks from `next` on, of which the first may have been sent in part.
    std::vector<ngtcp2_vec> parts;
    std::uint64_t offset = stream.first;
    for (std::string& chunk : stream.chunks) {
      const std::uint64_t behind = offset + chunk.size();
      if (behind > stream.next) {
        const std::size_t sent = stream.next > offset ? stream.next - offset : 0;
        parts.push_back(
            {reinterpret_cast<std::uint8_t*>(chunk.data()) + sent, chunk.size() - sent});
      }
      offset = behind;
    }
    ngtcp2_ssize taken = -1;
    const ngtcp2_ssize size = ngtcp2_conn_writev_stream(
        quic_, &path, &info, packet.data(), packet.size(), &taken,
        stream.fin ? NGTCP2_WRITE_STREAM_FLAG_FIN : NGTCP2_WRITE_STREAM_FLAG_NONE, id, parts.data(),
        parts.size(), at);
    if (taken >= 0) {
      stream.next += static_cast<std::uint64_t>(taken);
      if (stream.fin && stream.next == stream.end) stream.fin_sent = true;
    }
    const bool blocks = size == NGTCP2_ERR_STREAM_DATA_BLOCKED ||
                        size == NGTCP2_ERR_STREAM_SHUT_WR || size == NGTCP2_ERR_STREAM_NOT_FOUND;
    if (!blocks) return size;
    stream.is_blocked = true;
  }
}

void Connection::send_packet(const ngtcp2_path& path, std::span<const std::uint8_t> packet) {
  shared_.send_packet(to_endpoint(path.remote), as_bytes(packet));
}

// ---- ends ----

void Connection::end(Time now) {
  if (phase_ != Phase::open && phase_ != Phase::waiting) return;
  // The game has ended it: `ended` is for ends that the game does not know of.
  phase_ = phase_ == Phase::open ? Phase::ending : phase_;
  if (!close_at_) close_at_ = now + kEndDelay;
}

void Connection::close(Time now) {
  if (phase_ >= Phase::closing) return;
  ngtcp2_connection_close_error error;
  ngtcp2_connection_close_error_default(&error);
  ngtcp2_connection_close_error_set_application_error(&error, h3::kNoError, nullptr, 0);
  close_with(now, error);
}

// Failures of TLS, of HTTP/3 and of QUIC have codes in three different spaces (RFC 9000, 20).
void Connection::fail_with(Time now, int error) {
  if (phase_ >= Phase::closing) return;
  ngtcp2_connection_close_error reason;
  ngtcp2_connection_close_error_default(&reason);
  if (error == NGTCP2_ERR_CRYPTO) {
    ++shared_.counts.tls_failures;
    ngtcp2_connection_close_error_set_transport_error_tls_alert(
        &reason, ngtcp2_conn_get_tls_alert(quic_), nullptr, 0);
  } else if (error == NGTCP2_ERR_CALLBACK_FAILURE) {
    ngtcp2_connection_close_error_set_application_error(&reason, stream_error_, nullptr, 0);
  } else {
    ++shared_.counts.protocol_errors;
    ngtcp2_connection_close_error_set_transport_error_liberr(&reason, error, nullptr, 0);
  }
  close_with(now, reason);
}

// The packet is kept, to answer what still comes (RFC 9000, 10.2.1).
void Connection::close_with(Time now, const ngtcp2_connection_close_error& error) {
  std::array<std::uint8_t, NGTCP2_MAX_UDP_PAYLOAD_SIZE> packet;  // NOLINT: written first
  ngtcp2_path_storage path;
  ngtcp2_path_storage_zero(&path);
  ngtcp2_pkt_info info{};
  const ngtcp2_ssize size = ngtcp2_conn_write_connection_close(
      quic_, &path.path, &info, packet.data(), packet.size(), &error, to_quic(now));
  if (size <= 0) return leave(now, Phase::gone);
  const auto bytes = as_bytes(std::span(packet).first(static_cast<std::size_t>(size)));
  close_packet_.assign(bytes.begin(), bytes.end());
  close_to_ = to_endpoint(path.path.remote);
  shared_.send_packet(close_to_, close_packet_);
  leave(now, Phase::closing);
}

void Connection::leave(Time now, Phase phase) {
  if (phase_ == Phase::open) shared_.ended.push_back(peer_);
  phase_ = phase;
  session_.reset();
  datagrams_.clear();
  gone_at_ = now + to_duration(3 * ngtcp2_conn_get_pto(quic_));
}

}  // namespace kwind::web
