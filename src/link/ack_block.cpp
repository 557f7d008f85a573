#include "ack_block.h"

#include <algorithm>

namespace kwind::link {
namespace {

constexpr unsigned kDelayBits = 7;
constexpr Duration kFineUnit = std::chrono::microseconds(500);
constexpr Duration kCoarseUnit = std::chrono::milliseconds(4);
constexpr std::uint64_t kFineSteps = 64;
constexpr std::uint64_t kCoarseSteps = 64;
constexpr unsigned kMoreRangesBits = 4;
constexpr unsigned kAckRunOrder = 2;
constexpr unsigned kAckGapOrder = 0;

std::uint64_t delay_code(Duration delay) {
  const Duration coarse_from = kFineSteps * kFineUnit;
  if (delay < Duration{0}) return 0;
  if (delay < coarse_from) return static_cast<std::uint64_t>(delay / kFineUnit);
  return kFineSteps + std::min(static_cast<std::uint64_t>((delay - coarse_from) / kCoarseUnit),
                               kCoarseSteps - 1);
}
Duration delay_of(std::uint64_t code) {
  if (code < kFineSteps) return static_cast<Duration::rep>(code) * kFineUnit;
  return kFineSteps * kFineUnit + static_cast<Duration::rep>(code - kFineSteps) * kCoarseUnit;
}

std::uint64_t whole_first(std::uint64_t last) {
  return last + 1 > kAckSpanPackets ? last + 1 - kAckSpanPackets : 0;
}

}  // namespace

void write(const AckBlock& block, bits::Writer& out) {
  KWIND_ASSERT(!block.ranges.empty() && block.ranges.size() <= kMostAckRanges);
  const AckRange& newest = block.ranges.front();
  out.put(newest.last, 16);
  out.put(delay_code(block.delay), kDelayBits);
  const bool whole = block.ranges.size() == 1 && newest.first == whole_first(newest.last);
  out.put_bool(whole);
  if (whole) return;
  out.put(block.ranges.size() - 1, kMoreRangesBits);
  for (std::size_t i = 0; i < block.ranges.size(); ++i) {
    const AckRange& range = block.ranges[i];
    if (i > 0) out.put_count(block.ranges[i - 1].first - range.last - 2, kAckGapOrder);
    out.put_count(range.last - range.first, kAckRunOrder);
  }
}

Errc read(bits::Reader& in, std::uint64_t next_unsent, AckBlock& block) {
  block.ranges.clear();
  block.ranges.reserve(kUsualAckRanges);
  const std::uint64_t low = in.get(16);
  block.delay = delay_of(in.get(kDelayBits));
  const bool whole = in.get_bool();
  const std::uint64_t count = whole ? 1 : in.get(kMoreRangesBits) + 1;
  if (!in.ok()) return Errc::truncated;
  std::uint64_t last = expand16(next_unsent, low);
  if (last >= next_unsent) return Errc::bad_ack;
  if (whole) {
    block.ranges.push_back({whole_first(last), last});
    return Errc::none;
  }
  for (std::uint64_t i = 0; i < count; ++i) {
    const std::uint64_t gap = i == 0 ? 0 : in.get_count(kAckGapOrder) + 2;
    const std::uint64_t before = in.get_count(kAckRunOrder);
    if (!in.ok()) return Errc::truncated;
    if (gap > last || before > last - gap) return Errc::bad_ack;
    last -= gap;
    block.ranges.push_back({last - before, last});
    last -= before;
  }
  return Errc::none;
}

}  // namespace kwind::link
