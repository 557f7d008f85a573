// Playout clock: which server tick a client draws, as far behind the newest snapshot as the
// measured jitter needs. Pure: the caller passes the time. One thread.
#pragma once
#include <array>
#include <cstdint>
#include <optional>

#include "kwind/core/compiler.h"
#include "kwind/core/time.h"

namespace kwind::replica {

/// Bounds of the playout delay, and how fast it follows the path.
struct PlayOutOptions {
  double ticks_per_second = 20;  ///< of the server's world; ReplicatedWorld takes the server's
  /// Never closer behind than this, in ticks. One is what drawing between two states takes.
  double min_ticks = 1;
  double max_ticks = 20;
  /// How much faster or slower than it was the drawn world may run while the delay changes.
  double max_haste = 0.05;
};

/// Says which tick to draw.
class KWIND_API PlayoutClock {
 public:
  explicit PlayoutClock(PlayOutOptions options = {}) : options_(options) {}

  /// A snapshot of this tick was taken: ClientWorld::tick() after ClientWorld::receive().
  void on_snapshot(Time now, std::uint32_t tick);
  /// The tick to draw, with its fraction, for ClientWorld::sample(): never before one that it
  /// returned earlier, unless the server starts anew, and at most ClientWorld::kMaxAhead ticks
  /// after the newest snapshot's. Nothing before the first snapshot.
  [[nodiscard]] std::optional<double> tick_at(Time now);
  /// What tick_at() returned last; 0: nothing yet.
  [[nodiscard]] double drawn() const { return drawn_; }
  /// Ticks behind the newest that an undisturbed path would have brought: the target.
  [[nodiscard]] double delay_ticks() const { return delay_; }
  /// Of the snapshots' lateness, 95th percentile above the least; in ticks.
  [[nodiscard]] double jitter_ticks() const { return jitter_; }

 private:
  static constexpr std::size_t kSnapshots = 64;
  [[nodiscard]] double ticks_of(Time now) const;
  [[nodiscard]] bool later(double at, double late);

  PlayOutOptions options_;
  std::array<double, kSnapshots> late_{};  // when snapshots came, in ticks, less their tick
  std::size_t count_ = 0;
  std::uint32_t newest_ = 0;
  double earliest_ = 0;  // of late_
  std::size_t later_snapshots_ = 0;
  double later_since_ = 0;
  double jitter_ = 0;
  double delay_ = 0;
  std::optional<double> shift_;  // what is drawn is now - shift
  double drawn_at_ = 0;
  double drawn_ = 0;
};

}  // namespace kwind::replica
