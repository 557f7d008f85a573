// The client that a program includes first: outlives its connections. It tries its transports in
// turn, resumes a connection that broke, and otherwise connects again with exponential back-off.
// Handlers stay. host::Client underneath takes a transport and times as arguments.
#pragma once
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/host/client.h"
#include "kwind/host/replicated_world.h"
#include "kwind/io/pollable_transport.h"
#include "kwind/server.h"

namespace kwind {

using host::Predicted;
using host::ReplicatedWorld;
using host::ReplicatedWorldOptions;

/// Where a client stands.
enum class ConnectionState : std::uint8_t {
  connecting,  ///< a handshake is in flight
  connected,
  resuming,  ///< the connection broke; the client tries to continue it as the same peer
  waiting,   ///< the back-off runs before the next attempt
  closed,    ///< the end: close() was called, or the server refused for good
};

/// How a client is opened.
struct ClientOptions {
  std::string server{};      ///< "HOST:PORT"
  std::string server_key{};  ///< the server's public key, or a file with the key
  /// Tried in turn, from the first one on, until one gets an answer.
  std::vector<link::TransportKind> transports{link::TransportKind::datagrams};
  /// Opens the transport of each attempt in place of `transports`: a web::WebSocketTransport. It is
  /// given the resolved address of `server`.
  std::function<Result<std::unique_ptr<io::PollableTransport>>(const Endpoint&)> open_transport{};
  /// How long a transport gets for its handshake while there is another one to try.
  Duration next_transport_after = std::chrono::seconds(2);
  /// Back-off between attempts: doubles from the first value to the second one.
  Duration first_retry = std::chrono::milliseconds(500);
  Duration longest_retry = std::chrono::seconds(8);  ///< the second value
  bool reconnect = true;                             ///< false: the first end is the end
  /// Provides a ticket for each attempt that needs one. Empty: none is sent.
  std::function<std::string()> ticket{};
  /// Timeouts, queues. `host.server_key`, `ticket` and `resume` are set by Client.
  host::ClientOptions host{};
};

namespace detail {
struct OwnedTransport {
  std::unique_ptr<io::PollableTransport> transport;
};
}  // namespace detail

/// Thread: one.
class KWIND_API Client final : private detail::OwnedTransport, public host::Client {
 public:
  /// Borrows `protocol`. Blocks while a host name is resolved. Starts to connect with the first
  /// step(). Errors: bad_address, bad_key, socket_failure.
  static tl::expected<std::unique_ptr<Client>, OpenError> open(const schema::ProtocolInfo& protocol,
                                                               const ClientOptions& options);
  ~Client();

  /// Receives, runs handlers, sends, reconnects. Never blocks. Call it at least once per frame.
  void step(Time now);
  /// Sleeps until a datagram may have arrived, or until step() has something to do; for `longest`
  /// at most.
  void wait(Duration longest);
  /// Runs step() and wait() until the state is closed.
  void run();

  /// Closes the connection after its reliable and ordered messages are delivered, and ends all
  /// attempts. Keep calling step() until the state is closed.
  void close(std::string_view reason);

  /// Called at each change of state, with the cause where there is one. Handlers add.
  void on_state(std::function<void(ConnectionState, Errc, std::string_view reason)> handler);
  /// The newest state that on_state() was called with.
  [[nodiscard]] ConnectionState connection_state() const { return state_; }
  /// The transport of the present attempt or connection.
  [[nodiscard]] link::TransportKind transport_kind() const;
  /// Connections that were begun, the first included.
  [[nodiscard]] std::uint64_t attempts() const { return attempts_; }

 private:
  struct Plan;
  Client(std::unique_ptr<io::PollableTransport> opened, const schema::ProtocolInfo& protocol,
         std::unique_ptr<Plan> plan, Time now);
  void set_state(ConnectionState state, Errc code, std::string_view reason);
  void attempt(Time now);
  void ended_at(Time now);

  std::unique_ptr<Plan> plan_;
  ConnectionState state_ = ConnectionState::connecting;
  std::uint64_t attempts_ = 1;
  route::Observers<ConnectionState, Errc, std::string_view> on_state_;
};

}  // namespace kwind
