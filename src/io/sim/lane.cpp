#include "kwind/io/sim/lane.h"

#include <algorithm>
#include <utility>

namespace kwind::io::sim {

void Lane::push(Time now, const Endpoint& from, const Endpoint& to,
                std::span<const std::byte> bytes) {
  ++counts_.taken;
  // Each datagram draws the same number of chances whatever happens to it, so that changing one
  // condition leaves the others' luck as it was.
  const bool lost = chance() < conditions_.loss;
  const bool doubled = chance() < conditions_.duplicate;
  if (lost) {
    ++counts_.lost;
    return;
  }
  add(now, from, to, bytes);
  if (doubled) {
    ++counts_.doubled;
    add(now, from, to, bytes);
  }
}

void Lane::add(Time now, const Endpoint& from, const Endpoint& to,
               std::span<const std::byte> bytes) {
  const double spread = 2 * chance() - 1;
  const bool held = chance() < conditions_.reorder;
  Duration delay =
      conditions_.delay + Duration(static_cast<Duration::rep>(
                              spread * static_cast<double>(conditions_.jitter.count())));
  if (held) {
    ++counts_.held_back;
    delay += conditions_.held_back;
  }
  const Time due = now + std::max(delay, Duration{0});
  under_way_.push_back({due, order_++, {from, to, {bytes.begin(), bytes.end()}}});
  std::push_heap(under_way_.begin(), under_way_.end(), later);
}

bool Lane::pop(Time now, Datagram& out) {
  if (under_way_.empty() || under_way_.front().due > now) return false;
  std::pop_heap(under_way_.begin(), under_way_.end(), later);
  out = std::move(under_way_.back().datagram);
  under_way_.pop_back();
  return true;
}

}  // namespace kwind::io::sim
