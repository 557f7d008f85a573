// Values between two values, for what is drawn between two ticks. Generated code calls these for
// the fields of an entity that are `smooth` or `follow`. Pure.
#pragma once
#include <cmath>
#include <concepts>
#include <type_traits>

namespace kwind::schema {

/// `part` 0 is `from`, 1 is `to`. Numbers and vectors go straight, rotations along the great circle
/// (Shoemake 1985); what has no between stays `from` until 1.
template <class T>
T blended(const T& from, const T& to, double part) {
  if constexpr (std::is_floating_point_v<T>) {
    return static_cast<T>(from + (to - from) * part);
  } else if constexpr (std::is_integral_v<T> && !std::is_same_v<T, bool>) {
    return static_cast<T>(std::llround(
        static_cast<double>(from) + (static_cast<double>(to) - static_cast<double>(from)) * part));
  } else if constexpr (requires { from.slerp(part, to); }) {
    return from.slerp(part, to);
  } else if constexpr (requires { from.rows(); }) {
    using Number = typename T::Scalar;
    return T(from + (to - from) * static_cast<Number>(part));
  } else {
    return part < 1 ? from : to;
  }
}

/// Degrees, the short way round; 0 up to 360.
inline double blended_turn(double from, double to, double part) {
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
