// poll: it waits for whole milliseconds, rounded up.
#include "io/sockets.h"

namespace kwind::io {

int poll_sockets(std::span<pollfd> files, Duration longest) {
  const auto milliseconds = std::chrono::ceil<std::chrono::milliseconds>(longest).count();
  return ::poll(files.data(), static_cast<nfds_t>(files.size()), static_cast<int>(milliseconds));
}

}  // namespace kwind::io
