// Numbers of datagrams and messages: 64 bits in memory, their low bits on the wire.
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

/// The number with these low `bits` bits (1 to 32) that is nearest to `expected` (RFC 9000, A.3).
/// Right as long as the true number is within 2^(bits - 1) of `expected`.
constexpr std::uint64_t expand(std::uint64_t expected, std::uint64_t low, unsigned bits) {
  const std::uint64_t span = std::uint64_t{1} << bits;
  const std::uint64_t candidate = (expected & ~(span - 1)) | (low & (span - 1));
  if (candidate + span / 2 <= expected) return candidate + span;
  if (candidate > expected + span / 2 && candidate >= span) return candidate - span;
  return candidate;
}
constexpr std::uint64_t expand16(std::uint64_t expected, std::uint64_t low16) {
  return expand(expected, low16, 16);
}

}  // namespace kwind::link
