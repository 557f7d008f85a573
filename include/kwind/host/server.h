// The server's side of a game's traffic: one port, many clients.
//
//   server.receive(now);   // handlers run
//   ... the game ...
//   server.send(now);      // what it sent leaves
//
// One server is one thread; every call, and every handler, belongs to it.
#pragma once
#include <functional>
#include <memory>
#include <string_view>
#include <vector>

#include "kwind/host/message_packer.h"
#include "kwind/host/options.h"
#include "kwind/io/port.h"
#include "kwind/route/dispatcher.h"
#include "kwind/schema/codec.h"

namespace kwind::host {

/// A connected client, named by the server: handlers get it from the connection that a message came
/// on. Numbers start at 1 and are not used again.
enum class Peer : std::uint32_t {};

struct ServerOptions : Options {
  std::size_t capacity = 64;  ///< most clients at once; more are refused with server_full
  /// What clients know the server by. Absent only in clear mode.
  std::optional<link::KeyPair> key{};
  /// Asks clients for tickets, and checks them; must outlive the server. See kwind/ticket/ticket.h.
  const link::TicketGate* gate = nullptr;
  std::int64_t unix_at_zero = 0;  ///< seconds since 1970 when Time was 0; tickets expire by it
  /// How long a client whose connection broke may come back as the same peer; 0: not at all.
  Duration comeback{0};
};

class Server {
 public:
  /// Serves `protocol` on `port`; both must outlive the server.
  /// Requires: a key, or clear mode by name; in ClearMode::loopback_only the port is bound to a
  /// loopback address.
  Server(io::Port& port, const schema::ProtocolInfo& protocol, const ServerOptions& options);
  ~Server();
  Server(const Server&) = delete;
  Server& operator=(const Server&) = delete;

  /// Serves on `another` port as well, a TCP port beside a UDP one for instance; it must outlive
  /// the server. Clients of all ports are peers alike. Requires: what the constructor does of its
  /// port.
  void serve(io::Port& another);

  /// Adds handler(Peer, const T&), called for every T that a client sends, after those added
  /// before.
  template <schema::Message T, class Handler>
  void on(Handler handler) {
    KWIND_ASSERT(T::info().direction != schema::Direction::from_server);
    dispatcher_.on<T>(std::move(handler));
  }
  /// Called when a client is there; messages to it may be sent from now on.
  void on_connect(std::function<void(Peer)> handler);
  /// Called once for each connected client when it is gone, with the cause and the reason that was
  /// given.
  void on_disconnect(std::function<void(Peer, Errc, std::string_view)> handler);

  /// Called when a client came back after its connection broke: it is the peer that it was, and has
  /// missed what was sent meanwhile. on_disconnect was not called.
  void on_return(std::function<void(Peer)> handler);

  /// Takes in what has arrived and runs handlers. Not to be called from a handler.
  void receive(Time now);
  /// Lets out what waits: messages, acks, repeats, keepalives. Not to be called from a handler.
  void send(Time now);
  /// When send() will have something to do without new input.
  [[nodiscard]] Time next_wakeup() const;

  /// Queues `message` for one client.
  /// Errors: no_such_peer; rate_limited (the protocol's `at most`); queue_full; closed;
  /// unknown_to_peer (its version has no T); message_too_large; out_of_range under Policy::refuse.
  template <schema::Message T>
  Errc send(Peer to, const T& message) {
    const std::uint16_t agreed = version(to);
    if (agreed == 0) return Errc::no_such_peer;
    const auto packed = packer_.pack(message, agreed);
    return packed ? send_packed(to, *packed) : packed.error();
  }
  /// Queues `message`, encoded once for each version of the protocol that is in use, for every
  /// client; returns for how many.
  template <schema::Message T>
  std::size_t send_to_all(const T& message) {
    return send_to_all_but(Peer{0}, message);
  }
  template <schema::Message T>
  std::size_t send_to_all_but(Peer left_out, const T& message) {
    std::size_t count = 0;
    for (const schema::VersionInfo& entry : protocol_.versions) {
      if (!version_in_use(entry.version)) continue;
      const auto packed = packer_.pack(message, entry.version);
      if (packed) count += send_packed_to_all_but(left_out, *packed);
    }
    return count;
  }

  /// Closes a connection after delivering its reliable and ordered messages. Unknown peers are
  /// ignored.
  void close(Peer peer, std::string_view reason);
  void close_all(std::string_view reason);

  [[nodiscard]] std::vector<Peer> peers() const;  ///< in the order of their numbers
  [[nodiscard]] std::size_t connections() const;  ///< clients, those coming and going included
  /// The version of the protocol agreed with a client; 0 if there is no such client.
  [[nodiscard]] std::uint16_t version(Peer peer) const;
  /// What its ticket says; nullptr if there is no such client, or no tickets are asked for.
  [[nodiscard]] const link::Claims* claims(Peer peer) const;
  /// Bytes of state that fit for a client until about the next tick; see Link::budget.
  [[nodiscard]] std::size_t budget(Peer peer) const;
  [[nodiscard]] const link::Stats* stats(Peer peer) const;  ///< nullptr if there is no such client
  [[nodiscard]] Counts counts() const;
  [[nodiscard]] Traffic traffic() const;

 private:
  struct Impl;
  [[nodiscard]] bool version_in_use(std::uint16_t version) const;
  Errc send_packed(Peer to, const PackedMessage& message);
  std::size_t send_packed_to_all_but(Peer left_out, const PackedMessage& message);

  const schema::ProtocolInfo& protocol_;
  route::Dispatcher<Peer> dispatcher_;
  MessagePacker packer_;
  std::unique_ptr<Impl> impl_;
};

}  // namespace kwind::host
