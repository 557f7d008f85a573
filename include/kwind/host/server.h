// The server's side of a game's traffic: a transport or several, many clients.
//
//   server.receive(now);   // handlers run
//   ... the game ...
//   server.flush(now);     // what it sent leaves
//
// One server is one thread; every call, and every handler, belongs to it.
#pragma once
#include <functional>
#include <memory>
#include <string_view>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/transport.h"
#include "kwind/host/loop_stage.h"
#include "kwind/host/message_packer.h"
#include "kwind/host/options.h"
#include "kwind/host/tap.h"
#include "kwind/link/listener.h"
#include "kwind/route/dispatcher.h"
#include "kwind/route/owners.h"
#include "kwind/route/requests.h"
#include "kwind/route/rooms.h"
#include "kwind/schema/codec.h"

namespace kwind::host {

/// A connected client, named by the server: handlers get it from the connection that a message came
/// on. Numbers start at 1 and are not used again.
enum class Peer : std::uint32_t {};

using route::Subscription;

/// Options of a server, beside those that both ends have.
struct ServerOptions : Options {
  /// Most clients at once, 1 to 65535; more are refused with server_full.
  std::size_t capacity = 64;
  /// Handshakes: how many key exchanges, and how many may be in flight beside `capacity` (with
  /// which they are at most 65536).
  link::ExchangeLimits exchanges{};
  std::size_t attempts = 2048;
  /// Most datagrams that one receive() takes in; the rest waits in the system for the next one.
  std::size_t receive_datagrams = 2048;
  /// With a clock, receive() takes in no more once it has run for `receive_time`.
  std::function<Time()> clock{};
  Duration receive_time = std::chrono::milliseconds(5);
  /// What clients know the server by. Absent only in plaintext mode.
  std::optional<link::KeyPair> key{};
  /// Bytes of reliable and ordered messages of a client that may have arrived and wait for their
  /// turn or their budget, for each channel, beyond one message of the largest size. More lets a
  /// client send more in a round trip, and hold more of the server's memory. At least 65536.
  std::size_t receive_window = std::size_t{256} * 1024;
  /// Asks clients for tickets, and checks them; must outlive the server. See kwind/ticket/ticket.h.
  const link::TicketGate* gate = nullptr;
  /// Seconds since 1970, by which tickets expire; the system's clock when not given. Called once
  /// for each ticket.
  std::function<std::int64_t()> unix_now{};
  /// How long a client whose connection broke may come back as the same peer; 0: not at all.
  Duration resume{0};
  /// Of each client: by time, because loops that wait for datagrams flush after each of them.
  TickBudget tick_budget{512, std::size_t{256} * 1024, std::chrono::milliseconds(50), 512};
  /// Handlers that threw over one client's messages, and messages that a check penalized it for,
  /// after which it is closed with too_many_faults; 0: never.
  unsigned max_faults = 0;
};

/// A server's end of many connections: typed messages, requests, rooms, owners, resume.
class KWIND_API Server {
 public:
  /// Serves `protocol` on `transport`; both must outlive the server. Requires: a key, or plaintext
  /// mode by name; in Plaintext::loopback_only the transport is bound to a loopback address.
  Server(Transport& transport, const schema::ProtocolInfo& protocol, const ServerOptions& options);
  ~Server();
  Server(const Server&) = delete;
  Server& operator=(const Server&) = delete;

  /// Serves on `another` transport as well, TCP beside UDP for instance; it must outlive the
  /// server. Clients of all transports are peers alike. Requires: what the constructor does of its
  /// transport.
  void listen_on(Transport& another);

  /// Adds handler(Peer, const T&), called for every T that a client sends, after those added
  /// before.
  template <schema::Message T, class Handler>
  void on(Handler handler) {
    KWIND_ASSERT(comes_in(T::info()));
    dispatcher_.on<T>(std::move(handler));
  }
  /// The same as long as the returned handle lives. Handlers may subscribe and unsubscribe, send,
  /// and close any connection while they are called.
  template <schema::Message T, class Handler>
  Subscription subscribe(Handler handler) {
    KWIND_ASSERT(comes_in(T::info()));
    return dispatcher_.subscribe<T>(std::move(handler));
  }
  /// Subscribes `group.on_message(Peer, const T&)` for every T of `List`, for instance
  /// harbour::tables::Messages, for which there is one. `group` is borrowed while the handles live.
  template <class List, class Group>
  [[nodiscard]] std::vector<Subscription> subscribe_group(Group& group) {
    return dispatcher_.subscribe_group(group, List{}, comes_in);
  }
  /// Adds handler(Peer, const route::RawMessage&) for kinds that have no handler of their own.
  /// Kinds `from owner of` an entity are dropped with not_owner, see unhandled_checks_owners().
  void on_unhandled(std::function<void(Peer, const route::RawMessage&)> handler) {
    dispatcher_.on_unhandled(std::move(handler));
  }
  /// Decodes and handles kinds that have no handler of their own; see route::Dispatcher::on_any().
  void on_any(std::function<Errc(Peer, const route::RawMessage&, schema::Layout&)> take) {
    dispatcher_.on_any(std::move(take));
  }
  /// The handlers of on_unhandled() get kinds `from owner of` an entity, too, and check themselves
  /// who owns it.
  void unhandled_checks_owners() { dispatcher_.unhandled_checks_owners(); }
  /// Adds check(Peer, const T&) -> route::CheckResult, asked before the handlers of T.
  template <schema::Message T, class Check>
  void check(Check check) {
    dispatcher_.check<T>(std::move(check));
  }
  /// Adds check(Peer, const route::RawMessage&) -> route::CheckResult, asked for every message
  /// before it is decoded.
  void check_all(std::function<route::CheckResult(Peer, const route::RawMessage&)> check) {
    dispatcher_.check_all(std::move(check));
  }
  /// Called for each handler that threw, with the message. The message is lost to that handler
  /// alone.
  void on_fault(std::function<void(const route::HandlerException<Peer>&)> sink) {
    dispatcher_.on_fault(std::move(sink));
  }
  /// Who owns what, for messages `from owner of` an entity: others' are dropped before any handler.
  /// A client that is gone owns nothing.
  [[nodiscard]] route::Owners<Peer>& owners() { return owners_; }

  /// Sets handler(Peer, const T&, route::Answer<T>) for the requests T that clients ask. The answer
  /// may be given at once, or kept and given from another tick.
  template <route::Request T, class Handler>
  void on_request(Handler handler) {
    KWIND_ASSERT(comes_in(T::info()));
    dispatcher_.on_request<T>([this, handler = std::move(handler)](Peer peer, const T& request,
                                                                   std::uint16_t number) mutable {
      handler(peer, request, route::Responder<T>(responses_, request_id_of(peer, number)));
    });
  }
  /// Asks a client; `callback(const route::Outcome<T>&)` is called exactly once, from receive(),
  /// unless this returns an error. When the server is destroyed first: disconnected, from there.
  /// Errors: those of send(), too_many_requests.
  template <route::Request T, class Callback>
  Errc request(Peer to, const T& request, Duration timeout, Callback callback) {
    const auto number = next_request_id(to);
    if (!number) return number.error();
    const auto packed = packer_.pack(request, version(to), *number);
    if (!packed) return packed.error();
    return request_packed(to, *packed, timeout, route::settle_with<T>(std::move(callback)));
  }
  /// The same for a route::Task: `const auto outcome = co_await server.ask(peer, request, 2s);`
  template <route::Request T>
  [[nodiscard]] route::RequestAwaiter<T> request(Peer to, T request, Duration timeout) {
    return route::RequestAwaiter<T>(
        [this, to, request = std::move(request), timeout](auto callback) {
          return this->request(to, request, timeout, std::move(callback));
        });
  }
  /// Runs a task; what it throws counts as a handler's fault.
  void start(route::Task task);
  /// Called when a client is there; messages to it may be sent from now on. With
  /// Options::hold_until_ready its messages wait for ready().
  void on_connect(std::function<void(Peer)> handler);
  /// Called once for each connected client when it is gone, with the cause and the reason that was
  /// given. It leaves its rooms afterwards.
  void on_disconnect(std::function<void(Peer, Errc, std::string_view)> handler);

  /// Called when a client came back after its connection broke: it is the peer that it was, and has
  /// missed what was sent meanwhile. on_disconnect was not called.
  void on_resume(std::function<void(Peer)> handler);

  /// Lets a client's messages through to handlers, those first that came before.
  void ready(Peer peer);

  /// Takes in what has arrived, at most ServerOptions::receive_datagrams, fairly between the
  /// transports, and runs handlers. Key exchanges come last. Not to be called from a handler.
  void receive(Time now);
  /// Lets out what waits: messages, acks, repeats, keepalives. Not to be called from a handler.
  void flush(Time now);
  /// When flush() will have something to do without new input.
  [[nodiscard]] Time next_wakeup() const;

  /// Queues `message` for one client.
  /// Errors: no_such_peer; rate_limited (the protocol's `at most`); queue_full; closed;
  /// unknown_to_peer (its version has no T); message_too_large; out_of_range under Policy::refuse.
  template <schema::Sendable T>
  Errc send(Peer to, const T& message) {
    KWIND_ASSERT(message.info().role == schema::MessageRole::message);
    const std::uint16_t agreed = version(to);
    if (agreed == 0) return Errc::no_such_peer;
    const auto packed = packer_.pack(message, agreed);
    return packed ? send_packed(to, *packed) : packed.error();
  }
  /// Queue `message`, encoded once for each version of the protocol that is in use and held once
  /// however many still have to be sent it, for many clients; return for how many. Those whose
  /// queue has no room are left out, and counted.
  template <schema::Sendable T>
  std::size_t send_to_all(const T& message) {
    return send_to_all_but(Peer{0}, message);
  }
  /// send_to_all(), but for `left_out`.
  template <schema::Sendable T>
  std::size_t send_to_all_but(Peer left_out, const T& message) {
    return send_to_many(everybody(), left_out, message);
  }
  /// send_to_all(), for these peers alone.
  template <schema::Sendable T>
  std::size_t send_to(std::span<const Peer> peers, const T& message) {
    return send_to_many(peers, Peer{0}, message);
  }
  /// send_to_all(), for the members of a room alone.
  template <schema::Sendable T>
  std::size_t send_to_room(const route::RoomKey& room, const T& message) {
    return send_to_many(rooms_.members(room), Peer{0}, message);
  }
  /// send_to_room(), but for `left_out`.
  template <schema::Sendable T>
  std::size_t send_to_room_but(const route::RoomKey& room, Peer left_out, const T& message) {
    return send_to_many(rooms_.members(room), left_out, message);
  }
  /// Who is in which room. A client that is gone is in none.
  [[nodiscard]] route::Rooms<Peer>& rooms() { return rooms_; }
  /// The same, to look at.
  [[nodiscard]] const route::Rooms<Peer>& rooms() const { return rooms_; }

  /// Queues what is encoded already, kind and all, for those of `peers` who have its version.
  std::size_t send_encoded(std::span<const Peer> peers, const PackedMessage& message);
  /// Lets `payload source` fill what is free in the next `datagrams` datagrams to a client, and
  /// reports to it what arrived: see Link::schedule_payload, and replica::ClientReplicator for one
  /// that keeps a world in step. It may be destroyed or moved at any time. false: no such client.
  bool schedule_payload(Peer to, link::PayloadSource* payload_source, std::size_t datagrams);

  /// Called with what a client's link::PayloadSource wrote, replica::InputSender for instance; the
  /// bytes are valid during the call. What it returns is counted among the drops if it is an error.
  /// One handler, nullptr removes it. Requires: there is none yet. Without one such payload is
  /// counted as payload_not_taken.
  void on_payload(
      std::function<Errc(Peer, std::span<const std::byte> payload, std::size_t bits)> handler);

  /// Hands an input of `from`, from replica::InputReceiver::next(), to the handlers of T as if it
  /// had come as a message of its own: the rate limit of T, check<T>, the tap and the count of
  /// faults apply. Requires: T is sent by clients. Errors: no_such_peer; closed; rate_limited;
  /// not_allowed and others of dispatching, all counted among the drops.
  template <schema::Message T>
  Errc take_input(Peer from, std::span<const std::byte> fields, std::size_t bits) {
    KWIND_ASSERT(comes_in(T::info()));
    return take_input(from, T::info(), fields, bits);
  }
  /// The same for a message type of this protocol that is known at run time only.
  Errc take_input(Peer from, const schema::MessageInfo& type, std::span<const std::byte> fields,
                  std::size_t bits) {
    KWIND_ASSERT(comes_in(type));
    return take_input_of(from, type.type, fields, bits);
  }

  /// Says which entities a client may name, replica::ClientReplicator::knows for instance: a ref in
  /// one of its messages to any other arrives empty, and is counted. Without it refs arrive as they
  /// are. Not to throw.
  void set_reference_filter(std::function<bool(Peer, const schema::AnyRef&)> knows);

  /// While paused, clients' messages do not reach handlers: reliable and ordered ones wait in their
  /// windows, others are dropped and counted as over_budget.
  void pause(bool paused);

  /// Adds a stage to the loop, borrowed until detach(); see LoopStage.
  void attach(LoopStage& stage);
  /// The stage is called no more.
  void detach(LoopStage& stage);

  /// Shows every message sent and received from now on, of `only` one client if given; nullptr
  /// ends it. May be set at any time but from within the tap.
  void set_tap(Tap tap, std::optional<Peer> only = {});

  /// Closes a connection after delivering its reliable and ordered messages. Unknown peers are
  /// ignored.
  void close(Peer peer, std::string_view reason);
  /// The same of all, and of those whose handshake is in flight.
  void close_all(std::string_view reason);

  /// For hosts that know messages at run time only: an answer to a client's request whose id is
  /// `number`, see route::RawMessage::request_id. Errors: those of send(), stray_answer.
  template <schema::Sendable T>
  Errc answer(Peer to, std::uint16_t number, const T& message) {
    return send_answer(request_id_of(to, number), message.info(),
                       [&](schema::Encoder& out) { encode(out, message); });
  }
  /// The same for requests: `settle` gets the answer's fields.
  template <schema::Sendable T>
  Errc request_any(Peer to, const T& request, Duration timeout,
                   const route::PendingRequests::Settle& settle) {
    const auto number = next_request_id(to);
    if (!number) return number.error();
    const auto packed = packer_.pack(request, version(to), *number);
    return packed ? request_packed(to, *packed, timeout, settle) : packed.error();
  }

  [[nodiscard]] std::vector<Peer> peers() const;  ///< in the order of their numbers
  [[nodiscard]] std::size_t connections() const;  ///< clients, those coming and going included
  /// A small number of a client, 1 to ServerOptions::capacity, that no other has meanwhile: what
  /// `peer` fields hold, so that a client is named in few bits. One that became free is used again
  /// after all others. 0 if there is no such client; still there in on_disconnect.
  [[nodiscard]] std::uint32_t slot(Peer peer) const;
  /// The version of the protocol agreed with a client; 0 if there is no such client.
  [[nodiscard]] std::uint16_t version(Peer peer) const;
  /// The digest of the code tables agreed with a client; 0: the built-in ones.
  [[nodiscard]] std::uint64_t code_tables(Peer peer) const;
  /// What its ticket says; nullptr if there is no such client, or no tickets are asked for.
  [[nodiscard]] const link::Claims* claims(Peer peer) const;
  /// Where its datagrams come from, for those who keep the server; nullptr if there is no such
  /// client. Other clients are sent nothing of it.
  [[nodiscard]] const Endpoint* address(Peer peer) const;
  /// Bytes of state that fit for a client until about the next tick; see Link::budget.
  [[nodiscard]] std::size_t budget(Peer peer) const;
  [[nodiscard]] const link::Stats* stats(Peer peer) const;  ///< nullptr if there is no such client
  /// Drops by cause since the server was made.
  [[nodiscard]] Counts counts() const;
  /// Datagrams and bytes since the server was made, of all connections.
  [[nodiscard]] Traffic traffic() const;

 private:
  struct Impl;
  class Responses;  // carries answers back
  using Pack = std::function<Result<PackedMessage>(std::uint16_t version)>;
  static bool comes_in(const schema::MessageInfo& info) {
    return info.direction != schema::Direction::from_server;
  }
  Errc send_packed(Peer to, const PackedMessage& message);
  Errc take_input_of(Peer from, std::uint16_t type, std::span<const std::byte> fields,
                     std::size_t bits);
  template <schema::Sendable T>
  std::size_t send_to_many(std::span<const Peer> peers, Peer left_out, const T& message) {
    KWIND_ASSERT(message.info().role == schema::MessageRole::message);
    return fan_out(peers, left_out,
                   [&](std::uint16_t version) { return packer_.pack(message, version); });
  }
  std::size_t fan_out(std::span<const Peer> peers, Peer left_out, const Pack& pack);
  [[nodiscard]] std::span<const Peer> everybody();
  [[nodiscard]] Result<std::uint16_t> next_request_id(Peer to) const;
  Errc request_packed(Peer to, const PackedMessage& request, Duration timeout,
                      route::PendingRequests::Settle settle);
  [[nodiscard]] route::RequestId request_id_of(Peer peer, std::uint16_t number) const;
  Errc send_answer(const route::RequestId& request_id, const schema::MessageInfo& info,
                   const std::function<void(schema::Encoder&)>& encode);
  void abandon(const route::RequestId& request_id, const schema::MessageInfo& info);

  const schema::ProtocolInfo& protocol_;
  route::Dispatcher<Peer> dispatcher_;
  MessagePacker packer_;
  route::Rooms<Peer> rooms_;
  route::Owners<Peer> owners_;
  std::shared_ptr<route::ResponseSink> responses_;
  std::unique_ptr<Impl> impl_;
};

}  // namespace kwind::host
