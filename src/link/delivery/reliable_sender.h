// The sending half of reliable and ordered delivery: a message is kept, and sent again when its
// packets are lost, until a packet with it is acked. Large ones leave in pieces. The receiving half
// is in reliable_receiver.h. One channel of one link, one thread.
//
// Invariant 1: the sender has no message in flight kWindowMessages or more beyond its oldest
// unacked
//   one, and what it started costs no more than the receiver's limit. A receiver that sees more
//   closes.
// Invariant 2: 16-bit indices are never ambiguous: a packet that may still be accepted is at most
//   512 numbers behind the newest, each has at most kMaxPerDatagram messages of a channel, and
//   512 x 48 + 512 < 2^15.
#pragma once
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "kwind/bits/writer.h"
#include "kwind/core/errors.h"
#include "kwind/core/time.h"
#include "link/datagram/frames.h"
#include "link/delivery/kept_bytes.h"
#include "link/delivery/xor_repair.h"
#include "link/slot_ring.h"

namespace kwind::link {

inline constexpr std::uint64_t kWindowMessages = 512;

class ReliableSender {
 public:
  /// What became of push().
  struct Pushed {
    bool taken = true;
    std::size_t discarded = 0;  ///< older unsent messages, under AtLimit::drop_oldest
  };
  /// Takes a message to the end of the queue, unless the channel's limits say no.
  Pushed push(const ChannelSpec& limits, std::size_t tag, const Outbound& message);

  /// A whole message, or chunks [first_chunk, end_chunk) of one.
  struct Outgoing {
    std::uint64_t index = 0;
    std::size_t tag = 0;
    std::span<const std::byte> payload{};
    std::size_t bits = 0;
    bool repeated = false;
    bool whole = true;
    std::size_t first_chunk = 0;
    std::size_t end_chunk = 0;
  };
  /// What is to be sent next: lost before new. Nothing if there is nothing or the window is full.
  [[nodiscard]] std::optional<Outgoing> peek() const;
  /// What peek() gave was put into a packet; of a split message the chunks up to before `end`.
  void sent(const Outgoing& what, std::size_t end, Time now);

  /// A small message in flight that left longer than `gap` ago, in fewer than `most` copies; in
  /// fewer than Repeats::kCopiesAgain if it was lost before.
  [[nodiscard]] std::optional<Outgoing> peek_repeat(Time now, Duration gap, unsigned max) const;
  void repeated(const Outgoing& what, Time now);
  /// Parity of small messages in flight: `first`, and those after it that `others` names. The
  /// newest of them was sent once at least, and the last time longer than `gap` ago; each message
  /// is the newest of one parity. With it go the second and the fourth before it, so that three
  /// chances of each lie two datagrams apart: neighbours share a datagram, as copies, and are lost
  /// together. Where messages are rare their copies have datagrams of their own, and those before
  /// are acknowledged soon: then the two messages right before it go with it.
  struct Parity {
    std::uint64_t first = 0;
    ParityMembers others = 0;
    std::uint64_t newest = 0;
  };
  [[nodiscard]] std::optional<Parity> peek_parity(Time now, Duration gap) const;
  void parity_sent(const Parity& parity, Time now);
  /// The message with this index. Requires: it is in flight, and small.
  [[nodiscard]] Outgoing in_flight(std::uint64_t index) const;
  /// A small message that waited for `patience` after its copy for others to share parity with, and
  /// has none.
  [[nodiscard]] std::optional<Outgoing> peek_lone(Time now, Duration patience) const;
  /// When the next copy is worth a datagram of its own: the second of a message at `latest` after
  /// the first, those of one that was lost before at Repeats::kLatestAgain. kNever if there are
  /// none.
  [[nodiscard]] Time next_copy(Duration latest) const;

  void acked(std::uint64_t index, std::size_t first_chunk, std::size_t chunks);
  /// A packet with it was lost: it waits to be sent again unless another copy is still in flight.
  void lost(std::uint64_t index, std::size_t first_chunk, std::size_t chunks);
  /// A probe repeats it, lost or not.
  void resend(std::uint64_t index, std::size_t first_chunk, std::size_t chunks);
  /// The receiver's new limit, its low 32 bits.
  void set_limit(std::uint64_t low32);

  /// Whether every message has been acked.
  [[nodiscard]] bool idle() const { return flight_.empty() && queue_.empty(); }
  [[nodiscard]] bool something_unsent() const { return peek().has_value(); }
  /// Bytes that wait to be sent for the first time.
  [[nodiscard]] std::size_t queued_bytes() const { return queued_bytes_; }

  /// The slots that push() will fill, or else a message's way from the queue into flight.
  void prefetch(bool pushes) const {
    if (pushes) {
      queue_.prefetch_next();
    } else {
      queue_.prefetch_first();
      flight_.prefetch_next();
    }
  }

 private:
  enum class Stage : std::uint8_t { waiting, in_flight, acked };
  struct Split {
    std::vector<Stage> chunks;
    std::size_t next_unsent = 0;
    std::size_t acked = 0;
    std::size_t first_lost = 0;  // no chunk before it waits, of those sent before
    std::size_t lost = 0;        // how many wait to be sent again
  };
  struct Slot {
    KeptBytes payload;
    std::size_t bits = 0;
    std::size_t tag = 0;
    Stage stage = Stage::waiting;
    std::uint8_t copies = 0;     // sent so far
    std::uint8_t under_way = 0;  // of these, not known to be lost
    bool in_parity = false;      // parity with it was sent
    bool newest_of_parity = false;
    bool again = false;  // it was lost once
    Time last_sent{};
    Time first_sent{};
    std::unique_ptr<Split> split;
  };

  [[nodiscard]] static std::size_t cost(const Slot& slot) {
    return slot.payload.size() + kMessageCost;
  }
  void start_next();
  void mark_waiting(std::uint64_t index, std::size_t first_chunk, std::size_t chunks, bool force);
  void find_waiting();
  [[nodiscard]] bool wants(const Slot& slot) const;
  [[nodiscard]] const Slot* small_in_flight(std::uint64_t index) const;

  SlotRing<Slot> queue_;       // not sent so far
  SlotRing<Slot> flight_;      // by index on the wire
  std::uint64_t waiting_ = 0;  // no message in flight before it wants to be sent
  std::uint64_t started_cost_ = 0;
  std::uint64_t limit_ = kFirstWindowBytes;
  std::size_t queued_bytes_ = 0;
};

}  // namespace kwind::link
