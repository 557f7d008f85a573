// Encoding of acknowledgement ranges (RFC 9000, 19.3) with the delay since the newest one.
//
// A usual block is 11 bits: the path lost nothing lately, and one bit stands for "all of the last
// packets". Otherwise ranges follow from the newest down, as run lengths and gaps in exponential
// Golomb codes.
#include "link/datagram/ack_block.h"

#include <algorithm>
#include <array>

namespace kwind::link {
namespace {

constexpr unsigned kNarrowBits = 6;
constexpr unsigned kDelayBits = 4;
constexpr unsigned kMoreRangesOrder = 0;
constexpr unsigned kAckRunOrder = 2;
constexpr unsigned kAckGapOrder = 0;

// Steps of a third to a quarter: an error of an eighth of the delay on average, always to the short
// side, so that no round trip is taken for shorter than it is.
constexpr std::array<int, std::size_t{1} << kDelayBits> kDelays_ms{0,  1,  2,  3,  4,  6,  8,  10,
                                                                   13, 17, 22, 28, 36, 46, 60, 80};

// The index of the largest step that is not above `delay`; the last step stands for all longer
// ones.
std::uint64_t delay_code(Duration delay) {
  const auto above = std::upper_bound(
      kDelays_ms.begin() + 1, kDelays_ms.end(), delay,
      [](Duration wanted, int step_ms) { return wanted < std::chrono::milliseconds(step_ms); });
  return static_cast<std::uint64_t>(above - kDelays_ms.begin()) - 1;
}

// The first packet of the run that the short form of an ack block names: kShortRunPackets packets
// that end with `last`, fewer at the start of a connection.
std::uint64_t short_run_first(std::uint64_t last) {
  return last + 1 > kShortRunPackets ? last + 1 - kShortRunPackets : 0;
}

}  // namespace

// The usual block is one range that covers the short run and more: one bit says so, and only the
// newest number and the delay follow. Every other block lists its ranges from the newest down. A
// range is written as the gap below the range before it and as its length less one (RFC 9000,
// 19.3.1), so that consecutive ranges can neither overlap nor touch.
void write(const AckBlock& block, bits::Writer& out) {
  KWIND_ASSERT(!block.ranges.empty() && block.ranges.size() <= kMaxAckRanges);
  const AckRange& newest = block.ranges.front();
  const bool usual = block.whole && !block.wide && block.ranges.size() == 1 &&
                     newest.first >= short_run_first(newest.last);
  out.put_bool(usual);
  if (!usual) out.put_bool(block.wide);
  out.put(newest.last, block.wide ? 16 : kNarrowBits);
  out.put(delay_code(block.delay), kDelayBits);
  if (usual) return;
  out.put_count(block.ranges.size() - 1, kMoreRangesOrder);
  for (std::size_t i = 0; i < block.ranges.size(); ++i) {
    const AckRange& range = block.ranges[i];
    if (i > 0) out.put_count(block.ranges[i - 1].first - range.last - 2, kAckGapOrder);
    out.put_count(range.last - range.first, kAckRunOrder);
  }
}

// The sender of the packets reads with `next_unsent`, the number it will give out next: an ack of
// that number or of a later one is a lie. A narrow number has six bits and counts back from
// `newest_narrow`, the newest packet that left with a short number of its own.
Errc read(bits::Reader& in, std::uint64_t next_unsent, std::uint64_t newest_narrow,
          AckBlock& block) {
  block.ranges.clear();
  block.ranges.reserve(kUsualAckRanges);
  block.whole = in.get_bool();
  block.wide = !block.whole && in.get_bool();
  const std::uint64_t low = in.get(block.wide ? 16 : kNarrowBits);
  block.delay = std::chrono::milliseconds(kDelays_ms[in.get(kDelayBits)]);
  const std::uint64_t count = block.whole ? 1 : in.get_count(kMoreRangesOrder) + 1;
  if (!in.ok()) return Errc::truncated;
  std::uint64_t last = 0;
  if (block.wide) {
    last = expand16(next_unsent, low);
  } else {
    const std::uint64_t back = (newest_narrow - low) & ((std::uint64_t{1} << kNarrowBits) - 1);
    if (back > newest_narrow) return Errc::bad_ack;
    last = newest_narrow - back;
  }
  if (last >= next_unsent || count > kMaxAckRanges) return Errc::bad_ack;
  if (block.whole) {
    block.ranges.push_back({short_run_first(last), last});
    return Errc::none;
  }
  // `last` moves down through the packet numbers; each subtraction is checked before it is done.
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
