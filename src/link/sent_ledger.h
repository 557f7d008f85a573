// What was sent in which packet until its fate is known; decides what is lost (RFC 9002, section
// 6). Fed by Link, which repeats the reliable messages of lost packets. One link, one thread.
//
// Invariant 1: a packet is in flight, acked or lost, and leaves "in flight" once.
// Invariant 2: packets with messages are sent only while fewer than kMostInFlight numbers lie
// between
//   the oldest packet in flight and the next one, so that 16-bit numbers are never ambiguous.
#pragma once
#include <cstdint>
#include <vector>

#include "ack_block.h"
#include "kwind/bits/time.h"
#include "packet_number.h"
#include "rtt.h"

namespace kwind::link {

/// One reliable message inside a packet.
struct ReliableRef {
  std::uint8_t channel = 0;
  std::uint64_t index = 0;
};

class SentLedger {
 public:
  /// At 1200 bytes a packet, a peer that never acks pins at most 256 x 1200 B = 300 KiB.
  static constexpr std::uint64_t kMostInFlight = 256;

  SentLedger() : packets_(2 * kMostInFlight) {}

  [[nodiscard]] std::uint64_t next_number() const { return next_; }
  /// Whether a packet with messages may be sent (invariant 2).
  [[nodiscard]] bool has_room() const { return next_ - oldest_in_flight_ < kMostInFlight; }
  /// Whether any packet may be sent: its record would not push out one that is in flight.
  [[nodiscard]] bool has_slot() const { return next_ - oldest_in_flight_ < packets_.size(); }
  [[nodiscard]] bool anything_in_flight() const { return eliciting_in_flight_ > 0; }

  /// Starts the record of the next packet; add_reliable() and sent() complete it. Requires:
  /// has_slot().
  void begin();
  void add_reliable(ReliableRef ref) { packet(next_).reliable.push_back(ref); }
  /// The packet left. `eliciting`: it asks for an ack.
  void sent(Time now, bool eliciting);

  /// What an ack block or a timer brought about. Borrowed until the next call.
  struct Outcome {
    const std::vector<ReliableRef>& acked;
    const std::vector<ReliableRef>& lost;
    std::uint64_t packets_lost;
    bool newest_acked;  ///< the block's largest packet was in flight and asked for an ack: rtt is a
                        ///< sample
    Duration rtt;
  };
  Outcome on_ack(Time now, const AckBlock& block, const Rtt& rtt);
  /// Lets the loss timer act. The probe timer is Link's business.
  Outcome on_timer(Time now, const Rtt& rtt);

  /// When on_timer() has something to do.
  [[nodiscard]] Time loss_deadline() const { return loss_deadline_; }
  /// When nothing was acked for so long that a probe should ask; kNever with nothing in flight.
  [[nodiscard]] Time probe_deadline(const Rtt& rtt, Duration ack_delay) const;
  /// A probe was sent: the next one waits twice as long.
  void probe_sent() { probes_ += probes_ < 6 ? 1 : 0; }
  /// The reliable messages of the oldest packet in flight: what a probe should carry.
  [[nodiscard]] const std::vector<ReliableRef>& oldest_reliable() const;

 private:
  enum class Fate : std::uint8_t { unused, in_flight, settled };
  struct Packet {
    Fate fate = Fate::unused;
    Time sent_at{};
    std::vector<ReliableRef> reliable;
  };

  Packet& packet(std::uint64_t number) { return packets_[number % packets_.size()]; }
  const Packet& packet(std::uint64_t number) const { return packets_[number % packets_.size()]; }
  void settle(Packet& packet);
  void lose(Packet& packet);
  void detect_losses(Time now, const Rtt& rtt);

  std::vector<Packet> packets_;  // by number modulo its size
  std::uint64_t next_ = 0;
  std::uint64_t oldest_in_flight_ = 0;  // next_ if there is none
  std::uint64_t eliciting_in_flight_ = 0;
  bool any_acked_ = false;
  std::uint64_t largest_acked_ = 0;
  Time loss_deadline_ = kNever;
  Time last_eliciting_{};
  unsigned probes_ = 0;
  std::vector<ReliableRef> acked_;
  std::vector<ReliableRef> lost_;
  std::uint64_t packets_lost_ = 0;
};

}  // namespace kwind::link
