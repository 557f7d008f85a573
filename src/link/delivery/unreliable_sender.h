// The sending half of unreliable and sequenced delivery: messages wait in order until a datagram
// has room, and are discarded when they are stale or too many. The last few sequenced ones are kept
// to be repeated until acked. One channel of one link, one thread.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

#include "kwind/bits/writer.h"
#include "kwind/core/time.h"
#include "link/datagram/frames.h"
#include "link/delivery/kept_bytes.h"
#include "link/slot_ring.h"

namespace kwind::link {

class UnreliableSender {
 public:
  struct Slot {
    KeptBytes payload;
    Time queued{};  // when the link first looked at it
    Origin origin;  // once it left
    std::uint32_t bits = 0;
    std::uint16_t tag = 0;
    std::uint16_t next_chunk = 0;  // of a split one
    bool acked = false;
  };

  /// Takes a message; returns how many older ones were discarded for it.
  std::size_t push(const ChannelSpec& limits, std::size_t tag, const Outbound& message);
  /// Gives up what has waited too long since the first call that saw it; returns how many.
  std::size_t expire(Time now, Duration expiry);

  [[nodiscard]] bool empty() const { return waiting_.empty(); }
  [[nodiscard]] std::size_t queued_bytes() const { return queued_bytes_; }
  /// The next to leave. Requires: not empty.
  [[nodiscard]] Slot& front() { return waiting_[waiting_.begin()]; }
  /// It left in full; `kept` copies are held for repeats.
  void pop_sent(std::size_t kept);
  void clear();

  /// Sent messages that may be repeated, oldest first: indices [begin, end) of recent().
  SlotRing<Slot>& recent() { return recent_; }
  void acked(Origin origin);

  /// The slot that push() will fill, or else that front() is.
  void prefetch(bool pushes) const {
    if (pushes) {
      waiting_.prefetch_next();
    } else {
      waiting_.prefetch_first();
    }
  }

 private:
  void drop_front();
  void drop_recent();

  SlotRing<Slot> waiting_;
  std::uint64_t first_unseen_ = 0;  // of the waiting ones
  SlotRing<Slot> recent_;
  std::size_t queued_bytes_ = 0;
};

}  // namespace kwind::link
