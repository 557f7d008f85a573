// Reading and writing of desync reports.
#include "replica/coding/desync_report.h"

#include "replica/coding/snapshot_head.h"

namespace kwind::replica {
namespace {

constexpr unsigned kReportGapOrder = 3;
constexpr unsigned kReportCountOrder = 3;
constexpr std::uint64_t kMaxColumns = 1024;

// An upper bound: whether an entity still fits must be known before its first bit is written.
std::size_t bits_of(const DesyncedEntity& entity) {
  constexpr std::size_t kNameBits = 80;
  return kNameBits + entity.columns.size() * kColumnHashBits;
}

}  // namespace

// Ids ascend, so that each is coded by its distance from the one before. Entities that do not fit
// are left out: the next report has them, if they still differ.
void write_report(bits::Writer& out, std::span<const DesyncedEntity> entities) {
  EntityId id;
  for (const DesyncedEntity& each : entities) {
    if (out.room_bits() < bits_of(each)) break;
    out.put_bool(true);
    out.put_count(each.id - id - 1, kReportGapOrder);
    id = each.id;
    out.put(each.generation, kGenerationBits);
    out.put(each.tick_low, kReportTickBits);
    out.put_count(each.columns.size(), kReportCountOrder);
    for (const std::uint8_t hash : each.columns) out.put(hash, kColumnHashBits);
  }
  out.put_bool(false);
}

Result<std::vector<DesyncedEntity>> read_report(std::span<const std::byte> payload,
                                                std::size_t bits) {
  bits::Reader in(payload, bits);
  std::vector<DesyncedEntity> entities;
  std::uint64_t id = 0;
  while (in.get_bool()) {
    DesyncedEntity each;
    id += in.get_count(kReportGapOrder) + 1;
    each.generation = static_cast<std::uint8_t>(in.get(kGenerationBits));
    each.tick_low = static_cast<std::uint32_t>(in.get(kReportTickBits));
    const std::uint64_t columns = in.get_count(kReportCountOrder);
    if (!in.ok()) return fail(Errc::truncated);
    if (id > 0xffffffffU || columns > kMaxColumns) return fail(Errc::value_range);
    // Before memory is taken for them.
    if (columns * kColumnHashBits > in.left_bits()) return fail(Errc::truncated);
    each.id = EntityId(static_cast<std::uint32_t>(id));
    for (std::uint64_t c = 0; c < columns; ++c) {
      each.columns.push_back(static_cast<std::uint8_t>(in.get(kColumnHashBits)));
    }
    entities.push_back(std::move(each));
  }
  if (!in.ok()) return fail(Errc::truncated);
  if (in.left_bits() > 0) return fail(Errc::trailing_bits);
  return entities;
}

}  // namespace kwind::replica
