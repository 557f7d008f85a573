// The message tap: shows every message that a host sends or receives, while it runs. How they look
// is kwind/host/tap_format.h.
#pragma once
#include <cstdint>
#include <functional>

#include "kwind/core/time.h"
#include "kwind/route/dispatcher.h"

namespace kwind::host {

/// A message that was sent or received, as a tap sees it. Borrows; valid during the call.
struct Tapped {
  Time at;
  std::uint32_t peer = 0;  ///< on a client 0
  bool received = false;   ///< else sent
  const route::RawMessage& message;
};

/// Called for each message that was given to the link, and for each that is about to be dispatched.
/// Not allowed to call the host.
using Tap = std::function<void(const Tapped&)>;

}  // namespace kwind::host
