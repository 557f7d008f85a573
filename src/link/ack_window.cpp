#include "ack_window.h"

#include <algorithm>

#include "kwind/bits/assert.h"

namespace kwind::link {

bool AckWindow::is_new(PacketNumber number) const {
  if (!any_ || raw(number) > largest_) return true;
  const std::uint64_t age = largest_ - raw(number);
  return age < kSpanPackets && !received_[age];
}

void AckWindow::mark_received(PacketNumber number) {
  KWIND_ASSERT(is_new(number));
  if (!any_ || raw(number) > largest_) {
    const std::uint64_t ahead = any_ ? raw(number) - largest_ : 0;
    received_ = ahead < kSpanPackets ? received_ << ahead : std::bitset<kSpanPackets>{};
    largest_ = raw(number);
    any_ = true;
  }
  received_.set(largest_ - raw(number));
}

void AckWindow::ranges(std::size_t span_packets, std::size_t most,
                       std::vector<AckRange>& out) const {
  out.clear();
  if (!any_) return;
  out.reserve(std::min<std::size_t>(most, 8));
  const std::uint64_t span = std::min<std::uint64_t>({span_packets, kSpanPackets, largest_ + 1});
  for (std::uint64_t age = 0; age < span;) {
    if (!received_[age]) {
      ++age;
      continue;
    }
    if (out.size() == most) return;
    const std::uint64_t newest = largest_ - age;
    while (age < span && received_[age]) ++age;
    out.push_back({largest_ - (age - 1), newest});
  }
}

}  // namespace kwind::link
