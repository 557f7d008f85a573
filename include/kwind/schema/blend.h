// Values between two values, for what is drawn between two ticks. Generated code calls these for
// the fields of an entity that are `smooth` or `follow`. Pure.
#pragma once
#include <algorithm>
#include <cmath>
#include <concepts>
#include <type_traits>

namespace kwind::schema {

/// `part` 0 is `from`, 1 is `to`. Numbers and vectors go straight, rotations along the great circle
/// (Shoemake 1985); what has no between stays `from` until 1.
template <class T>
T blended(const T& from, const T& to, double part) {
  if constexpr (std::is_floating_point_v<T>) {
    // Far apart, their difference may be beyond what a number holds.
    const T way = to - from;
    return std::isfinite(way) ? static_cast<T>(from + way * part)
                              : static_cast<T>(from * (1 - part) + to * part);
  } else if constexpr (std::is_integral_v<T> && !std::is_same_v<T, bool>) {
    // With more digits than a double has; never beyond either end by rounding.
    const auto start = static_cast<long double>(from);
    const long double made = start + (static_cast<long double>(to) - start) * part;
    const auto [low, high] = std::minmax(from, to);
    if (made <= static_cast<long double>(low)) return low;
    if (made >= static_cast<long double>(high)) return high;
    return static_cast<T>(std::llround(made));
  } else if constexpr (requires { from.slerp(part, to); }) {
    return from.slerp(part, to);
  } else if constexpr (requires { from.rows(); }) {
    T made = from;
    for (decltype(made.size()) i = 0; i < made.size(); ++i) made[i] = blended(from[i], to[i], part);
    return made;
  } else {
    return part < 1 ? from : to;
  }
}

/// Degrees, the short way round; 0 up to 360.
inline double blended_angle(double from, double to, double part) {
  const double way = std::remainder(to - from, 360.0);
  const double turn = std::fmod(from + way * part, 360.0);
  return turn < 0 ? turn + 360 : turn;
}

/// Unit vectors; opposite ones have no between.
template <class Vector>
Vector blended_direction(const Vector& from, const Vector& to, double part) {
  const Vector made = blended(from, to, part);
  const auto length = made.norm();
  return length > 1e-6 ? Vector(made / length) : (part < 0.5 ? from : to);
}

}  // namespace kwind::schema
