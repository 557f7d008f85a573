// The face of a server: receive and flush, handlers, requests, fan-out to many clients.
// server_impl.h has its state.
//
// Order of one turn, which the caller's loop repeats:
//   1. receive(): datagrams, timers, messages to handlers, ends, then key exchanges.
//   2. the game runs.
//   3. flush(): stages (replication) write into connections; what is queued goes out.
// Connections lie in `order`; `turns` beside it says which of them have something to do, so that a
// turn over a thousand idle clients reads a few kilobytes.
#include "kwind/host/server.h"

#include <algorithm>
#include <array>
#include <utility>

#include "host/server_impl.h"

namespace kwind::host {

class Server::Responses final : public route::ResponseSink {
 public:
  explicit Responses(Server& server) : server_(server) {}
  Errc send_answer(const route::RequestId& request_id, const schema::MessageInfo& info,
                   const std::function<void(schema::Encoder&)>& encode) override {
    return server_.send_answer(request_id, info, encode);
  }
  void abandon(const route::RequestId& request_id, const schema::MessageInfo& info) override {
    server_.abandon(request_id, info);
  }

 private:
  Server& server_;
};

Server::Server(Transport& transport, const schema::ProtocolInfo& protocol,
               const ServerOptions& options)
    : protocol_(protocol),
      dispatcher_(protocol.messages),
      packer_(protocol, schema::Direction::from_server, options.policy),
      rooms_([this](Peer peer) { return impl_->peer_table.has(peer); }),
      responses_(std::make_shared<Responses>(*this)),
      impl_(std::make_unique<Impl>(*this, transport, protocol, options)) {
  KWIND_ASSERT(options.receive_window >= link::kFirstWindowBytes);
  impl_->wire.guard = [this](const std::function<void()>& run) { impl_->run_guarded(run); };
  dispatcher_.owned_by(
      [this](Peer peer, const schema::AnyRef& entity) { return owners_.owns(peer, entity); });
}

// The links are closed, but nothing is sent any more: a server that wants its clients to hear of the
// end calls close_all() and goes on until they are gone.
Server::~Server() {
  // Open requests end as disconnected, and none can be made any more.
  // Closes all links first, so that no handler can send while the requests end.
  for (Connection* connection : impl_->order) {
    connection->session.link().close(impl_->last_now, error_info(Errc::closed_here).text);
  }
  for (std::size_t i = 0; i < impl_->order.size(); ++i) {
    Impl::Events events(*this, *impl_, *impl_->order[i]);
    impl_->order[i]->session.end_requests(events);
  }
}

void Server::on_connect(std::function<void(Peer)> handler) {
  impl_->on_connect.add(std::move(handler));
}
void Server::on_disconnect(std::function<void(Peer, Errc, std::string_view)> handler) {
  impl_->on_disconnect.add(std::move(handler));
}

void Server::on_resume(std::function<void(Peer)> handler) {
  impl_->on_resume.add(std::move(handler));
}

bool Server::schedule_payload(Peer to, link::PayloadSource* payload_source, std::size_t datagrams) {
  // Payloads are scheduled in the order of the peers: the search begins where it ended.
  Connection* connection = impl_->peer_table.find(impl_->offered, to);
  impl_->peer_table.prefetch_scheduled(impl_->offered);
  if (connection == nullptr) connection = impl_->find(to);  // no handler has seen it yet
  if (connection == nullptr) return false;
  impl_->touch(*connection);
  connection->session.link().schedule_payload(payload_source, datagrams);
  return true;
}
void Server::on_payload(
    std::function<Errc(Peer, std::span<const std::byte>, std::size_t)> handler) {
  KWIND_ASSERT(handler == nullptr || impl_->on_payload == nullptr);
  impl_->on_payload = std::move(handler);
}
void Server::set_reference_filter(std::function<bool(Peer, const schema::AnyRef&)> knows) {
  impl_->wire.knows_entity = nullptr;
  if (!knows) return;
  impl_->wire.knows_entity = [knows = std::move(knows)](std::uint32_t peer,
                                                        const schema::AnyRef& entity) {
    return knows(Peer{peer}, entity);
  };
}

void Server::attach(LoopStage& stage) {
  impl_->stages.push_back(&stage);
}
void Server::detach(LoopStage& stage) {
  std::erase(impl_->stages, &stage);
}

void Server::listen_on(Transport& another) {
  KWIND_ASSERT(impl_->wire.permits(another.local()));
  impl_->transports.push_back(&another);
}

// A turn of a transport takes so many datagrams, then it is the next one's: none keeps the others
// waiting.
void Server::Impl::take_datagrams(Time now) {
  constexpr std::size_t kTurn = 16;
  // Without a clock the number of datagrams alone bounds the turn.
  const Time end = options.clock ? options.clock() + options.receive_time : kNever;
  std::size_t left = options.receive_datagrams;
  std::size_t empty = 0;
  // Round robin: kTurn datagrams of one transport, then of the next. Ends after one round without
  // a datagram, after `receive_datagrams`, or after `receive_time`.
  while (left > 0 && empty < transports.size()) {
    const std::size_t at = next_port;
    next_port = (next_port + 1) % transports.size();
    std::size_t taken = 0;
    for (; taken < std::min(kTurn, left); ++taken) {
      const auto received = transports[at]->receive(now);
      if (!received) break;
      take_datagram(now, at, *received);
    }
    left -= taken;
    empty = taken == 0 ? empty + 1 : 0;
    if (options.clock && options.clock() >= end) return;
  }
}

// The order matters: datagrams first, then timers of those that are due, then ends. Key
// exchanges cost the most and come last, so that strangers do not delay those who play.
void Server::receive(Time now) {
  impl_->last_now = now;
  impl_->take_datagrams(now);
  for (Transport* transport : impl_->transports) impl_->on_ended(now, *transport);
  // Invariant: a connection that is not stirred and whose timer is not due costs one comparison.
  for (std::size_t i = 0; i < impl_->order.size(); ++i) {
    Impl::Turn& turn = impl_->turns[i];
    if (!turn.stirred && now < turn.wakeup) continue;
    turn = {turn.wakeup, true, false};
    Connection& connection = *impl_->order[i];
    connection.session.link().wake(now);
    impl_->drain(now, connection);
    impl_->expire_requests(now, connection);
    impl_->turns[i].wakeup = connection.session.next_wakeup();
  }
  if (impl_->some_leave) {
    impl_->discard_away(now);
    impl_->remove_closed();
    impl_->note_leaving();
  }
  impl_->exchange_keys(now);
  for (LoopStage* stage : impl_->stages) stage->after_receive(now, impl_->wire.guard);
  for (Transport* transport : impl_->transports)
    transport->flush(now);  // handshakes do not wait for a tick
}

// Stages first: what they schedule goes out now. Then those connections that have something to
// send, or whose timer is due.
void Server::flush(Time now) {
  impl_->last_now = now;
  for (LoopStage* stage : impl_->stages) stage->before_flush(now, impl_->wire.guard);
  std::vector<Connection*>& due = impl_->due;
  due.clear();
  for (std::size_t i = 0; i < impl_->order.size(); ++i) {
    if (impl_->turns[i].due(now)) due.push_back(impl_->order[i]);
  }
  // Prefetch_ahead() requests the memory of the connections that follow.
  for (std::size_t i = 0; i < due.size(); ++i) {
    prefetch_ahead(due, i, link::LinkUse::poll_datagram);
    Connection& connection = *due[i];
    Impl::Turn& turn = impl_->turns[connection.place];
    // Timers as they stood after the last send; what came since was woken for in receive().
    if (now >= turn.wakeup) connection.session.link().wake(now);
    connection.session.pump_out(now, *connection.transport, std::nullopt);
    // What ended here is reported by the next receive().
    const bool ended = connection.session.end_unreported();
    turn = {ended ? now : connection.session.next_wakeup(), false, ended};
  }
  for (Transport* transport : impl_->transports) transport->flush(now);
}

// O(connections), but each costs a comparison: their own timers were noted when they were last
// looked at.
Time Server::next_wakeup() const {
  Time next = impl_->listener.next_exchange();
  for (const Transport* transport : impl_->transports)
    next = std::min(next, transport->next_wakeup());
  for (const LoopStage* stage : impl_->stages) next = std::min(next, stage->next_wakeup());
  for (std::size_t i = 0; i < impl_->order.size(); ++i) {
    const Impl::Turn& turn = impl_->turns[i];
    next = std::min(next, turn.wakeup);
    if (turn.stirred) next = std::min(next, impl_->order[i]->session.next_wakeup());
  }
  if (!impl_->some_leave) return next;
  for (const Connection* connection : impl_->order) {
    if (connection->away && !connection->gone) next = std::min(next, connection->away_until);
  }
  return next;
}

Errc Server::send_packed(Peer to, const PackedMessage& message) {
  Connection* connection = impl_->find(to);
  if (connection == nullptr) return Errc::no_such_peer;
  impl_->touch(*connection);
  return connection->session.send(impl_->last_now, static_cast<std::uint32_t>(to), message);
}

Errc Server::take_input_of(Peer from, std::uint16_t type, std::span<const std::byte> fields,
                           std::size_t bits) {
  Connection* connection = impl_->find(from);
  if (connection == nullptr) return Errc::no_such_peer;
  impl_->touch(*connection);
  Impl::Events events(*this, *impl_, *connection);
  return connection->session.take_input(impl_->last_now, type, fields, bits, events);
}

std::span<const Peer> Server::everybody() {
  return impl_->peer_table.peers();
}

std::size_t Server::fan_out(std::span<const Peer> peers, Peer left_out, const Pack& pack) {
  // Taken out while it is used: a tap may send, too.
  std::vector<Connection*> chosen = std::exchange(impl_->chosen, {});
  chosen.clear();
  // They are mostly in order.
  std::size_t at = 0;
  // Peers that are unknown are left out, in silence: they have just ended.
  for (const Peer peer : peers) {
    Connection* const found = impl_->peer_table.find(at, peer);
    if (found != nullptr && peer != left_out) chosen.push_back(found);
  }
  std::size_t count = 0;
  std::size_t left = chosen.size();
  // One round for each version that somebody has; there is seldom more than one.
  // Invariant: chosen[0, first) is nullptr; each round takes out all connections of one version.
  for (std::size_t first = 0; left > 0; ++first) {
    if (chosen[first] == nullptr) continue;
    const std::uint16_t agreed = chosen[first]->session.link().version();
    const auto packed = agreed == 0 ? fail(Errc::closed) : pack(agreed);
    link::SharedBytes shared;
    if (packed) shared = impl_->shared.make(packed->bytes.first(bits::bytes_for(packed->bits)));
    for (std::size_t i = first; i < chosen.size(); ++i) {
      prefetch_ahead(chosen, i, link::LinkUse::send);
      // The bytes are shared: the queue of each connection holds a pointer to them.
      Connection* const connection = chosen[i];
      if (connection == nullptr || connection->session.link().version() != agreed) continue;
      chosen[i] = nullptr;
      --left;
      if (!packed) continue;
      impl_->touch(*connection);
      const Errc error = connection->session.send(
          impl_->last_now, static_cast<std::uint32_t>(connection->peer), *packed, shared);
      if (error == Errc::none) ++count;
    }
  }
  impl_->chosen = std::move(chosen);
  return count;
}

// The caller has encoded it for one version: peers of another one are left out.
std::size_t Server::send_encoded(std::span<const Peer> peers, const PackedMessage& message) {
  return fan_out(peers, Peer{0}, [&](std::uint16_t version) -> Result<PackedMessage> {
    if (version != message.version) return fail(Errc::unknown_to_peer);
    return message;
  });
}

// What the pause has delayed must not count against the rates of those who waited.
void Server::pause(bool paused) {
  // Rates are counted anew from the end of the pause.
  if (impl_->wire.paused && !paused) impl_->wire.unpaused_since = impl_->last_now;
  impl_->wire.paused = paused;
}

// ---- requests ----

Result<std::uint16_t> Server::next_request_id(Peer to) const {
  const Connection* connection = impl_->find(to);
  if (connection == nullptr) return fail(Errc::no_such_peer);
  return connection->session.next_request_id();
}

Errc Server::request_packed(Peer to, const PackedMessage& request, Duration timeout,
                            route::PendingRequests::Settle settle) {
  Connection* const connection = impl_->find(to);
  KWIND_ASSERT(connection != nullptr);
  impl_->touch(*connection);
  return connection->session.request(impl_->last_now, static_cast<std::uint32_t>(to), request,
                                     timeout, std::move(settle));
}

// The serial of the connection is a part of it: numbers of questions begin anew with each
// connection of a peer.
route::RequestId Server::request_id_of(Peer peer, std::uint16_t number) const {
  const Connection* const connection = impl_->find(peer);
  const std::uint64_t serial = connection == nullptr ? 0 : connection->admission.serial;
  return {static_cast<std::uint32_t>(peer), serial, number};
}

Errc Server::send_answer(const route::RequestId& request_id, const schema::MessageInfo& info,
                         const std::function<void(schema::Encoder&)>& encode) {
  const Peer to{request_id.peer};
  Connection* const connection = impl_->find(to);
  if (connection == nullptr) return Errc::no_such_peer;
  // The connection may be another one than the request's: then the answer is stray.
  if (connection->admission.serial != request_id.connection ||
      !connection->session.asks(info.type, request_id.number)) {
    return Errc::stray_answer;
  }
  const auto packed = packer_.pack_with(info, version(to), request_id.number, encode);
  if (!packed) return packed.error();
  const Errc error = send_packed(to, *packed);
  // Taken only after the answer was queued, so that a failed answer can be tried again.
  if (error == Errc::none) connection->session.take_request_id(info.type, request_id.number);
  return error;
}

// A Responder was dropped unanswered: an answer says so, and the asking end need not wait for its
// timeout.
void Server::abandon(const route::RequestId& request_id, const schema::MessageInfo& info) {
  const Peer to{request_id.peer};
  Connection* const connection = impl_->find(to);
  if (connection == nullptr || connection->admission.serial != request_id.connection ||
      !connection->session.take_request_id(info.type, request_id.number)) {
    return;
  }
  const auto packed = packer_.pack_abandoned(info, version(to), request_id.number);
  if (packed) (void)send_packed(to, *packed);  // if it cannot be sent, the asker's time runs out
}

void Server::start(route::Task task) {
  impl_->run_guarded([&] { task.start(); });
}

void Server::ready(Peer peer) {
  Connection* const connection = impl_->find(peer);
  if (connection == nullptr) return;
  impl_->touch(*connection);
  connection->session.set_ready(impl_->last_now);
}

void Server::set_tap(Tap tap, std::optional<Peer> only) {
  impl_->wire.tap = std::move(tap);
  impl_->wire.tap_peer.reset();
  if (only) impl_->wire.tap_peer = static_cast<std::uint32_t>(*only);
}

// Reliable messages that were sent before are delivered first.
void Server::close(Peer peer, std::string_view reason) {
  if (Connection* connection = impl_->find(peer)) {
    impl_->touch(*connection);
    connection->session.link().close(impl_->last_now, reason);
    // Of one that is away the link has ended: it is gone now, and may not come back.
    if (connection->away) impl_->send_close(*connection, Errc::closed_here, reason);
  }
}

// Handshakes that are under way are closed too, when they open.
void Server::close_all(std::string_view reason) {
  impl_->closed_all = Impl::ClosedAll{impl_->last_now, std::string(reason)};
  for (Connection* connection : impl_->order) {
    impl_->touch(*connection);
    connection->session.link().close(impl_->last_now, reason);
    if (connection->away) impl_->send_close(*connection, Errc::closed_here, reason);
  }
}

std::vector<Peer> Server::peers() const {
  const std::span<const Peer> here = impl_->peer_table.peers();
  return {here.begin(), here.end()};
}

std::size_t Server::connections() const {
  return impl_->order.size();
}

std::uint32_t Server::slot(Peer peer) const {
  const Connection* connection = impl_->find(peer);
  return connection == nullptr ? 0 : connection->slot;
}

std::uint16_t Server::version(Peer peer) const {
  const Connection* connection = impl_->find(peer);
  return connection == nullptr ? std::uint16_t{0} : connection->session.link().version();
}

std::uint64_t Server::code_tables(Peer peer) const {
  const Connection* connection = impl_->find(peer);
  return connection == nullptr ? 0 : connection->admission.code_tables_digest;
}

const link::Claims* Server::claims(Peer peer) const {
  const Connection* connection = impl_->find(peer);
  return connection == nullptr ? nullptr : connection->admission.claims.get();
}

const Endpoint* Server::address(Peer peer) const {
  const Connection* connection = impl_->find(peer);
  return connection == nullptr ? nullptr : &connection->session.link().peer();
}

std::size_t Server::budget(Peer peer) const {
  const Connection* connection = impl_->find(peer);
  return connection == nullptr ? 0 : connection->session.link().budget(impl_->last_now);
}

const link::Stats* Server::stats(Peer peer) const {
  const Connection* connection = impl_->find(peer);
  return connection == nullptr ? nullptr : &connection->session.link().stats();
}

// Connections that are gone have left their counts behind.
Counts Server::counts() const {
  Counts counts = impl_->wire.counts(dispatcher_.counts(), packer_);
  counts.drops.add(impl_->retired_drops);
  for (const Connection* connection : impl_->order) {
    counts.drops.add(connection->session.link().stats().drops);
  }
  return counts;
}

Traffic Server::traffic() const {
  Traffic traffic = impl_->retired;
  for (const Connection* connection : impl_->order) traffic.add(connection->session.link());
  return traffic;
}

}  // namespace kwind::host
