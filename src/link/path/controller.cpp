// Congestion control by delay and delivery rate, with a CUBIC window (RFC 9438) while competing
// flows keep a standing queue.
//
// The controller is in one of three ways of running, and decides once a round trip whether to
// change (it leaves `starting` at once when it sees a queue):
//
//   starting  the rate doubles each round until the bandwidth is found (as slow start does)
//   steady    the rate is the bandwidth, less in proportion to the queue that is seen; every eighth
//             round looks for more
//   sharing   a queue stands although this end gives way: others fill it, and CUBIC competes with
//             them
//
// The bandwidth is the greatest delivery rate of the last ten rounds, the queue the round trip's
// excess over the least one of a minute or two. An ack from a peer that polls seldom is late for
// that reason: `waits_for_look_` is taken off, or the wait would be taken for a queue.
#include "link/path/controller.h"

#include <cmath>

namespace kwind::link {
namespace {

using std::chrono::milliseconds;

// RFC 9002, 7.2: ten datagrams before anything is known.
constexpr double kFirstWindow = 10.0 * 1200;
constexpr double kMinWindow = 4.0 * 1200;
constexpr double kMinRate = 2400;  // two datagrams a second
constexpr Duration kFirstRtt = milliseconds(100);
constexpr Duration kShortestRound = milliseconds(20);
constexpr double kStartingGain = 2.0;
constexpr double kLookingGain = 1.1;
constexpr unsigned kPhases = 8;
constexpr Duration kQueueWanted = milliseconds(1);
constexpr Duration kQueueHorizon = milliseconds(120);
constexpr double kMinGain = 0.7;
constexpr Duration kStandingQueue = milliseconds(25);
constexpr unsigned kStandingRounds = 4;
constexpr Duration kDrainEvery = std::chrono::seconds(15);
// Pause between two polls of the peer that is longer than any game's tick, and the number of
// packets that one poll must ack: a slow path delivers packets one by one.
constexpr Duration kSeldomLooks = milliseconds(60);
constexpr std::size_t kPacketsOfALook = 3;
constexpr Duration kMinSpan = std::chrono::seconds(60);
// RFC 9438, 4.1 and 4.6, with windows in datagrams of 1200 bytes.
constexpr double kCubicC = 0.4;
constexpr double kCubicBeta = 0.7;
constexpr double kSegment = 1200;

double seconds(Duration time) {
  return std::chrono::duration<double>(time).count();
}

}  // namespace

// The least delay of the path, from two spans of a minute: the older one is forgotten with the
// third.
Duration Controller::min() const {
  const Duration value = std::min(leasts_[0].value, leasts_[1].value);
  return value == Duration::max() ? kFirstRtt : value;
}

// What may stand in the queue: a little, and one datagram, which on a slow path takes its time by
// itself.
Duration Controller::queue_wanted() const {
  if (bandwidth_ <= 0) return kQueueWanted;
  const double one = std::min(kMaxDatagramBytes / bandwidth_, 0.1);
  return kQueueWanted + Duration(static_cast<Duration::rep>(one * 1e9));
}

// A queue above this stands although this end gives way: what its least window makes of a slow path
// is its own. Not more than a tenth of a second of it: a rate that is small because others leave
// nothing must not hide them.
Duration Controller::queue_standing() const {
  const double own = bandwidth_ > 0 ? std::min(1.25 * kMinWindow / bandwidth_, 0.1) : 0;
  return kStandingQueue + std::min<Duration>(queue_wanted(), milliseconds(50)) +
         Duration(static_cast<Duration::rep>(own * 1e9));
}

// The bandwidth-delay product: bytes that are under way when the path is full and its queue is
// empty.
double Controller::pipe() const {
  return bandwidth_ * seconds(std::max(min(), kShortestRound) + waits_for_look_);
}

// Measures how far apart the peer polls. Acks within kShortestRound of each other belong to one
// poll. The shortest of the last four pauses counts, so that one quick ack ends the allowance.
void Controller::note_look(Time now, const SentPackets::Outcome& outcome) {
  if (outcome.bytes_acked == 0 || now - look_ < kShortestRound) return;
  const Duration pause = now - look_;
  look_ = now;
  const bool batch =
      pause > kSeldomLooks && outcome.bytes_acked >= kPacketsOfALook * outcome.largest_acked;
  std::copy_backward(looks_.begin(), looks_.end() - 1, looks_.end());
  looks_[0] = batch ? pause : Duration{0};
  waits_for_look_ = *std::min_element(looks_.begin(), looks_.end());
}

// Keeps the least delay, a smoothed one, and the queue that the last few samples agree on.
void Controller::note_rtt(Time now, Duration rtt) {
  // A new least delay may be that of a changed path: it is believed for a minute or two.
  if (leasts_[0].value == Duration::max() || now - leasts_[0].since > kMinSpan) {
    leasts_[1] = leasts_[0];
    leasts_[0] = {now, rtt};
  }
  leasts_[0].value = std::min(leasts_[0].value, rtt);
  smoothed_ = smoothed_ == Duration{0} ? rtt : (7 * smoothed_ + rtt) / 8;
  round_least_ = std::min(round_least_, rtt);
  // A queue stays from sample to sample, jitter does not: what the least of the last few is above
  // the path's own delay, and above what samples differ from each other.
  if (recent_[0] > Duration{0}) {
    const Duration step = rtt > recent_[0] ? rtt - recent_[0] : recent_[0] - rtt;
    jitter_ += (step - jitter_) / 16;
  }
  std::copy_backward(recent_.begin(), recent_.end() - 1, recent_.end());
  recent_[0] = rtt;
  Duration lowest = rtt;
  for (const Duration sample : recent_) {
    if (sample > Duration{0}) lowest = std::min(lowest, sample);
  }
  queue_ = std::max(lowest - min() - jitter_ - waits_for_look_, Duration{0});
}

// The greatest rate of the last ten rounds is the bandwidth (a windowed maximum, as in BBR).
void Controller::note_rate(const RateSample& sample) {
  if (sample.bytes_per_s <= 0) return;
  // A rate that only the sender limited says nothing about the path, unless it is more than known.
  if (sample.app_limited && sample.bytes_per_s < bandwidth_) return;
  if (!sample.app_limited) round_app_limited_ = false;
  rounds_[0] = std::max(rounds_[0], sample.bytes_per_s);
  bandwidth_ = *std::max_element(rounds_.begin(), rounds_.end());
}

// `rtt` is the round trip without the peer's delay, zero if the ack gave no sample.
void Controller::on_ack(Time now, const SentPackets::Outcome& outcome, Duration rtt,
                        std::uint64_t delivered, std::size_t in_flight) {
  latest_ = now;
  note_look(now, outcome);
  if (rtt > Duration{0}) note_rtt(now, rtt);
  note_rate(outcome.rate);
  // RFC 9438, 4.2: the window is a cubic function of the time since the last loss, with its saddle
  // at the window at which that loss happened.
  if (way_ == Way::sharing && outcome.bytes_acked > 0) {
    const double t = seconds(now - cubic_since_ + smoothed_);
    const double top = cubic_max_ / kSegment;
    const double k = std::cbrt(top * (1 - kCubicBeta) / kCubicC);
    const double target = std::clamp((kCubicC * std::pow(t - k, 3) + top) * kSegment, cubic_window_,
                                     1.5 * cubic_window_);
    // RFC 9438, 4.3: never slower than what halves and adds one would do.
    const double reno = cubic_start_ + kSegment * 3 * (1 - kCubicBeta) / (1 + kCubicBeta) *
                                           seconds(now - cubic_since_) /
                                           std::max(seconds(smoothed_), 0.001);
    const double acked = static_cast<double>(outcome.bytes_acked);
    cubic_window_ += std::max((target - cubic_window_) / cubic_window_ * acked, 0.0);
    cubic_window_ = std::max(cubic_window_, reno);
    // A window that is not used must not grow on.
    cubic_window_ =
        std::min(cubic_window_, 2 * static_cast<double>(in_flight) + acked + kFirstWindow);
  }
  // A queue before the third flat round: the start has found the bandwidth of the path already.
  if (way_ == Way::starting && !round_app_limited_ && queue_ > kQueueSeen + queue_wanted()) {
    way_ = Way::steady;
    phase_ = 2;
  }
  if (outcome.delivered_at_send >= round_end_ && outcome.bytes_acked > 0) {
    round_end_ = delivered;
    on_round(now);
  }
}

// A round is over when a packet is acked that was sent after the round before was. Changes of the
// way of running are decided here, once a round trip.
void Controller::on_round(Time now) {
  const bool limited = round_app_limited_;
  const Duration queue =
      round_least_ == Duration::max()
          ? queue_
          : std::max(round_least_ - min() - jitter_ - waits_for_look_, Duration{0});
  switch (way_) {
    case Way::starting:
      if (!limited) {
        if (bandwidth_ >= full_bandwidth_ * 1.25) {
          full_bandwidth_ = bandwidth_;
          rounds_flat_ = 0;
        } else {
          ++rounds_flat_;
        }
      }
      if (!limited && rounds_flat_ >= 3) {
        way_ = Way::steady;
        phase_ = 2;
        standing_rounds_ = 0;
      }
      break;
    case Way::steady:
      // A look for more lasts a round; the round after it shows what came of it.
      if (phase_ == 1) {
        found_more_ = !limited && bandwidth_ > 1.04 * before_look_ ? found_more_ + 1 : 0;
        phase_ = found_more_ > 0 ? 0 : 2;
      } else {
        phase_ = (phase_ + 1) % kPhases;
      }
      if (phase_ == 0) before_look_ = bandwidth_;
      standing_rounds_ = !limited && queue > queue_standing() ? standing_rounds_ + 1 : 0;
      if (standing_rounds_ >= kStandingRounds) start_sharing(now);
      break;
    case Way::sharing:
      empty_rounds_ = queue < 2 * queue_wanted() ? empty_rounds_ + 1 : 0;
      if (empty_rounds_ >= 2 || (now < drain_until_ && empty_rounds_ > 0)) {
        way_ = Way::steady;
        phase_ = 2;
        standing_rounds_ = 0;
      }
      // Now and then all is let out, to see whether the queue is only this end's own.
      if (now >= drain_until_ + kDrainEvery) drain_until_ = now + 2 * smoothed_;
      break;
  }
  // Rounds in which the sender set the pace do not push the others out.
  if (!limited) {
    std::copy_backward(rounds_.begin(), rounds_.end() - 1, rounds_.end());
    rounds_[0] = 0;
    bandwidth_ = *std::max_element(rounds_.begin(), rounds_.end());
  }
  round_app_limited_ = true;
  round_least_ = Duration::max();
}

// The CUBIC window begins with what is in flight at this rate.
void Controller::start_sharing(Time now) {
  way_ = Way::sharing;
  empty_rounds_ = 0;
  cubic_window_ = std::max(bandwidth_ * seconds(smoothed_), kMinWindow);
  cubic_start_ = cubic_max_ = cubic_window_;
  cubic_since_ = drain_until_ = now;
}

// While this end has the path to itself a loss is no sign of congestion: the queue is seen
// directly.
void Controller::on_loss(Time now, Time sent_at) {
  if (way_ != Way::sharing || sent_at < loss_until_) return;
  loss_until_ = now;  // one event a round trip: what was sent before now belongs to it
  // RFC 9438, 4.7: leave room sooner when the last top was not reached.
  cubic_max_ = cubic_window_ < cubic_max_ ? cubic_window_ * (1 + kCubicBeta) / 2 : cubic_window_;
  cubic_window_ = std::max(cubic_window_ * kCubicBeta, kMinWindow);
  cubic_start_ = cubic_window_;
  cubic_since_ = now;
}

// The pacing rate. Steady: the bandwidth, a tenth or more above it while looking for more, and
// below it in proportion to the queue that is seen, by at most three tenths.
double Controller::rate() const {
  const double known = std::max(bandwidth_, kMinRate);
  switch (way_) {
    case Way::starting:
      return kStartingGain *
             std::max(bandwidth_, kFirstWindow / seconds(std::max(min(), kShortestRound)));
    case Way::steady: {
      const double above = seconds(queue_ - queue_wanted()) / seconds(kQueueHorizon);
      if (phase_ == 0 && queue_ < queue_wanted() + kQueueWanted) {
        return known *
               (1 + (kLookingGain - 1) * static_cast<double>(1U << std::min(found_more_, 3U)));
      }
      return known * std::clamp(1.0 - above, kMinGain, 1.0);
    }
    case Way::sharing: return 1.2 * cubic_window_ / std::max(seconds(smoothed_), 0.001);
  }
  return known;
}

// The congestion window: the most bytes in flight.
std::size_t Controller::window() const {
  double bytes = 0;
  switch (way_) {
    case Way::starting: bytes = std::max(kFirstWindow, kStartingGain * pipe()); break;
    // Twice the pipe and what arrives while acks are collected: delay, not this, limits the queue;
    // but a queue that stands must not live on what is in flight.
    case Way::steady:
      bytes = queue_ > kStandingQueue + queue_wanted()
                  ? pipe()
                  : 2 * pipe() + bandwidth_ * seconds(milliseconds(50)) + 2 * kMaxDatagramBytes;
      break;
    case Way::sharing: bytes = latest_ < drain_until_ ? pipe() : cubic_window_; break;
  }
  return static_cast<std::size_t>(std::max(bytes, kMinWindow));
}

}  // namespace kwind::link
