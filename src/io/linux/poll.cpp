// ppoll: it waits for nanoseconds, so that a tick is not late by half a millisecond.
#include "io/sockets.h"

namespace kwind::io {

int poll_sockets(std::span<pollfd> files, Duration longest) {
  const auto seconds = std::chrono::floor<std::chrono::seconds>(longest);
  const timespec timeout{static_cast<time_t>(seconds.count()),
                         static_cast<long>((longest - seconds).count())};
  return ::ppoll(files.data(), files.size(), &timeout, nullptr);
}

}  // namespace kwind::io
