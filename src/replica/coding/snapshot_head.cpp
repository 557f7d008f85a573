// Reading and writing of the head and the section list of a snapshot.
//
// A head names the snapshot, its tick and the baseline, that is, the newest snapshot that the
// client acknowledged and which of those since are assumed to have arrived. All of it is written
// relative to that baseline. The usual case (the next tick, nothing lost, continuing entities
// alone) is one symbol of a prefix code.
#include "replica/coding/snapshot_head.h"

#include <algorithm>

#include "kwind/core/assert.h"

namespace kwind::replica {
namespace {

constexpr unsigned kSnapshotBackOrder = 1;
constexpr unsigned kTickOrder = 0;
constexpr unsigned kStartOrder = 3;
constexpr unsigned kInputOrder = 1;

// Signed numbers as counts: 0, -1, 1, -2, 2 become 0, 1, 2, 3, 4.
std::uint64_t folded(std::int64_t value) {
  return value >= 0 ? static_cast<std::uint64_t>(value) * 2
                    : static_cast<std::uint64_t>(-value) * 2 - 1;
}
std::int64_t unfolded(std::uint64_t code) {
  const auto half = static_cast<std::int64_t>((code + 1) / 2);
  return code % 2 == 0 ? half : -half;
}

// So many bits that are all set.
std::uint64_t all_of(std::uint32_t count) {
  return count == 0 ? 0 : ~std::uint64_t{0} >> (64 - count);
}

// From kSnapshotWindow behind the newest to as far ahead.
SnapshotNumber number_of(std::uint32_t low, SnapshotNumber latest) {
  const SnapshotNumber min = number_before(latest, kSnapshotWindow);
  return min + ((low - min.raw()) & (2 * kSnapshotWindow - 1));
}

// What is not in most snapshots: which input was used last, if it does not keep step; a digest.
void write_more(bits::Writer& out, const SnapshotMark& mark, std::uint32_t input_before,
                std::optional<std::uint32_t> digest) {
  const bool input = mark.input != input_before;
  out.put_bool(input);
  if (input) {
    out.put_count(folded(std::int64_t{mark.input} - std::int64_t{input_before}), kInputOrder);
  }
  out.put_bool(digest.has_value());
  if (digest) out.put(*digest, kDigestBits);
}
bool read_more(bits::Reader& in, SnapshotMark& mark, std::uint32_t input_before,
               std::optional<std::uint32_t>& digest) {
  if (in.get_bool()) {
    const std::int64_t input = std::int64_t{input_before} + unfolded(in.get_count(kInputOrder));
    if (input < 0 || input > kMaxInput) return false;
    mark.input = static_cast<std::uint32_t>(input);
  }
  if (in.get_bool()) digest = static_cast<std::uint32_t>(in.get(kDigestBits));
  return in.ok();
}

// What differs from a usual head, in the symbol of it.
constexpr std::size_t kSomeLost = 1;
constexpr std::size_t kOtherTick = 2;
constexpr std::size_t kMore = 4;
constexpr std::size_t kOtherSections = 8;
constexpr std::uint32_t kFarthestBack = 9;  // ... or more

bool are_usual(const Sections& sections) {
  return sections.continuing && !sections.unexpected && !sections.spawns && !sections.fragments;
}

void write_sections(bits::Writer& out, const Sections& sections) {
  // Continuing entities alone are usual, and so that code is free.
  if (sections.fragments) out.put(1, 3);
  out.put_bool(sections.continuing);
  out.put_bool(sections.unexpected);
  out.put_bool(sections.spawns);
}
// Three bits, of which the value 1 cannot occur alone: it announces fragments, and three more bits
// follow.
Sections read_sections(bits::Reader& in) {
  Sections sections;
  std::uint64_t listed = in.get(3);
  sections.fragments = listed == 1;
  if (sections.fragments) listed = in.get(3);
  sections.continuing = (listed & 1) != 0;
  sections.unexpected = (listed & 2) != 0;
  sections.spawns = (listed & 4) != 0;
  return sections;
}

}  // namespace

// A full snapshot says all about itself. Any other is said relative to the newest acknowledged one,
// in one symbol for what is usual: how far back that is, and which of four parts differ from what
// is to be expected.
void write_head(bits::Writer& out, const SnapshotMark& mark, const SnapshotMark* newest,
                std::optional<std::uint32_t> digest, const Sections& sections,
                const SnapshotTerms& terms, const PrefixCode& heads,
                std::vector<std::uint32_t>* symbol_counts) {
  out.put_bool(newest == nullptr);
  if (newest == nullptr) {
    out.put(mark.snapshot.raw(), 32);
    out.put(mark.tick.raw(), 32);
    out.put(terms.rate, 16);
    out.put(terms.codes, 16);
    out.put_bool(terms.speculative_baselines);
    out.put_count(mark.snapshot - mark.start, kStartOrder);
    write_more(out, mark, 0, digest);
    out.put_bool(sections.spawns);
    out.put_bool(sections.fragments);
    return;
  }
  KWIND_ASSERT(mark.newest == newest->snapshot &&
               mark.snapshot - newest->snapshot < kSnapshotWindow);
  const std::uint32_t back = mark.snapshot - newest->snapshot;
  const std::uint32_t between = sent_between(*newest);
  const bool some_lost = mark.between != all_of(between);
  // Mostly one snapshot a tick.
  const std::int64_t tick =
      std::int64_t{mark.tick.raw()} - std::int64_t{newest->tick.raw()} - std::int64_t{back};
  const bool more = mark.input != newest->input || digest;
  const std::size_t symbol = (std::min(back, kFarthestBack) - 1) * std::size_t{16} +
                             (some_lost ? kSomeLost : 0) + (tick != 0 ? kOtherTick : 0) +
                             (more ? kMore : 0) + (are_usual(sections) ? 0 : kOtherSections);
  out.put(mark.snapshot.raw(), kSnapshotBits);
  heads.write(out, symbol);
  if (symbol_counts != nullptr) ++(*symbol_counts)[symbol];
  if (back >= kFarthestBack) out.put_count(back - kFarthestBack, kSnapshotBackOrder);
  if (some_lost) out.put(mark.between, between);
  if (tick != 0) out.put_count(folded(tick), kTickOrder);
  if (more) write_more(out, mark, newest->input, digest);
  if (!are_usual(sections)) write_sections(out, sections);
}

std::uint32_t low_of_snapshot(std::span<const std::byte> payload) {
  bits::Reader in(payload, payload.size() * 8);
  const unsigned bits = in.get_bool() ? 32 : kSnapshotBits;
  return static_cast<std::uint32_t>(in.get(bits)) & kSnapshotLowMask;
}

SnapshotNumber snapshot_number(std::span<const std::byte> payload, SnapshotNumber latest) {
  bits::Reader in(payload, kSnapshotBits + 1);
  in.get_bool();
  return number_of(static_cast<std::uint32_t>(in.get(kSnapshotBits)), latest);
}

// Numbers that travel as their low bits are taken for the nearest to `latest`. A snapshot whose base
// is not here gives base_missing, and may be read when the base has come.
Result<SnapshotMark> read_head(bits::Reader& in, const SnapshotMarks& marks, SnapshotNumber latest,
                               SnapshotTerms& terms, std::optional<std::uint32_t>& digest,
                               Sections& sections, const PrefixCode& heads,
                               std::vector<std::uint32_t>* symbol_counts) {
  SnapshotMark mark;
  digest = std::nullopt;
  if (in.get_bool()) {
    mark.snapshot = SnapshotNumber(static_cast<std::uint32_t>(in.get(32)));
    mark.tick = Tick(static_cast<std::uint32_t>(in.get(32)));
    const auto rate = static_cast<TickRate>(in.get(16));
    const bool same_codes = in.get(16) == terms.codes;
    const bool speculative_baselines = in.get_bool();
    const std::uint64_t since = in.get_count(kStartOrder);
    if (!in.ok()) return fail(Errc::truncated);
    if (since >= mark.snapshot.raw() || !mark.tick || rate == 0) return fail(Errc::value_range);
    if (!same_codes) return fail(Errc::code_tables);
    terms.rate = rate;
    terms.speculative_baselines = speculative_baselines;
    mark.start = mark.snapshot - static_cast<std::uint32_t>(since);
    if (!read_more(in, mark, 0, digest)) return fail(in.ok() ? Errc::value_range : Errc::truncated);
    sections = {};
    sections.spawns = in.get_bool();
    sections.fragments = in.get_bool();
    if (!in.ok()) return fail(Errc::truncated);
    return mark;
  }
  const auto low = static_cast<std::uint32_t>(in.get(kSnapshotBits));
  const auto symbol = heads.read(in);
  if (!symbol) return fail(Errc::truncated);
  std::uint64_t back = *symbol / 16 + 1;
  if (back == kFarthestBack) back += in.get_count(kSnapshotBackOrder);
  if (!in.ok()) return fail(Errc::truncated);
  if (back >= kSnapshotWindow) return fail(Errc::value_range);
  // Of a client that has nothing yet even the number is unknown.
  if (!latest) return fail(Errc::base_missing);
  mark.snapshot = number_of(low, latest);
  if (mark.snapshot.raw() <= back) return fail(Errc::replayed);
  mark.newest = mark.snapshot - static_cast<std::uint32_t>(back);
  const SnapshotMark* const newest = marks.find(mark.newest);
  if (newest == nullptr) return fail(Errc::base_missing);
  mark.start = newest->start;
  const std::uint32_t between = sent_between(*newest);
  mark.between = (*symbol & kSomeLost) != 0 ? in.get(between) : all_of(between);
  std::int64_t tick = std::int64_t{newest->tick.raw()} + static_cast<std::int64_t>(back);
  if ((*symbol & kOtherTick) != 0) tick += unfolded(in.get_count(kTickOrder));
  if (!in.ok()) return fail(Errc::truncated);
  if (tick < 1 || tick > std::int64_t{0xffffffff}) return fail(Errc::value_range);
  mark.tick = Tick(static_cast<std::uint32_t>(tick));
  mark.input = newest->input;
  if ((*symbol & kMore) != 0 && !read_more(in, mark, newest->input, digest)) {
    return fail(in.ok() ? Errc::value_range : Errc::truncated);
  }
  sections =
      (*symbol & kOtherSections) != 0 ? read_sections(in) : Sections{true, false, false, false};
  if (!in.ok()) return fail(Errc::truncated);
  if (symbol_counts != nullptr) ++(*symbol_counts)[*symbol];
  return mark;
}

}  // namespace kwind::replica
