#include "rtt.h"

namespace kwind::link {

void Rtt::sample(Duration latest, Duration ack_delay) {
  latest_ = latest;
  if (!known_) {
    known_ = true;
    least_ = smoothed_ = latest;
    variation_ = latest / 2;
    return;
  }
  least_ = std::min(least_, latest);
  // The peer's word on its delay is believed only down to the least time ever seen.
  const Duration adjusted = latest >= least_ + ack_delay ? latest - ack_delay : latest;
  const Duration difference = smoothed_ > adjusted ? smoothed_ - adjusted : adjusted - smoothed_;
  variation_ = (3 * variation_ + difference) / 4;
  smoothed_ = (7 * smoothed_ + adjusted) / 8;
}

}  // namespace kwind::link
