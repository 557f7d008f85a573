// The client's side of a game's traffic: one port, one server.
//
//   client.receive(now);   // handlers run
//   ... the game ...
//   client.send(now);      // what it sent leaves
//
// One client is one thread; every call, and every handler, belongs to it.
#pragma once
#include <functional>
#include <memory>
#include <string_view>

#include "kwind/host/message_packer.h"
#include "kwind/host/options.h"
#include "kwind/io/port.h"
#include "kwind/route/dispatcher.h"
#include "kwind/schema/codec.h"

namespace kwind::host {

struct ClientOptions : Options {
  /// Who the server must prove to be: from an option, a file, or the login's response.
  std::optional<link::PublicKey> server_key{};
  std::string ticket{};                      ///< from the login, if the server asks for one
  std::optional<bits::Secret32> comeback{};  ///< of an earlier client, see comeback()
};

class Client {
 public:
  /// Connects to `server` over `port`; port and `protocol` must outlive the client. The handshake
  /// starts with the first send().
  /// Requires: a server key, or clear mode by name; in ClearMode::loopback_only `server` is a
  /// loopback address.
  Client(io::Port& port, const Endpoint& server, const schema::ProtocolInfo& protocol, Time now,
         const ClientOptions& options);
  ~Client();
  Client(const Client&) = delete;
  Client& operator=(const Client&) = delete;

  /// Adds handler(const T&), called for every T that the server sends, after those added before.
  template <schema::Message T, class Handler>
  void on(Handler handler) {
    KWIND_ASSERT(T::info().direction != schema::Direction::from_client);
    dispatcher_.on<T>(
        [handler = std::move(handler)](FromServer, const T& message) mutable { handler(message); });
  }
  /// Called once when the connection stands; messages may be sent from now on.
  void on_connect(std::function<void()> handler);
  /// Called once at the end, whether or not the connection ever stood, with the cause and, where
  /// there is one, the server's reason.
  void on_disconnect(std::function<void(Errc, std::string_view)> handler);

  /// Takes in what has arrived and runs handlers. Not to be called from a handler.
  void receive(Time now);
  /// Lets out what waits: messages, acks, repeats, keepalives. Not to be called from a handler.
  void send(Time now);
  /// When send() will have something to do without new input.
  [[nodiscard]] Time next_wakeup() const;

  /// Queues `message` for the server.
  /// Errors: closed before on_connect and after the end; rate_limited (the protocol's `at most`);
  /// queue_full; out_of_range under Policy::refuse.
  template <schema::Message T>
  Errc send(const T& message) {
    const std::uint16_t agreed = version();
    if (agreed == 0) return Errc::closed;
    const auto packed = packer_.pack(message, agreed);
    return packed ? send_packed(*packed) : packed.error();
  }

  /// Closes the connection after delivering its reliable and ordered messages. Keep calling
  /// receive() and send() until ended().
  void close(std::string_view reason);

  [[nodiscard]] bool connected() const;
  [[nodiscard]] bool ended() const;
  /// The version of the protocol agreed with the server; 0 until connected.
  [[nodiscard]] std::uint16_t version() const;
  /// How a new client may come back as the same peer after this one's connection broke, if the
  /// server permits it. Good once.
  [[nodiscard]] std::optional<link::Comeback> comeback() const;
  /// Whether the server took this client for an earlier one's return.
  [[nodiscard]] bool returned() const;
  /// "ChaCha20-Poly1305", "AES-256-GCM" or "clear".
  [[nodiscard]] std::string_view protection() const;
  [[nodiscard]] const link::Stats& stats() const;
  [[nodiscard]] Counts counts() const;
  [[nodiscard]] Traffic traffic() const;

 private:
  struct FromServer {};
  class Events;
  struct Impl;
  Errc send_packed(const PackedMessage& message);

  route::Dispatcher<FromServer> dispatcher_;
  MessagePacker packer_;
  std::unique_ptr<Impl> impl_;
};

}  // namespace kwind::host
