// Directions by the octahedral map (Meyer et al., "On Floating-Point Normal Vectors", EGSR 2010):
// the unit sphere folded to a square and that cut into cells. Rotations by the "smallest three":
// the largest component of the quaternion is left out, and the others are rounded to steps.
#include "kwind/bits/unit_vectors.h"

#include <algorithm>
#include <cmath>

namespace kwind::bits {
namespace {

constexpr double kRadians = 3.14159265358979323846 / 180;

// The vector scaled so that its largest component is 1, which keeps squares and sums finite.
template <std::size_t N>
bool scale_down(std::array<double, N>& v) {
  double max = 0;
  for (const double c : v) {
    if (!std::isfinite(c)) return false;
    max = std::max(max, std::abs(c));
  }
  if (max == 0) return false;
  for (double& c : v) c /= max;
  return true;
}

std::uint32_t half_for(double radians, double error, std::uint32_t max) {
  const double half = std::ceil(error / radians);
  return half >= 1 ? static_cast<std::uint32_t>(std::min<double>(half, max)) : 1;
}

// Whole coordinates of a place on the unfolded square, and the point of the octahedron there.
struct Place {
  std::int64_t u, v;
};
// From the square back to the octahedron, in whole steps: z is what x and y leave.
std::array<std::int64_t, 3> unfold(Place p, std::int64_t half) {
  const std::int64_t au = std::abs(p.u);
  const std::int64_t av = std::abs(p.v);
  const std::int64_t z = half - au - av;
  if (z >= 0) return {p.u, p.v, z};
  return {p.u < 0 ? av - half : half - av, p.v < 0 ? au - half : half - au, z};
}

// Whole steps of the three components beside the largest one.
struct Steps {
  std::size_t largest;
  std::array<std::int64_t, 3> rest;
};

std::size_t other(std::size_t largest, std::size_t i) {
  return i < largest ? i : i + 1;
}

// The greatest of the rest, if whole squares prove that it is the largest of all; 3 if it is not.
std::size_t rival(const Steps& s, std::int64_t half) {
  std::int64_t square = 2 * half * half;
  std::size_t greatest = 0;
  for (std::size_t i = 0; i < 3; ++i) {
    square -= s.rest[i] * s.rest[i];
    if (std::abs(s.rest[i]) > std::abs(s.rest[greatest])) greatest = i;
  }
  const std::int64_t c = s.rest[greatest] * s.rest[greatest];
  return c > square || (c == square && other(s.largest, greatest) < s.largest) ? greatest : 3;
}

// The three numbers of an index, by division.
Steps steps_of(std::uint64_t index, std::uint64_t side, std::int64_t half) {
  Steps s{};
  for (std::size_t i = 3; i-- > 0; index /= side) {
    s.rest[i] = static_cast<std::int64_t>(index % side) - half;
  }
  s.largest = static_cast<std::size_t>(index);
  return s;
}

}  // namespace

// The angle of the vector, in steps; a vector of no length has none.
Quantised direction2_index(const AngleRange& steps, double x, double y) {
  std::array<double, 2> v{x, y};
  if (!scale_down(v)) return {0, false};
  return steps.index_of(std::atan2(v[1], v[0]) / kRadians);
}

std::array<double, 2> direction2_value(const AngleRange& steps, std::uint64_t index) {
  const double angle = steps.value_of(index) * kRadians;
  return {std::cos(angle), std::sin(angle)};
}

DirectionGrid DirectionGrid::within(double degrees) {
  return {half_for(degrees * kRadians, 2.1214, kMaxHalf)};
}

// Rounds to the grid, then looks at the neighbours for the nearest direction.
Quantised DirectionGrid::index_of(double x, double y, double z) const {
  std::array<double, 3> d{x, y, z};
  const bool usable = scale_down(d);
  if (!usable) d = {0, 0, 1};
  const auto n = static_cast<std::int64_t>(half);
  const double scale =
      static_cast<double>(half) / (std::abs(d[0]) + std::abs(d[1]) + std::abs(d[2]));
  double u = d[0] * scale;
  double v = d[1] * scale;
  if (d[2] < 0) {
    const double fold_u = std::copysign(static_cast<double>(half) - std::abs(v), u);
    const double fold_v = std::copysign(static_cast<double>(half) - std::abs(u), v);
    u = fold_u;
    v = fold_v;
  }
  Place p{std::clamp<std::int64_t>(std::llround(u), -n, n),
          std::clamp<std::int64_t>(std::llround(v), -n, n)};
  if (std::abs(p.u) == n) p.v = std::abs(p.v);
  if (std::abs(p.v) == n) p.u = std::abs(p.u);
  return {static_cast<std::uint64_t>(p.u + n) * side() + static_cast<std::uint64_t>(p.v + n),
          usable};
}

// Points of the square's edge name one direction several times: one of them counts.
bool DirectionGrid::canonical(std::uint64_t index) const {
  const auto n = static_cast<std::int64_t>(half);
  const Place p{static_cast<std::int64_t>(index / side()) - n,
                static_cast<std::int64_t>(index % side()) - n};
  return !(std::abs(p.u) == n && p.v < 0) && !(std::abs(p.v) == n && p.u < 0);
}

// The unit vector of an index.
std::array<double, 3> DirectionGrid::value_of(std::uint64_t index) const {
  const auto n = static_cast<std::int64_t>(half);
  const auto p = unfold({static_cast<std::int64_t>(index / side()) - n,
                         static_cast<std::int64_t>(index % side()) - n},
                        n);
  const double length = std::sqrt(static_cast<double>(p[0] * p[0] + p[1] * p[1] + p[2] * p[2]));
  return {static_cast<double>(p[0]) / length, static_cast<double>(p[1]) / length,
          static_cast<double>(p[2]) / length};
}

RotationGrid RotationGrid::within(double degrees) {
  return {half_for(degrees * kRadians, 4.25, kMaxHalf)};
}

// The largest component is left out, as it follows from the others; the sign is chosen so that it
// is positive.
Quantised RotationGrid::index_of(double w, double x, double y, double z) const {
  std::array<double, 4> q{w, x, y, z};
  const bool usable = scale_down(q);
  if (!usable) q = {1, 0, 0, 0};
  const auto n = static_cast<std::int64_t>(half);
  std::size_t largest = 0;
  for (std::size_t i = 1; i < 4; ++i) {
    if (std::abs(q[i]) > std::abs(q[largest])) largest = i;
  }
  const double length = std::sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2] + q[3] * q[3]);
  const double scale =
      std::copysign(static_cast<double>(half) * std::sqrt(2.0) / length, q[largest]);
  Steps s{largest, {}};
  for (std::size_t i = 0; i < 3; ++i) {
    s.rest[i] = std::clamp<std::int64_t>(std::llround(q[other(largest, i)] * scale), -n, n);
  }
  // Rounding can lift another component to the largest or above: take a step off it. Ends, as one
  // of them is nearer to 0 each time, and where all are 0 the largest is not.
  for (std::size_t i = rival(s, n); i < 3; i = rival(s, n)) s.rest[i] += s.rest[i] > 0 ? -1 : 1;
  std::uint64_t index = s.largest;
  for (const std::int64_t c : s.rest) index = index * side() + static_cast<std::uint64_t>(c + n);
  return {index, usable};
}

bool RotationGrid::canonical(std::uint64_t index) const {
  return rival(steps_of(index, side(), half), half) == 3;
}

// Three components, and the fourth from the length 1.
std::array<double, 4> RotationGrid::value_of(std::uint64_t index) const {
  const auto n = static_cast<std::int64_t>(half);
  const Steps s = steps_of(index, side(), n);
  const auto whole = static_cast<double>(2 * n * n);
  std::int64_t square = 2 * n * n;
  std::array<double, 4> q{};
  for (std::size_t i = 0; i < 3; ++i) {
    square -= s.rest[i] * s.rest[i];
    q[other(s.largest, i)] = static_cast<double>(s.rest[i]) / std::sqrt(whole);
  }
  q[s.largest] = std::sqrt(static_cast<double>(square)) / std::sqrt(whole);
  return q;
}

}  // namespace kwind::bits
