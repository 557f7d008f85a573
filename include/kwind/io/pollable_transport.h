// A transport with file descriptors: the program can block until a datagram may have arrived.
#pragma once
#include <array>
#include <span>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/transport.h"

namespace kwind::io {

class PollableTransport;
KWIND_API void wait_for_any(std::span<PollableTransport* const> transports, Time until,
                            std::span<const int> also = {});

/// A transport of the operating system.
class KWIND_API PollableTransport : public Transport {
 public:
  /// Blocks until a datagram may have arrived or io::now() reaches `until`, for one second at most.
  virtual void wait(Time until) { wait_for_any(std::array<PollableTransport*, 1>{this}, until); }

 protected:
  /// One descriptor to poll: for reading, and for writing if `to_write`.
  struct Waiting {
    int descriptor = -1;
    bool to_write = false;
  };
  /// Whether receive() would return a datagram without a system call.
  [[nodiscard]] virtual bool holds_some() const = 0;
  /// Adds the descriptors whose readiness gives this transport something to do.
  virtual void add_waits(std::vector<Waiting>& out) const = 0;
  /// For transports that wrap a transport.
  static bool holds_some_of(const PollableTransport& inner) { return inner.holds_some(); }
  static void add_waits_of(const PollableTransport& inner, std::vector<Waiting>& out) {
    inner.add_waits(out);
  }
  friend void wait_for_any(std::span<PollableTransport* const> transports, Time until,
                           std::span<const int> also);
};

/// Blocks until a datagram may have arrived at one of `transports` (all of one thread), until one
/// of the file descriptors `also` can be read (negative ones are ignored), or until io::now()
/// reaches `until`; for one second at most.
KWIND_API void wait_for_any(std::span<PollableTransport* const> transports, Time until,
                            std::span<const int> also);

}  // namespace kwind::io
