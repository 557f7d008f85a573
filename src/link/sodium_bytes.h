// libsodium's view of our bytes, and the nonce that both ciphers and Noise make of a number.
#pragma once
#include <array>
#include <cstddef>
#include <cstdint>
#include <span>

namespace kwind::link {

inline const unsigned char* sodium_in(std::span<const std::byte> data) {
  return reinterpret_cast<const unsigned char*>(data.data());
}
inline unsigned char* sodium_out(std::span<std::byte> data) {
  return reinterpret_cast<unsigned char*>(data.data());
}

/// 32 zero bits, then the number with the lowest byte first: Noise revision 34, section 12.2.
inline std::array<unsigned char, 12> nonce_of(std::uint64_t number) {
  std::array<unsigned char, 12> nonce{};
  for (std::size_t i = 0; i < 8; ++i) nonce[4 + i] = static_cast<unsigned char>(number >> (8 * i));
  return nonce;
}

}  // namespace kwind::link
