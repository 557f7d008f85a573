// Where datagrams come from and go to: the one interface that real sockets, the simulated network
// and impaired sockets share. A port belongs to one thread.
#pragma once
#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "kwind/bits/endpoint.h"
#include "kwind/bits/time.h"

namespace kwind::io {

/// More than any datagram of the link; longer ones are dropped and counted, see
/// PortCounts::too_long.
inline constexpr std::size_t kMostDatagramBytes = 2048;

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
  std::uint64_t too_long = 0;          ///< received, longer than kMostDatagramBytes; dropped
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
  /// Hands over a datagram of at most kMostDatagramBytes (copied). It may wait for flush(). Never
  /// blocks.
  virtual void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) = 0;
  /// Sends what waits.
  virtual void flush(Time now) = 0;
  /// When receive() or flush() has something to do on its own account; kNever if only by new
  /// traffic.
  [[nodiscard]] virtual Time next_wakeup() const { return kNever; }
  [[nodiscard]] virtual const PortCounts& counts() const = 0;

  /// Whether what is sent arrives once and in order, or the stream to that address ends.
  [[nodiscard]] virtual bool is_stream() const { return false; }
  /// An address whose stream has ended since the last call; nothing if there is none (more).
  virtual std::optional<Endpoint> take_ended() { return std::nullopt; }
  /// The stream from that address belongs to a connection: it lasts until end().
  virtual void keep(const Endpoint& /*peer*/) {}
  /// Ends the stream to that address at the next flush(), after what waits for it.
  virtual void end(const Endpoint& /*peer*/) {}
};

class LivePort;
void wait_for_any(std::span<LivePort* const> ports, Time until, std::span<const int> also = {});

/// A port of the real world, for which one can wait.
class LivePort : public Port {
 public:
  /// Blocks until a datagram may have arrived or io::now() reaches `until`, a second at most.
  virtual void wait(Time until) { wait_for_any(std::array<LivePort*, 1>{this}, until); }

 protected:
  /// What the system is to be asked about: a descriptor, and whether room to write matters too.
  struct Waiting {
    int descriptor = -1;
    bool to_write = false;
  };
  /// Whether receive() has something without asking the system.
  [[nodiscard]] virtual bool holds_some() const = 0;
  virtual void add_waits(std::vector<Waiting>& out) const = 0;
  /// For ports around a port.
  static bool holds_some_of(const LivePort& inner) { return inner.holds_some(); }
  static void add_waits_of(const LivePort& inner, std::vector<Waiting>& out) {
    inner.add_waits(out);
  }
  friend void wait_for_any(std::span<LivePort* const> ports, Time until, std::span<const int> also);
};

/// Blocks until a datagram may have arrived at one of `ports`, all of one thread, one of the file
/// descriptors `also` (negative ones are left out) can be read, or io::now() reaches `until`, a
/// second at most.
void wait_for_any(std::span<LivePort* const> ports, Time until, std::span<const int> also);

}  // namespace kwind::io
