// The bits of a frame around the values of its entities: which frame it is, what had arrived when
// it was made, and whose values follow. docs/state-format.md has all of it. Pure.
#pragma once
#include <cstdint>

#include "frame_marks.h"
#include "kwind/bits/errors.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::replica {

inline constexpr unsigned kFrameBits = 7;  // twice kFrameWindow: never ambiguous
inline constexpr unsigned kGenerationBits = 4;
inline constexpr unsigned kRankOrder = 1;  // gaps between known entities in order
inline constexpr unsigned kIdOrder = 4;    // gaps between ids of new ones

/// `newest` is the mark of the frame that `mark` names, if it names one.
void write_head(bits::Writer& out, const FrameMark& mark, const FrameMark* newest);
/// `latest`: the newest frame that came so far. Errors: truncated, value_range; replayed if it
/// names a frame that is not there, as those do that were made before all was told anew and come
/// after.
Result<FrameMark> read_head(bits::Reader& in, const FrameMarks& marks, std::uint32_t latest);

}  // namespace kwind::replica
