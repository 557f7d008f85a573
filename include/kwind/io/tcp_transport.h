// A port over TCP, for networks that let no UDP pass: the same datagrams, each behind its length in
// a stream (see stream_deframer.h). Non-blocking. Everything arrives in order or the stream ends,
// which take_ended() returns; a loss holds up all later datagrams, so UDP is better where it works.
// One transport, one thread.
#pragma once
#include <memory>

#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"
#include "kwind/io/pollable_transport.h"

namespace kwind::io {

/// A stream that was not kept yet, see Port::keep, is a stranger's.
struct TcpLimits {
  /// At once, strangers' at most half of them; more are turned away. Never more than half of the
  /// file descriptors that the process may have.
  std::size_t streams = 1024;
  std::size_t streams_per_address = 64;  ///< of one IPv4 address, or one IPv6 /64
  /// What may wait for a peer that reads slowly, beyond what the system holds; more ends its
  /// stream.
  std::size_t unsent_bytes = std::size_t{256} * 1024;
  std::size_t unsent_to_strangers = std::size_t{8} * 1024;
  /// Ends a stranger's stream after this time, whatever comes from it.
  Duration handshake = std::chrono::seconds(5);
  std::size_t datagram_bytes = 1472;  ///< largest
};

/// Beside TransportCounts.
struct TcpCounts {
  std::uint64_t accepted = 0;
  std::uint64_t turned_away = 0;  ///< by a limit
  std::uint64_t bad_streams = 0;  ///< ended: what they held were no datagrams
  std::uint64_t too_slow = 0;     ///< ended: TcpLimits::unsent_bytes
  std::uint64_t strangers = 0;    ///< ended: TcpLimits::handshake
  std::uint64_t pauses = 0;  ///< of accepting, a second each: the system was out of descriptors
};

/// Datagrams over TCP streams: a server's port for many streams, or a client's one stream.
class KWIND_API TcpTransport final : public PollableTransport {
 public:
  /// Takes streams at `local`; port 0 lets the system choose one.
  /// Errors: address_in_use, bad_address, no_permission, socket_failure.
  static Result<std::unique_ptr<TcpTransport>> listen(const Endpoint& local,
                                                      const TcpLimits& limits = {});
  /// Opens a stream to `server`, without waiting for it: if it cannot be, take_ended() says so.
  /// Errors: bad_address, socket_failure.
  static Result<std::unique_ptr<TcpTransport>> connect(const Endpoint& server,
                                                       const TcpLimits& limits = {});
  ~TcpTransport() override;

  [[nodiscard]] Endpoint local() const override;
  std::optional<ReceivedDatagram> receive(Time now) override;
  /// Datagrams to an address without a stream are dropped, and counted as send failures.
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override;
  void flush(Time now) override;
  [[nodiscard]] const TransportCounts& counts() const override;
  [[nodiscard]] bool is_stream() const override { return true; }
  std::optional<Endpoint> take_ended() override;
  void keep(const Endpoint& peer) override;
  void end(const Endpoint& peer) override;
  [[nodiscard]] Time next_wakeup() const override;

  [[nodiscard]] std::size_t streams() const;
  [[nodiscard]] const TcpCounts& tcp_counts() const;

 protected:
  [[nodiscard]] bool holds_some() const override;
  void add_waits(std::vector<Waiting>& out) const override;

 private:
  struct State;
  explicit TcpTransport(std::unique_ptr<State> state);
  std::unique_ptr<State> state_;
};

}  // namespace kwind::io
