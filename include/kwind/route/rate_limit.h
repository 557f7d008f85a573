// "at most N/s" as a token bucket that counts in time: each message costs a period, and time earns.
// Pure; one limit, one thread.
#pragma once
#include <algorithm>
#include <cstdint>

#include "kwind/core/assert.h"
#include "kwind/core/compiler.h"
#include "kwind/core/time.h"

namespace kwind::route {

/// A token bucket for one type of message of one peer.
class KWIND_API RateLimit {
 public:
  /// The receiver grants more than the sender takes, so that an honest sender's messages pass even
  /// when the path bunches them up by as much as the difference.
  static constexpr Duration kSenderSlack = std::chrono::milliseconds(100);
  static constexpr Duration kReceiverSlack = std::chrono::milliseconds(350);

  /// `per_second` messages per second on average, 0 for no limit. After a pause this many may come
  /// at once as fit into one period plus `slack`.
  RateLimit(unsigned per_second, Duration slack)
      : period_(per_second == 0 ? Duration{0} : Duration(std::chrono::seconds(1)) / per_second),
        max_(period_ + slack),
        credit_(max_) {}

  /// Whether a message may pass at `now`; if so it is paid for. Time going back earns nothing.
  bool take(Time now) {
    if (!passes(now)) return false;
    credit_ -= period_;
    return true;
  }
  /// Whether a message may pass at `now`, without paying for it.
  bool passes(Time now) {
    if (period_ == Duration{0}) return true;
    if (started_ && now > last_) credit_ = std::min(max_, credit_ + (now - last_));
    if (!started_ || now > last_) last_ = now;
    started_ = true;
    return credit_ >= period_;
  }

 private:
  Duration period_;
  Duration max_;
  Duration credit_;
  Time last_{};
  bool started_ = false;
};

}  // namespace kwind::route
