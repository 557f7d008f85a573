// Addresses to text and back: IPv4 in dotted form, IPv6 as RFC 5952 writes it, in brackets before
// the port. An IPv4 address is kept as an IPv4-mapped IPv6 address (RFC 4291, 2.5.5.2).
#include "kwind/core/endpoint.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

namespace kwind {

namespace {

// All of `text` as a number up to `most`.
template <class Number>
bool parse_number(std::string_view text, int base, unsigned max, Number& out) {
  unsigned value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value, base);
  if (text.empty() || error != std::errc{} || end != text.data() + text.size() || value > max) {
    return false;
  }
  out = static_cast<Number>(value);
  return true;
}

// Four numbers without leading zeros.
bool parse_v4(std::string_view text, std::uint8_t* out) {
  for (int i = 0; i < 4; ++i) {
    const std::size_t dot = i < 3 ? text.find('.') : text.size();
    if (dot == std::string_view::npos || !parse_number(text.substr(0, dot), 10, 255, out[i])) {
      return false;
    }
    text.remove_prefix(std::min(dot + 1, text.size()));
  }
  return text.empty();
}

// Groups of hexadecimal digits between colons, at most `room` bytes of them; RFC 4291, 2.2.
bool parse_groups(std::string_view text, std::array<std::uint8_t, 16>& out, std::size_t& bytes) {
  bytes = 0;
  while (!text.empty()) {
    const std::size_t colon = text.find(':');
    const std::string_view group = text.substr(0, colon);
    if (colon == std::string_view::npos && group.find('.') != std::string_view::npos) {
      if (bytes > 12 || !parse_v4(group, out.data() + bytes)) return false;
      bytes += 4;
      return true;
    }
    std::uint16_t value = 0;
    if (bytes > 14 || group.size() > 4 || !parse_number(group, 16, 0xffff, value)) return false;
    out[bytes] = static_cast<std::uint8_t>(value >> 8);
    out[bytes + 1] = static_cast<std::uint8_t>(value);
    bytes += 2;
    if (colon == std::string_view::npos) return true;
    text.remove_prefix(colon + 1);
    if (text.empty()) return false;
  }
  return true;
}

// Groups before and after "::", which stands for as many zero groups as are missing.
bool parse_v6(std::string_view text, std::array<std::uint8_t, 16>& out) {
  const std::size_t gap = text.find("::");
  std::array<std::uint8_t, 16> head{};
  std::array<std::uint8_t, 16> tail{};
  std::size_t head_bytes = 0;
  std::size_t tail_bytes = 0;
  if (gap == std::string_view::npos) {
    return parse_groups(text, out, head_bytes) && head_bytes == 16;
  }
  if (!parse_groups(text.substr(0, gap), head, head_bytes) ||
      !parse_groups(text.substr(gap + 2), tail, tail_bytes) || head_bytes + tail_bytes > 14) {
    return false;
  }
  out = {};
  std::copy_n(head.begin(), head_bytes, out.begin());
  std::copy_n(tail.begin(), tail_bytes, out.end() - static_cast<std::ptrdiff_t>(tail_bytes));
  return true;
}

}  // namespace

// The port follows the last colon; an IPv6 address stands in brackets.
Result<Endpoint> Endpoint::parse(std::string_view text) {
  Endpoint out;
  const std::size_t colon = text.rfind(':');
  if (colon == std::string_view::npos ||
      !parse_number(text.substr(colon + 1), 10, 65535, out.port)) {
    return fail(Errc::bad_address);
  }
  const std::string_view host = text.substr(0, colon);
  if (host.size() > 2 && host.front() == '[' && host.back() == ']') {
    if (!parse_v6(host.substr(1, host.size() - 2), out.ip)) return fail(Errc::bad_address);
    return out;
  }
  std::array<std::uint8_t, 4> v4{};
  if (!parse_v4(host, v4.data())) return fail(Errc::bad_address);
  return Endpoint::v4(v4[0], v4[1], v4[2], v4[3], out.port);
}

bool Endpoint::is_any() const {
  return ip == any(0).ip || ip == v4(0, 0, 0, 0, 0).ip;
}

Endpoint Endpoint::network() const {
  Endpoint network = *this;
  network.port = 0;
  if (!is_v4()) std::fill(network.ip.begin() + 8, network.ip.end(), std::uint8_t{0});
  return network;
}

// The text without brackets and port.
std::string Endpoint::ip_text() const {
  const std::string whole = text();
  const std::string alone = whole.substr(0, whole.rfind(':'));
  return alone.starts_with('[') ? alone.substr(1, alone.size() - 2) : alone;
}

// 127.0.0.0/8 and ::1.
bool Endpoint::is_loopback() const {
  if (is_v4()) return ip[12] == 127;
  for (std::size_t i = 0; i < 15; ++i) {
    if (ip[i] != 0) return false;
  }
  return ip[15] == 1;
}

// IPv4 as dotted numbers, IPv6 by RFC 5952: lower case, the longest run of zeros as `::`.
std::string Endpoint::text() const {
  if (is_v4()) return fmt::format("{}.{}.{}.{}:{}", ip[12], ip[13], ip[14], ip[15], port);
  // RFC 5952: the longest run of zero groups, two at least, becomes "::".
  std::array<unsigned, 8> groups{};
  for (std::size_t i = 0; i < 8; ++i) groups[i] = (unsigned{ip[2 * i]} << 8) | ip[2 * i + 1];
  std::size_t gap = 8;
  std::size_t gap_size = 1;
  for (std::size_t i = 0; i < 8; ++i) {
    std::size_t size = 0;
    while (i + size < 8 && groups[i + size] == 0) ++size;
    if (size > gap_size) {
      gap = i;
      gap_size = size;
    }
  }
  std::string out = "[";
  for (std::size_t i = 0; i < 8; ++i) {
    if (i == gap) {
      out += "::";
      i += gap_size - 1;
      continue;
    }
    if (i > 0 && out.back() != ':') out += ':';
    out += fmt::format("{:x}", groups[i]);
  }
  return out + fmt::format("]:{}", port);
}

}  // namespace kwind

// Not keyed: tables that strangers can fill use a hash of their own.
std::size_t std::hash<kwind::Endpoint>::operator()(const kwind::Endpoint& endpoint) const noexcept {
  std::uint64_t mixed = 1469598103934665603ULL ^ endpoint.port;  // FNV-1a, 64 bits
  for (const std::uint8_t byte : endpoint.ip) mixed = (mixed ^ byte) * 1099511628211ULL;
  return static_cast<std::size_t>(mixed ^ (mixed >> 32));
}
