// A path as a priority queue of arrivals. Losses come in runs by a Gilbert model with two states;
// the bottleneck is a queue with a rate, which drops what finds no room (drop-tail).
#include "kwind/io/sim/simulated_path.h"

#include <algorithm>
#include <utility>

namespace kwind::io::sim {

// Chances are drawn from the path's own generator, in the order of sending.
void SimulatedPath::push(Time now, const Endpoint& from, const Endpoint& to,
                         std::span<const std::byte> bytes) {
  ++counts_.taken;
  // Each datagram draws the same number of chances whatever happens to it, so that changing one
  // condition leaves the others' luck as it was.
  const bool lost = chance() < loss_now();
  const bool doubled = chance() < conditions_.duplicate;
  losing_ = lost;
  if (lost) {
    ++counts_.lost;
    return;
  }
  add(now, from, to, bytes);
  if (doubled) {
    ++counts_.duplicated;
    add(now, from, to, bytes);
  }
}

// In a run of losses the next is lost as well with a chance that makes runs as long as they should
// be.
double SimulatedPath::loss_now() const {
  const double loss = conditions_.loss;
  if (conditions_.loss_run <= 1 || loss >= 1) return loss;
  // So many losses leave so few datagrams between runs that runs cannot be shorter than this.
  const double run = std::max(conditions_.loss_run, loss / (1 - loss));
  if (losing_) return 1 - 1 / run;
  return loss / (run * (1 - loss));
}

// Delay, uniform jitter and, for some, an extra delay that lets later datagrams overtake. A
// bottleneck adds the time that the datagram waits in its queue.
void SimulatedPath::add(Time now, const Endpoint& from, const Endpoint& to,
                        std::span<const std::byte> bytes) {
  const double spread = 2 * chance() - 1;
  const bool held = chance() < conditions_.reorder;
  Duration delay =
      conditions_.delay + Duration(static_cast<Duration::rep>(
                              spread * static_cast<double>(conditions_.jitter.count())));
  if (held) {
    ++counts_.reordered;
    delay += conditions_.reorder_delay;
  }
  const std::size_t size = bytes.size() + kIpUdpHeaderBytes;
  Time leaves = now;
  if (conditions_.rate > 0) {
    free_at_ = std::max(free_at_, now);
    const double waiting = std::chrono::duration<double>(free_at_ - now).count() * conditions_.rate;
    if (waiting + static_cast<double>(size) > static_cast<double>(conditions_.queue_bytes)) {
      ++counts_.overflowed;
      return;
    }
    free_at_ +=
        Duration(static_cast<Duration::rep>(static_cast<double>(size) / conditions_.rate * 1e9));
    leaves = free_at_;
  }
  counts_.bytes_out += size;
  const Time due = leaves + std::max(delay, Duration{0});
  under_way_.push_back({due, order_++, {from, to, {bytes.begin(), bytes.end()}}});
  std::push_heap(under_way_.begin(), under_way_.end(), later);
}

// The heap is ordered by due time, then by the order of sending.
bool SimulatedPath::pop(Time now, Datagram& out) {
  if (under_way_.empty() || under_way_.front().due > now) return false;
  std::pop_heap(under_way_.begin(), under_way_.end(), later);
  out = std::move(under_way_.back().datagram);
  under_way_.pop_back();
  return true;
}

}  // namespace kwind::io::sim
