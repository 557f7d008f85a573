// The ack block of a datagram: which packets have arrived, and how long ago the newest did.
// Layout in docs/wire-format.md. Pure functions.
#pragma once
#include <vector>

#include "ack_window.h"
#include "kwind/bits/errors.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/time.h"
#include "kwind/bits/writer.h"

namespace kwind::link {

/// How far back an ack block looks: an older hole is a loss in the sender's eyes anyway.
inline constexpr std::size_t kAckSpanPackets = 64;
inline constexpr std::size_t kMostAckRanges = 16;
/// Where room for ranges is made, once: a gap years later must not allocate, and an idle link not
/// hold much.
inline constexpr std::size_t kUsualAckRanges = 8;

struct AckBlock {
  /// Since the newest packet arrived: sent in 0.5 ms up to 32 ms, in 4 ms up to 284 ms, which is
  /// the most.
  Duration delay{0};
  std::vector<AckRange> ranges;  ///< newest first; never empty once read
};

/// One range that holds all of the newest kAckSpanPackets packets, or all packets there are, takes
/// 24 bits.
void write(const AckBlock& block, bits::Writer& out);

/// Reads a block that acknowledges packets below `next_unsent`.
/// Errors: truncated; bad_ack for packets that were never sent or runs below zero.
Errc read(bits::Reader& in, std::uint64_t next_unsent, AckBlock& block);

}  // namespace kwind::link
