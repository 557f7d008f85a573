#include "kwind/bits/quantise.h"

namespace kwind::bits {

double wrapped_degrees(double degrees) {
  const double wrapped = std::fmod(degrees, 360.0);
  return wrapped < 0 ? wrapped + 360.0 : wrapped;
}

}  // namespace kwind::bits
