#include "kwind/replica/play_out.h"

#include <algorithm>

namespace kwind::replica {
namespace {

// A shift that is off by more is not crept up to.
constexpr double kJump = 10;  // ticks

}  // namespace

double PlayOut::ticks_of(Time now) const {
  return std::chrono::duration<double>(now.time_since_epoch()).count() * options_.ticks_per_second;
}

void PlayOut::frame(Time now, std::uint32_t tick) {
  if (tick == newest_) return;
  const double at = ticks_of(now);
  // All began anew, or the clocks have gone apart: what was measured says nothing any more.
  if (tick < newest_ || (count_ > 0 && std::abs(at - tick - earliest_) > 8 * kJump)) {
    count_ = 0;
    shift_.reset();
    drawn_ = 0;
  }
  newest_ = tick;
  late_[count_++ % kFrames] = at - tick;
  auto sorted = late_;
  const std::size_t size = std::min(count_, kFrames);
  const auto end = sorted.begin() + static_cast<std::ptrdiff_t>(size);
  std::sort(sorted.begin(), end);
  earliest_ = sorted[0];
  jitter_ = sorted[(size - 1) * 95 / 100] - earliest_;
  delay_ = std::clamp(options_.least_ticks + jitter_, options_.least_ticks, options_.most_ticks);
}

std::optional<double> PlayOut::tick_at(Time now) {
  if (count_ == 0) return std::nullopt;
  const double at = ticks_of(now);
  const double wanted = earliest_ + delay_;
  if (!shift_ || std::abs(*shift_ - wanted) > kJump) {
    shift_ = wanted;
  } else {
    const double most = std::max(at - drawn_at_, 0.0) * options_.most_haste;
    *shift_ += std::clamp(wanted - *shift_, -most, most);
  }
  drawn_at_ = at;
  drawn_ = std::max(drawn_, at - *shift_);
  return drawn_;
}

}  // namespace kwind::replica
