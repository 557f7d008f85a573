#include "frame_code.h"

#include "kwind/bits/assert.h"

namespace kwind::replica {
namespace {

constexpr unsigned kBackOrder = 1;
constexpr unsigned kTickOrder = 0;
constexpr unsigned kStartOrder = 3;

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

}  // namespace

void write_head(bits::Writer& out, const FrameMark& mark, const FrameMark* newest) {
  out.put_bool(newest == nullptr);
  if (newest == nullptr) {
    out.put(mark.frame, 32);
    out.put(mark.tick, 32);
    out.put_count(mark.frame - mark.start, kStartOrder);
    return;
  }
  KWIND_ASSERT(mark.newest == newest->frame && mark.frame - newest->frame < kFrameWindow);
  const std::uint32_t back = mark.frame - newest->frame;
  out.put(mark.frame, kFrameBits);
  out.put_count(back - 1, kBackOrder);
  if (const std::uint32_t between = told_between(*newest); between > 0) {
    const bool all = mark.between == all_of(between);
    out.put_bool(all);
    if (!all) out.put(mark.between, between);
  }
  // Mostly one frame a tick.
  out.put_count(folded(std::int64_t{mark.tick} - std::int64_t{newest->tick} - std::int64_t{back}),
                kTickOrder);
}

Result<FrameMark> read_head(bits::Reader& in, const FrameMarks& marks, std::uint32_t latest) {
  FrameMark mark;
  if (in.get_bool()) {
    mark.frame = static_cast<std::uint32_t>(in.get(32));
    mark.tick = static_cast<std::uint32_t>(in.get(32));
    const std::uint64_t since = in.get_count(kStartOrder);
    if (!in.ok()) return fail(Errc::truncated);
    if (since >= mark.frame || mark.tick == 0) return fail(Errc::value_range);
    mark.start = mark.frame - static_cast<std::uint32_t>(since);
    return mark;
  }
  const auto low = static_cast<std::uint32_t>(in.get(kFrameBits));
  const std::uint64_t back = in.get_count(kBackOrder) + 1;
  if (!in.ok()) return fail(Errc::truncated);
  if (back >= kFrameWindow) return fail(Errc::value_range);
  // From kFrameWindow behind the newest to as far ahead.
  const std::uint32_t least = latest > kFrameWindow ? latest - kFrameWindow : 0;
  mark.frame = least + ((low - least) & (2 * kFrameWindow - 1));
  if (mark.frame <= back) return fail(Errc::replayed);
  mark.newest = mark.frame - static_cast<std::uint32_t>(back);
  const FrameMark* const newest = marks.find(mark.newest);
  if (newest == nullptr) return fail(Errc::replayed);
  mark.start = newest->start;
  if (const std::uint32_t between = told_between(*newest); between > 0) {
    mark.between = in.get_bool() ? all_of(between) : in.get(between);
  }
  const std::int64_t tick = std::int64_t{newest->tick} + static_cast<std::int64_t>(back) +
                            unfolded(in.get_count(kTickOrder));
  if (!in.ok()) return fail(Errc::truncated);
  if (tick < 1 || tick > std::int64_t{0xffffffff}) return fail(Errc::value_range);
  mark.tick = static_cast<std::uint32_t>(tick);
  return mark;
}

}  // namespace kwind::replica
