// Where each value of a message stands in rows of 32 bits, for drawing. Pure.
#pragma once
#include <string>
#include <vector>

#include "kwind/schema/protocol.h"

namespace kwind::language {

/// A part of a row. A value that goes over the end of its row has a cell in each.
struct LayoutCell {
  std::string path;        ///< "at.x"
  std::size_t number = 0;  ///< of the value, from 1; cells of one value share it
  std::size_t row = 0;
  std::uint32_t first = 0;  ///< bit within the row
  std::uint32_t bits = 0;   ///< within the row; 32 if the size varies
  bool starts = true;       ///< false: goes on from the row before
  bool ends = true;         ///< false: goes on in the next row
  std::uint32_t min_bits = 0;
  std::uint32_t max_bits = 0;

  [[nodiscard]] bool varies() const { return min_bits != max_bits; }
};

inline constexpr std::uint32_t kRowBits = 32;

/// The fields that the newest version has, small records taken apart. Behind a value whose size
/// varies a new row begins: where it begins is not known beforehand.
std::vector<LayoutCell> lay_out(const schema::Protocol& protocol,
                                const std::vector<schema::Field>& fields);

}  // namespace kwind::language
