// Numbers of datagrams and messages: 64 bits in memory, their low 16 bits on the wire.
#pragma once
#include <cstdint>

namespace kwind::link {

/// Numbers the datagrams of one direction from 0, never reused. Will not add to a byte count.
enum class PacketNumber : std::uint64_t {};

constexpr std::uint64_t raw(PacketNumber number) {
  return static_cast<std::uint64_t>(number);
}
constexpr PacketNumber next(PacketNumber number) {
  return PacketNumber{raw(number) + 1};
}

/// The number with these low 16 bits that is nearest to `expected` (RFC 9000, A.3).
/// Right as long as the true number is within 2^15 of `expected`.
constexpr std::uint64_t expand16(std::uint64_t expected, std::uint64_t low16) {
  const std::uint64_t candidate = (expected & ~std::uint64_t{0xffff}) | (low16 & 0xffff);
  if (candidate + 0x8000 <= expected) return candidate + 0x10000;
  if (candidate > expected + 0x8000 && candidate >= 0x10000) return candidate - 0x10000;
  return candidate;
}

}  // namespace kwind::link
