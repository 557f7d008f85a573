// Where datagrams come from and go to: the one interface that real sockets, the simulated network
// and impaired sockets share. A port belongs to one thread.
#pragma once
#include <cstdint>
#include <optional>
#include <span>

#include "kwind/bits/endpoint.h"
#include "kwind/bits/time.h"

namespace kwind::io {

struct Received {
  Endpoint from;
  std::span<const std::byte> bytes;  ///< valid until the next call of receive(); may be empty
};

/// `datagrams` and `bytes` count UDP payloads.
struct PortCounts {
  std::uint64_t datagrams_sent = 0;
  std::uint64_t datagrams_received = 0;
  std::uint64_t bytes_sent = 0;
  std::uint64_t bytes_received = 0;
  std::uint64_t send_failures = 0;     ///< the system would not take a datagram; it is gone
  std::uint64_t segmented = 0;         ///< of those sent: by segmentation offload
  std::uint64_t receive_overruns = 0;  ///< datagrams that the system dropped for lack of buffer
};

class Port {
 public:
  Port() = default;
  Port(const Port&) = delete;
  Port& operator=(const Port&) = delete;
  virtual ~Port() = default;

  [[nodiscard]] virtual Endpoint local() const = 0;
  /// The next datagram that has arrived by `now`, if any. Never blocks.
  virtual std::optional<Received> receive(Time now) = 0;
  /// Hands over a datagram of at most 65507 bytes (copied). It may wait for flush(). Never blocks.
  virtual void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) = 0;
  /// Sends what waits.
  virtual void flush(Time now) = 0;
  /// When receive() or flush() has something to do on its own account; kNever if only by new
  /// traffic.
  [[nodiscard]] virtual Time next_wakeup() const { return kNever; }
  [[nodiscard]] virtual const PortCounts& counts() const = 0;
};

/// A port of the real world, for which one can wait.
class LivePort : public Port {
 public:
  /// Blocks until a datagram may have arrived or io::now() reaches `until`.
  virtual void wait(Time until) = 0;
};

}  // namespace kwind::io
