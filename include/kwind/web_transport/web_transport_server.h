// A transport over WebTransport (HTTP/3 datagrams, RFC 9297, over QUIC, RFC 9000 and 9221), for
// browsers: datagrams that may be lost, as over UDP, where a web socket holds up everything behind
// a lost packet. An optional component on ngtcp2, GnuTLS and nghttp3, behind the build option
// KWIND_WEB_TRANSPORT. Servers only: the client is a browser. One transport, one thread.
#pragma once
#include <array>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kwind/core/errors.h"
#include "kwind/core/secret.h"
#include "kwind/io/pollable_transport.h"

namespace kwind::web {

/// Options of a server of WebTransport.
struct WebTransportOptions {
  std::string path = "/kwind";  ///< of sessions; another one is answered with 404
  /// As WebSocketOptions::origins: pages of other hosts that may connect.
  std::vector<std::string> origins{};
  /// QUIC connections at once; until a connection carries a peer of the game it is pending, and at
  /// most half may be.
  std::size_t connections = 1024;
  /// Of one IPv4 address, or one IPv6 /64.
  std::size_t connections_per_address = 64;
  /// TLS handshakes per second, with a quarter of a second's worth at once. Beyond that first
  /// packets are dropped, and clients send them again.
  double handshakes_per_second = 400;
  /// Ends a connection that carries no peer of the game after this time.
  Duration handshake_timeout = std::chrono::seconds(5);
  Duration idle_timeout = std::chrono::seconds(15);  ///< of QUIC
  /// Datagrams that wait for congestion control, per connection; the oldest gives way to a newer.
  std::size_t unsent_datagrams = 64;
  /// PEM files. Without both the server makes a certificate that is valid for 13 days, see
  /// certificate_hash() and reload_certificate().
  std::string certificate_file{};
  std::string private_key_file{};
  /// Keys of address validation and of stateless resets. A server that starts again with the same
  /// secret ends the connections of its predecessor at once. Absent: random.
  std::optional<Secret32> secret{};
  /// Seconds since 1970, for certificates. Absent: the system's.
  std::function<std::int64_t()> unix_now{};
};

/// Causes of what was refused or closed, beside TransportCounts.
struct WebTransportCounts {
  std::uint64_t retries = 0;      ///< addresses that were asked to prove themselves
  std::uint64_t accepted = 0;     ///< QUIC connections
  std::uint64_t opened = 0;       ///< sessions
  std::uint64_t turned_away = 0;  ///< by a limit of connections
  std::uint64_t too_many_handshakes = 0;
  std::uint64_t bad_packets = 0;       ///< no QUIC, or with a token that is not this server's
  std::uint64_t unknown_versions = 0;  ///< of QUIC; answered with those that are known
  std::uint64_t resets = 0;            ///< packets of unknown connections that were answered
  std::uint64_t bad_requests = 0;      ///< no CONNECT for WebTransport, or malformed HTTP/3
  std::uint64_t not_found = 0;         ///< wrong path
  std::uint64_t bad_origins = 0;
  std::uint64_t tls_failures = 0;
  std::uint64_t protocol_errors = 0;  ///< of QUIC
  std::uint64_t timeouts = 0;         ///< handshake_timeout or idle_timeout
  std::uint64_t stray_datagrams = 0;  ///< outside of a session
  std::uint64_t congested = 0;        ///< datagrams that gave way, see unsent_datagrams
  std::uint64_t too_long = 0;         ///< datagrams that fit in no packet of the path
};

/// A server's port for WebTransport sessions of browsers.
class KWIND_API WebTransportServer final : public io::PollableTransport {
 public:
  struct State;  ///< opaque
  /// Listens at the UDP address `local`; port 0 lets the system choose one.
  /// Errors: those of UdpTransport::open; bad_key if the PEM files cannot be read.
  static Result<std::unique_ptr<WebTransportServer>> listen(
      const Endpoint& local, const WebTransportOptions& options = {});
  /// The same over any transport of UDP datagrams, such as one that is impaired or simulated. Owns
  /// `udp`.
  static Result<std::unique_ptr<WebTransportServer>> listen_over(
      std::unique_ptr<Transport> udp, const WebTransportOptions& options = {});
  /// Tells all clients that the server is gone.
  ~WebTransportServer() override;

  [[nodiscard]] Endpoint local() const override;
  std::optional<ReceivedDatagram> receive(Time now) override;
  /// Datagrams to an address without a session are dropped, and counted as send failures. A
  /// datagram waits for QUIC's congestion control, or gives way: see
  /// WebTransportOptions::unsent_datagrams.
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override;
  void flush(Time now) override;
  [[nodiscard]] const TransportCounts& counts() const override;
  [[nodiscard]] bool has_connections() const override { return true; }
  std::optional<Endpoint> take_ended() override;
  void keep(const Endpoint& peer) override;
  void end(const Endpoint& peer) override;
  [[nodiscard]] Time next_wakeup() const override;

  /// SHA-256 of the certificate, which pages name to accept a certificate that no authority signed.
  [[nodiscard]] const std::array<std::byte, 32>& certificate_hash() const;
  /// When the certificate expires, in seconds since 1970.
  [[nodiscard]] std::int64_t certificate_expires() const;
  /// Reads the PEM files again, or makes a new certificate, for new connections. The old one stays
  /// in use on an error. Errors: bad_key.
  Errc reload_certificate();
  /// Sessions that are open.
  [[nodiscard]] std::size_t connections() const;
  [[nodiscard]] const WebTransportCounts& web_transport_counts() const;

 protected:
  [[nodiscard]] bool holds_some() const override;
  void add_waits(std::vector<Waiting>& out) const override;

 private:
  explicit WebTransportServer(std::unique_ptr<State> state);
  std::unique_ptr<State> state_;
};

}  // namespace kwind::web
