// Which received packet numbers the peer is known to have seen acknowledged: a range is dropped
// once a datagram that carried it was acknowledged (RFC 9000, 13.2.4). And whether the peer hears
// acks at all: it acknowledges the datagrams that carry them. One link, one thread.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>
#include <span>

#include "kwind/core/time.h"
#include "link/path/received_packets.h"

namespace kwind::link {

class AckHistory {
 public:
  /// Numbers below this need no acknowledgement any more.
  [[nodiscard]] std::uint64_t floor() const { return floor_; }

  /// One beyond the newest number that a block has had.
  [[nodiscard]] std::uint64_t sent_end() const { return newest_end_; }

  /// When a block left that the peer has not shown to have heard, nor any after it; kNever if there
  /// is none.
  [[nodiscard]] Time unheard_since() const { return unheard_since_; }

  /// Datagram `number` carried a block whose newest packet was `newest`.
  void sent(Time now, std::uint64_t number, std::uint64_t newest) {
    if (unheard_since_ == kNever) {
      unheard_since_ = now;
      unheard_ = number;
    }
    blocks_[next_++ % blocks_.size()] = {number, newest + 1};
    newest_end_ = newest + 1;
  }
  /// The peer has the datagrams of `ranges`. O(kRemembered * ranges).
  void acked(std::span<const AckRange> ranges) {
    if (!ranges.empty() && ranges.front().last >= unheard_) unheard_since_ = kNever;
    for (Block& block : blocks_) {
      if (block.end <= floor_) continue;
      const bool has = std::any_of(ranges.begin(), ranges.end(), [&](const AckRange& range) {
        return range.first <= block.number && block.number <= range.last;
      });
      if (has) floor_ = block.end;
    }
  }
  /// Packet `number` came. If it came late, it was in none of the blocks that reach beyond it.
  void received(std::uint64_t number) {
    if (number >= newest_end_) return;
    floor_ = std::min(floor_, number);
    for (Block& block : blocks_) block.end = std::min(block.end, number);
  }

 private:
  // An older block is of no use: the ones after it have the same.
  static constexpr std::size_t kRemembered = 32;
  struct Block {
    std::uint64_t number = 0;
    std::uint64_t end = 0;  // one beyond the newest packet in it; 0: nothing here
  };
  std::array<Block, kRemembered> blocks_{};
  std::size_t next_ = 0;
  std::uint64_t floor_ = 0;
  std::uint64_t newest_end_ = 0;  // of the newest block
  Time unheard_since_ = kNever;
  std::uint64_t unheard_ = 0;  // the datagram that left then
};

}  // namespace kwind::link
