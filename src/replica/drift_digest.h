// Digests of what a client holds, as both ends derive them, so that they find out if they ever
// differ. Against accident: 16 bits say nothing to who tries. Pure.
#pragma once
#include <cstdint>

#include "kind_shape.h"

namespace kwind::replica {

class DriftDigest {
 public:
  void add(std::uint32_t value) { state_ = (state_ ^ value) * kPrime ^ state_ >> 29; }
  void add(const KindShape& shape, const Row& row, std::size_t column, bool owner) {
    const schema::ColumnInfo& info = shape.info().columns[column];
    if (info.owner_only && !owner) return;
    if (info.form != schema::ColumnForm::varying) return add(row.numbers[column]);
    const SharedBits& held = row.varying[shape.varying_place(column)];
    if (held == nullptr) return add(0);
    add(static_cast<std::uint32_t>(held->bits));
    for (const std::byte byte : held->bytes) add(std::to_integer<std::uint32_t>(byte));
  }
  /// An entity with its newest known state.
  void add(std::uint32_t id, std::uint8_t generation, bool owner, std::uint32_t tick,
           const KindShape& shape, const Row& row) {
    add(id << 5 | std::uint32_t{generation} << 1 | (owner ? 1 : 0));
    add(tick);
    for (std::size_t c = 0; c < shape.columns(); ++c) add(shape, row, c, owner);
  }
  [[nodiscard]] std::uint32_t bits(unsigned count) const {
    return static_cast<std::uint32_t>((state_ ^ state_ >> 32) & ((std::uint64_t{1} << count) - 1));
  }

 private:
  static constexpr std::uint64_t kPrime = 0x9e3779b97f4a7c15U;
  std::uint64_t state_ = 0x243f6a8885a308d3U;
};

}  // namespace kwind::replica
