// The replay window over received packet numbers (RFC 9000, 12.3).
//
// A bitmap holds the newest kSpanPackets packet numbers; bit 0 is the largest number. It serves two
// purposes: it refuses what arrives twice, and its runs are the ranges of the acknowledgements.
#include "link/path/received_packets.h"

#include <algorithm>
#include <bit>

#include "kwind/core/assert.h"

namespace kwind::link {

// A number is counted in its age below the largest one. Numbers older than the window count as
// received.
bool ReceivedPackets::is_new(PacketNumber number) const {
  if (!any_ || raw(number) > largest_) return true;
  const std::uint64_t age = largest_ - raw(number);
  return age < kSpanPackets && !received(age);
}

// Shifts the whole bitmap, bit 0 of word 0 being the newest packet.
void ReceivedPackets::move_on(std::uint64_t packets) {
  const std::size_t words =
      static_cast<std::size_t>(std::min<std::uint64_t>(packets / kWordBits, received_.size()));
  const unsigned bits = static_cast<unsigned>(packets % kWordBits);
  for (std::size_t i = received_.size(); i-- > 0;) {
    std::uint64_t word = i >= words ? received_[i - words] << bits : 0;
    if (bits > 0 && i > words) word |= received_[i - words - 1] >> (kWordBits - bits);
    received_[i] = word;
  }
}

// A number above the largest one moves the window; the packets that are passed over are missing.
void ReceivedPackets::mark_received(PacketNumber number) {
  KWIND_ASSERT(is_new(number));
  if (!any_ || raw(number) > largest_) {
    if (any_) move_on(raw(number) - largest_);
    largest_ = raw(number);
    any_ = true;
  }
  const std::uint64_t age = largest_ - raw(number);
  received_[age / kWordBits] |= std::uint64_t{1} << (age % kWordBits);
}

// The first age from `age` on, before `end`, at which it is not as there; `end` if there is none.
std::uint64_t ReceivedPackets::end_of_run(std::uint64_t age, std::uint64_t end) const {
  const std::uint64_t like = received(age) ? ~std::uint64_t{0} : 0;
  while (age < end) {
    const std::uint64_t others = (received_[age / kWordBits] ^ like) >> (age % kWordBits);
    if (others != 0) return std::min(end, age + static_cast<unsigned>(std::countr_zero(others)));
    age += kWordBits - age % kWordBits;
  }
  return end;
}

// Whether the newest `packets` packets, or all if there are fewer, arrived without a gap.
bool ReceivedPackets::has_newest(std::uint64_t packets) const {
  if (!any_) return false;
  const std::uint64_t span = std::min<std::uint64_t>({packets, kSpanPackets, largest_ + 1});
  return end_of_run(0, span) == span && received(0);
}

// Runs of received packets from `top` down, at most `max`, none below `floor`, which the peer knows
// of.
void ReceivedPackets::ranges(std::uint64_t top, std::size_t span_packets, std::uint64_t floor,
                             std::size_t max, std::vector<AckRange>& out) const {
  out.clear();
  if (!any_ || floor > top || largest_ - top >= kSpanPackets) return;
  out.reserve(std::min<std::size_t>(max, 8));
  const std::uint64_t first = largest_ - top;
  const std::uint64_t span =
      std::min<std::uint64_t>({first + span_packets, kSpanPackets, largest_ + 1 - floor});
  for (std::uint64_t age = first; age < span;) {
    const std::uint64_t end = end_of_run(age, span);
    if (received(age)) {
      if (out.size() == max) return;
      out.push_back({largest_ - (end - 1), largest_ - age});
    }
    age = end;
  }
}

}  // namespace kwind::link
