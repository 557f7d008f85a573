// Congestion control: a pacing rate and a window that keep the bottleneck's queue short, from delay
// and delivery rate. Loss alone changes nothing. Beside flows that fill the queue it competes with
// a CUBIC window. One link, one thread.
//
// Three ways of running:
//   starting  doubles the rate each round trip until it no longer arrives faster, or a queue grows
//   steady    sends at the greatest rate that arrived lately; looks for more, an eighth of the
//   time,
//             with a tenth more; gives way in proportion to the queue it sees
//   sharing   a queue stands although this end gave way: others fill it. A window after CUBIC
//             (RFC 9438) until the queue empties
// The model of rate and least delay is that of Cardwell et al., "BBR: Congestion-Based Congestion
// Control", ACM Queue 14(5), 2016; the change between two ways, by whether the queue empties, that
// of Arun and Balakrishnan, "Copa", NSDI 2018.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>

#include "kwind/core/time.h"
#include "kwind/link/spec.h"
#include "link/path/sent_packets.h"

namespace kwind::link {

class Controller {
 public:
  enum class Way : std::uint8_t { starting, steady, sharing };

  /// An ack block arrived. `rtt` is a sample without the peer's ack delay, or 0.
  void on_ack(Time now, const SentPackets::Outcome& outcome, Duration rtt, std::uint64_t delivered,
              std::size_t in_flight);
  /// Packets were found lost; the newest of them was sent at `sent_at`.
  void on_loss(Time now, Time sent_at);
  /// Another path: everything is forgotten.
  void reset() { *this = Controller(); }

  /// Bytes that may be in flight.
  [[nodiscard]] std::size_t window() const;
  /// Bytes a second at which datagrams should leave.
  [[nodiscard]] double rate() const;
  /// Least estimate of what stands in the bottleneck's queue, in time.
  [[nodiscard]] Duration queue() const { return queue_; }
  /// Whether a queue is seen: no time for anything that can be spared.
  [[nodiscard]] bool sees_queue() const {
    return queue_ > kQueueSeen + queue_wanted() || way_ == Way::sharing;
  }
  [[nodiscard]] Way way() const { return way_; }
  /// Estimate of what the path carries, bytes a second.
  [[nodiscard]] double bandwidth() const { return bandwidth_; }

 private:
  static constexpr Duration kQueueSeen = std::chrono::milliseconds(20);
  struct Timed {
    Time since{};
    Duration value = Duration::max();
  };

  void on_round(Time now);
  void note_rtt(Time now, Duration rtt);
  void note_rate(const RateSample& sample);
  void note_look(Time now, const SentPackets::Outcome& outcome);
  void start_sharing(Time now);
  [[nodiscard]] Duration min() const;
  [[nodiscard]] Duration queue_wanted() const;
  [[nodiscard]] Duration queue_standing() const;
  [[nodiscard]] double pipe() const;  // bytes of rate times least delay

  Way way_ = Way::starting;
  // Rates of the last rounds, newest first: their greatest is the bandwidth.
  std::array<double, 10> rounds_{};
  double bandwidth_ = 0;
  std::uint64_t round_end_ = 0;  // delivered count at which the round is over
  bool round_app_limited_ = true;

  std::array<Timed, 2> leasts_{};  // two spans of a minute: the older one retires
  Duration smoothed_{0};
  Duration queue_{0};
  Duration jitter_{0};                // mean difference of successive samples
  std::array<Duration, 3> recent_{};  // samples, newest first
  // A peer that polls seldom acks all datagrams of one poll at once. `look_` is the first ack of
  // the newest poll, `looks_` the pauses between the last polls, newest first. Their minimum is no
  // queueing delay, and permits more bytes in flight.
  Time look_{};
  std::array<Duration, 4> looks_{};
  Duration waits_for_look_{0};
  Duration round_least_ = Duration::max();  // of this round's samples

  double full_bandwidth_ = 0;  // starting: what the last rounds did not exceed by a quarter
  unsigned rounds_flat_ = 0;
  unsigned phase_ = 0;            // steady: round trips since the last look for more
  unsigned found_more_ = 0;       // steady: looks in a row that found more
  double before_look_ = 0;        // the bandwidth then
  unsigned standing_rounds_ = 0;  // in which the queue never emptied although this end gave way
  unsigned empty_rounds_ = 0;

  // sharing, RFC 9438: sizes in bytes
  double cubic_window_ = 0;
  double cubic_max_ = 0;
  double cubic_start_ = 0;
  Time cubic_since_{};
  Time drain_until_{};
  Time latest_{};
  Time loss_until_{};  // losses of packets sent before this are of the same event
};

/// Lets datagrams leave at a rate: a bucket of bytes that fills with time. What must not wait may
/// overdraw it.
class Pacer {
 public:
  /// Requires: bytes_per_s > 0.
  void set_rate(double bytes_per_s) { rate_ = bytes_per_s; }
  [[nodiscard]] bool ready(Time now) const { return level(now) > 0; }
  [[nodiscard]] Time next(Time now) const {
    const double missing = -level(now);
    if (missing < 0) return now;
    return now + Duration(static_cast<Duration::rep>(missing / rate_ * 1e9) + 1000);
  }
  void sent(Time now, std::size_t bytes) {
    const auto size = static_cast<double>(bytes);
    // What could not wait is not held against the rest for ever.
    const double deepest = -0.2 * rate_ - kMaxDatagramBytes;
    level_ = std::max(level(now) - size, deepest);
    tick_level_ = std::max(tick_level(now) - size, deepest);
    at_ = now;
  }
  /// The sender came by after `pause`. If it always comes so rarely, as much may leave each time.
  void came_by(Duration pause) {
    std::copy_backward(pauses_.begin(), pauses_.end() - 1, pauses_.end());
    pauses_[0] = pause;
  }
  /// Bytes that may leave at once without making a queue.
  [[nodiscard]] double level(Time now) const {
    const Duration pause = *std::min_element(pauses_.begin(), pauses_.end());
    return std::min(
        filled(level_, now),
        rate_ * std::min(std::chrono::duration<double>(pause).count(), kTick) + kMinBurst);
  }
  /// Bytes that the path takes until about the next tick.
  [[nodiscard]] double tick_level(Time now) const {
    return std::min(filled(tick_level_, now), rate_ * kTick + kMinBurst);
  }

 private:
  static constexpr double kMinBurst = 2.0 * kMaxDatagramBytes;
  static constexpr double kTick = 0.05;  // seconds: a sender may come by only 20 times in one
  [[nodiscard]] double filled(double level, Time now) const {
    return level + rate_ * std::chrono::duration<double>(now - at_).count();
  }

  double rate_ = 120000;
  double level_ = kMinBurst;
  double tick_level_ = kMinBurst;
  Time at_{};
  std::array<Duration, 4> pauses_{};
};

}  // namespace kwind::link
