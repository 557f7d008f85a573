// Sending side of reliable and ordered delivery: messages stay until a packet with them is
// acknowledged; lost ones go again in new packets.
//
// Two rings hold the messages of a channel: `queue_` those that were never sent, `flight_` those
// that were sent and are not acknowledged. The index of a message in `flight_` is its sequence
// number.
//
// A message in flight is in_flight, waiting (all datagrams that carried it are lost: it goes again)
// or acked. A message larger than a datagram has these stages for each of its fragments. Small
// messages of a path with loss are sent several times before any loss is known, as copies or as
// parities (XOR of two or three messages), so that a loss costs milliseconds instead of a round
// trip; repeat.h says how many.
#include "link/delivery/reliable_sender.h"

#include <algorithm>

#include "link/delivery/repeat.h"
#include "link/packet_number.h"

namespace kwind::link {
namespace {

// So far behind the oldest in flight is looked for messages to repeat early: a game sends no more
// small ones in a round trip, and if it does, losing one of them is not what delays it.
constexpr std::uint64_t kRepeatSpan = 64;

}  // namespace

// Into the queue of what was never sent. At the limit the channel decides: refuse, or make room
// by dropping the oldest. What was sent once is never dropped.
ReliableSender::Pushed ReliableSender::push(const ChannelSpec& limits, std::size_t tag,
                                            const Outbound& message) {
  const std::size_t bytes = bits::bytes_for(message.bits);
  Pushed pushed;
  while (queue_.size() >= limits.queue_messages ||
         (!queue_.empty() && queued_bytes_ + bytes > limits.queue_bytes)) {
    if (limits.at_limit != AtLimit::drop_oldest || queue_.empty()) {
      pushed.taken = false;
      return pushed;
    }
    Slot& oldest = queue_[queue_.begin()];
    queued_bytes_ -= oldest.payload.size();
    oldest.payload.release(kMaxWholeBytes);
    queue_.pop();
    ++pushed.discarded;
  }
  Slot& slot = queue_.push();
  slot.payload.take(message);
  slot.bits = message.bits;
  slot.tag = tag;
  queued_bytes_ += bytes;
  return pushed;
}

// Whether a message in flight has something to send: itself after a loss, or fragments.
bool ReliableSender::wants(const Slot& slot) const {
  if (slot.split == nullptr) return slot.stage == Stage::waiting;
  return slot.split->lost > 0 || slot.split->next_unsent < slot.split->chunks.size();
}

// What is to be sent next: lost messages by age, then new ones as far as the peer's window goes.
// Of a large message first the fragments that were lost.
std::optional<ReliableSender::Outgoing> ReliableSender::peek() const {
  if (flight_.contains(waiting_)) {
    const Slot& slot = flight_[waiting_];
    Outgoing out{waiting_, slot.tag, slot.payload.bytes(), slot.bits, slot.again, true, 0, 0};
    if (slot.split == nullptr) return out;
    const Split& split = *slot.split;
    out.whole = false;
    // One run of lost fragments at a time, the first one.
    if (split.lost > 0) {
      out.repeated = true;
      out.first_chunk = split.first_lost;
      while (split.chunks[out.first_chunk] != Stage::waiting) ++out.first_chunk;
      out.end_chunk = out.first_chunk;
      while (out.end_chunk < split.next_unsent && split.chunks[out.end_chunk] == Stage::waiting) {
        ++out.end_chunk;
      }
    } else {
      out.repeated = false;
      out.first_chunk = split.next_unsent;
      out.end_chunk = split.chunks.size();
    }
    return out;
  }
  if (queue_.empty() || flight_.size() >= kWindowMessages) return std::nullopt;
  const Slot& slot = queue_[queue_.begin()];
  // Invariant 1: a message starts only if the whole of it fits into the window that the peer
  // advertised.
  if (started_cost_ + cost(slot) > limit_) return std::nullopt;
  const bool whole = slot.payload.size() <= kMaxWholeBytes;
  return Outgoing{flight_.end(),
                  slot.tag,
                  slot.payload.bytes(),
                  slot.bits,
                  false,
                  whole,
                  0,
                  whole ? 0 : chunks_of(slot.bits)};
}

// Moves the oldest message of the queue into flight, where it stays until it is acknowledged.
void ReliableSender::start_next() {
  Slot& from = queue_[queue_.begin()];
  Slot& slot = flight_.push();
  std::swap(slot.payload, from.payload);
  slot.bits = from.bits;
  slot.tag = from.tag;
  slot.stage = Stage::in_flight;
  slot.copies = 0;
  slot.under_way = 0;
  slot.in_parity = slot.newest_of_parity = slot.again = false;
  slot.split.reset();
  queued_bytes_ -= slot.payload.size();
  started_cost_ += cost(slot);
  if (slot.payload.size() > kMaxWholeBytes) {
    slot.split = std::make_unique<Split>();
    slot.split->chunks.assign(chunks_of(slot.bits), Stage::waiting);
  }
  queue_.pop();
}

// The caller wrote what peek() named, of a large message the fragments up to `end`.
void ReliableSender::sent(const Outgoing& what, std::size_t end, Time now) {
  if (what.index == flight_.end()) start_next();
  Slot& slot = flight_[what.index];
  slot.last_sent = now;
  if (slot.copies == 0) slot.first_sent = now;
  slot.stage = Stage::in_flight;
  if (slot.split == nullptr) {
    slot.copies = static_cast<std::uint8_t>(std::min(slot.copies + 1, 200));
    slot.under_way = static_cast<std::uint8_t>(std::min(slot.under_way + 1, 200));
  } else {
    Split& split = *slot.split;
    // Fragments below next_unsent were sent before: these are retransmissions.
    const bool again = what.first_chunk < split.next_unsent;
    for (std::size_t i = what.first_chunk; i < end; ++i) split.chunks[i] = Stage::in_flight;
    if (again) {
      split.lost -= end - what.first_chunk;
      split.first_lost = end;
    } else {
      split.next_unsent = end;
    }
    slot.copies = 1;
  }
  find_waiting();
}

// A small message whose next redundant copy is due: it must not stand in the datagram of the
// copy before it.
std::optional<ReliableSender::Outgoing> ReliableSender::peek_repeat(Time now, Duration gap,
                                                                    unsigned max) const {
  const std::uint64_t end = std::min(flight_.end(), flight_.begin() + kRepeatSpan);
  for (std::uint64_t i = flight_.begin(); i < end; ++i) {
    const Slot* const slot = small_in_flight(i);
    if (slot == nullptr || now - slot->last_sent < gap) continue;
    if (slot->copies >= (slot->again ? std::max(max, Repeats::kCopiesAgain) : max)) continue;
    return Outgoing{i, slot->tag, slot->payload.bytes(), slot->bits, true, true, 0, 0};
  }
  return std::nullopt;
}

// Only small messages are copied early; a large one costs too much and is retransmitted after a
// loss.
const ReliableSender::Slot* ReliableSender::small_in_flight(std::uint64_t index) const {
  if (!flight_.contains(index)) return nullptr;
  const Slot& slot = flight_[index];
  const bool fits =
      slot.stage == Stage::in_flight && slot.split == nullptr && slot.payload.size() <= kSmallBytes;
  return fits ? &slot : nullptr;
}

// A parity of a message with earlier ones: with its neighbours where messages are rare, with
// every second one where they are frequent, so that a run of losses does not take all members.
std::optional<ReliableSender::Parity> ReliableSender::peek_parity(Time now, Duration gap) const {
  const std::uint64_t end = std::min(flight_.end(), flight_.begin() + kRepeatSpan);
  for (std::uint64_t newest = flight_.begin(); newest < end; ++newest) {
    const Slot* const slot = small_in_flight(newest);
    if (slot == nullptr || slot->newest_of_parity || slot->copies < 1 ||
        now - slot->last_sent < gap) {
      continue;
    }
    const Slot* const before = newest > 0 ? small_in_flight(newest - 1) : nullptr;
    const bool rare = before == nullptr || slot->first_sent - before->first_sent > Repeats::kLatest;
    const std::uint64_t step = rare ? 1 : 2;
    Parity parity{newest, 0, newest};
    // At most two earlier members. Each one found becomes `first`: the bits of the members found
    // before move up by the distance.
    for (std::uint64_t back = step; back <= 2 * step && back <= newest; back += step) {
      if (small_in_flight(newest - back) == nullptr) continue;
      const std::uint64_t moved = parity.first - (newest - back);
      parity.others =
          static_cast<ParityMembers>(unsigned{parity.others} << moved | 1U << (moved - 1));
      parity.first = newest - back;
    }
    if (parity.others != 0) return parity;
  }
  return std::nullopt;
}

// Members are marked as covered, so that peek_lone() passes over them.
void ReliableSender::parity_sent(const Parity& parity, Time now) {
  for (unsigned i = 0; i <= kParityReach; ++i) {
    if (i == 0 || (parity.others >> (i - 1) & 1) != 0) flight_[parity.first + i].in_parity = true;
  }
  Slot& newest = flight_[parity.newest];
  newest.newest_of_parity = true;
  if (newest.copies == 1) newest.last_sent = now;  // its copy is to be in another datagram
}

// A member of a parity that peek_parity() returned in this turn.
ReliableSender::Outgoing ReliableSender::in_flight(std::uint64_t index) const {
  const Slot* const slot = small_in_flight(index);
  KWIND_ASSERT(slot != nullptr);
  return {index, slot->tag, slot->payload.bytes(), slot->bits, true, true, 0, 0};
}

// A message that no parity covers, because nothing was sent near it: it gets a third copy.
std::optional<ReliableSender::Outgoing> ReliableSender::peek_lone(Time now,
                                                                  Duration patience) const {
  const std::uint64_t end = std::min(flight_.end(), flight_.begin() + kRepeatSpan);
  for (std::uint64_t i = flight_.begin(); i < end; ++i) {
    const Slot* const slot = small_in_flight(i);
    if (slot == nullptr || slot->copies != 2 || slot->in_parity ||
        now - slot->last_sent < patience) {
      continue;
    }
    return in_flight(i);
  }
  return std::nullopt;
}

// The caller wrote the copy that peek_repeat() or peek_lone() named.
void ReliableSender::repeated(const Outgoing& what, Time now) {
  Slot& slot = flight_[what.index];
  slot.last_sent = now;
  ++slot.copies;
  ++slot.under_way;
}

// When peek_repeat() will have something although no other datagram leaves.
Time ReliableSender::next_copy(Duration latest) const {
  Time next = kNever;
  const std::uint64_t end = std::min(flight_.end(), flight_.begin() + kRepeatSpan);
  for (std::uint64_t i = flight_.begin(); i < end; ++i) {
    const Slot* const slot = small_in_flight(i);
    if (slot == nullptr || slot->copies >= (slot->again ? Repeats::kCopiesAgain : 2)) continue;
    next = std::min(next, slot->last_sent + (slot->again ? Repeats::kLatestAgain : latest));
  }
  return next;
}

// Memory is let out as soon as possible; the place in the ring only when all before it are
// acknowledged.
void ReliableSender::acked(std::uint64_t index, std::size_t first_chunk, std::size_t chunks) {
  if (!flight_.contains(index)) return;  // another copy of it was acked before
  Slot& slot = flight_[index];
  if (slot.stage == Stage::acked) return;
  // Counters of copies stop at 200: only small numbers of them mean anything.
  if (slot.split == nullptr) {
    slot.stage = Stage::acked;
  } else {
    Split& split = *slot.split;
    // A fragment counts once, however many of the datagrams that held it are acknowledged.
    for (std::size_t i = first_chunk; i < first_chunk + chunks; ++i) {
      if (split.chunks[i] == Stage::acked) continue;
      if (split.chunks[i] == Stage::waiting) --split.lost;
      split.chunks[i] = Stage::acked;
      ++split.acked;
    }
    if (split.acked == split.chunks.size()) slot.stage = Stage::acked;
  }
  // Nobody asks for it again; what comes before it in the ring may take a while yet.
  if (slot.stage == Stage::acked) slot.payload.release(kMaxWholeBytes);
  while (!flight_.empty() && flight_[flight_.begin()].stage == Stage::acked) {
    Slot& done = flight_[flight_.begin()];
    done.split.reset();
    flight_.pop();
  }
  find_waiting();
}

// A datagram with this message, or with these fragments of it, was lost.
void ReliableSender::lost(std::uint64_t index, std::size_t first_chunk, std::size_t chunks) {
  mark_waiting(index, first_chunk, chunks, false);
}
// A probe wants the message once more, although no datagram with it is known to be lost.
void ReliableSender::resend(std::uint64_t index, std::size_t first_chunk, std::size_t chunks) {
  mark_waiting(index, first_chunk, chunks, true);
}

// A message waits to be sent again once all of its copies are lost; `force`, for a probe, does
// not ask.
void ReliableSender::mark_waiting(std::uint64_t index, std::size_t first_chunk, std::size_t chunks,
                                  bool force) {
  if (!flight_.contains(index)) return;
  Slot& slot = flight_[index];
  // A copy that is lost while the message waits to be sent again is one less all the same: counted
  // as in flight it would keep the message from ever being sent after the next loss.
  if (!force && slot.under_way > 0) --slot.under_way;
  if (slot.stage != Stage::in_flight) return;
  if (slot.split == nullptr) {
    if (!force && slot.under_way > 0) return;
    slot.stage = Stage::waiting;
    // All chances of it are used up: it starts again, with as many.
    slot.copies = 0;
    slot.in_parity = slot.newest_of_parity = false;
    slot.again = true;
  } else {
    Split& split = *slot.split;
    for (std::size_t i = first_chunk; i < first_chunk + chunks; ++i) {
      if (split.chunks[i] != Stage::in_flight) continue;
      split.chunks[i] = Stage::waiting;
      ++split.lost;
      split.first_lost = std::min(split.first_lost, i);
    }
  }
  waiting_ = std::min(waiting_, index);
  find_waiting();
}

// The window only grows: frames that arrive out of order cannot take back what was advertised.
void ReliableSender::set_limit(std::uint64_t low32) {
  limit_ = std::max(limit_, expand(limit_, low32, 32));
}

// `waiting_` is the first message in flight that wants something: everything before it needs no
// look.
void ReliableSender::find_waiting() {
  waiting_ = std::max(waiting_, flight_.begin());
  while (flight_.contains(waiting_) && !wants(flight_[waiting_])) ++waiting_;
}

}  // namespace kwind::link
