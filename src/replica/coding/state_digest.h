// State digests: both ends hash what the client holds, to detect a desync. A check against faults,
// not against attackers. Pure.
#pragma once
#include <cstddef>
#include <cstdint>
#include <utility>

#include "replica/coding/entity_model.h"

namespace kwind::replica {

class StateDigest {
 public:
  /// Goes on where another one stopped.
  explicit StateDigest(std::uint32_t from = kBegin) : state_(from) {}

  void add(std::uint32_t value) { state_ = (state_ ^ value) * kPrime ^ state_ >> 29; }
  void add(const EntityModel& model, const Row& row, std::size_t column, bool owner) {
    const schema::ColumnInfo& info = model.info().columns[column];
    if (info.owner_only && !owner) return;
    if (info.form != schema::ColumnForm::varying) return add(row.numbers[column]);
    const SharedBits& held = row.varying[model.varying_place(column)];
    if (held == nullptr) return add(0);
    add(static_cast<std::uint32_t>(held->bits));
    std::uint32_t word = 0;
    for (std::size_t i = 0; i < held->bytes.size(); ++i) {
      word |= std::to_integer<std::uint32_t>(held->bytes[i]) << i % 4 * 8;
      if (i % 4 == 3 || i + 1 == held->bytes.size()) add(std::exchange(word, 0));
    }
  }
  [[nodiscard]] std::uint32_t value() const {
    return static_cast<std::uint32_t>(state_ ^ state_ >> 32);
  }

 private:
  static constexpr std::uint32_t kBegin = 0x85a308d3;
  static constexpr std::uint64_t kPrime = 0x9e3779b97f4a7c15U;
  std::uint64_t state_;
};

/// Of the values of an entity, as its owner or another one has them.
inline std::uint32_t digest_of(const EntityModel& model, const Row& row, bool owner) {
  StateDigest made;
  for (std::size_t c = 0; c < model.columns(); ++c) made.add(model, row, c, owner);
  return made.value();
}
/// What an entity adds to the sum of all that a client knows. `values`: their digest; `tick`: of
/// them.
inline std::uint32_t share_of(std::uint32_t values, EntityId id, std::uint8_t generation,
                              bool owner, Tick tick) {
  StateDigest made(values);
  made.add(id.raw() << 5 | std::uint32_t{generation} << 1 | (owner ? 1 : 0));
  made.add(tick.raw());
  return made.value();
}
/// Of the sum of all shares, modulo 2^32, as it goes in a snapshot.
inline std::uint32_t digest_of_sum(std::uint32_t sum) {
  return (sum ^ sum >> 16) & 0xffffU;
}

}  // namespace kwind::replica
