// Reading and writing of the head and the section list of a snapshot.
#include "replica/coding/snapshot_head.h"

#include "kwind/core/assert.h"

namespace kwind::replica {
namespace {

constexpr unsigned kSnapshotBackOrder = 1;
constexpr unsigned kTickOrder = 0;
constexpr unsigned kStartOrder = 3;
constexpr unsigned kInputOrder = 1;

std::uint64_t folded(std::int64_t value) {
  return value >= 0 ? static_cast<std::uint64_t>(value) * 2
                    : static_cast<std::uint64_t>(-value) * 2 - 1;
}
std::int64_t unfolded(std::uint64_t code) {
  const auto half = static_cast<std::int64_t>((code + 1) / 2);
  return code % 2 == 0 ? half : -half;
}

std::uint64_t all_of(std::uint32_t count) {
  return count == 0 ? 0 : ~std::uint64_t{0} >> (64 - count);
}

// From kSnapshotWindow behind the newest to as far ahead.
std::uint32_t number_of(std::uint32_t low, std::uint32_t latest) {
  const std::uint32_t min = latest > kSnapshotWindow ? latest - kSnapshotWindow : 0;
  return min + ((low - min) & (2 * kSnapshotWindow - 1));
}

// What is not in most snapshots: which input was used last, if it does not keep step; a digest.
void write_more(bits::Writer& out, const SnapshotMark& mark, std::uint32_t input_before,
                std::optional<std::uint32_t> digest) {
  const bool input = mark.input != input_before;
  out.put_bool(input || digest);
  if (!input && !digest) return;
  out.put_bool(input);
  if (input) {
    out.put_count(folded(std::int64_t{mark.input} - std::int64_t{input_before}), kInputOrder);
  }
  out.put_bool(digest.has_value());
  if (digest) out.put(*digest, kDigestBits);
}
bool read_more(bits::Reader& in, SnapshotMark& mark, std::uint32_t input_before,
               std::optional<std::uint32_t>& digest) {
  mark.input = input_before;
  digest = std::nullopt;
  if (!in.get_bool()) return in.ok();
  if (in.get_bool()) {
    const std::int64_t input = std::int64_t{input_before} + unfolded(in.get_count(kInputOrder));
    if (input < 0 || input > kMaxInput) return false;
    mark.input = static_cast<std::uint32_t>(input);
  }
  if (in.get_bool()) digest = static_cast<std::uint32_t>(in.get(kDigestBits));
  return in.ok();
}

}  // namespace

void write_head(bits::Writer& out, const SnapshotMark& mark, const SnapshotMark* newest,
                std::optional<std::uint32_t> digest, const SnapshotTerms& terms) {
  out.put_bool(newest == nullptr);
  if (newest == nullptr) {
    out.put(mark.snapshot, 32);
    out.put(mark.tick, 32);
    out.put(terms.rate, 16);
    out.put(terms.codes, 16);
    out.put_bool(terms.speculative_baselines);
    out.put_count(mark.snapshot - mark.start, kStartOrder);
    write_more(out, mark, 0, digest);
    return;
  }
  KWIND_ASSERT(mark.newest == newest->snapshot &&
               mark.snapshot - newest->snapshot < kSnapshotWindow);
  const std::uint32_t back = mark.snapshot - newest->snapshot;
  out.put(mark.snapshot, kSnapshotBits);
  out.put_count(back - 1, kSnapshotBackOrder);
  if (const std::uint32_t between = sent_between(*newest); between > 0) {
    const bool all = mark.between == all_of(between);
    out.put_bool(all);
    if (!all) out.put(mark.between, between);
  }
  // Mostly one snapshot a tick.
  out.put_count(folded(std::int64_t{mark.tick} - std::int64_t{newest->tick} - std::int64_t{back}),
                kTickOrder);
  write_more(out, mark, newest->input, digest);
}

void write_sections(bits::Writer& out, const SnapshotMark& mark, const Sections& sections) {
  if (mark.newest > 0) {
    const bool usual =
        sections.continuing && !sections.unexpected && !sections.spawns && !sections.fragments;
    out.put_bool(usual);
    if (usual) return;
    // Movers alone have a code of their own above.
    if (sections.fragments) out.put(1, 3);
    out.put_bool(sections.continuing);
    out.put_bool(sections.unexpected);
  }
  out.put_bool(sections.spawns);
  if (mark.newest == 0) out.put_bool(sections.fragments);
}
Sections read_sections(bits::Reader& in, const SnapshotMark& mark) {
  Sections sections;
  if (mark.newest > 0) {
    if (in.get_bool()) return {true, false, false, false};
    std::uint64_t listed = in.get(3);
    sections.fragments = listed == 1;
    if (sections.fragments) listed = in.get(3);
    sections.continuing = (listed & 1) != 0;
    sections.unexpected = (listed & 2) != 0;
    sections.spawns = (listed & 4) != 0;
    return sections;
  }
  sections.spawns = in.get_bool();
  sections.fragments = in.get_bool();
  return sections;
}

std::uint32_t low_of_snapshot(std::span<const std::byte> payload) {
  bits::Reader in(payload, payload.size() * 8);
  const unsigned bits = in.get_bool() ? 32 : kSnapshotBits;
  return static_cast<std::uint32_t>(in.get(bits)) & kSnapshotLowMask;
}

std::uint32_t snapshot_number(std::span<const std::byte> payload, std::uint32_t latest) {
  bits::Reader in(payload, kSnapshotBits + 1);
  in.get_bool();
  return number_of(static_cast<std::uint32_t>(in.get(kSnapshotBits)), latest);
}

Result<SnapshotMark> read_head(bits::Reader& in, const SnapshotMarks& marks, std::uint32_t latest,
                               SnapshotTerms& terms, std::optional<std::uint32_t>& digest) {
  SnapshotMark mark;
  if (in.get_bool()) {
    mark.snapshot = static_cast<std::uint32_t>(in.get(32));
    mark.tick = static_cast<std::uint32_t>(in.get(32));
    const bool same_rate = in.get(16) == terms.rate;
    const bool same_codes = in.get(16) == terms.codes;
    const bool speculative_baselines = in.get_bool();
    const std::uint64_t since = in.get_count(kStartOrder);
    if (!in.ok()) return fail(Errc::truncated);
    if (since >= mark.snapshot || mark.tick == 0) return fail(Errc::value_range);
    if (!same_rate) return fail(Errc::tick_rate);
    if (!same_codes) return fail(Errc::code_tables);
    terms.speculative_baselines = speculative_baselines;
    mark.start = mark.snapshot - static_cast<std::uint32_t>(since);
    if (!read_more(in, mark, 0, digest)) return fail(in.ok() ? Errc::value_range : Errc::truncated);
    return mark;
  }
  const auto low = static_cast<std::uint32_t>(in.get(kSnapshotBits));
  const std::uint64_t back = in.get_count(kSnapshotBackOrder) + 1;
  if (!in.ok()) return fail(Errc::truncated);
  if (back >= kSnapshotWindow) return fail(Errc::value_range);
  // Of a client that has nothing yet even the number cannot be told.
  if (latest == 0) return fail(Errc::base_missing);
  mark.snapshot = number_of(low, latest);
  if (mark.snapshot <= back) return fail(Errc::replayed);
  mark.newest = mark.snapshot - static_cast<std::uint32_t>(back);
  const SnapshotMark* const newest = marks.find(mark.newest);
  if (newest == nullptr) return fail(Errc::base_missing);
  mark.start = newest->start;
  if (const std::uint32_t between = sent_between(*newest); between > 0) {
    mark.between = in.get_bool() ? all_of(between) : in.get(between);
  }
  const std::int64_t tick = std::int64_t{newest->tick} + static_cast<std::int64_t>(back) +
                            unfolded(in.get_count(kTickOrder));
  if (!in.ok()) return fail(Errc::truncated);
  if (tick < 1 || tick > std::int64_t{0xffffffff}) return fail(Errc::value_range);
  mark.tick = static_cast<std::uint32_t>(tick);
  if (!read_more(in, mark, newest->input, digest))
    return fail(in.ok() ? Errc::value_range : Errc::truncated);
  return mark;
}

}  // namespace kwind::replica
