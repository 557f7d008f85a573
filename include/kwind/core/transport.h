// The transport interface: sends and receives datagrams. Sockets, streams, the simulated network
// and impaired sockets implement it. One transport belongs to one thread.
#pragma once
#include <cstdint>
#include <optional>
#include <span>

#include "kwind/core/compiler.h"
#include "kwind/core/endpoint.h"
#include "kwind/core/time.h"

namespace kwind {

/// More than any datagram of the link; longer ones are dropped and counted, see
/// TransportCounts::too_long.
inline constexpr std::size_t kMaxDatagramBytes = 2048;

/// A datagram that arrived. Borrows its bytes.
struct ReceivedDatagram {
  Endpoint from;
  std::span<const std::byte> bytes;  ///< valid until the next call of receive(); may be empty
};

/// `datagrams` and `bytes` count UDP payloads.
struct TransportCounts {
  std::uint64_t datagrams_sent = 0;
  std::uint64_t datagrams_received = 0;
  std::uint64_t bytes_sent = 0;
  std::uint64_t bytes_received = 0;
  std::uint64_t send_failures = 0;     ///< the system would not take a datagram; it is gone
  std::uint64_t segmented = 0;         ///< of those sent: by segmentation offload
  std::uint64_t too_long = 0;          ///< received, longer than kMaxDatagramBytes; dropped
  std::uint64_t receive_overruns = 0;  ///< dropped by the system for lack of buffer; Linux only
};

/// Sends and receives datagrams.
class KWIND_API Transport {
 public:
  Transport() = default;
  Transport(const Transport&) = delete;
  Transport& operator=(const Transport&) = delete;
  virtual ~Transport() = default;

  /// The address that it is bound to.
  [[nodiscard]] virtual Endpoint local() const = 0;
  /// The next datagram that has arrived by `now`, if any. Never blocks. An unusable
  /// datagram, too long or from port 0, is returned empty.
  virtual std::optional<ReceivedDatagram> receive(Time now) = 0;
  /// Hands over a datagram of at most kMaxDatagramBytes (copied). It may wait for flush(). Never
  /// blocks.
  virtual void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) = 0;
  /// Sends what waits.
  virtual void flush(Time now) = 0;
  /// When receive() or flush() has something to do on its own account; kNever if only by new
  /// traffic.
  [[nodiscard]] virtual Time next_wakeup() const { return kNever; }
  /// Sums since it was opened.
  [[nodiscard]] virtual const TransportCounts& counts() const = 0;

  /// Whether what is sent arrives once and in order, or the stream to that address ends.
  [[nodiscard]] virtual bool is_stream() const { return false; }
  /// Whether below the link each address stands for a connection of its own, a stream or a session
  /// that carries datagrams: take_ended(), keep() and end() concern it.
  [[nodiscard]] virtual bool has_connections() const { return is_stream(); }
  /// An address whose connection has ended since the last call; nothing if there is none (more).
  virtual std::optional<Endpoint> take_ended() { return std::nullopt; }
  /// The connection from that address carries a peer of the game: it lasts until end().
  virtual void keep(const Endpoint& /*peer*/) {}
  /// Ends the connection to that address at the next flush(), after the datagrams that are queued
  /// for it.
  virtual void end(const Endpoint& /*peer*/) {}
};

}  // namespace kwind
