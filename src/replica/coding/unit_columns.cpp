// Rotations and directions: packing, and prediction in whole numbers.
#include "replica/coding/unit_columns.h"

#include <algorithm>
#include <bit>
#include <cstdlib>

namespace kwind::replica {
namespace {

using schema::ColumnGroup;

// Fraction bits of a quaternion's components: with half a range of 2^19 steps, squares of 2 *
// half^2 with twice these bits fit into 64.
constexpr unsigned kFraction = 11;
// Bits that components lose before they are squared.
constexpr unsigned kSquareShift = 8;
constexpr unsigned kDirectionFraction = 10;

std::uint64_t side_of(const schema::ColumnInfo& column) {
  return std::uint64_t{column.last} + 1;
}
unsigned packed_bits(const schema::ColumnInfo* first) {
  const bool rotation = first->group == ColumnGroup::rotation;
  const std::uint64_t side = side_of(first[1]);
  const std::uint64_t count = rotation ? 4 * side * side * side : side * side;
  return static_cast<unsigned>(std::bit_width(count - 1));
}

// Rounded down.
std::int64_t square_root(std::int64_t value) {
  if (value <= 0) return 0;
  std::int64_t root = 0;
  for (std::int64_t bit = std::int64_t{1}
                          << ((std::bit_width(static_cast<std::uint64_t>(value)) - 1) / 2);
       bit > 0; bit >>= 1) {
    if ((root + bit) * (root + bit) <= value) root += bit;
  }
  return root;
}

// Halves go up.
std::int64_t rounded(std::int64_t value, std::int64_t by) {
  const std::int64_t twice = 2 * value + by;
  const std::int64_t down = twice / (2 * by);
  return twice % (2 * by) < 0 ? down - 1 : down;
}

// Steps -half to half have the indices 0 to 2 * half.
std::uint32_t index_of(std::int64_t steps, std::int64_t half) {
  return static_cast<std::uint32_t>(std::clamp(steps, -half, half) + half);
}

using Quaternion = std::array<std::int64_t, 4>;

// The place, in a quaternion, of the i-th of the three components that are sent.
std::size_t other(std::size_t largest, std::size_t i) {
  return i < largest ? i : i + 1;
}

// Smallest three: the largest component is left out, and follows from the length 1. All four are
// whole numbers with kFraction bits of fraction, so that both ends compute the same.
Quaternion quaternion_of(const std::uint32_t* numbers, std::int64_t half) {
  Quaternion q{};
  std::int64_t square = 2 * half * half;
  const std::size_t largest = numbers[0];
  for (std::size_t i = 0; i < 3; ++i) {
    const std::int64_t steps = std::int64_t{numbers[i + 1]} - half;
    square -= steps * steps;
    q[other(largest, i)] = steps << kFraction;
  }
  q[largest] = square_root(std::max<std::int64_t>(square, 0) << (2 * kFraction));
  return q;
}

using Point = std::array<std::int64_t, 3>;

// On the octahedron |x| + |y| + |z| = half.
Point point_of(const std::uint32_t* numbers, std::int64_t half) {
  const std::int64_t u = std::int64_t{numbers[0]} - half;
  const std::int64_t v = std::int64_t{numbers[1]} - half;
  const std::int64_t z = half - std::abs(u) - std::abs(v);
  if (z >= 0) return {u, v, z};
  return {u < 0 ? std::abs(v) - half : half - std::abs(v),
          v < 0 ? std::abs(u) - half : half - std::abs(u), z};
}

template <std::size_t N>
std::array<std::int64_t, N> moved_on(const std::array<std::int64_t, N>& from,
                                     const std::array<std::int64_t, N>& to,
                                     const UnitStates& states) {
  std::array<std::int64_t, N> made{};
  for (std::size_t i = 0; i < N; ++i) {
    made[i] = to[i] + (to[i] - from[i]) * std::int64_t{states.ahead} / std::int64_t{states.span};
  }
  return made;
}

}  // namespace

// All components are one mixed-radix number, as messages carry it.
void read_unit(bits::Reader& in, const schema::ColumnInfo* first, std::uint32_t* numbers) {
  std::uint64_t index = in.get(packed_bits(first));
  const std::uint64_t side = side_of(first[1]);
  for (std::size_t i = columns_of(first->group); i-- > 1; index /= side) {
    numbers[i] = static_cast<std::uint32_t>(index % side);
  }
  numbers[0] = static_cast<std::uint32_t>(index);
}

void write_unit(bits::Writer& out, const schema::ColumnInfo* first, const std::uint32_t* numbers) {
  std::uint64_t index = numbers[0];
  for (std::size_t i = 1; i < columns_of(first->group); ++i) {
    index = index * side_of(first[1]) + numbers[i];
  }
  out.put(index, packed_bits(first));
}

// Extrapolates in a straight line and scales the result to length 1. q and -q are one rotation: the
// older state takes the sign that is nearer, the result the sign that makes the largest component
// positive.
std::array<std::uint32_t, 3> predict_rotation(const UnitStates& states, std::uint32_t largest,
                                              std::uint32_t last) {
  const std::uint32_t* const newest = states.newest;
  const bool moves = states.oldest != nullptr && states.span > 0;
  if (!moves && newest[0] == largest) return {newest[1], newest[2], newest[3]};
  const std::int64_t half = last / 2;
  Quaternion q = quaternion_of(newest, half);
  if (moves) {
    Quaternion before = quaternion_of(states.oldest, half);
    std::int64_t dot = 0;
    for (std::size_t i = 0; i < 4; ++i) dot += (before[i] >> kSquareShift) * (q[i] >> kSquareShift);
    if (dot < 0) {
      for (std::int64_t& c : before) c = -c;
    }
    q = moved_on(before, q, states);
  }
  if (q[largest] < 0) {
    for (std::int64_t& c : q) c = -c;
  }
  std::int64_t square = 0;
  for (std::int64_t& c : q) {
    c >>= kSquareShift;
    square += c * c;
  }
  // Of length half * sqrt(2): the root of twice the square, with four bits of fraction.
  constexpr unsigned kLengthFraction = 4;
  const std::int64_t wanted = square_root(2 * half * half << (2 * kLengthFraction));
  const std::int64_t length = square_root(square) << kLengthFraction;
  std::array<std::uint32_t, 3> made{newest[1], newest[2], newest[3]};
  if (length == 0) return made;
  for (std::size_t i = 0; i < 3; ++i) {
    made[i] = index_of(rounded(q[other(largest, i)] * wanted, length), half);
  }
  return made;
}

std::array<std::int64_t, 3> shares_of_direction(const std::uint32_t* numbers, std::uint32_t last,
                                                unsigned bits) {
  const Point p = point_of(numbers, last / 2);
  std::int64_t square = 0;
  for (const std::int64_t c : p) square += c * c;
  // Half a range has at most 2^17 steps: the square has 34 bits, and 52 with its fraction, which
  // scripts hold exactly.
  constexpr unsigned kLengthFraction = 9;
  // Half a range of one step at least: the point is never 0.
  const std::int64_t length =
      std::max<std::int64_t>(square_root(square << (2 * kLengthFraction)), 1);
  std::array<std::int64_t, 3> made{};
  for (std::size_t axis = 0; axis < made.size(); ++axis) {
    made.at(axis) = (p.at(axis) << (bits + kLengthFraction)) / length;
  }
  return made;
}

// Extrapolates in a straight line, projects the point back onto the octahedron, and folds the lower
// half (octahedral mapping).
std::array<std::uint32_t, 2> predict_direction(const UnitStates& states, std::uint32_t last) {
  const std::uint32_t* const newest = states.newest;
  if (states.oldest == nullptr || states.span == 0) return {newest[0], newest[1]};
  const std::int64_t half = last / 2;
  Point to = point_of(newest, half);
  Point from = point_of(states.oldest, half);
  for (std::int64_t& c : to) c <<= kDirectionFraction;
  for (std::int64_t& c : from) c <<= kDirectionFraction;
  const Point p = moved_on(from, to, states);
  const std::int64_t sum = std::abs(p[0]) + std::abs(p[1]) + std::abs(p[2]);
  if (sum == 0) return {newest[0], newest[1]};
  std::int64_t u = rounded(p[0] * half, sum);
  std::int64_t v = rounded(p[1] * half, sum);
  if (p[2] < 0) {
    const std::int64_t fold_u = half - std::abs(v);
    const std::int64_t fold_v = half - std::abs(u);
    u = u < 0 ? -fold_u : fold_u;
    v = v < 0 ? -fold_v : fold_v;
  }
  return {index_of(u, half), index_of(v, half)};
}

}  // namespace kwind::replica
