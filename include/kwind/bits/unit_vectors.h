// Quantisers of directions and rotations: from a unit vector to the index that travels, and back.
// All decisions are made on whole numbers, so each value has one index and each index that is
// canonical() gives back itself. Pure functions of their members; safe anywhere.
#pragma once
#include <array>
#include <cstdint>

#include "kwind/bits/quantise.h"
#include "kwind/core/compiler.h"

namespace kwind::bits {

/// x and y of a direction in the plane, in equal steps of angle: 0 degrees is (1, 0), 90 is (0, 1).
/// Any finite vector but zero stands for its direction; others become (1, 0), out of range.
KWIND_API Quantised direction2_index(const AngleRange& steps, double x, double y);
/// Requires: index < steps.count. The last bit of sine and cosine is the platform's; the index that
/// they encode to again is not.
KWIND_API std::array<double, 2> direction2_value(const AngleRange& steps, std::uint64_t index);

/// Directions in space: the whole points of the octahedron |x| + |y| + |z| = half, unfolded to a
/// square of 2 * half + 1 points a side (Meyer et al., "On floating-point normal vectors", 2010).
struct KWIND_API DirectionGrid {
  static constexpr std::uint32_t kMaxHalf = 1U << 24;
  std::uint32_t half = 1;  ///< 1 to kMaxHalf

  /// The coarsest grid whose every value is within `degrees` of what was encoded. A point of the
  /// square is off by at most half a step in two coordinates and their sum in the third:
  /// sqrt(1.5) / half, seen from 1 / sqrt(3) away at the middle of a face, so 2.1214 / half
  /// radians.
  static DirectionGrid within(double degrees);

  [[nodiscard]] constexpr std::uint64_t side() const { return 2 * std::uint64_t{half} + 1; }
  [[nodiscard]] constexpr std::uint64_t last_index() const { return side() * side() - 1; }
  [[nodiscard]] constexpr unsigned bits() const { return bits_for(side() * side()); }
  /// Any finite vector but zero stands for its direction; others become (0, 0, 1), out of range.
  [[nodiscard]] Quantised index_of(double x, double y, double z) const;
  /// Whether index_of gives this index for some direction: the rim of the square, where it is
  /// folded, names each direction twice and only one of them counts.
  [[nodiscard]] bool canonical(std::uint64_t index) const;
  /// Requires: index <= last_index(). Of length 1.
  [[nodiscard]] std::array<double, 3> value_of(std::uint64_t index) const;
  friend constexpr bool operator==(const DirectionGrid&, const DirectionGrid&) = default;
};

/// Rotations as unit quaternions w, x, y, z: the place of the largest component, and the other
/// three in whole steps of 1 / (half * sqrt(2)). q and -q are the same rotation; the largest
/// component of the value that comes back is positive.
struct KWIND_API RotationGrid {
  static constexpr std::uint32_t kMaxHalf = 1U << 19;
  std::uint32_t half = 1;  ///< 1 to kMaxHalf

  /// The coarsest grid whose every rotation is within `degrees` of what was encoded. With h half a
  /// step, one component is off by at most 3h (where two are nearly largest, see index_of), two by
  /// h, and the largest by 5h: together 6h, which turns by twice that, so 4.25 / half radians.
  static RotationGrid within(double degrees);

  [[nodiscard]] constexpr std::uint64_t side() const { return 2 * std::uint64_t{half} + 1; }
  [[nodiscard]] constexpr std::uint64_t last_index() const {
    return 4 * side() * side() * side() - 1;
  }
  [[nodiscard]] constexpr unsigned bits() const {
    return static_cast<unsigned>(std::bit_width(last_index()));
  }
  /// Any finite quaternion but zero stands for its rotation; others become the identity, out of
  /// range.
  [[nodiscard]] Quantised index_of(double w, double x, double y, double z) const;
  /// Whether index_of gives this index for some rotation: the component named largest must be.
  [[nodiscard]] bool canonical(std::uint64_t index) const;
  /// w, x, y, z, of length 1. Requires: canonical(index).
  [[nodiscard]] std::array<double, 4> value_of(std::uint64_t index) const;
  friend constexpr bool operator==(const RotationGrid&, const RotationGrid&) = default;
};

}  // namespace kwind::bits
