// A fixed tick: says how many ticks are due. Pure; one clock, one thread.
// It does not drift, as each tick's time is computed from the start, and does not spiral, as a
// stall is caught up by at most a stated number of ticks and the rest is skipped.
#pragma once
#include <algorithm>
#include <cstdint>

#include "kwind/core/assert.h"
#include "kwind/core/compiler.h"
#include "kwind/core/time.h"

namespace kwind::host {

/// Says how many ticks of a fixed rate are due.
class KWIND_API TickClock {
 public:
  /// Tick 0 is due at `start`. Requires: per_second is 1 to 1,000,000, max_at_once >= 1.
  TickClock(unsigned per_second, Time start, unsigned max_at_once = 4)
      : per_second_(per_second), start_(start), max_at_once_(max_at_once) {
    KWIND_ASSERT(per_second >= 1 && per_second <= 1000000 && max_at_once >= 1);
  }

  /// How many ticks to run now. Counts them as run.
  unsigned due(Time now) {
    unsigned count = 0;
    while (count < max_at_once_ && now >= time_of(slot_)) {
      ++slot_;
      ++count;
    }
    while (now >= time_of(slot_)) {  // still behind: let these go
      const auto behind = static_cast<std::uint64_t>((now - time_of(slot_)) / period() + 1);
      slot_ += behind;
      skipped_ += behind;
    }
    ticks_ += count;
    return count;
  }

  [[nodiscard]] std::uint64_t ticks() const { return ticks_; }      ///< run so far
  [[nodiscard]] std::uint64_t skipped() const { return skipped_; }  ///< let go after stalls
  [[nodiscard]] Time next() const { return time_of(slot_); }        ///< when the next one is due
  [[nodiscard]] Duration period() const { return Duration(std::chrono::seconds(1)) / per_second_; }

 private:
  // Exact for every rate: 60 ticks take a second, though a period of 1/60 s is no whole
  // nanoseconds.
  [[nodiscard]] Time time_of(std::uint64_t slot) const {
    const std::uint64_t part = slot % per_second_ * 1'000'000'000U / per_second_;
    return start_ + std::chrono::seconds(slot / per_second_) +
           Duration(static_cast<Duration::rep>(part));
  }

  std::uint64_t per_second_;
  Time start_;
  unsigned max_at_once_;
  std::uint64_t slot_ = 0;
  std::uint64_t ticks_ = 0;
  std::uint64_t skipped_ = 0;
};

}  // namespace kwind::host
