// Columns of rotations and directions: between their packed index and whole numbers, and their
// prediction in whole numbers. Pure.
#pragma once
#include <array>
#include <cstdint>
#include <span>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/schema/entity_info.h"

namespace kwind::replica {

/// How many columns a group has.
constexpr std::size_t columns_of(schema::ColumnGroup group) {
  return group == schema::ColumnGroup::rotation ? 4 : 2;
}

/// Reads the index of a rotation or direction as a message has it into the columns of the group
/// that `first` begins.
void read_unit(bits::Reader& in, const schema::ColumnInfo* first, std::uint32_t* numbers);
/// The other way.
void write_unit(bits::Writer& out, const schema::ColumnInfo* first, const std::uint32_t* numbers);

/// The numbers of a group at two ticks, and where it is to be predicted.
struct UnitStates {
  const std::uint32_t* newest;
  const std::uint32_t* oldest;  ///< nullptr: it keeps its newest value
  std::uint32_t span;           ///< ticks between the two
  std::uint32_t ahead;          ///< ticks from the newest on
};

/// Constant angular velocity, by linear extrapolation of the quaternion (its shorter way) and
/// normalisation. `largest`: the component that the rotation at hand names; `last`: of the other
/// three columns. The three numbers of these.
std::array<std::uint32_t, 3> predict_rotation(const UnitStates& states, std::uint32_t largest,
                                              std::uint32_t last);
/// The share of each axis in a way along the direction that these two numbers give: its unit vector,
/// times 2^bits, cut towards zero.
std::array<std::int64_t, 3> shares_of_direction(const std::uint32_t* numbers, std::uint32_t last,
                                                unsigned bits);
/// The same of a direction, on the octahedron.
std::array<std::uint32_t, 2> predict_direction(const UnitStates& states, std::uint32_t last);

}  // namespace kwind::replica
