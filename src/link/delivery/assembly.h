// One message that arrives in pieces. Pieces may come twice, overlap, or never. Fed by the
// receivers, which bound how many there are. Memory is taken in pages as pieces come: who sends one
// piece of a large message costs a page, not the message.
#pragma once
#include <algorithm>
#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "link/datagram/frames.h"

namespace kwind::link {

class Assembly {
 public:
  static constexpr std::size_t kPageBytes = 64 * kFragmentBytes;

  explicit Assembly(std::size_t total_bits)
      : total_bits_(total_bits), missing_(chunks_of(total_bits)), have_(missing_) {}

  /// Takes a piece frame. False if it contradicts an earlier one.
  [[nodiscard]] bool add(const Frame& piece) {
    if (piece.total_bits != total_bits_) return false;
    pages_.resize((bytes() + kPageBytes - 1) / kPageBytes);
    bits::Reader in = piece.payload;
    const std::size_t bytes = piece.bits / 8;
    for (std::size_t at = 0; at < bytes; at += kFragmentBytes) {
      const std::size_t size = std::min(kFragmentBytes, bytes - at);
      const std::size_t chunk = piece.first_chunk + at / kFragmentBytes;
      if (have_[chunk]) {
        in.skip(size * 8);  // whichever came first counts
        continue;
      }
      Page& page = pages_[chunk * kFragmentBytes / kPageBytes];
      if (page == nullptr)
        page = std::make_unique_for_overwrite<std::byte[]>(kPageBytes);  // NOLINT
      in.get_bits(std::span(page.get() + chunk * kFragmentBytes % kPageBytes, size), size * 8);
      have_[chunk] = true;
      --missing_;
    }
    if (missing_ == 0) join();
    return true;
  }
  [[nodiscard]] bool complete() const { return missing_ == 0; }
  [[nodiscard]] std::size_t bits() const { return total_bits_; }
  [[nodiscard]] std::span<const std::byte> payload() const { return payload_; }
  [[nodiscard]] std::size_t bytes() const { return bits::bytes_for(total_bits_); }
  /// What it takes now.
  [[nodiscard]] std::size_t memory() const {
    std::size_t pages = 0;
    for (const Page& page : pages_) pages += page == nullptr ? 0U : 1U;
    return pages * kPageBytes + pages_.capacity() * sizeof(Page) + have_.capacity() / 8 +
           payload_.capacity();
  }

 private:
  using Page = std::unique_ptr<std::byte[]>;  // NOLINT: left as it is until pieces come
  void join() {
    payload_.reserve(bytes());
    for (const Page& page : pages_) {
      const std::size_t size = std::min(kPageBytes, bytes() - payload_.size());
      payload_.insert(payload_.end(), page.get(), page.get() + size);
    }
    std::vector<Page>().swap(pages_);
  }

  std::size_t total_bits_;
  std::size_t missing_;
  std::vector<bool> have_;
  std::vector<Page> pages_;
  std::vector<std::byte> payload_;  // once it is complete
};

}  // namespace kwind::link
