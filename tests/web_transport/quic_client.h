// A client of WebTransport by ngtcp2, as a browser is one: for tests in virtual time. The client
// checks no certificate.
#pragma once
#include <gnutls/crypto.h>
#include <gnutls/gnutls.h>
#include <ngtcp2/ngtcp2.h>
#include <ngtcp2/ngtcp2_crypto.h>
#include <ngtcp2/ngtcp2_crypto_gnutls.h>

#include <deque>
#include <map>
#include <string>
#include <vector>

#include "kwind/core/assert.h"
#include "kwind/core/transport.h"
#include "web_transport/connection.h"
#include "web_transport/http3.h"

namespace kwind::web {

/// What a request says. A field that is empty is left out.
struct TestRequest {
  std::string method = "CONNECT";
  std::string protocol = "webtransport";
  std::string path = "/kwind";
  std::string authority = "harbour.example:443";
  std::string origin{};
  std::string scheme = "https";
};

class QuicClient {
 public:
  QuicClient(Transport& udp, const Endpoint& server, Time now) : udp_(udp), server_(server) {
    ngtcp2_callbacks all{};
    all.client_initial = ngtcp2_crypto_client_initial_cb;
    all.recv_crypto_data = ngtcp2_crypto_recv_crypto_data_cb;
    all.encrypt = ngtcp2_crypto_encrypt_cb;
    all.decrypt = ngtcp2_crypto_decrypt_cb;
    all.hp_mask = ngtcp2_crypto_hp_mask_cb;
    all.recv_retry = ngtcp2_crypto_recv_retry_cb;
    all.update_key = ngtcp2_crypto_update_key_cb;
    all.delete_crypto_aead_ctx = ngtcp2_crypto_delete_crypto_aead_ctx_cb;
    all.delete_crypto_cipher_ctx = ngtcp2_crypto_delete_crypto_cipher_ctx_cb;
    all.get_path_challenge_data = ngtcp2_crypto_get_path_challenge_data_cb;
    all.version_negotiation = ngtcp2_crypto_version_negotiation_cb;
    all.rand = [](std::uint8_t* out, std::size_t bytes, const ngtcp2_rand_ctx*) {
      (void)gnutls_rnd(GNUTLS_RND_NONCE, out, bytes);
    };
    all.get_new_connection_id = [](ngtcp2_conn*, ngtcp2_cid* id, std::uint8_t* token,
                                   std::size_t bytes, void*) {
      id->datalen = bytes;
      (void)gnutls_rnd(GNUTLS_RND_NONCE, id->data, bytes);
      (void)gnutls_rnd(GNUTLS_RND_NONCE, token, NGTCP2_STATELESS_RESET_TOKENLEN);
      return 0;
    };
    all.handshake_completed = [](ngtcp2_conn*, void* user) {
      static_cast<QuicClient*>(user)->is_connected = true;
      return 0;
    };
    all.recv_stream_data = [](ngtcp2_conn* connection, std::uint32_t flags, std::int64_t id,
                              std::uint64_t, const std::uint8_t* data, std::size_t size, void* user,
                              void*) {
      auto& self = *static_cast<QuicClient*>(user);
      self.streams[id].append(reinterpret_cast<const char*>(data), size);
      if ((flags & NGTCP2_STREAM_DATA_FLAG_FIN) != 0) self.has_fin[id] = true;
      (void)ngtcp2_conn_extend_max_stream_offset(connection, id, size);
      ngtcp2_conn_extend_max_offset(connection, size);
      return 0;
    };
    all.recv_datagram = [](ngtcp2_conn*, std::uint32_t, const std::uint8_t* data, std::size_t size,
                           void* user) {
      static_cast<QuicClient*>(user)->datagrams.emplace_back(reinterpret_cast<const char*>(data),
                                                             size);
      return 0;
    };
    ngtcp2_settings settings;
    ngtcp2_settings_default(&settings);
    settings.initial_ts = to_quic(now);
    settings.no_pmtud = 1;
    settings.handshake_timeout = 60 * NGTCP2_SECONDS;
    ngtcp2_transport_params parameters;
    ngtcp2_transport_params_default(&parameters);
    parameters.initial_max_stream_data_bidi_local = 65536;
    parameters.initial_max_stream_data_uni = 65536;
    parameters.initial_max_data = 65536;
    parameters.initial_max_streams_uni = 8;
    parameters.max_datagram_frame_size = 65535;
    ngtcp2_cid theirs{};
    ngtcp2_cid own{};
    theirs.datalen = own.datalen = 8;
    (void)gnutls_rnd(GNUTLS_RND_NONCE, theirs.data, 8);
    (void)gnutls_rnd(GNUTLS_RND_NONCE, own.data, 8);
    const SocketAddress from(udp.local());
    const SocketAddress to(server);
    const ngtcp2_path path{from.get(), to.get(), nullptr};
    KWIND_ASSERT(ngtcp2_conn_client_new(&quic, &theirs, &own, &path, NGTCP2_PROTO_VER_V1, &all,
                                        &settings, &parameters, nullptr, this) == 0);
    start_tls();
  }
  QuicClient(const QuicClient&) = delete;
  QuicClient& operator=(const QuicClient&) = delete;
  ~QuicClient() {
    ngtcp2_conn_del(quic);
    gnutls_deinit(tls_);
    gnutls_certificate_free_credentials(credentials_);
  }

  /// Reads what arrived and sends what is due.
  void turn(Time now) {
    while (const auto packet = udp_.receive(now)) {
      if (is_over) continue;
      const SocketAddress from(udp_.local());
      const SocketAddress to(server_);
      const ngtcp2_path path{from.get(), to.get(), nullptr};
      const ngtcp2_pkt_info info{};
      const int error = ngtcp2_conn_read_pkt(
          quic, &path, &info, reinterpret_cast<const std::uint8_t*>(packet->bytes.data()),
          packet->bytes.size(), to_quic(now));
      if (error != 0) is_over = true;
    }
    if (is_over || is_silent) return;
    if (to_quic(now) >= ngtcp2_conn_get_expiry(quic)) {
      if (ngtcp2_conn_handle_expiry(quic, to_quic(now)) != 0) {
        is_over = true;
        return;
      }
    }
    for (int i = 0; i < 100 && write(now); ++i) {
    }
  }

  /// Opens a request stream, and a control stream before it.
  std::int64_t request(const TestRequest& what) {
    std::int64_t control = 0;
    KWIND_ASSERT(ngtcp2_conn_open_uni_stream(quic, &control, nullptr) == 0);
    out_[control] = control_stream_start();
    std::vector<std::pair<std::string, std::string>> fields;
    const auto add = [&](const char* name, const std::string& value) {
      if (!value.empty()) fields.emplace_back(name, value);
    };
    add(":method", what.method);
    add(":protocol", what.protocol);
    add(":scheme", what.scheme);
    add(":authority", what.authority);
    add(":path", what.path);
    add("origin", what.origin);
    std::int64_t id = 0;
    KWIND_ASSERT(ngtcp2_conn_open_bidi_stream(quic, &id, nullptr) == 0);
    // A frame of a type that nobody knows comes before it, as browsers send some.
    out_[id] =
        frame(0x21 + 0x1f * 7, "grease") + frame(h3::kHeaders, *write_header_block(id, fields));
    return id;
  }
  void send_on(std::int64_t id, const std::string& bytes) { out_[id] += bytes; }
  void send_datagram(std::int64_t session, const std::string& bytes) {
    std::string& made = datagrams_out_.emplace_back();
    put_varint(made, static_cast<std::uint64_t>(session) / 4);
    made += bytes;
  }
  /// The status of the response on a stream; empty if none came.
  std::string status(std::int64_t id) {
    std::string_view bytes = streams[id];
    const auto type = take_varint(bytes);
    const auto length = type ? take_varint(bytes) : std::nullopt;
    if (!length || bytes.size() < *length) return "";
    const auto fields = read_header_block(id, bytes.substr(0, *length));
    return fields ? fields->at(":status") : "malformed";
  }
  /// The next packet that arrived, unread.
  std::optional<std::string> receive(Time now) {
    const auto packet = udp_.receive(now);
    if (!packet) return std::nullopt;
    return std::string(reinterpret_cast<const char*>(packet->bytes.data()), packet->bytes.size());
  }
  /// The payload of a datagram that came for a session.
  static std::string payload(std::string_view datagram, std::int64_t session) {
    const auto quarter = take_varint(datagram);
    return quarter == static_cast<std::uint64_t>(session) / 4 ? std::string(datagram) : "stray";
  }

  ngtcp2_conn* quic = nullptr;
  bool is_connected = false;
  bool is_over = false;    // the server closed, or the connection broke
  bool is_silent = false;  // sends nothing any more
  std::map<std::int64_t, std::string> streams;
  std::map<std::int64_t, bool> has_fin;
  std::deque<std::string> datagrams;

 private:
  void start_tls() {
    KWIND_ASSERT(gnutls_certificate_allocate_credentials(&credentials_) == 0);
    KWIND_ASSERT(gnutls_init(&tls_, GNUTLS_CLIENT) == 0);
    KWIND_ASSERT(gnutls_priority_set_direct(
                     tls_, "NORMAL:-VERS-ALL:+VERS-TLS1.3:%DISABLE_TLS13_COMPAT_MODE", nullptr) ==
                 0);
    KWIND_ASSERT(gnutls_credentials_set(tls_, GNUTLS_CRD_CERTIFICATE, credentials_) == 0);
    KWIND_ASSERT(ngtcp2_crypto_gnutls_configure_client_session(tls_) == 0);
    reference_.user_data = this;
    reference_.get_conn = [](ngtcp2_crypto_conn_ref* reference) {
      return static_cast<QuicClient*>(reference->user_data)->quic;
    };
    gnutls_session_set_ptr(tls_, &reference_);
    unsigned char name[] = "h3";
    const gnutls_datum_t protocol{name, 2};
    KWIND_ASSERT(gnutls_alpn_set_protocols(tls_, &protocol, 1, 0) == 0);
    ngtcp2_conn_set_tls_native_handle(quic, tls_);
  }

  // One packet. False: nothing leaves now.
  bool write(Time now) {
    std::array<std::uint8_t, 1500> packet{};
    ngtcp2_path_storage path;
    ngtcp2_path_storage_zero(&path);
    ngtcp2_pkt_info info{};
    ngtcp2_ssize size = 0;
    if (is_connected && !datagrams_out_.empty()) {
      std::string& first = datagrams_out_.front();
      const ngtcp2_vec bytes{reinterpret_cast<std::uint8_t*>(first.data()), first.size()};
      int is_accepted = 0;
      size = ngtcp2_conn_writev_datagram(quic, &path.path, &info, packet.data(), packet.size(),
                                         &is_accepted, 0, 0, &bytes, 1, to_quic(now));
      if (is_accepted != 0) datagrams_out_.pop_front();
    } else {
      const auto unsent = std::find_if(out_.begin(), out_.end(), [&](const auto& each) {
        return sent_[each.first] < each.second.size();
      });
      const bool has_some = unsent != out_.end();
      ngtcp2_vec bytes{};
      if (has_some) {
        bytes = {reinterpret_cast<std::uint8_t*>(unsent->second.data()) + sent_[unsent->first],
                 unsent->second.size() - sent_[unsent->first]};
      }
      ngtcp2_ssize taken = -1;
      size = ngtcp2_conn_writev_stream(quic, &path.path, &info, packet.data(), packet.size(),
                                       &taken, 0, has_some ? unsent->first : -1, &bytes,
                                       has_some ? 1 : 0, to_quic(now));
      if (taken > 0) sent_[unsent->first] += static_cast<std::size_t>(taken);
    }
    if (size <= 0) return false;
    udp_.send(now, server_, std::as_bytes(std::span(packet)).first(static_cast<std::size_t>(size)));
    return true;
  }

  Transport& udp_;
  Endpoint server_;
  gnutls_session_t tls_ = nullptr;
  gnutls_certificate_credentials_t credentials_ = nullptr;
  ngtcp2_crypto_conn_ref reference_{};
  std::map<std::int64_t, std::string> out_;  // whole streams: ngtcp2 reads lost bytes again
  std::map<std::int64_t, std::size_t> sent_;
  std::deque<std::string> datagrams_out_;
};

}  // namespace kwind::web
