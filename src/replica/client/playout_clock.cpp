// Playout delay from the 95th percentile of snapshot lateness; the drawn tick follows without
// leaps.
#include "kwind/replica/playout_clock.h"

#include <algorithm>

#include "kwind/replica/client_world.h"

namespace kwind::replica {
namespace {

// A shift that is off by more is not crept up to.
constexpr double kJump = 10;  // ticks
// So many snapshots in a row, over so many ticks of the client's time, that all came later than
// before: the server stood still, or the path has become longer. A burst after a stall of the path
// is shorter than that.
constexpr std::size_t kLaterSnapshots = 4;
constexpr double kLaterTicks = 3;

}  // namespace

double PlayoutClock::ticks_of(Time now) const {
  return std::chrono::duration<double>(now.time_since_epoch()).count() * options_.ticks_per_second;
}

// Lateness is the client's time less the snapshot's tick, in ticks: with a steady path it is
// constant, jitter makes it larger. The earliest of the last kSnapshots is the path without its
// queue.
void PlayoutClock::on_snapshot(Time now, std::uint32_t tick) {
  if (tick == newest_) return;
  const double at = ticks_of(now);
  if (tick < newest_) {  // the server started anew
    count_ = 0;
    shift_.reset();
    drawn_ = 0;
  }
  newest_ = tick;
  const double late = at - tick;
  // What was measured before says nothing any more.
  if (count_ > 0 && (late < earliest_ - kJump || later(at, late))) {
    count_ = 0;
    shift_.reset();
  }
  late_[count_++ % kSnapshots] = late;
  auto sorted = late_;
  const std::size_t size = std::min(count_, kSnapshots);
  const auto end = sorted.begin() + static_cast<std::ptrdiff_t>(size);
  std::sort(sorted.begin(), end);
  earliest_ = sorted[0];
  // The 95th percentile over the earliest: one snapshot in twenty may come too late to be shown in
  // time.
  jitter_ = sorted[(size - 1) * 95 / 100] - earliest_;
  delay_ = std::clamp(options_.min_ticks + jitter_, options_.min_ticks, options_.max_ticks);
}

// Whether snapshots have come so much later for a while that they will go on to.
bool PlayoutClock::later(double at, double late) {
  if (late <= earliest_ + kJump) {
    later_snapshots_ = 0;
    return false;
  }
  if (later_snapshots_++ == 0) later_since_ = at;
  if (later_snapshots_ < kLaterSnapshots || at - later_since_ < kLaterTicks) return false;
  later_snapshots_ = 0;
  return true;
}

std::optional<double> PlayoutClock::tick_at(Time now) {
  if (count_ == 0) return std::nullopt;
  const double at = ticks_of(now);
  const double wanted = earliest_ + delay_;
  if (!shift_ || std::abs(*shift_ - wanted) > kJump) {
    shift_ = wanted;
  } else {
    // The shown time runs at most this much faster or slower than real time: nobody sees that.
    const double max = std::max(at - drawn_at_, 0.0) * options_.max_haste;
    *shift_ += std::clamp(wanted - *shift_, -max, max);
  }
  drawn_at_ = at;
  // Nothing is known of later ticks.
  drawn_ = std::max(drawn_,
                    std::min(at - *shift_, static_cast<double>(newest_) + ClientWorld::kMaxAhead));
  return drawn_;
}

}  // namespace kwind::replica
