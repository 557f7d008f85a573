// The server that a program includes first: opens its transports, reads its key, owns the loop and
// the clock. host::Server underneath takes transports, keys and times as arguments.
#pragma once
#include <atomic>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/host/replication.h"
#include "kwind/host/server.h"
#include "kwind/io/pollable_transport.h"
#include "kwind/io/waker.h"

namespace kwind {

using host::ClientView;
using host::Entity;
using host::Peer;
using host::Replication;
using host::ReplicationOptions;

/// Why a Server or a Client could not be opened: a code for programs, a sentence for people.
struct OpenError {
  Errc code = Errc::none;  ///< of docs/errors.md
  std::string text;        ///< what, where, and what to do
};

/// How a server is opened.
struct ServerOptions {
  /// Addresses to listen on: "HOST:PORT" and "udp:HOST:PORT" over UDP, "tcp:HOST:PORT" over TCP.
  /// Port 0 lets the system choose, see Server::address().
  std::vector<std::string> listen{"127.0.0.1:4000"};
  /// File with the secret key, as `kwind keys` writes it. Empty: a new key for each run.
  std::string secret_key_file{};
  std::size_t capacity = 64;  ///< clients at once at most, 1 to 65535
  /// Timeouts, tickets, budgets. `host.key` is set from `secret_key_file`, `host.capacity` from
  /// `capacity`.
  host::ServerOptions host{};
};

namespace detail {
// A base, so that transports outlive host::Server, which borrows them.
struct OwnedTransports {
  std::vector<std::unique_ptr<io::PollableTransport>> transports;
};
}  // namespace detail

/// Thread: one, but for stop().
class KWIND_API Server final : private detail::OwnedTransports, public host::Server {
 public:
  /// Borrows `protocol`. Errors: address_in_use, bad_address, no_permission, socket_failure,
  /// bad_key.
  static tl::expected<std::unique_ptr<Server>, OpenError> open(const schema::ProtocolInfo& protocol,
                                                               const ServerOptions& options = {});
  ~Server();

  /// Listens on another transport as well: web::WebSocketTransport. The server owns it and waits
  /// for it. Its address() has the index after those of `listen` and of earlier ones.
  void add_transport(std::unique_ptr<io::PollableTransport> transport);

  /// Receives, runs handlers and due ticks, sends. Never blocks. For programs with a loop of their
  /// own: call it at least once per tick.
  void step(Time now);
  /// Sleeps until a datagram may have arrived, until step() has something to do, or until wake();
  /// for `longest` at most.
  void wait(Duration longest);
  /// Ends wait(), the present one or the next one. Thread: any. Safe in a signal handler.
  void wake();
  /// Runs step() until stop(), asleep between datagrams and ticks. May be called again afterwards.
  void run();
  /// Ends run() after the step in flight. Thread: any. Safe in a signal handler.
  void stop();

  /// The address of `listen[index]`, with the port that the system chose.
  [[nodiscard]] Endpoint address(std::size_t index = 0) const;
  /// What clients need as their `server_key`.
  [[nodiscard]] std::string public_key() const;

 private:
  Server(std::vector<std::unique_ptr<io::PollableTransport>> opened,
         const schema::ProtocolInfo& protocol, const host::ServerOptions& options);

  std::string public_key_;
  std::vector<io::PollableTransport*> polled_;
  io::Waker waker_;
  std::atomic<bool> stops_ = false;
};

}  // namespace kwind
