// An address and port as a plain value, so that link and io can share it without knowing each
// other. No system headers; safe anywhere.
#pragma once
#include <array>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <string>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"

namespace kwind {

/// An IPv6 address (IPv4 in its mapped form ::ffff:a.b.c.d) and a port.
struct KWIND_API Endpoint {
  /// Of IPv6, or an IPv4 address mapped into it.
  std::array<std::uint8_t, 16> ip{};
  std::uint16_t port = 0;

  /// a.b.c.d:port.
  static constexpr Endpoint v4(std::uint8_t a, std::uint8_t b, std::uint8_t c, std::uint8_t d,
                               std::uint16_t port) {
    return {{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, a, b, c, d}, port};
  }
  /// All addresses of this machine, IPv6 and IPv4, to listen on or to send from.
  static constexpr Endpoint any(std::uint16_t port) { return {{}, port}; }
  /// 127.0.0.1:port.
  static constexpr Endpoint loopback(std::uint16_t port) { return v4(127, 0, 0, 1, port); }
  /// [::1]:port.
  static constexpr Endpoint loopback_v6(std::uint16_t port) {
    return {{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1}, port};
  }

  /// "127.0.0.1:4000" or "[::1]:4000" (RFC 4291, 2.2; without zones). Errors: Errc::bad_address.
  [[nodiscard]] static Result<Endpoint> parse(std::string_view text);

  [[nodiscard]] constexpr bool is_v4() const {
    for (std::size_t i = 0; i < 10; ++i) {
      if (ip[i] != 0) return false;
    }
    return ip[10] == 0xff && ip[11] == 0xff;
  }
  /// 127.0.0.0/8 or ::1.
  [[nodiscard]] bool is_loopback() const;
  /// 0.0.0.0 or ::, which a server listens on and nobody can send to.
  [[nodiscard]] bool is_any() const;
  [[nodiscard]] std::string text() const;
  /// The address block that one household or host has all of, with port 0: an IPv4 address, or the
  /// first 64 bits of an IPv6 address (RFC 6177). Limits per address count these.
  [[nodiscard]] Endpoint network() const;
  /// The address alone, without brackets: "127.0.0.1", "::1".
  [[nodiscard]] std::string ip_text() const;

  friend constexpr bool operator==(const Endpoint&, const Endpoint&) = default;
};

}  // namespace kwind

template <>
struct std::hash<kwind::Endpoint> {
  std::size_t operator()(const kwind::Endpoint& endpoint) const noexcept;
};
