#include "sent_ledger.h"

#include <algorithm>

#include "kwind/bits/assert.h"

namespace kwind::link {
namespace {

constexpr std::uint64_t kReorderingPackets = 3;  // RFC 9002, 6.1.1
constexpr Duration kSlowestProbe = std::chrono::seconds(1);

}  // namespace

void SentLedger::begin() {
  Packet& slot = packet(next_);
  KWIND_ASSERT(has_slot() && slot.fate != Fate::in_flight);
  slot.fate = Fate::unused;
  slot.reliable.clear();
}

void SentLedger::sent(Time now, bool eliciting) {
  Packet& slot = packet(next_);
  slot.fate = eliciting ? Fate::in_flight : Fate::settled;
  slot.sent_at = now;
  if (eliciting) {
    if (eliciting_in_flight_++ == 0) oldest_in_flight_ = next_;
    last_eliciting_ = now;
  }
  ++next_;
  if (eliciting_in_flight_ == 0) oldest_in_flight_ = next_;
}

void SentLedger::settle(Packet& packet) {
  KWIND_ASSERT(packet.fate == Fate::in_flight);  // invariant 1
  packet.fate = Fate::settled;
  --eliciting_in_flight_;
}

void SentLedger::lose(Packet& packet) {
  settle(packet);
  ++packets_lost_;
  lost_.insert(lost_.end(), packet.reliable.begin(), packet.reliable.end());
  packet.reliable.clear();
}

SentLedger::Outcome SentLedger::on_ack(Time now, const AckBlock& block, const Rtt& rtt) {
  acked_.clear();
  lost_.clear();
  packets_lost_ = 0;
  const std::uint64_t newest = block.ranges.front().last;
  const std::uint64_t oldest_kept = next_ > packets_.size() ? next_ - packets_.size() : 0;
  bool newest_acked = false;
  Duration sample{0};
  for (const AckRange& range : block.ranges) {
    for (std::uint64_t n = std::max(range.first, oldest_kept); n <= range.last; ++n) {
      Packet& slot = packet(n);
      if (slot.fate != Fate::in_flight) continue;
      settle(slot);
      probes_ = 0;
      if (n == newest) {
        newest_acked = true;
        sample = now - slot.sent_at;
      }
      acked_.insert(acked_.end(), slot.reliable.begin(), slot.reliable.end());
      slot.reliable.clear();
    }
  }
  if (!any_acked_ || newest > largest_acked_) {
    any_acked_ = true;
    largest_acked_ = newest;
  }
  detect_losses(now, rtt);
  return {acked_, lost_, packets_lost_, newest_acked, sample};
}

SentLedger::Outcome SentLedger::on_timer(Time now, const Rtt& rtt) {
  acked_.clear();
  lost_.clear();
  packets_lost_ = 0;
  if (now >= loss_deadline_) detect_losses(now, rtt);
  return {acked_, lost_, packets_lost_, false, Duration{0}};
}

void SentLedger::detect_losses(Time now, const Rtt& rtt) {
  loss_deadline_ = kNever;
  const Duration delay = rtt.loss_delay();
  std::uint64_t oldest = next_;
  for (std::uint64_t n = oldest_in_flight_; n < next_; ++n) {
    Packet& slot = packet(n);
    if (slot.fate != Fate::in_flight) continue;
    if (any_acked_ && n < largest_acked_) {
      if (largest_acked_ - n >= kReorderingPackets || slot.sent_at + delay <= now) {
        lose(slot);
        continue;
      }
      loss_deadline_ = std::min(loss_deadline_, slot.sent_at + delay);
    }
    oldest = std::min(oldest, n);
  }
  oldest_in_flight_ = oldest;
}

Time SentLedger::probe_deadline(const Rtt& rtt, Duration ack_delay) const {
  if (eliciting_in_flight_ == 0) return kNever;
  // Doubling as in RFC 9002, 6.2.1, but to a second at most: one small probe a second burdens no
  // path, and a game cannot wait longer to learn that it is open again.
  const Duration first = rtt.probe_timeout(ack_delay);
  return last_eliciting_ +
         std::min(first * (1U << probes_), std::max<Duration>(first, kSlowestProbe));
}

const std::vector<ReliableRef>& SentLedger::oldest_reliable() const {
  static const std::vector<ReliableRef> kNone;
  return eliciting_in_flight_ == 0 ? kNone : packet(oldest_in_flight_).reliable;
}

}  // namespace kwind::link
