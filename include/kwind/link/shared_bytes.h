// Reference-counted bytes of a message to many receivers: encoded once, held by every link that
// still may send them, freed with the last reference. One pool and its links, one thread.
#pragma once
#include <algorithm>
#include <cstddef>
#include <memory>
#include <span>
#include <vector>

#include "kwind/core/compiler.h"

namespace kwind::link {

using SharedBytes = std::shared_ptr<const std::vector<std::byte>>;

/// Owns the bytes of messages to many receivers.
class KWIND_API SharedBytesPool {
 public:
  /// Storage of at most so many messages is kept for later ones.
  explicit SharedBytesPool(std::size_t keep = 256) : keep_(keep) {}

  /// A copy of `bytes`. Reuses storage that no link holds any more: after warm-up it allocates
  /// nothing. O(bytes), and amortised O(1) looks at messages still held.
  [[nodiscard]] SharedBytes make(std::span<const std::byte> bytes) {
    for (std::size_t looked = 0; looked < kMaxUpdates && looked < blocks_.size(); ++looked) {
      const std::shared_ptr<std::vector<std::byte>>& block = blocks_[next_++ % blocks_.size()];
      if (block.use_count() > 1) continue;
      block->assign(bytes.begin(), bytes.end());
      return block;
    }
    auto made = std::make_shared<std::vector<std::byte>>(bytes.begin(), bytes.end());
    if (blocks_.size() < keep_) blocks_.push_back(made);
    return made;
  }

  /// Messages of the pool's storage that some link still holds.
  [[nodiscard]] std::size_t held() const {
    return static_cast<std::size_t>(std::count_if(
        blocks_.begin(), blocks_.end(), [](const auto& block) { return block.use_count() > 1; }));
  }

 private:
  static constexpr std::size_t kMaxUpdates = 8;
  std::size_t keep_;
  std::size_t next_ = 0;
  std::vector<std::shared_ptr<std::vector<std::byte>>> blocks_;
};

}  // namespace kwind::link
