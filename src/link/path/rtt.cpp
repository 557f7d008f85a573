// Round-trip time estimation (RFC 9002, section 5).
#include "link/path/rtt.h"

namespace kwind::link {

// The weights are those of RFC 9002, 5.3: an eighth for the estimate, a quarter for its variation.
void Rtt::sample(Duration latest, Duration ack_delay) {
  latest_ = latest;
  if (!known_) {
    known_ = true;
    min_ = smoothed_ = latest;
    variation_ = latest / 2;
    return;
  }
  min_ = std::min(min_, latest);
  // The peer's word on its delay is believed down to the least time ever seen. RFC 9002, 5.3
  // believes all of it or nothing; with acks that wait for a game's tick that would keep the
  // estimate too high.
  const Duration adjusted = std::max(latest - ack_delay, min_);
  const Duration difference = smoothed_ > adjusted ? smoothed_ - adjusted : adjusted - smoothed_;
  variation_ = (3 * variation_ + difference) / 4;
  smoothed_ = (7 * smoothed_ + adjusted) / 8;
}

}  // namespace kwind::link
