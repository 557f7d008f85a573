// Unreliable and sequenced messages that wait for the next datagram, in the order of sending.
// Bounded: when a new message finds no room, all that still wait are given up for it, being older.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

#include "kwind/bits/writer.h"

namespace kwind::link {

class Outbox {
 public:
  explicit Outbox(std::size_t most_bytes) : most_bytes_(most_bytes) {}

  struct Entry {
    std::uint8_t channel;
    std::size_t tag;
    std::size_t at;
    std::size_t bits;
  };

  /// Copies a message; returns how many older ones were given up.
  std::size_t push(std::uint8_t channel, std::size_t tag, std::span<const std::byte> payload,
                   std::size_t bits) {
    std::size_t given_up = 0;
    const std::size_t bytes = bits::bytes_for(bits);
    if (bytes_.size() + bytes > most_bytes_ || entries_.size() >= kMostEntries) {
      given_up = entries_.size() - next_;
      clear();
    }
    entries_.push_back({channel, tag, bytes_.size(), bits});
    bytes_.insert(bytes_.end(), payload.begin(),
                  payload.begin() + static_cast<std::ptrdiff_t>(bytes));
    return given_up;
  }
  [[nodiscard]] bool empty() const { return next_ == entries_.size(); }
  /// Requires: not empty.
  [[nodiscard]] const Entry& front() const { return entries_[next_]; }
  [[nodiscard]] std::span<const std::byte> payload(const Entry& entry) const {
    return std::span(bytes_).subspan(entry.at, bits::bytes_for(entry.bits));
  }
  void pop() {
    if (++next_ == entries_.size()) clear();
  }
  void clear() {
    entries_.clear();
    bytes_.clear();
    next_ = 0;
  }

 private:
  static constexpr std::size_t kMostEntries = 4096;
  std::size_t most_bytes_;
  std::vector<std::byte> bytes_;
  std::vector<Entry> entries_;
  std::size_t next_ = 0;
};

}  // namespace kwind::link
