// What was sent in which packet until its fate is known; decides what is lost (RFC 9002, section
// 6), and samples how fast packets arrive. Fed by Link, which repeats the reliable messages of lost
// packets. One link, one thread.
//
// Invariant 1: a packet is in flight, acked, lost or skipped; it leaves "in flight" once. A lost
// one
//   may be acked late.
// Invariant 2: packets with messages are sent only while fewer than kMaxInFlight numbers lie
//   between the oldest packet in flight and the next one, so that 16-bit numbers are never
//   ambiguous.
#pragma once
#include <cstdint>
#include <vector>

#include "kwind/core/errors.h"
#include "kwind/core/time.h"
#include "link/datagram/ack_block.h"
#include "link/packet_number.h"
#include "link/path/rtt.h"
#include "link/path/sent_ref.h"
#include "link/slot_ring.h"

namespace kwind::link {

/// How fast packets arrived, by the acks: Cheng et al., draft-cheng-iccrg-delivery-rate-estimation.
struct RateSample {
  double bytes_per_s = 0;    ///< 0: no sample
  bool app_limited = false;  ///< a lower bound: the sender had no more to send
};

class SentPackets {
 public:
  /// At 1472 bytes a packet, a peer that never acks pins at most 512 x 1472 B = 736 KiB.
  static constexpr std::uint64_t kMaxInFlight = 512;

  [[nodiscard]] std::uint64_t next_number() const { return packets_.end(); }
  [[nodiscard]] std::uint64_t oldest_in_flight() const { return oldest_in_flight_; }
  /// Newest number acked plus one: how many low bits a number needs is counted from here.
  [[nodiscard]] std::uint64_t after_largest_acked() const {
    return any_acked_ ? largest_acked_ + 1 : 0;
  }
  /// Whether a packet with messages may be sent (invariant 2).
  [[nodiscard]] bool has_room() const { return next_number() - oldest_in_flight_ < kMaxInFlight; }
  /// Whether any packet may be sent: acks and probes have some more room.
  [[nodiscard]] bool has_slot() const {
    return next_number() - oldest_in_flight_ < 2 * kMaxInFlight;
  }
  [[nodiscard]] bool anything_in_flight() const { return eliciting_in_flight_ > 0; }
  [[nodiscard]] std::size_t bytes_in_flight() const { return bytes_in_flight_; }
  /// Share of packets lost of late, 0 to 1.
  [[nodiscard]] double loss() const { return loss_; }
  /// The same over a longer time: a path that lost some packets will lose others.
  [[nodiscard]] double long_loss() const { return long_loss_; }
  /// Packets acked or lost so far, up to the look-back of long_loss().
  [[nodiscard]] std::uint64_t settled() const { return fates_; }
  /// Bytes acked so far; rounds are measured with it.
  [[nodiscard]] std::uint64_t delivered() const { return delivered_; }

  /// What the record of the next packet needs, see kwind::prefetch.
  void prefetch() const {
    packets_.prefetch_next();
    refs_.prefetch_next();
  }

  /// Leaves a number out: an ack of it is a lie.
  void skip();
  /// Starts the record of the next packet; add() and sent() complete it. Requires: has_slot().
  void begin() { KWIND_ASSERT(refs_.end() == first_pending_); }
  void add(const SentRef& ref) {
    if (refs_.full()) trim(newest_sent_at_);
    refs_.push() = ref;
  }
  /// The packet left. `eliciting`: it asks for an ack.
  void sent(Time now, std::size_t bytes, bool eliciting, bool app_limited);

  /// What an ack block or a timer brought about. Borrowed until the next call.
  struct Outcome {
    Errc error = Errc::none;  ///< bad_ack: a skipped packet was acked
    std::size_t packets_lost = 0;
    std::size_t bytes_acked = 0;
    std::size_t bytes_lost = 0;     ///< probes of the path's MTU are not counted
    std::size_t largest_acked = 0;  ///< bytes of a packet
    std::size_t large_lost = 0;     ///< packets above kBaseDatagramBytes
    /// The block's largest packet was in flight, asked for an ack, and took no longer than any path.
    bool newest_acked = false;
    Duration rtt{0};  ///< then: a sample
    RateSample rate{};
    std::uint64_t delivered_at_send = 0;  ///< of the newest packet acked
    Time newest_lost_sent_at{};           ///< with packets_lost
  };
  Outcome on_ack(Time now, const AckBlock& block, const Rtt& rtt);
  /// Lets the loss timer act. The probe timer is Link's business.
  Outcome on_timer(Time now, const Rtt& rtt);
  [[nodiscard]] const std::vector<SentRef>& acked() const { return acked_; }
  [[nodiscard]] const std::vector<SentRef>& lost() const { return lost_; }

  /// When on_timer() has something to do.
  [[nodiscard]] Time loss_deadline() const { return loss_deadline_; }
  /// When nothing was acked for so long that a probe should ask; kNever with nothing in flight.
  [[nodiscard]] Time probe_deadline(const Rtt& rtt, Duration ack_delay) const;
  /// A probe was sent: the next one waits twice as long.
  void probe_sent() { probes_ += probes_ < 6 ? 1 : 0; }
  [[nodiscard]] unsigned probes() const { return probes_; }
  /// What the oldest packet in flight carried: what a probe should carry.
  void oldest_refs(std::vector<SentRef>& out) const;

 private:
  enum class Fate : std::uint8_t { settled, in_flight, lost, skipped };
  struct Packet {
    Fate fate = Fate::settled;
    bool app_limited = false;
    std::uint16_t bytes = 0;
    std::uint16_t refs = 0;  // how many, from first_ref on
    Time sent_at{};
    std::uint64_t delivered = 0;
    Time delivered_at{};
    Time first_sent_at{};
    std::uint64_t first_ref = 0;
  };

  void settle(Packet& packet);
  void lose(Packet& packet, Outcome& outcome);
  void detect_losses(Time now, const Rtt& rtt, Outcome& outcome);
  // Drops packets that need not be remembered, before a ring would have to grow.
  void trim(Time now);
  void append_refs(const Packet& packet, std::vector<SentRef>& out) const;
  void note_loss(double lost);

  SlotRing<Packet> packets_;  // by number
  SlotRing<SentRef> refs_;    // of all packets in packets_, and of the one that is being written
  std::uint64_t first_pending_ = 0;
  std::uint64_t oldest_in_flight_ = 0;  // next_number() if there is none
  std::uint64_t eliciting_in_flight_ = 0;
  std::size_t bytes_in_flight_ = 0;
  bool any_acked_ = false;
  std::uint64_t largest_acked_ = 0;
  Time loss_deadline_ = kNever;
  Time last_eliciting_{};
  Time newest_sent_at_{};
  unsigned probes_ = 0;
  std::uint64_t delivered_ = 0;
  Time delivered_at_{};
  Time first_sent_at_{};
  double loss_ = 0;
  double long_loss_ = 0;
  std::uint64_t fates_ = 0;
  std::vector<SentRef> acked_;
  std::vector<SentRef> lost_;
};

}  // namespace kwind::link
