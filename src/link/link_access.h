// Cache hints for hosts with more links than a cache holds (decision 13): the host knows which link
// comes next, so that it asks for the memory of that link while it works on another.
#pragma once
#include <cstdint>

#include "kwind/link/link.h"

namespace kwind::link {

/// What a host is about to do with a link.
enum class LinkUse : std::uint8_t { send, poll_datagram, schedule_payload };

struct LinkAccess {
  static constexpr unsigned kPrefetchSteps = 6;
  /// Asks for the memory that `use` will need: in steps 0 to kPrefetchSteps - 1, each about a
  /// microsecond after the one before, because each follows pointers that the one before asked for.
  static void prefetch(const Link& link, LinkUse use, unsigned step);
};

}  // namespace kwind::link
