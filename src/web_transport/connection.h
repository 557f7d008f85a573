// One QUIC connection of a WebTransport server: TLS handshake, the streams of HTTP/3, one
// session, and its datagrams. All calls of ngtcp2 that concern a connection stand here. Private to
// web_transport.
//
//   handshaking --TLS done--> waiting --CONNECT accepted--> open
//        |                      |                            |  CLOSE capsule, FIN, end()
//        |                      |                            v
//        |                      |                          ending --kEndDelay--> closing
//        +------ error ---------+------- error --------------+----------------> closing
//   closing: answers packets with the close, for three probe timeouts (RFC 9000, 10.2.1)
//   draining: the client closed; silence for as long (10.2.2)           both --> gone
#pragma once
#include <gnutls/gnutls.h>
#include <ngtcp2/ngtcp2.h>
#include <ngtcp2/ngtcp2_crypto.h>

#include <array>
#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <unordered_map>
#include <vector>

#include "kwind/web_transport/web_transport_server.h"
#include "web_transport/certificate.h"
#include "web_transport/http3.h"

namespace kwind::web {

/// How long a connection without a session lasts, so that its last bytes can leave.
inline constexpr Duration kEndDelay = std::chrono::milliseconds(200);

class Connection;

/// Length of this server's connection ids: short, as each takes room in every packet to it.
inline constexpr std::size_t kIdBytes = 8;
/// No packet is longer.
inline constexpr std::size_t kMaxPacketBytes = 1500;

struct InboundDatagram {
  Endpoint from;
  std::vector<std::byte> bytes;
};

/// What the connections of one server have in common.
struct Shared {
  WebTransportOptions options;
  WebTransportCounts counts;
  TransportCounts transport_counts;
  Endpoint local{};
  Secret32 reset_secret;
  std::unordered_map<std::string, Connection*> by_id;  ///< by each of its connection ids
  std::deque<InboundDatagram> inbox;
  std::deque<Endpoint> ended;  ///< peers of sessions that are over
  /// Sends one UDP datagram.
  std::function<void(const Endpoint& to, std::span<const std::byte> packet)> send_packet;
};

/// A socket address as ngtcp2 takes it; IPv4 in its mapped form.
struct SocketAddress {
  explicit SocketAddress(const Endpoint& endpoint);
  [[nodiscard]] ngtcp2_addr get() const;
  sockaddr_in6 v6{};
};
Endpoint to_endpoint(const ngtcp2_addr& address);
/// Nanoseconds, as ngtcp2 counts them.
ngtcp2_tstamp to_quic(Time now);

class Connection {
 public:
  /// What an accepted first packet says; see server.cpp.
  struct First {
    ngtcp2_pkt_hd header;
    ngtcp2_cid original_id;  ///< that the client chose before the Retry
    std::vector<std::uint8_t> token;
  };
  /// nullptr: the libraries have no memory, or refuse the parameters.
  static std::unique_ptr<Connection> accept(Shared& shared, Time now, const Endpoint& from,
                                            std::shared_ptr<const Certificate> certificate,
                                            const First& first);
  Connection(const Connection&) = delete;
  Connection& operator=(const Connection&) = delete;
  ~Connection();

  void read(Time now, const Endpoint& from, std::span<const std::byte> packet);
  /// Lets timers act and sends what may be sent.
  void flush(Time now);
  /// Queues a datagram of the session. False: no session is open, or it does not fit.
  bool send(std::span<const std::byte> bytes);
  /// Ends the session soon: what was queued before leaves first.
  void end(Time now);
  /// Closes at once, without an error.
  void close(Time now);

  [[nodiscard]] const Endpoint& peer() const { return peer_; }
  [[nodiscard]] bool is_open() const { return phase_ == Phase::open || phase_ == Phase::ending; }
  [[nodiscard]] bool is_over() const { return phase_ == Phase::gone; }
  [[nodiscard]] Time next_wakeup() const;
  [[nodiscard]] Time since() const { return since_; }
  [[nodiscard]] bool is_kept() const { return is_kept_; }
  void keep() { is_kept_ = true; }

 private:
  enum class Phase : std::uint8_t { handshaking, waiting, open, ending, closing, draining, gone };
  // Bytes of a stream that are not acknowledged: ngtcp2 reads them again when a packet is lost.
  struct Outgoing {
    std::deque<std::string> chunks;
    std::uint64_t first = 0;  // offset of the first chunk
    std::uint64_t next = 0;   // to be sent
    std::uint64_t end = 0;    // behind the last byte
    bool fin = false;
    bool fin_sent = false;
    bool is_blocked = false;  // by flow control, until the next flush
    [[nodiscard]] bool has_unsent() const { return next < end || (fin && !fin_sent); }
  };
  // The incoming half of a stream that has a meaning here.
  struct Incoming {
    enum class Kind : std::uint8_t { unknown, control, request, ignored };
    Kind kind = Kind::unknown;
    std::string head;  // until the kind is known
    RecordReader frames;
    RecordReader capsules;
    bool is_answered = false;
  };
  class FrameSink;
  class CapsuleSink;

  Connection(Shared& shared, Time now, const Endpoint& from,
             std::shared_ptr<const Certificate> certificate);
  bool start(const First& first);
  bool start_tls();
  static ngtcp2_callbacks callbacks();
  static Connection& of(void* user_data) { return *static_cast<Connection*>(user_data); }

  // Called by ngtcp2. Nonzero: the connection fails.
  int on_handshake_completed();
  int on_stream_data(std::int64_t id, std::string_view bytes, bool fin);
  void on_acked(std::int64_t id, std::uint64_t up_to);
  void on_stream_closed(std::int64_t id);
  void on_datagram(std::string_view bytes);
  int new_id(ngtcp2_cid& id, std::uint8_t* token, std::size_t bytes);

  bool read_kind(std::int64_t id, Incoming& stream, std::string_view& bytes);
  bool on_headers(std::int64_t id, std::string_view block);
  bool respond(std::int64_t id, std::string_view status, bool opens);
  void queue(std::int64_t id, std::string bytes, bool fin);
  void session_over();
  [[nodiscard]] std::size_t max_datagram_bytes() const;

  void write_packets(ngtcp2_tstamp at);
  ngtcp2_ssize write_datagram(std::span<std::uint8_t> packet, ngtcp2_path& path, ngtcp2_tstamp at);
  ngtcp2_ssize write_stream(std::span<std::uint8_t> packet, ngtcp2_path& path, ngtcp2_tstamp at);
  void send_packet(const ngtcp2_path& path, std::span<const std::uint8_t> packet);
  void fail_with(Time now, int error);
  void close_with(Time now, const ngtcp2_connection_close_error& error);
  void leave(Time now, Phase phase);

  Shared& shared_;
  std::shared_ptr<const Certificate> certificate_;
  Endpoint peer_;  // as the game knows it, wherever the client moves
  Time since_;
  Time now_;  // of the call that runs
  Phase phase_ = Phase::handshaking;
  bool is_kept_ = false;
  ngtcp2_conn* quic_ = nullptr;
  gnutls_session_t tls_ = nullptr;
  ngtcp2_crypto_conn_ref reference_{};
  std::map<std::int64_t, Outgoing> outgoing_;
  std::map<std::int64_t, Incoming> incoming_;
  std::optional<std::int64_t> session_;  // the stream of its CONNECT
  std::deque<std::string> datagrams_;
  std::uint64_t next_datagram_ = 0;
  std::uint64_t stream_error_ = h3::kGeneralProtocolError;  // when a callback fails
  std::optional<Time> close_at_;
  Time gone_at_ = kNever;
  std::vector<std::byte> close_packet_;
  Endpoint close_to_{};
  unsigned packets_while_closing_ = 0;
};

}  // namespace kwind::web
