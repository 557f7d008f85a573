// Client side of the handshake: sends a hello, returns the cookie inside the connect, reads the
// accept. Composed by Link. One link, one thread.
#pragma once
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kwind/link/link.h"
#include "link/handshake/agreed.h"
#include "link/handshake/handshake.h"

namespace kwind::link {

class ClientHandshake {
 public:
  ClientHandshake(ConnectOptions options, Time now);
  ClientHandshake(ClientHandshake&&) = default;
  ClientHandshake& operator=(ClientHandshake&&) = default;
  ~ClientHandshake() { wipe(std::as_writable_bytes(std::span(options_.ticket))); }

  struct Reply {
    Errc error = Errc::none;       ///< why the datagram was dropped
    std::optional<Agreed> agreed;  ///< the server agreed
    Errc refused = Errc::none;     ///< the server said no, and why
    std::string text;
    std::optional<Duration> rtt;  ///< of a datagram that was sent once
  };
  Reply receive(Time now, std::span<const std::byte> datagram);

  /// Writes a hello or a connect if one is due; 0 otherwise.
  std::size_t poll_datagram(Time now, std::span<std::byte> out);
  [[nodiscard]] Time next_send() const { return next_send_; }
  /// Whether the server answered the hello: then a silence is not the network's.
  [[nodiscard]] bool cookie_echoed() const { return cookies_ > 0; }
  /// Whether the server said that others are before this client.
  [[nodiscard]] bool busy_received() const { return busy_; }

 private:
  void take_cookie(Time now, const CookieReply& cookie, Reply& reply);
  void make_connect(const Cookie& cookie);
  void on_accept(Time now, std::span<const std::byte> datagram, Reply& reply);
  [[nodiscard]] Agreed agree(const Welcome& welcome, std::span<const std::byte> message) const;

  ConnectOptions options_;
  std::uint64_t nonce_;
  std::vector<std::byte> connect_;  // kept, as each copy must be the same
  std::optional<NoiseNk> noise_;
  std::optional<Cookie> cookie_;
  Time next_send_;
  Time last_sent_{};
  unsigned copies_ = 0;  // of the current datagram
  unsigned cookies_ = 0;
  bool busy_ = false;
};

}  // namespace kwind::link
