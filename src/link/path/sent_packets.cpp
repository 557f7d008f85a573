// Loss detection (RFC 9002, section 6) and delivery-rate samples over packets in flight.
//
// A ring has one slot for each packet number, and a second ring the contents of packets (SentRef):
// which messages, fragments or payloads a packet carried. A packet begins in_flight. Its ack makes
// it settled; without one it becomes lost, and settled if its ack comes late after all. A packet
// that asks for no ack is settled at once. Skipped numbers were never sent.
//
// A packet is lost when a later one is acknowledged and it was overtaken by three packets or is
// older than nine eighths of a round trip. Contents of lost packets are reported to the channels,
// which decide what goes again. Nothing is retransmitted here.
#include "link/path/sent_packets.h"

#include <algorithm>

#include "kwind/core/assert.h"
#include "kwind/link/spec.h"

namespace kwind::link {
namespace {

constexpr std::uint64_t kReorderingPackets = 3;  // RFC 9002, 6.1.1
constexpr Duration kSlowestProbe = std::chrono::seconds(1);
// What took longer than this waited for a program that stood still: it says nothing of the path.
// After a pause of a minute such samples would make the estimate 23 s, and it takes dozens of good
// ones to come down.
constexpr Duration kLongestSample = std::chrono::seconds(3);
// So many of the newest packets are remembered beyond their fate: for late acks and false ones.
constexpr std::uint64_t kRemembered = 96;
constexpr Duration kRememberedFor = std::chrono::seconds(3);
// The loss estimate starts as that of a path without loss, seen for 50 packets; it looks back at
// about the last 250.
constexpr std::uint64_t kPriorPackets = 50;
constexpr std::uint64_t kLookBackPackets = 250;
constexpr std::uint64_t kLongLookBackPackets = 2000;

}  // namespace

// Numbers that were never sent, at random places: a peer that acks one lies (RFC 9000, 21.4).
void SentPackets::skip() {
  if (packets_.full()) trim(newest_sent_at_);
  Packet& slot = packets_.push();
  slot.fate = Fate::skipped;
  slot.first_ref = first_pending_;
  slot.refs = 0;
  slot.sent_at = packets_.size() > 1 ? packets_[next_number() - 2].sent_at : Time{};
  if (eliciting_in_flight_ == 0) oldest_in_flight_ = next_number();
}

// Notes the state of delivery at the time of sending: an ack of this packet yields the rate since
// then.
void SentPackets::sent(Time now, std::size_t bytes, bool eliciting, bool app_limited) {
  KWIND_ASSERT(has_slot());
  if (packets_.full()) trim(now);
  newest_sent_at_ = now;
  Packet& slot = packets_.push();
  slot.first_ref = first_pending_;
  slot.refs = static_cast<std::uint16_t>(refs_.end() - first_pending_);
  first_pending_ = refs_.end();
  slot.fate = eliciting ? Fate::in_flight : Fate::settled;
  slot.bytes = static_cast<std::uint16_t>(bytes);
  slot.sent_at = now;
  slot.app_limited = app_limited;
  if (eliciting) {
    if (eliciting_in_flight_++ == 0) {
      oldest_in_flight_ = next_number() - 1;
      delivered_at_ = first_sent_at_ = now;
    }
    bytes_in_flight_ += bytes;
    last_eliciting_ = now;
  }
  slot.delivered = delivered_;
  slot.delivered_at = delivered_at_;
  slot.first_sent_at = first_sent_at_;
  if (eliciting_in_flight_ == 0) oldest_in_flight_ = next_number();
}

// Keeps every packet in flight, the newest kRemembered, and of the others those of the last
// seconds: their acks may be late.
void SentPackets::trim(Time now) {
  const std::uint64_t keep_from = next_number() > kRemembered ? next_number() - kRemembered : 0;
  while (
      packets_.begin() < oldest_in_flight_ &&
      (packets_.begin() < keep_from || now - packets_[packets_.begin()].sent_at > kRememberedFor)) {
    packets_.pop();
  }
  const std::uint64_t needed_from =
      packets_.empty() ? first_pending_ : packets_[packets_.begin()].first_ref;
  while (refs_.begin() < needed_from) refs_.pop();
}

// Takes a packet out of those in flight; its fate is decided by the caller.
void SentPackets::settle(Packet& packet) {
  KWIND_ASSERT(packet.fate == Fate::in_flight);  // invariant 1
  --eliciting_in_flight_;
  bytes_in_flight_ -= packet.bytes;
}

// Two means of the share lost, over about 250 and 2000 packets. Each weighs a new packet by 1 / n
// until it has seen so many, then as an exponential mean does.
void SentPackets::note_loss(double lost) {
  fates_ = std::min(fates_ + 1, kLongLookBackPackets);
  const std::uint64_t seen = fates_ + kPriorPackets;
  loss_ += (lost - loss_) / static_cast<double>(std::min(seen, kLookBackPackets));
  long_loss_ += (lost - long_loss_) / static_cast<double>(std::min(seen, kLongLookBackPackets));
  loss_ = std::max(loss_, 0.0);
  long_loss_ = std::max(long_loss_, 0.0);
}

// A lost probe of the path's MTU says nothing about loss: it was too large.
void SentPackets::lose(Packet& packet, Outcome& outcome) {
  settle(packet);
  packet.fate = Fate::lost;
  const bool probe = packet.refs == 1 && refs_[packet.first_ref].is_mtu_probe();
  if (!probe) {
    ++outcome.packets_lost;
    outcome.bytes_lost += packet.bytes;
    if (packet.bytes > kBaseDatagramBytes) ++outcome.large_lost;
    outcome.newest_lost_sent_at = packet.sent_at;
    note_loss(1);
  }
  append_refs(packet, lost_);
}

// First all ranges are held against the skipped numbers, then packets are settled: a block that
// lies settles nothing. The sample of the delivery rate is of the packet sent last among those
// acked.
SentPackets::Outcome SentPackets::on_ack(Time now, const AckBlock& block, const Rtt& rtt) {
  acked_.clear();
  lost_.clear();
  Outcome outcome;
  const std::uint64_t newest = block.ranges.front().last;
  for (const AckRange& range : block.ranges) {
    for (std::uint64_t n = std::max(range.first, packets_.begin()); n <= range.last; ++n) {
      if (packets_[n].fate == Fate::skipped) {
        outcome.error = Errc::bad_ack;
        return outcome;
      }
    }
  }
  const Packet* freshest = nullptr;
  for (const AckRange& range : block.ranges) {
    for (std::uint64_t n = std::max(range.first, packets_.begin()); n <= range.last; ++n) {
      Packet& slot = packets_[n];
      if (slot.fate == Fate::settled) continue;
      if (slot.fate == Fate::in_flight) {
        settle(slot);
        probes_ = 0;
        note_loss(0);
        if (n == newest && now - slot.sent_at <= kLongestSample) {
          outcome.newest_acked = true;
          outcome.rtt = now - slot.sent_at;
        }
        if (freshest == nullptr || slot.sent_at > freshest->sent_at) freshest = &slot;
      } else {
        note_loss(-1);  // it was counted as lost and is not
      }
      outcome.bytes_acked += slot.bytes;
      outcome.largest_acked = std::max<std::size_t>(outcome.largest_acked, slot.bytes);
      delivered_ += slot.bytes;
      slot.fate = Fate::settled;
      append_refs(slot, acked_);
    }
  }
  if (freshest != nullptr) {
    delivered_at_ = now;
    first_sent_at_ = freshest->sent_at;
    const Duration interval =
        std::max(freshest->sent_at - freshest->first_sent_at, now - freshest->delivered_at);
    // An interval below the path's least time says nothing: acks came in a bunch.
    if (interval > Duration{0} && interval >= rtt.min() && interval <= kLongestSample) {
      outcome.rate = {static_cast<double>(delivered_ - freshest->delivered) /
                          std::chrono::duration<double>(interval).count(),
                      freshest->app_limited};
    }
    outcome.delivered_at_send = freshest->delivered;
  }
  if (!any_acked_ || newest > largest_acked_) {
    any_acked_ = true;
    largest_acked_ = newest;
  }
  detect_losses(now, rtt, outcome);
  trim(now);
  return outcome;
}

// Packets that are late, but not overtaken by three others, are lost when their deadline passes.
SentPackets::Outcome SentPackets::on_timer(Time now, const Rtt& rtt) {
  acked_.clear();
  lost_.clear();
  Outcome outcome;
  if (now >= loss_deadline_) detect_losses(now, rtt, outcome);
  return outcome;
}

// RFC 9002, 6.1: a packet is lost when one sent three packets later was acked, or one sent later
// was acked and the time of nine eighths of a round trip has passed. For those before the largest
// acked that are not lost yet, the deadline is set.
void SentPackets::detect_losses(Time now, const Rtt& rtt, Outcome& outcome) {
  loss_deadline_ = kNever;
  const Duration delay = rtt.loss_delay();
  std::uint64_t oldest = next_number();
  for (std::uint64_t n = oldest_in_flight_; n < next_number(); ++n) {
    Packet& slot = packets_[n];
    if (slot.fate != Fate::in_flight) continue;
    if (any_acked_ && n < largest_acked_) {
      if (largest_acked_ - n >= kReorderingPackets || slot.sent_at + delay <= now) {
        lose(slot, outcome);
        continue;
      }
      loss_deadline_ = std::min(loss_deadline_, slot.sent_at + delay);
    }
    oldest = std::min(oldest, n);
    if (!any_acked_ || n > largest_acked_) break;  // nothing beyond can be lost by now
  }
  oldest_in_flight_ = oldest;
  if (eliciting_in_flight_ == 0) oldest_in_flight_ = next_number();
}

// The probe timeout of RFC 9002, 6.2.
Time SentPackets::probe_deadline(const Rtt& rtt, Duration ack_delay) const {
  if (eliciting_in_flight_ == 0) return kNever;
  // Doubling as in RFC 9002, 6.2.1, but to a second at most: one small probe a second burdens no
  // path, and a game cannot wait longer to learn that it is open again.
  const Duration first = rtt.probe_timeout(ack_delay);
  return last_eliciting_ +
         std::min(first * (1U << probes_), std::max<Duration>(first, kSlowestProbe));
}

// The entries of all packets stand in one ring; a packet knows its first entry and their number.
void SentPackets::append_refs(const Packet& packet, std::vector<SentRef>& out) const {
  for (std::uint64_t i = 0; i < packet.refs; ++i) out.push_back(refs_[packet.first_ref + i]);
}

void SentPackets::oldest_refs(std::vector<SentRef>& out) const {
  out.clear();
  if (eliciting_in_flight_ > 0) append_refs(packets_[oldest_in_flight_], out);
}

}  // namespace kwind::link
