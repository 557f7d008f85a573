// Numbers that a peer cannot guess, whatever numbers it has seen: BLAKE2b of a counter under a key
// (RFC 7693), four numbers a block. Each use has a label of its own, so that the numbers that a
// peer sees say nothing of those that it must not know.
#pragma once
#include <array>
#include <cstdint>
#include <string_view>

#include "kwind/core/secret.h"

namespace kwind::link {

class KeyedRandom {
 public:
  /// `label` outlives this.
  KeyedRandom(const Secret32& key, std::string_view label) : key_(key), label_(label) {}

  std::uint64_t next() {
    if (left_ == 0) {
      std::array<std::byte, 8> block{};
      for (std::size_t i = 0; i < block.size(); ++i) {
        block[i] = static_cast<std::byte>(blocks_ >> (8 * i));
      }
      ++blocks_;
      block_ = derive(key_, label_, block);
      left_ = kNumbers;
    }
    const auto bytes = block_.bytes().subspan(--left_ * sizeof(std::uint64_t));
    std::uint64_t number = 0;
    for (std::size_t i = 0; i < sizeof number; ++i) {
      number |= std::to_integer<std::uint64_t>(bytes[i]) << (8 * i);
    }
    return number;
  }

 private:
  static constexpr std::size_t kNumbers = 4;
  Secret32 key_;
  std::string_view label_;
  Secret32 block_;
  std::uint64_t blocks_ = 0;
  std::size_t left_ = 0;
};

}  // namespace kwind::link
