// The client's part of the handshake: says hello, brings the cookie back, hears welcome or refusal.
// Composed by Link. One link, one thread.
#pragma once
#include <optional>
#include <span>
#include <string>

#include "handshake.h"
#include "kwind/link/link.h"

namespace kwind::link {

class Greeting {
 public:
  Greeting(Identity identity, std::uint64_t nonce, Time now);

  struct Answer {
    Errc error = Errc::none;           ///< why the datagram was dropped
    std::optional<Admission> welcome;  ///< the server agreed
    Errc refused = Errc::none;         ///< the server said no, and why
    std::string text;
    std::optional<Duration> rtt;  ///< of a hello that was sent once
  };
  Answer receive(Time now, std::span<const std::byte> datagram);

  /// Writes a hello if one is due; 0 otherwise.
  std::size_t poll_datagram(Time now, std::span<std::byte> out);
  [[nodiscard]] Time next_send() const { return next_send_; }

 private:
  Identity identity_;
  std::uint64_t nonce_;
  std::optional<Cookie> cookie_;
  Time next_send_;
  Time last_sent_{};
  unsigned copies_ = 0;  // of the current hello
  unsigned cookies_ = 0;
};

}  // namespace kwind::link
