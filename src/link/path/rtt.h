// Round-trip estimate of one link: smoothed time, its variation, the timeout both imply.
// RFC 9002, section 5 and 6.2.1. Fed by acks, read by SentPackets. One link, one thread.
#pragma once
#include <algorithm>

#include "kwind/core/time.h"

namespace kwind::link {

class Rtt {
 public:
  /// `latest` is the time from sending to the ack, `ack_delay` what the peer says it held the ack
  /// back. Both at least zero.
  void sample(Duration latest, Duration ack_delay);

  [[nodiscard]] bool known() const { return known_; }
  [[nodiscard]] Duration smoothed() const { return smoothed_; }
  [[nodiscard]] Duration variation() const { return variation_; }
  [[nodiscard]] Duration min() const { return min_; }
  /// How long to wait for the ack of a packet before probing.
  [[nodiscard]] Duration probe_timeout(Duration ack_delay) const {
    return smoothed_ + std::max<Duration>(4 * variation_, kGranularity) + ack_delay;
  }
  /// How much later than a newer packet's ack a packet counts as lost.
  [[nodiscard]] Duration loss_delay() const {
    return std::max<Duration>(std::max(smoothed_, latest_) * 9 / 8, kGranularity);
  }

 private:
  static constexpr Duration kGranularity = std::chrono::milliseconds(1);
  bool known_ = false;
  // Before the first sample: a middling path. RFC 9002 says 333 ms; the handshake gives a sample
  // before any message is sent, so this only paces its own retries.
  Duration smoothed_ = std::chrono::milliseconds(200);
  Duration variation_ = std::chrono::milliseconds(100);
  Duration min_{0};
  Duration latest_{0};
};

}  // namespace kwind::link
