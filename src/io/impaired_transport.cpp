// Two simulated paths before a real transport: one for what is sent, one for what arrives.
#include "kwind/io/impaired_transport.h"

#include <algorithm>

#include "kwind/core/assert.h"

namespace kwind::io {

ImpairedTransport::ImpairedTransport(std::unique_ptr<PollableTransport> inner,
                                     const sim::Conditions& outward, const sim::Conditions& inward,
                                     std::uint64_t seed)
    : inner_(std::move(inner)), outward_(outward, seed), inward_(inward, ~seed) {
  KWIND_ASSERT(!inner_->has_connections());
}

// All that has arrived enters the inward path at once; what is due comes out of it.
std::optional<ReceivedDatagram> ImpairedTransport::receive(Time now) {
  // Bounds one call, so that a flood does not delay earlier datagrams.
  constexpr int kInATurn = 4096;
  for (int i = 0; i < kInATurn; ++i) {
    const auto arrived = inner_->receive(now);
    if (!arrived) break;
    inward_.push(now, arrived->from, local(), arrived->bytes);
  }
  if (!inward_.pop(now, current_)) return std::nullopt;
  ++counts_.datagrams_received;
  counts_.bytes_received += current_.bytes.size();
  return ReceivedDatagram{current_.from, current_.bytes};
}

// Datagrams leave in flush(), when their delay has passed.
void ImpairedTransport::send(Time now, const Endpoint& to, std::span<const std::byte> bytes) {
  ++counts_.datagrams_sent;
  counts_.bytes_sent += bytes.size();
  outward_.push(now, local(), to, bytes);
}

// The inner transport sends in the order in which datagrams are due.
void ImpairedTransport::flush(Time now) {
  sim::Datagram due;
  while (outward_.pop(now, due)) inner_->send(now, due.to, due.bytes);
  inner_->flush(now);
}

// A datagram that is due in a path is a reason to wake up, as well as the inner transport's own.
Time ImpairedTransport::next_wakeup() const {
  return std::min({outward_.next(), inward_.next(), inner_->next_wakeup()});
}

}  // namespace kwind::io
