// One connection of a client: events of the session to handlers, and reconnect() under handlers
// that stay.
#include "kwind/host/client.h"

#include <fmt/format.h>

#include "host/session.h"
#include "kwind/bits/reader.h"
#include "kwind/core/printable.h"
#include "kwind/io/clock.h"
#include "kwind/route/observers.h"

namespace kwind::host {
namespace {

// A client has one server, which it chose: it may send a mebibyte in a round trip on each channel.
constexpr std::size_t kReceiveWindow = link::kMaxMessageBytes + link::kFirstWindowBytes;

}  // namespace

// What the connection's events mean to this client.
class Client::Events final : public Session::Sink {
 public:
  explicit Events(Client& client) : client_(client) {}
  void opened() override;
  [[nodiscard]] bool listens(std::uint16_t type) const override {
    return client_.dispatcher_.listens(type);
  }
  Handled message(const route::RawMessage& message, schema::Layout& layout) override {
    const auto done = client_.dispatcher_.dispatch(FromServer{}, message, layout);
    return {done.error, done.faults, done.penalized, done.close};
  }
  unsigned guard(const route::RawMessage* message, const std::function<void()>& run) override {
    route::Dispatcher<FromServer>::Dispatched done;
    client_.dispatcher_.guard(FromServer{}, message, done, run);
    return done.faults;
  }
  [[nodiscard]] std::uint32_t peer() const override { return 0; }
  void closed(Errc code, std::string_view text) override;
  Errc filled(std::span<const std::byte> payload, std::size_t bits) override;

 private:
  Client& client_;
};

// State of one connection. reconnect() makes another one and moves the handlers over.
struct Client::Impl {
  Impl(Transport& port_in, const Endpoint& server_in, const schema::ProtocolInfo& protocol,
       const ClientOptions& options, Time now_in)
      : transport(port_in),
        server(server_in),
        wire(protocol, schema::Direction::from_server, options, options.tick_budget, 0),
        code_table_sets(options.code_table_sets),
        session(wire, connect(protocol, options, port_in, now_in)),
        now(now_in) {
    // An address may come from a player: it is an error that the game gets, not a fault of the
    // game.
    if (!wire.permits(server)) {
      session.link().close(now, error_info(Errc::not_loopback).text, Errc::not_loopback);
    }
  }

  // Starts the handshake. The seed gives the client's ephemeral key and nonces, and the link's own
  // secret is derived from the seed under a label of its own.
  static link::Link connect(const schema::ProtocolInfo& protocol, const ClientOptions& options,
                            const Transport& transport, Time now) {
    KWIND_ASSERT(options.server_key.has_value() != options.plaintext.has_value());
    const Secret32 seed = seed_of(options);
    return link::Link::connect(
        {identity_of(protocol, options), seed, options.server_key,
         transport.is_stream() ? link::TransportKind::stream : link::TransportKind::datagrams,
         options.aes, options.ticket, options.resume},
        link_options(protocol, options, schema::Direction::from_server, derive(seed, "link"),
                     kReceiveWindow),
        now);
  }

  Transport& transport;
  Endpoint server;
  Wire wire;
  std::vector<std::uint64_t> code_table_sets;
  Session session;
  route::Observers<> on_connect;
  route::Observers<Errc, std::string_view> on_disconnect;
  std::function<Errc(std::span<const std::byte>, std::size_t)> on_payload;
  std::vector<LoopStage*> stages;
  Time now;
};

// Gives answers of Responder objects back to this client. A Responder holds it weakly: one that
// outlives the client sends nothing.
class Client::Responses final : public route::ResponseSink {
 public:
  explicit Responses(Client& client) : client_(client) {}
  Errc send_answer(const route::RequestId& request_id, const schema::MessageInfo& info,
                   const std::function<void(schema::Encoder&)>& encode) override {
    return client_.send_answer(request_id.number, info, encode);
  }
  void abandon(const route::RequestId& request_id, const schema::MessageInfo& info) override {
    client_.abandon(request_id.number, info);
  }

 private:
  Client& client_;
};

Client::Client(Transport& transport, const Endpoint& server, const schema::ProtocolInfo& protocol,
               Time now, const ClientOptions& options)
    : protocol_(protocol),
      dispatcher_(protocol.messages),
      packer_(protocol, schema::Direction::from_client, options.policy),
      responses_(std::make_shared<Responses>(*this)),
      impl_(std::make_unique<Impl>(transport, server, protocol, options, now)) {
  impl_->wire.guard = [this](const std::function<void()>& run) {
    Events(*this).guard(nullptr, run);
  };
}
Client::~Client() {
  // Open requests end as disconnected, and none can be made any more.
  impl_->session.link().close(impl_->now, error_info(Errc::closed_here).text);
  Events events(*this);
  impl_->session.end_requests(events);
}

// Opaque payload of the server's replication. An error counts in the link, which shows that no handler
// took the payload.
Errc Client::Events::filled(std::span<const std::byte> payload, std::size_t bits) {
  Errc error = Errc::payload_not_taken;
  const auto report = [&] {
    if (client_.impl_->on_payload) error = client_.impl_->on_payload(payload, bits);
  };
  guard(nullptr, std::ref(report));  // by reference: a copy would be allocated
  return error;
}

// References in messages are looked up while they are decoded. A client has one server, so the
// number of the peer has no meaning here.
void Client::set_reference_filter(std::function<bool(const schema::AnyRef&)> knows) {
  impl_->wire.knows_entity = nullptr;
  if (!knows) return;
  impl_->wire.knows_entity = [knows = std::move(knows)](std::uint32_t,
                                                        const schema::AnyRef& entity) {
    return knows(entity);
  };
}

// One handler: two would each see half of a protocol that they do not share.
void Client::on_payload(std::function<Errc(std::span<const std::byte>, std::size_t)> handler) {
  KWIND_ASSERT(handler == nullptr || impl_->on_payload == nullptr);
  impl_->on_payload = std::move(handler);
}

void Client::schedule_payload(link::PayloadSource* payload_source, std::size_t datagrams) {
  impl_->session.link().schedule_payload(payload_source, datagrams);
}

// Handlers run one by one. One that throws is counted, and does not keep the others from running.
void Client::Events::opened() {
  client_.impl_->on_connect.each([&](const auto& handler) { guard(nullptr, handler); });
}
void Client::Events::closed(Errc code, std::string_view text) {
  client_.impl_->on_disconnect.each(
      [&](const auto& handler) { guard(nullptr, [&] { handler(code, text); }); });
}

// ---- requests ----

// Requests of a client go to its only server, which has the number 0 here.
Result<std::uint16_t> Client::next_request_id() const {
  return impl_->session.next_request_id();
}

Errc Client::request_packed(const PackedMessage& request, Duration timeout,
                            route::PendingRequests::Settle settle) {
  return impl_->session.request(impl_->now, 0, request, timeout, std::move(settle));
}

// The request stays open until its answer was accepted by the link: after an error such as
// queue_full the game may answer again.
Errc Client::send_answer(std::uint16_t number, const schema::MessageInfo& info,
                         const std::function<void(schema::Encoder&)>& encode) {
  if (version() == 0) return Errc::closed;
  if (!impl_->session.asks(info.type, number)) return Errc::stray_answer;
  const auto packed = packer_.pack_with(info, version(), number, encode);
  if (!packed) return packed.error();
  const Errc error = send_packed(*packed);
  if (error == Errc::none) impl_->session.take_request_id(info.type, number);
  return error;
}

// Answer number 0 and the request's number say to the other end that no answer will come.
void Client::abandon(std::uint16_t number, const schema::MessageInfo& info) {
  if (version() == 0 || !impl_->session.take_request_id(info.type, number)) return;
  const auto packed = packer_.pack_abandoned(info, version(), number);
  if (packed) (void)send_packed(*packed);  // if it cannot be sent, the asker's time runs out
}

// Runs code of the game that no message brought about: coroutines and timers.
void Client::run_guarded(const std::function<void()>& run) {
  Events(*this).guard(nullptr, run);
}

void Client::start(route::Task task) {
  run_guarded([&] { task.start(); });
}

// Stages run in the order in which they were attached, after receiving and before sending.
void Client::attach(LoopStage& stage) {
  impl_->stages.push_back(&stage);
}
void Client::detach(LoopStage& stage) {
  std::erase(impl_->stages, &stage);
}

// Handlers, hooks and stages move to the new connection; queues, requests and counts end with
// the old one.
void Client::reconnect(Transport& transport, const Endpoint& server, Time now,
                       const ClientOptions& options) {
  Events events(*this);
  if (!ended()) impl_->session.link().close(now, error_info(Errc::closed_here).text);
  impl_->session.end_requests(events);
  auto fresh = std::make_unique<Impl>(transport, server, protocol_, options, now);
  fresh->wire.guard = std::move(impl_->wire.guard);
  fresh->wire.knows_entity = std::move(impl_->wire.knows_entity);
  fresh->wire.tap = std::move(impl_->wire.tap);
  fresh->on_connect = std::move(impl_->on_connect);
  fresh->on_disconnect = std::move(impl_->on_disconnect);
  fresh->on_payload = std::move(impl_->on_payload);
  fresh->stages = std::move(impl_->stages);
  impl_ = std::move(fresh);
}

void Client::ready() {
  impl_->session.set_ready(impl_->now);
}

void Client::set_tap(Tap tap) {
  impl_->wire.tap = std::move(tap);
}

void Client::on_connect(std::function<void()> handler) {
  impl_->on_connect.add(std::move(handler));
}
void Client::on_disconnect(std::function<void(Errc, std::string_view)> handler) {
  impl_->on_disconnect.add(std::move(handler));
}

// Order: datagrams, the end of the transport, timers, requests that are late, stages. An answer
// that arrived in this call is in time, whatever its deadline was.
void Client::receive(Time now) {
  Impl& impl = *impl_;
  impl.now = now;
  Events events(*this);
  // A flood from elsewhere must not hold up the game: the rest waits for the next call.
  for (std::size_t i = 0; i < kMaxReceivedDatagrams; ++i) {
    const auto received = impl.transport.receive(now);
    if (!received) break;
    if (received->from != impl.server) {
      impl.wire.drops.add(Errc::unknown_connection);
      continue;
    }
    (void)impl.session.link().receive(now, received->bytes);  // counts its own drops
    impl.session.drain(now, events);
  }
  while (const auto ended = impl.transport.take_ended()) {
    if (*ended == impl.server) impl.session.link().transport_ended(now);
  }
  impl.session.link().wake(now);
  impl.session.drain(now, events);
  impl.session.expire_requests(now, events);
  for (LoopStage* stage : impl.stages) stage->after_receive(now, impl.wire.guard);
  impl.transport.flush(now);
}

// Stages come first, so that their payload leaves in this call.
void Client::flush(Time now) {
  impl_->now = now;
  for (LoopStage* stage : impl_->stages) stage->before_flush(now, impl_->wire.guard);
  if (now >= impl_->session.link().next_wakeup()) impl_->session.link().wake(now);
  impl_->session.pump_out(now, impl_->transport, impl_->server);
  impl_->transport.flush(now);
}

// A stage may want to be called although nothing arrives.
Time Client::next_wakeup() const {
  Time next = std::min(impl_->transport.next_wakeup(), impl_->session.next_wakeup());
  for (const LoopStage* stage : impl_->stages) next = std::min(next, stage->next_wakeup());
  return next;
}

// The packed bytes are copied into the channel's queue.
Errc Client::send_packed(const PackedMessage& message) {
  return impl_->session.send(impl_->now, 0, message);
}

void Client::close(std::string_view reason) {
  impl_->session.link().close(impl_->now, reason);
}

// State of the link, as the game names it.
bool Client::connected() const {
  return impl_->session.link().state() == link::State::open;
}
bool Client::ended() const {
  return impl_->session.link().state() == link::State::closed;
}
std::uint16_t Client::version() const {
  return impl_->session.link().version();
}
// The handshake agrees on an index in the list that this end offered; index 0 means built-in
// tables.
std::uint64_t Client::code_tables() const {
  const std::uint8_t place = impl_->session.link().code_tables();
  return place == 0 ? 0 : impl_->code_table_sets[place - 1U];
}
std::optional<link::ResumeToken> Client::resume() const {
  return impl_->session.link().resume();
}
bool Client::resumed() const {
  return impl_->session.link().resumed();
}
std::string_view Client::protection() const {
  return impl_->session.link().protection();
}
const link::Stats& Client::stats() const {
  return impl_->session.link().stats();
}

// Counts of messages are kept by the dispatcher and the packer, counts of datagrams by the link.
Counts Client::counts() const {
  Counts counts = impl_->wire.counts(dispatcher_.counts(), packer_);
  counts.drops.add(stats().drops);
  return counts;
}

Traffic Client::traffic() const {
  Traffic traffic;
  traffic.add(impl_->session.link());
  return traffic;
}

// The error's own text, then the other end's reason if that says more, then advice for the reader.
std::string explain_end(Errc code, std::string_view reason) {
  std::string_view advice;
  switch (code) {
    case Errc::handshake_timeout:
      advice = "check the address and port, that the server is running, and firewalls between";
      break;
    case Errc::schema_mismatch:
      advice = "build both ends from the same description; `kwind compare` lists the changes";
      break;
    case Errc::server_full: advice = "try again when somebody has left"; break;
    case Errc::protocol_name: advice = "connect to a server of the same game"; break;
    case Errc::state_version:
    case Errc::link_version: advice = "bring both ends to the same release"; break;
    case Errc::transport_ended:
      advice = "the server closed the stream, or nobody listens there; connect again";
      break;
    case Errc::timeout: advice = "the path or the server is down; connect again"; break;
    case Errc::wrong_key: advice = "ask for the server's present public key"; break;
    case Errc::mode_differs: advice = "encrypt on both ends, or choose plaintext on both"; break;
    case Errc::ticket_missing: advice = "log in, and bring the ticket"; break;
    case Errc::ticket_invalid:
    case Errc::ticket_expired:
    case Errc::ticket_used: advice = "log in again for a new ticket"; break;
    case Errc::resume_unknown: advice = "connect anew"; break;
    case Errc::server_restarted: advice = "connect anew"; break;
    case Errc::server_busy: advice = "try again in some seconds"; break;
    default: break;
  }
  std::string sentence(error_info(code).text);
  if (!reason.empty() && reason != sentence) sentence += fmt::format(" ({})", printable(reason));
  if (!advice.empty()) sentence += fmt::format("; {}", advice);
  return sentence;
}

}  // namespace kwind::host
