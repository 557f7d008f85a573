// Desync reports: a short hash of each column of each entity that a client holds. docs/state-
// format.md has the bits. Pure.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/core/errors.h"
#include "replica/coding/state_digest.h"

namespace kwind::replica {

inline constexpr unsigned kReportTickBits = 16;
inline constexpr std::uint32_t kReportTickMask = (1U << kReportTickBits) - 1;
inline constexpr unsigned kColumnHashBits = 8;

struct DesyncedEntity {
  EntityId id;
  std::uint8_t generation = 0;
  std::uint32_t tick_low = 0;  ///< low bits of the tick of its values
  std::vector<std::uint8_t> columns;
};

inline std::uint8_t column_hash(const EntityModel& model, const Row& row, std::size_t column,
                                bool owner) {
  StateDigest made;
  made.add(model, row, column, owner);
  return static_cast<std::uint8_t>(made.value());
}

/// As many of `entities`, in ascending order of id, as fit.
void write_report(bits::Writer& out, std::span<const DesyncedEntity> entities);
/// Errors: truncated, value_range, trailing_bits.
Result<std::vector<DesyncedEntity>> read_report(std::span<const std::byte> payload,
                                                std::size_t bits);

}  // namespace kwind::replica
