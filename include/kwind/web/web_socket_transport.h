// A transport over web sockets (RFC 6455), for browsers and for networks that let only HTTP pass.
// One binary message is one datagram of the stream form (docs/wire-format.md, "Over a web socket").
// An optional component on Boost.Beast and OpenSSL. One transport, one thread; non-blocking.
#pragma once
#include <functional>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "kwind/core/errors.h"
#include "kwind/io/pollable_transport.h"

namespace kwind::web {

/// The subprotocol that both ends name in their handshake (RFC 6455, 1.9).
inline constexpr std::string_view kSubprotocol = "kestrel-wind";

/// What a plain GET is answered with, beside the web socket's own path.
struct Page {
  std::string type;  ///< of the content: "text/html; charset=utf-8"
  std::string body;
};

/// Options of a server's web sockets.
struct WebSocketOptions {
  std::string path = "/kwind";  ///< of the web socket; another one is answered by `pages`
  /// Values of the Origin header (RFC 6454) whose pages may connect: "https://harbour.example". The
  /// server's own host is always allowed, "*" allows every page. Programs send no such header.
  std::vector<std::string> origins{};
  std::size_t datagram_bytes = 1472;  ///< a longer message closes with 1009
  /// Connections at once; until a connection belongs to a peer it is pending, and at most half may
  /// be. Each takes a file descriptor; without one the transport accepts nothing for a second.
  std::size_t connections = 1024;
  /// Of one IPv4 address, or one IPv6 /64. Behind a reverse proxy all have the proxy's address:
  /// raise it.
  std::size_t connections_per_address = 64;
  std::size_t header_bytes = 8192;  ///< of a request; more is answered with 431
  /// Ends a connection that does not belong to a peer after this time.
  Duration handshake_timeout = std::chrono::seconds(5);
  /// Bytes that may wait for a peer that reads slowly; more ends its connection. The link keeps at
  /// most 128 KiB in flight, so that only a peer that stopped reading comes near.
  std::size_t unsent_bytes = std::size_t{256} * 1024;
  /// PEM files. With both the transport speaks TLS (wss), else plain HTTP.
  std::string certificate_file{};
  std::string private_key_file{};
  /// Answers a GET of any other path; nothing becomes 404.
  std::function<std::optional<Page>(std::string_view path)> pages{};
};

/// Causes of what was refused or closed, beside TransportCounts.
struct WebSocketCounts {
  std::uint64_t accepted = 0;         ///< TCP connections
  std::uint64_t opened = 0;           ///< web sockets
  std::uint64_t pages = 0;            ///< plain requests that were answered
  std::uint64_t turned_away = 0;      ///< by a limit of connections
  std::uint64_t bad_requests = 0;     ///< no HTTP, wrong method, version or subprotocol
  std::uint64_t header_too_long = 0;  ///< WebSocketOptions::header_bytes
  std::uint64_t not_found = 0;        ///< wrong path
  std::uint64_t bad_origins = 0;
  std::uint64_t tls_failures = 0;
  std::uint64_t timeouts = 0;        ///< WebSocketOptions::handshake_timeout
  std::uint64_t text_messages = 0;   ///< closed with 1003
  std::uint64_t empty_messages = 0;  ///< closed with 1002
  std::uint64_t bad_frames = 0;      ///< closed with 1002, 1007 or 1009
  std::uint64_t ping_floods = 0;     ///< closed with 1008
  std::uint64_t too_slow = 0;        ///< WebSocketOptions::unsent_bytes
};

/// How a client connects.
struct WebSocketAddress {
  bool tls = false;
  std::string host;  ///< for the Host header, and for the certificate with TLS
  std::uint16_t port = 80;
  std::string path = "/kwind";

  /// "ws://HOST[:PORT][/PATH]" or "wss://...". Errors: bad_address.
  static Result<WebSocketAddress> parse(std::string_view url);
};

/// Datagrams over web sockets: a server's port, or a client's one connection.
class KWIND_API WebSocketTransport final : public io::PollableTransport {
 public:
  struct State;  ///< opaque
  /// Listens at `local`; port 0 lets the system choose one. Errors: address_in_use, bad_address,
  /// no_permission, socket_failure; bad_key if a PEM file cannot be read.
  static Result<std::unique_ptr<WebSocketTransport>> listen(const Endpoint& local,
                                                            const WebSocketOptions& options = {});
  /// Starts to connect to `server`, without waiting: take_ended() shows that the connection failed.
  /// `authority_file`: PEM file of the certificates that are trusted with TLS; empty: the system's.
  /// Errors: bad_key, socket_failure.
  static Result<std::unique_ptr<WebSocketTransport>> connect(
      const Endpoint& server, const WebSocketAddress& address,
      const std::string& authority_file = {});
  ~WebSocketTransport() override;

  [[nodiscard]] Endpoint local() const override;
  std::optional<ReceivedDatagram> receive(Time now) override;
  /// Datagrams to an address without a connection are dropped, and counted as send failures.
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override;
  void flush(Time now) override;
  [[nodiscard]] const TransportCounts& counts() const override;
  [[nodiscard]] bool is_stream() const override { return true; }
  std::optional<Endpoint> take_ended() override;
  void keep(const Endpoint& peer) override;
  void end(const Endpoint& peer) override;
  [[nodiscard]] Time next_wakeup() const override;

  /// Reads certificate and key again, for new connections. The old ones stay in use on an error.
  /// Errors: bad_key.
  Errc reload_certificate();
  /// Web sockets that are open.
  [[nodiscard]] std::size_t connections() const;
  [[nodiscard]] const WebSocketCounts& web_socket_counts() const;

 protected:
  [[nodiscard]] bool holds_some() const override;
  void add_waits(std::vector<Waiting>& out) const override;

 private:
  explicit WebSocketTransport(std::unique_ptr<State> state);
  std::unique_ptr<State> state_;
};

}  // namespace kwind::web
