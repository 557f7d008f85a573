// How a tug of pilotage.kw moves, for the tests of prediction.
#pragma once
#include "pilotage.h"

namespace pilotage {

/// The tug after one input, at the server and in the client's prediction.
inline Tug sail(const Tug& tug, const Helm& order) {
  Tug made = tug;
  made.at[0] += order.throttle / 100.0;
  return made;
}
/// Whether a prediction needs no correction.
inline bool is_close(const Tug& a, const Tug& b) {
  return (a.at - b.at).norm() < 0.1;
}

}  // namespace pilotage
