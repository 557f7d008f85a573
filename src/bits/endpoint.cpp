#include "kwind/bits/endpoint.h"

#include <fmt/format.h>

#include <charconv>

namespace kwind {

Result<Endpoint> Endpoint::parse(std::string_view text) {
  std::array<unsigned, 5> parts{};
  const char* at = text.data();
  const char* const end = text.data() + text.size();
  for (std::size_t i = 0; i < parts.size(); ++i) {
    const auto [next, error] = std::from_chars(at, end, parts[i]);
    if (error != std::errc{} || parts[i] > (i < 4 ? 255U : 65535U)) return fail(Errc::bad_address);
    at = next;
    if (i == 4) break;
    if (at == end || *at != (i < 3 ? '.' : ':')) return fail(Errc::bad_address);
    ++at;
  }
  if (at != end) return fail(Errc::bad_address);
  return v4(static_cast<std::uint8_t>(parts[0]), static_cast<std::uint8_t>(parts[1]),
            static_cast<std::uint8_t>(parts[2]), static_cast<std::uint8_t>(parts[3]),
            static_cast<std::uint16_t>(parts[4]));
}

bool Endpoint::is_loopback() const {
  if (is_v4()) return ip[12] == 127;
  for (std::size_t i = 0; i < 15; ++i) {
    if (ip[i] != 0) return false;
  }
  return ip[15] == 1;
}

std::string Endpoint::text() const {
  if (is_v4()) return fmt::format("{}.{}.{}.{}:{}", ip[12], ip[13], ip[14], ip[15], port);
  std::string out = "[";
  for (std::size_t i = 0; i < 16; i += 2) {
    out += fmt::format("{}{:x}", i == 0 ? "" : ":", (ip[i] << 8) | ip[i + 1]);
  }
  return out + fmt::format("]:{}", port);
}

}  // namespace kwind

std::size_t std::hash<kwind::Endpoint>::operator()(const kwind::Endpoint& endpoint) const noexcept {
  std::uint64_t mixed = 1469598103934665603ULL ^ endpoint.port;  // FNV-1a, 64 bits
  for (const std::uint8_t byte : endpoint.ip) mixed = (mixed ^ byte) * 1099511628211ULL;
  return static_cast<std::size_t>(mixed ^ (mixed >> 32));
}
