// The head of a snapshot: number, base, acknowledged set, tick, input, digest, sections.
// docs/state-format.md has the bits. Pure.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/core/errors.h"
#include "replica/coding/acked_snapshots.h"
#include "replica/coding/prefix_code.h"

namespace kwind::replica {

inline constexpr unsigned kSnapshotBits = 7;  // twice kSnapshotWindow: never ambiguous
inline constexpr std::uint32_t kSnapshotLowMask = (1U << kSnapshotBits) - 1;
inline constexpr unsigned kGenerationBits = 4;
inline constexpr unsigned kRankOrder = 1;  // gaps between known entities in order
inline constexpr unsigned kIdOrder = 4;    // gaps between ids of new ones
inline constexpr unsigned kTickLagOrder = 0;
inline constexpr unsigned kDigestBits = 16;
/// Older values are encoded with this age.
inline constexpr std::uint32_t kMaxTickLag = 0xffff;
inline constexpr std::uint32_t kMaxInput = 0x10000;  // SnapshotMark::input

/// Ticks a second as heads of full snapshots carry them, in sixteenths, so that both ends predict
/// alike.
using TickRate = std::uint16_t;
inline TickRate tick_rate_of(double ticks_per_second) {
  return static_cast<TickRate>(std::clamp(std::lround(ticks_per_second * 16), 1L, 0xffffL));
}

/// What both ends must hold alike to read a snapshot as it was written: heads of full snapshots
/// carry it.
struct SnapshotTerms {
  TickRate rate = 0;
  std::uint16_t codes = 0;  ///< low bits of CodeTables::digest()
  bool speculative_baselines =
      false;  ///< snapshots build on ones that are not acknowledged: for who counts
};

/// Which parts follow the head.
struct Sections {
  bool continuing = false;
  bool unexpected = false;
  bool spawns = false;
  bool fragments = false;
};
/// `newest` is the mark of the snapshot that `mark` names, if it names one. `heads`: the code of
/// usual heads; `symbol_counts`, if given, counts its symbols.
void write_head(bits::Writer& out, const SnapshotMark& mark, const SnapshotMark* newest,
                std::optional<std::uint32_t> digest, const Sections& sections,
                const SnapshotTerms& terms, const PrefixCode& heads,
                std::vector<std::uint32_t>* symbol_counts);

/// The low bits of a snapshot's number, which every snapshot begins with.
std::uint32_t low_of_snapshot(std::span<const std::byte> payload);
/// The number of a snapshot that is not a full one. Requires: one byte at least.
SnapshotNumber snapshot_number(std::span<const std::byte> payload, SnapshotNumber latest);
/// `latest`: the newest snapshot that came so far. Errors: truncated, value_range; base_missing if
/// it names a snapshot that is not here; replayed if that cannot be; tick_rate or code_tables if
/// the server's is not that of `terms`, whose `speculative_baselines` is taken from the snapshot.
Result<SnapshotMark> read_head(bits::Reader& in, const SnapshotMarks& marks, SnapshotNumber latest,
                               SnapshotTerms& terms, std::optional<std::uint32_t>& digest,
                               Sections& sections, const PrefixCode& heads,
                               std::vector<std::uint32_t>* symbol_counts);

}  // namespace kwind::replica
