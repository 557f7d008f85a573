// One message that arrives in pieces. Pieces may come twice, overlap, or never. Fed by the
// receivers, which bound how many there are.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

#include "frames.h"

namespace kwind::link {

class Assembly {
 public:
  explicit Assembly(std::size_t total_bits)
      : total_bits_(total_bits), missing_(chunks_of(total_bits)), have_(missing_) {}

  /// Takes a piece frame. False if it contradicts an earlier one.
  [[nodiscard]] bool add(const Frame& piece) {
    if (piece.total_bits != total_bits_) return false;
    if (payload_.empty()) payload_.resize(bits::bytes_for(total_bits_));
    bits::Reader in = piece.payload;
    const std::size_t bytes = piece.bits / 8;
    for (std::size_t at = 0; at < bytes; at += kChunkBytes) {
      const std::size_t size = std::min(kChunkBytes, bytes - at);
      const std::size_t chunk = piece.first_chunk + at / kChunkBytes;
      if (have_[chunk]) {
        in.skip(size * 8);  // whichever came first counts
        continue;
      }
      in.get_bits(std::span(payload_).subspan(chunk * kChunkBytes, size), size * 8);
      have_[chunk] = true;
      --missing_;
    }
    return true;
  }
  [[nodiscard]] bool complete() const { return missing_ == 0; }
  [[nodiscard]] std::size_t bits() const { return total_bits_; }
  [[nodiscard]] std::span<const std::byte> payload() const { return payload_; }
  [[nodiscard]] std::size_t bytes() const { return bits::bytes_for(total_bits_); }

 private:
  std::size_t total_bits_;
  std::size_t missing_;
  std::vector<bool> have_;
  std::vector<std::byte> payload_;
};

}  // namespace kwind::link
