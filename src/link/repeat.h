// When small reliable messages are worth sending again before anybody knows that they are lost: a
// copy costs its bits in a datagram that mostly leaves anyway, a loss costs a round trip and more.
// Pure functions.
#pragma once
#include "kwind/bits/time.h"

namespace kwind::link {

struct Repeats {
  /// No sooner than this after the last copy: what loses one datagram often loses the next.
  static constexpr Duration kEarliest = std::chrono::milliseconds(4);
  /// Beside other messages until here; then in a datagram of its own.
  static constexpr Duration kLatest = std::chrono::milliseconds(20);

  /// How many copies of each message, the first included: as many as it takes for fewer than one in
  /// five thousand to lose all of them, where losses are independent; at most four. (One that does
  /// holds up all that comes behind it on an ordered channel.) None more while a queue stands: then
  /// they would be part of what fills it.
  static unsigned copies(double loss, bool queue) {
    if (queue || loss < 0.002) return 1;
    unsigned copies = 1;
    for (double all = loss; all > 0.0002 && copies < 4; all *= loss) ++copies;
    return copies;
  }
};

}  // namespace kwind::link
