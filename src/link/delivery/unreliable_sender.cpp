// Sending side of unreliable and sequenced delivery: a bounded queue from which stale messages are
// discarded.
#include "link/delivery/unreliable_sender.h"

#include <algorithm>

namespace kwind::link {

// Memory of large messages is freed, that of small ones is used again.
void UnreliableSender::drop_front() {
  queued_bytes_ -= front().payload.size();
  front().payload.release(kMaxWholeBytes);
  waiting_.pop();
}

// The newest message always fits, whatever waits: the oldest messages make room. Returns how many
// were discarded.
std::size_t UnreliableSender::push(const ChannelSpec& limits, std::size_t tag,
                                   const Outbound& message) {
  const std::size_t bytes = bits::bytes_for(message.bits);
  std::size_t discarded = 0;
  while (!waiting_.empty() &&
         (waiting_.size() >= limits.queue_messages || queued_bytes_ + bytes > limits.queue_bytes)) {
    drop_front();
    ++discarded;
  }
  Slot& slot = waiting_.push();
  slot.payload.take(message);
  slot.bits = static_cast<std::uint32_t>(message.bits);
  slot.tag = static_cast<std::uint16_t>(tag);
  slot.next_chunk = 0;
  slot.acked = false;
  queued_bytes_ += bytes;
  return discarded;
}

// A message that waited for longer than its channel's `expiry` is of no use any more.
std::size_t UnreliableSender::expire(Time now, Duration expiry) {
  // push() knows no time: a message begins to age at the first turn that sees the message.
  for (first_unseen_ = std::max(first_unseen_, waiting_.begin()); first_unseen_ < waiting_.end();
       ++first_unseen_) {
    waiting_[first_unseen_].queued = now;
  }
  std::size_t discarded = 0;
  // What has begun to leave waits no more: half of a message is of no use.
  while (!waiting_.empty() && front().next_chunk == 0 && now - front().queued > expiry) {
    drop_front();
    ++discarded;
  }
  return discarded;
}

// The front message left. With `kept` > 0 the message stays among the newest `kept`, of which later
// datagrams carry copies.
void UnreliableSender::pop_sent(std::size_t kept) {
  Slot& from = front();
  queued_bytes_ -= from.payload.size();
  if (kept > 0) {
    while (recent_.size() >= kept) drop_recent();
    Slot& slot = recent_.push();
    std::swap(slot.payload, from.payload);
    slot.bits = from.bits;
    slot.tag = from.tag;
    slot.origin = from.origin;
    slot.acked = false;
  }
  from.payload.release(kMaxWholeBytes);
  waiting_.pop();
}

void UnreliableSender::drop_recent() {
  recent_[recent_.begin()].payload.release(kMaxWholeBytes);
  recent_.pop();
}

void UnreliableSender::clear() {
  while (!waiting_.empty()) drop_front();
}

// Acknowledged messages are copied no more; a place becomes free when all older ones are
// acknowledged.
void UnreliableSender::acked(Origin origin) {
  for (std::uint64_t i = recent_.begin(); i < recent_.end(); ++i) {
    if (recent_[i].origin.key() == origin.key()) recent_[i].acked = true;
  }
  while (!recent_.empty() && recent_[recent_.begin()].acked) drop_recent();
}

}  // namespace kwind::link
