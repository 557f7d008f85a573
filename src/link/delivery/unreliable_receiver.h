// The receiving half of sequenced delivery, and of split messages on sequenced and unreliable
// channels. One link, one thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <optional>
#include <vector>

#include "link/delivery/assembly.h"

namespace kwind::link {

/// Only messages newer than the last delivered one pass.
class SequencedReceiver {
 public:
  [[nodiscard]] bool is_newer(Origin origin) const { return !any_ || origin.key() > newest_.key(); }
  /// Whether the message is newer than all before; if so it becomes the newest.
  bool accept(Origin origin) {
    if (!is_newer(origin)) return false;
    any_ = true;
    newest_ = origin;
    return true;
  }

 private:
  bool any_ = false;
  Origin newest_;
};

/// Unreliable messages of which pieces are missing. Bounded in number and memory: the oldest are
/// discarded for new ones.
class PieceStore {
 public:
  explicit PieceStore(std::size_t max_bytes) : max_bytes_(max_bytes) {}

  /// Takes a piece. The complete message, if this made one: borrowed until the next call.
  struct Added {
    Errc error = Errc::none;  ///< bad_piece
    std::size_t discarded = 0;
    const Assembly* complete = nullptr;
  };
  Added add(const Frame& piece) {
    done_.reset();
    Added added;
    auto found = std::find_if(parts_.begin(), parts_.end(), [&](const Part& part) {
      return part.channel == piece.channel && part.origin.key() == piece.origin.key();
    });
    if (found == parts_.end()) {
      const std::size_t bytes = bits::bytes_for(piece.total_bits);
      if (bytes > max_bytes_) {
        added.discarded = 1;
        return added;
      }
      while (!parts_.empty() && (parts_.size() >= kMaxParts || held_bytes_ + bytes > max_bytes_)) {
        held_bytes_ -= parts_.front().assembly.bytes();
        parts_.erase(parts_.begin());
        ++added.discarded;
      }
      held_bytes_ += bytes;
      parts_.push_back({piece.channel, piece.origin, Assembly(piece.total_bits)});
      found = parts_.end() - 1;
    }
    if (!found->assembly.add(piece)) {
      added.error = Errc::bad_piece;
    } else if (found->assembly.complete()) {
      held_bytes_ -= found->assembly.bytes();
      done_.emplace(std::move(found->assembly));
      parts_.erase(found);
      added.complete = &*done_;
    }
    return added;
  }
  [[nodiscard]] std::size_t held_bytes() const { return held_bytes_; }

 private:
  static constexpr std::size_t kMaxParts = 16;
  struct Part {
    std::uint8_t channel;
    Origin origin;
    Assembly assembly;
  };
  std::size_t max_bytes_;
  std::size_t held_bytes_ = 0;
  std::vector<Part> parts_;  // oldest first
  std::optional<Assembly> done_;
};

}  // namespace kwind::link
