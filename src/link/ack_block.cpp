#include "ack_block.h"

#include <algorithm>

namespace kwind::link {
namespace {

constexpr unsigned kDelayBits = 10;
constexpr Duration kDelayUnit = std::chrono::microseconds(250);
constexpr unsigned kMoreRangesBits = 4;
constexpr unsigned kRunOrder = 2;
constexpr unsigned kGapOrder = 0;

}  // namespace

void write(const AckBlock& block, bits::Writer& out) {
  KWIND_ASSERT(!block.ranges.empty() && block.ranges.size() <= kMostAckRanges);
  out.put(block.ranges.front().last, 16);
  const auto units = std::clamp<Duration::rep>(block.delay / kDelayUnit, 0, (1 << kDelayBits) - 1);
  out.put(static_cast<std::uint64_t>(units), kDelayBits);
  out.put(block.ranges.size() - 1, kMoreRangesBits);
  for (std::size_t i = 0; i < block.ranges.size(); ++i) {
    const AckRange& range = block.ranges[i];
    if (i > 0) out.put_count(block.ranges[i - 1].first - range.last - 2, kGapOrder);
    out.put_count(range.last - range.first, kRunOrder);
  }
}

Errc read(bits::Reader& in, std::uint64_t next_unsent, AckBlock& block) {
  block.ranges.clear();
  const std::uint64_t low = in.get(16);
  block.delay = static_cast<Duration::rep>(in.get(kDelayBits)) * kDelayUnit;
  const std::uint64_t count = in.get(kMoreRangesBits) + 1;
  if (!in.ok()) return Errc::truncated;
  std::uint64_t last = expand16(next_unsent, low);
  if (last >= next_unsent) return Errc::bad_ack;
  for (std::uint64_t i = 0; i < count; ++i) {
    const std::uint64_t gap = i == 0 ? 0 : in.get_count(kGapOrder) + 2;
    const std::uint64_t before = in.get_count(kRunOrder);
    if (!in.ok()) return Errc::truncated;
    if (gap > last || before > last - gap) return Errc::bad_ack;
    last -= gap;
    block.ranges.push_back({last - before, last});
    last -= before;
  }
  return Errc::none;
}

}  // namespace kwind::link
