// How a tug moves, and how a bot steers it. Pure; the same seed gives the same voyage.
#pragma once
#include <cmath>
#include <cstdint>
#include <random>

#include "harbour.h"

namespace kwind::demo {

inline constexpr unsigned kTicksPerSecond = 20;

struct TugMotion {
  double x = 0;  // metres
  double y = 0;
  double bearing = 0;   // degrees
  double speed = 0;     // knots
  double rudder = 0;    // -1 to 1
  double throttle = 0;  // 0 to 1

  void step() {
    constexpr double kSeconds = 1.0 / kTicksPerSecond;
    constexpr double kMetresPerKnotSecond = 0.5144;
    constexpr double kRadians = 3.14159265358979323846 / 180;
    speed += (20 * throttle - speed) * kSeconds / 2;  // half a distance in about 1.4 s
    bearing += 40 * rudder * kSeconds;
    // The sea wall: a tug that is far out is turned back towards the pier head.
    if (std::hypot(x, y) > 900) bearing = std::atan2(-x, -y) / kRadians;
    bearing = std::fmod(bearing + 360, 360.0);
    x += std::sin(bearing * kRadians) * speed * kMetresPerKnotSecond * kSeconds;
    y += std::cos(bearing * kRadians) * speed * kMetresPerKnotSecond * kSeconds;
  }

  /// As everybody will see it: on the grid of the description.
  [[nodiscard]] harbour::Tug seen(std::int32_t number) const {
    const auto on_grid = [](const auto& range, double value) {
      return range.value_of(range.index_of(value).index);
    };
    using harbour::Tug;
    return {number, on_grid(Tug::x_range, x), on_grid(Tug::y_range, y),
            on_grid(Tug::bearing_range, bearing), on_grid(Tug::speed_range, speed)};
  }
};

/// Steers as a person might: holds a course for a while, then chooses another.
class Pilot {
 public:
  explicit Pilot(std::uint64_t seed) : random_(seed) {}

  harbour::Helm steer() {
    if (ticks_left_-- == 0) {
      ticks_left_ = 10 + static_cast<unsigned>(random_() % 50);
      helm_.rudder = static_cast<double>(random_() % 129) / 64.0 - 1;
      helm_.throttle = 40 + static_cast<std::int32_t>(random_() % 61);
    }
    return helm_;
  }

 private:
  std::mt19937_64 random_;
  unsigned ticks_left_ = 0;
  harbour::Helm helm_;
};

}  // namespace kwind::demo
