// Waiting for several transports of one thread at once.
#include <algorithm>

#include "io/sockets.h"
#include "kwind/io/clock.h"
#include "kwind/io/pollable_transport.h"

namespace kwind::io {

// Ends at once if a transport holds a datagram that needs no system call. Otherwise one poll() over
// all descriptors, for a second at most: the game's own timers may lie between.
void wait_for_any(std::span<PollableTransport* const> transports, Time until,
                  std::span<const int> also) {
  std::vector<PollableTransport::Waiting> waits;
  for (const PollableTransport* transport : transports) {
    if (transport->holds_some()) return;
    until = std::min(until, transport->next_wakeup());
    transport->add_waits(waits);
  }
  std::vector<pollfd> files;
  files.reserve(waits.size() + also.size());
  const auto add = [&](int descriptor, bool to_write) {
    pollfd file{};
    file.fd = static_cast<decltype(file.fd)>(descriptor);
    file.events = static_cast<short>(to_write ? POLLIN | POLLOUT : POLLIN);
    files.push_back(file);
  };
  for (const int descriptor : also) {
    if (descriptor >= 0) add(descriptor, false);
  }
  for (const auto& [descriptor, to_write] : waits) add(descriptor, to_write);
  const Time start = now();
  if (until <= start) return;  // before the difference: Time::min() is as far back as there is
  (void)poll_sockets(files, std::min<Duration>(until - start, std::chrono::seconds(1)));
}

}  // namespace kwind::io
