// Waiting for several transports of one thread at once.
#include <poll.h>

#include <algorithm>

#include "kwind/core/transport.h"
#include "kwind/io/clock.h"

namespace kwind::io {

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
  for (const int descriptor : also) {
    if (descriptor >= 0) files.push_back({descriptor, POLLIN, 0});
  }
  for (const auto& [descriptor, to_write] : waits) {
    files.push_back({descriptor, static_cast<short>(to_write ? POLLIN | POLLOUT : POLLIN), 0});
  }
  const Time start = now();
  if (until <= start) return;  // before the difference: Time::min() is as far back as there is
  const Duration left = std::min<Duration>(until - start, std::chrono::seconds(1));
  const auto seconds = std::chrono::floor<std::chrono::seconds>(left);
  const timespec timeout{static_cast<time_t>(seconds.count()),
                         static_cast<long>((left - seconds).count())};
  (void)::ppoll(files.data(), files.size(), &timeout, nullptr);
}

}  // namespace kwind::io
