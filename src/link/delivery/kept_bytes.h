// The bytes of a message while it waits to be sent or acked: a copy of its own, whose storage is
// used again, or a share in bytes that many links send. One slot, one thread.
#pragma once
#include <algorithm>
#include <cstddef>
#include <memory>
#include <span>
#include <utility>
#include <vector>

#include "kwind/bits/writer.h"
#include "kwind/link/shared_bytes.h"

namespace kwind::link {

/// What send() was given: bytes to be copied, or shared ones.
struct Outbound {
  std::span<const std::byte> payload;  ///< as long as `bits` need, or longer
  std::size_t bits = 0;
  const SharedBytes* shared = nullptr;  ///< if there, `payload` is of these
};

class KeptBytes {
 public:
  void take(const Outbound& message) {
    const auto bytes = message.payload.first(bits::bytes_for(message.bits));
    if (message.shared != nullptr && (*message.shared)->size() == bytes.size()) {
      shared_ = *message.shared;
      own_.clear();
    } else {
      shared_.reset();
      own_.assign(bytes.begin(), bytes.end());
    }
  }
  /// Releases shared bytes, and storage beyond `keep` bytes.
  void release(std::size_t keep) {
    shared_.reset();
    if (own_.capacity() > keep) {
      own_ = std::vector<std::byte>();
    } else {
      own_.clear();
    }
  }
  [[nodiscard]] std::span<const std::byte> bytes() const {
    return shared_ ? std::span<const std::byte>(*shared_) : std::span<const std::byte>(own_);
  }
  [[nodiscard]] std::size_t size() const { return shared_ ? shared_->size() : own_.size(); }

 private:
  std::vector<std::byte> own_;
  SharedBytes shared_;
};

}  // namespace kwind::link
