// The client's side of a game's traffic: one transport, one server.
//
//   client.receive(now);   // handlers run
//   ... the game ...
//   client.flush(now);     // what it sent leaves
//
// One client is one thread; every call, and every handler, belongs to it.
#pragma once
#include <functional>
#include <memory>
#include <string_view>

#include "kwind/core/compiler.h"
#include "kwind/core/transport.h"
#include "kwind/host/loop_stage.h"
#include "kwind/host/message_packer.h"
#include "kwind/host/options.h"
#include "kwind/host/tap.h"
#include "kwind/route/dispatcher.h"
#include "kwind/route/requests.h"
#include "kwind/schema/codec.h"

namespace kwind::host {

using route::Subscription;

/// Options of a client, beside those that both ends have.
struct ClientOptions : Options {
  TickBudget tick_budget{};  ///< of the server
  /// Who the server must prove to be: from an option, a file, or the login's response.
  std::optional<link::PublicKey> server_key{};
  std::string ticket{};              ///< from the login, if the server asks for one
  std::optional<Secret32> resume{};  ///< of an earlier client, see resume()
};

/// A client's end of one connection to a server: typed messages, requests, resume.
class KWIND_API Client {
 public:
  /// Connects to `server` over `transport`, which must outlive the client, as `protocol` must. The
  /// handshake starts with the first flush().
  /// Requires: a server key, or plaintext mode by name; in Plaintext::loopback_only `server` is a
  /// loopback address.
  Client(Transport& transport, const Endpoint& server, const schema::ProtocolInfo& protocol,
         Time now, const ClientOptions& options);
  ~Client();
  Client(const Client&) = delete;
  Client& operator=(const Client&) = delete;

  /// Adds handler(const T&), called for every T that the server sends, after those added before.
  template <schema::Message T, class Handler>
  void on(Handler handler) {
    KWIND_ASSERT(comes_in(T::info()));
    dispatcher_.on<T>(
        [handler = std::move(handler)](FromServer, const T& message) mutable { handler(message); });
  }
  /// The same as long as the returned handle lives. Handlers may subscribe and unsubscribe, send
  /// and close while they are called.
  template <schema::Message T, class Handler>
  Subscription subscribe(Handler handler) {
    KWIND_ASSERT(comes_in(T::info()));
    return dispatcher_.subscribe<T>(
        [handler = std::move(handler)](FromServer, const T& message) mutable { handler(message); });
  }
  /// Subscribes `group.on_message(const T&)` for every T of `List`, harbour::tables::Messages for
  /// instance, for which there is one. `group` is borrowed while the handles live.
  template <class List, class Group>
  [[nodiscard]] std::vector<Subscription> subscribe_group(Group& group) {
    return subscribe_each(group, List{});
  }
  /// Adds handler(const route::RawMessage&) for kinds that have no handler of their own.
  void on_unhandled(std::function<void(const route::RawMessage&)> handler) {
    dispatcher_.on_unhandled(
        [handler = std::move(handler)](FromServer, const route::RawMessage& message) {
          handler(message);
        });
  }
  /// Decodes and handles kinds that have no handler of their own; see route::Dispatcher::on_any().
  void on_any(std::function<Errc(const route::RawMessage&, schema::Layout&)> take) {
    dispatcher_.on_any(
        [take = std::move(take)](FromServer, const route::RawMessage& message,
                                 schema::Layout& layout) { return take(message, layout); });
  }
  /// Called for each handler that threw, as sink(what, message). `message` is null if it was code
  /// that none brought about, on_connect for instance.
  void on_fault(std::function<void(std::string_view, const route::RawMessage*)> sink) {
    dispatcher_.on_fault(
        [sink = std::move(sink)](const route::HandlerException<FromServer>& fault) {
          sink(fault.what, fault.message);
        });
  }

  /// Sets handler(const T&, route::Answer<T>) for the requests T that the server asks. The answer
  /// may be given at once, or kept and given from another tick.
  template <route::Request T, class Handler>
  void on_request(Handler handler) {
    KWIND_ASSERT(comes_in(T::info()));
    dispatcher_.on_request<T>([this, handler = std::move(handler)](FromServer, const T& request,
                                                                   std::uint16_t number) mutable {
      handler(request, route::Responder<T>(responses_, {0, 0, number}));
    });
  }
  /// Asks the server; `callback(const route::Outcome<T>&)` is called exactly once, from receive(),
  /// unless this returns an error. When the client is destroyed first: disconnected, from there.
  /// Errors: those of send(), too_many_requests.
  template <route::Request T, class Callback>
  Errc request(const T& request, Duration timeout, Callback callback) {
    return request_any(request, timeout, route::settle_with<T>(std::move(callback)));
  }
  /// The same for a route::Task: `const auto outcome = co_await client.ask(request, 2s);`
  template <route::Request T>
  [[nodiscard]] route::RequestAwaiter<T> request(T request, Duration timeout) {
    return route::RequestAwaiter<T>([this, request = std::move(request), timeout](auto callback) {
      return this->request(request, timeout, std::move(callback));
    });
  }
  /// Runs a task; what it throws counts as a handler's fault.
  void start(route::Task task);
  /// Called once when the connection stands; messages may be sent from now on.
  void on_connect(std::function<void()> handler);
  /// Called once at the end, whether or not the connection ever stood, with the cause and, where
  /// there is one, the server's reason.
  void on_disconnect(std::function<void(Errc, std::string_view)> handler);

  /// Called with what the server's link::PayloadSource wrote, replica::ClientWorld::receive for
  /// instance; the bytes are valid during the call. What it returns is counted among the drops if
  /// it is an error.
  void on_payload(
      std::function<Errc(std::span<const std::byte> payload, std::size_t bits)> handler);

  /// Says which entities there are here, replica::ClientWorld::is_there for instance: a ref in a
  /// message to any other arrives empty, and is counted. Without it refs arrive as they are. Not to
  /// throw.
  void set_reference_filter(std::function<bool(const schema::AnyRef&)> knows);

  /// Lets `payload source`, borrowed until the connection ends, fill what is free in the next
  /// `datagrams` datagrams to the server: see Link::schedule_payload.
  void schedule_payload(link::PayloadSource* payload_source, std::size_t datagrams);

  /// Adds a stage to the loop, borrowed until detach(); see LoopStage.
  void attach(LoopStage& stage);
  /// The stage is called no more.
  void detach(LoopStage& stage);

  /// Replaces the connection by a new one: handlers, payload hooks and stages stay, queued messages
  /// and open requests end (Ending::disconnected). on_disconnect is not called for a connection
  /// that has not ended. Counts begin again. `transport` must outlive the client or the next
  /// reconnect(); the transport before it is not used any more. Not to be called from a handler.
  void reconnect(Transport& transport, const Endpoint& server, Time now,
                 const ClientOptions& options);

  /// Lets messages through to handlers; see Options::hold_until_ready.
  void ready();

  /// Datagrams that one receive() takes in at most.
  static constexpr std::size_t kMaxReceivedDatagrams = 2048;
  /// Takes in what has arrived and runs handlers. Not to be called from a handler.
  void receive(Time now);
  /// Lets out what waits: messages, acks, repeats, keepalives. Not to be called from a handler.
  void flush(Time now);
  /// When flush() will have something to do without new input.
  [[nodiscard]] Time next_wakeup() const;

  /// Queues `message` for the server.
  /// Errors: closed before on_connect and after the end; rate_limited (the protocol's `at most`);
  /// queue_full; out_of_range under Policy::refuse.
  template <schema::Sendable T>
  Errc send(const T& message) {
    KWIND_ASSERT(message.info().role == schema::MessageRole::message);
    const std::uint16_t agreed = version();
    if (agreed == 0) return Errc::closed;
    const auto packed = packer_.pack(message, agreed);
    return packed ? send_packed(*packed) : packed.error();
  }

  /// For clients that know messages at run time only: an answer to the request whose id is
  /// `number`, see route::RawMessage::request_id. Errors: those of send(), stray_answer.
  template <schema::Sendable T>
  Errc answer(std::uint16_t number, const T& message) {
    return send_answer(number, message.info(), [&](schema::Encoder& out) { encode(out, message); });
  }
  /// The same for requests: `settle` gets the answer's fields.
  template <schema::Sendable T>
  Errc request_any(const T& request, Duration timeout,
                   const route::PendingRequests::Settle& settle) {
    const auto number = next_request_id();
    if (!number) return number.error();
    const auto packed = packer_.pack(request, version(), *number);
    return packed ? request_packed(*packed, timeout, settle) : packed.error();
  }

  /// Shows every message sent and received from now on; nullptr ends it.
  void set_tap(Tap tap);

  /// Closes the connection after delivering its reliable and ordered messages. Keep calling
  /// receive() and flush() until ended().
  void close(std::string_view reason);

  /// Whether messages can be sent: after on_connect(), before the end.
  [[nodiscard]] bool connected() const;
  /// Whether the connection is over: nothing is sent or received any more.
  [[nodiscard]] bool ended() const;
  /// The version of the protocol agreed with the server; 0 until connected.
  [[nodiscard]] std::uint16_t version() const;
  /// The digest of the code tables agreed with the server; 0: the built-in ones.
  [[nodiscard]] std::uint64_t code_tables() const;
  /// How a new client may come back as the same peer after this one's connection broke, if the
  /// server permits it. Good once.
  [[nodiscard]] std::optional<link::ResumeToken> resume() const;
  /// Whether the server took this client for an earlier one's return.
  [[nodiscard]] bool resumed() const;
  /// "ChaCha20-Poly1305", "AES-256-GCM" or "plaintext".
  [[nodiscard]] std::string_view protection() const;
  /// Of the link: round trip, loss, rates.
  [[nodiscard]] const link::Stats& stats() const;
  /// Drops by cause since the client was made.
  [[nodiscard]] Counts counts() const;
  /// Datagrams and bytes since the client was made.
  [[nodiscard]] Traffic traffic() const;

 protected:
  /// Runs code of the game; what it throws goes to on_fault().
  void run_guarded(const std::function<void()>& run);

 private:
  struct FromServer {};
  class Events;
  struct Impl;
  class Responses;  // carries answers back
  static bool comes_in(const schema::MessageInfo& info) {
    return info.direction != schema::Direction::from_client;
  }
  template <class Group, class... T>
  std::vector<Subscription> subscribe_each(Group& group, schema::MessageList<T...>) {
    std::vector<Subscription> all;
    (subscribe_one<T>(group, all), ...);
    return all;
  }
  template <class T, class Group>
  void subscribe_one(Group& group, std::vector<Subscription>& all) {
    if constexpr (requires(const T& message) { group.on_message(message); }) {
      if (!comes_in(T::info())) return;
      all.push_back(subscribe<T>([&group](const T& message) { group.on_message(message); }));
    }
  }
  Errc send_packed(const PackedMessage& message);
  [[nodiscard]] Result<std::uint16_t> next_request_id() const;
  Errc request_packed(const PackedMessage& request, Duration timeout,
                      route::PendingRequests::Settle settle);
  Errc send_answer(std::uint16_t number, const schema::MessageInfo& info,
                   const std::function<void(schema::Encoder&)>& encode);
  void abandon(std::uint16_t number, const schema::MessageInfo& info);

  const schema::ProtocolInfo& protocol_;
  route::Dispatcher<FromServer> dispatcher_;
  MessagePacker packer_;
  std::shared_ptr<route::ResponseSink> responses_;
  std::unique_ptr<Impl> impl_;
};

}  // namespace kwind::host
