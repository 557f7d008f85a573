// The ack block of a datagram: ranges of packet numbers that have arrived (RFC 9000, 19.3), and how
// long ago the newest did. In the usual case 11 bits: the newest number in 6, the delay in 4.
// Layout in docs/wire-format.md. Pure functions.
//
// Invariant 1: six bits are enough for the newest number. The sender of packets writes a header
// with a short
//   number only while fewer than kNarrowSpan numbers lie between the packet and the newest
//   acknowledged one. The receiver writes six bits only if the newest number in the block is that
//   of the newest packet that arrived, and that packet had such a header. The newest number in its
//   blocks never falls, and blocks in datagrams that were overtaken by a newer block are ignored.
//   So the number is among the 64 up to the newest packet that left with a short number.
#pragma once
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/core/errors.h"
#include "kwind/core/time.h"
#include "link/path/received_packets.h"

namespace kwind::link {

/// How far back an ack block looks: an older hole is a loss in the sender's eyes anyway.
inline constexpr std::size_t kAckSpanPackets = 64;
inline constexpr std::size_t kMaxAckRanges = 16;
/// Where room for ranges is made, once: a gap years later must not allocate, and an idle link not
/// hold much.
inline constexpr std::size_t kUsualAckRanges = 8;
/// What a block in its short form acknowledges: all of the newest numbers, this many.
inline constexpr std::uint64_t kShortRunPackets = 16;
/// A packet further than this beyond the newest acknowledged one has a wide number (invariant 1).
inline constexpr std::uint64_t kNarrowSpan = 62;

struct AckBlock {
  /// Since the newest packet arrived: rounded down to one of sixteen steps from 0 to 80 ms.
  Duration delay{0};
  bool wide = false;   ///< the newest packet had a wide number
  bool whole = false;  ///< all of the newest kShortRunPackets have arrived, or all there are
  std::vector<AckRange> ranges;  ///< newest first; never empty once read
};

/// Writes a block. 11 bits if the block is whole, not wide, and its only range is no longer than
/// kShortRunPackets.
void write(const AckBlock& block, bits::Writer& out);

/// Reads a block that acknowledges packets below `next_unsent`, the newest of which with a short
/// number was `newest_narrow`. Errors: truncated; bad_ack for packets that were never sent or runs
/// below zero.
Errc read(bits::Reader& in, std::uint64_t next_unsent, std::uint64_t newest_narrow,
          AckBlock& block);

}  // namespace kwind::link
