// Messages that arrived and wait to be handed out as events. One link, one thread.
#pragma once
#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::link {

class Inbox {
 public:
  /// Beyond this no datagram is accepted. One datagram can exceed it by what it holds and by the
  /// ordered messages that it sets free, which their windows bound.
  static constexpr std::size_t kMaxBytes = std::size_t{512} * 1024;
  static constexpr std::uint8_t kFill = 0xff;  ///< in place of a channel

  struct Message {
    std::uint8_t channel;
    std::span<const std::byte> payload;
    std::size_t bits;
  };

  /// Whether the next datagram must be refused: the user has not drained.
  [[nodiscard]] bool full() const { return bytes_.size() >= kMaxBytes; }

  /// Stores the next `bits` bits of `in`. Requires: in has them.
  void add(std::uint8_t channel, bits::Reader in, std::size_t bits) {
    const std::size_t at = bytes_.size();
    bytes_.resize(at + bits::bytes_for(bits));
    entries_.push_back({channel, at, bits});
    in.get_bits(std::span(bytes_).subspan(at), bits);
  }
  void add(std::uint8_t channel, std::span<const std::byte> payload, std::size_t bits) {
    add(channel, bits::Reader(payload, bits), bits);
  }

  /// Forgets what was handed out; payloads handed out before are gone.
  void reclaim() {
    if (next_ < entries_.size()) return;
    entries_.clear();
    bytes_.clear();
    next_ = 0;
    if (bytes_.capacity() > kKeptBytes) bytes_ = {};
  }
  std::optional<Message> take() {
    if (next_ == entries_.size()) return std::nullopt;
    const Entry& entry = entries_[next_++];
    return Message{entry.channel, std::span(bytes_).subspan(entry.at, bits::bytes_for(entry.bits)),
                   entry.bits};
  }

 private:
  static constexpr std::size_t kKeptBytes = 65536;
  struct Entry {
    std::uint8_t channel;
    std::size_t at;
    std::size_t bits;
  };

  std::vector<std::byte> bytes_;
  std::vector<Entry> entries_;
  std::size_t next_ = 0;
};

}  // namespace kwind::link
