#include "kwind/host/server.h"

#include <algorithm>
#include <array>
#include <deque>
#include <unordered_map>
#include <utility>

#include "host/peer_table.h"
#include "kwind/io/clock.h"
#include "kwind/link/listener.h"
#include "kwind/route/observers.h"

namespace kwind::host {
namespace {
constexpr std::size_t kMaxIds = 65536;
}  // namespace

struct Server::Impl {
  Impl(Server& host_in, Transport& port_in, const schema::ProtocolInfo& protocol,
       const ServerOptions& options_in)
      : host(host_in),
        transports{&port_in},
        wire(protocol, schema::Direction::from_client, options_in, options_in.tick_budget,
             options_in.max_faults),
        options(options_in),
        drawn_from(seed_of(options)),
        listener(door(protocol)) {
    KWIND_ASSERT(wire.permits(port_in.local()));
  }

  // A secret of its own for each use; the one that it was drawn from is gone then.
  Secret32 draw(std::string_view label) {
    const Secret32 drawn = derive(drawn_from, label);
    drawn_from = derive(drawn_from, "next");
    return drawn;
  }

  link::ListenerOptions door(const schema::ProtocolInfo& protocol) {
    KWIND_ASSERT(options.key.has_value() != options.plaintext.has_value());
    link::ListenerOptions door{identity_of(protocol, options), draw("door"), options.capacity, 0};
    door.exchanges = options.exchanges;
    // Ids have 16 bits for both, and one to spare.
    KWIND_ASSERT(options.capacity < kMaxIds);
    door.attempts = std::clamp<std::size_t>(options.attempts, 1, kMaxIds - options.capacity);
    door.handshake_timeout = options.timeouts.handshake;
    door.key = options.key;
    door.aes = options.aes;
    door.gate = options.gate;
    door.unix_now = options.unix_now ? options.unix_now : io::unix_now;
    door.resume = options.resume;
    return door;
  }

  // What a connection's events mean to this server.
  class Events final : public Session::Sink {
   public:
    Events(Server& host, Impl& server, Connection& connection)
        : host_(host), server_(server), connection_(connection) {}
    void opened() override { server_.opened(connection_); }
    [[nodiscard]] bool listens(std::uint16_t type) const override {
      return host_.dispatcher_.listens(type);
    }
    Handled message(const route::RawMessage& message, schema::Layout& layout) override {
      const auto done = host_.dispatcher_.dispatch(connection_.peer, message, layout);
      return {done.error, done.faults, done.penalized, done.close};
    }
    unsigned guard(const route::RawMessage* message, const std::function<void()>& run) override {
      route::Dispatcher<Peer>::Dispatched done;
      host_.dispatcher_.guard(connection_.peer, message, done, run);
      return done.faults;
    }
    [[nodiscard]] std::uint32_t peer() const override {
      return static_cast<std::uint32_t>(connection_.peer);
    }
    Errc filled(std::span<const std::byte> payload, std::size_t bits) override {
      Errc error = Errc::payload_not_taken;
      const auto hear = [&] {
        if (server_.on_payload) error = server_.on_payload(connection_.peer, payload, bits);
      };
      guard(nullptr, std::ref(hear));  // by reference: a copy would be allocated
      return error;
    }
    void closed(Errc code, std::string_view text) override {
      const bool broke = code == Errc::timeout || code == Errc::transport_ended;
      if (broke && connection_.announced && server_.may_resume()) {
        connection_.away = true;
        connection_.away_until = server_.last_now + server_.options.resume;
        server_.some_leave = true;
        return;
      }
      server_.send_close(connection_, code, text);
    }

   private:
    Server& host_;
    Impl& server_;
    Connection& connection_;
  };

  // Clients that are away keep their slots until somebody needs them: so many exist for the game
  // that all slots are within the capacity.
  std::uint32_t take_slot() {
    if (last_slot < options.capacity) return ++last_slot;
    if (free_slots.empty()) {
      Connection* longest = nullptr;
      for (Connection* connection : order) {
        if (!connection->away || connection->gone) continue;
        if (longest == nullptr || connection->away_until < longest->away_until) {
          longest = connection;
        }
      }
      KWIND_ASSERT(longest != nullptr);  // the door lets no more in than are not away
      send_close(*longest, Errc::timeout, error_info(Errc::timeout).text);
    }
    const std::uint32_t slot = free_slots.front();
    free_slots.pop_front();
    return slot;
  }

  // The game hears that a client is gone, once, and can still see where it was.
  void send_close(Connection& connection, Errc code, std::string_view text) {
    if (connection.gone) return;
    connection.gone = true;
    some_leave = true;
    listener.revoke(connection.admission);  // a discarded client cannot resume
    if (!connection.announced) return;
    peer_table.remove(connection.peer);
    on_disconnect.each(
        [&](const auto& handler) { run_guarded([&] { handler(connection.peer, code, text); }); });
    // One by one: what a hook throws keeps it in no other room.
    while (!host.rooms_.rooms_of(connection.peer).empty()) {
      run_guarded([&] {
        host.rooms_.leave(connection.peer, host.rooms_.rooms_of(connection.peer).back());
      });
    }
    host.owners_.take_all(connection.peer);
    free_slots.push_back(std::exchange(connection.slot, 0));
  }
  void announce(Connection& connection) {
    connection.announced = true;
    connection.slot = take_slot();
    peer_table.add(connection);
    on_connect.each([&](const auto& handler) { run_guarded([&] { handler(connection.peer); }); });
  }
  // Game code that no message brought about.
  template <class Run>
  void run_guarded(const Run& run) {
    route::Dispatcher<Peer>::Dispatched done;
    host.dispatcher_.guard(Peer{0}, nullptr, done, run);
  }

  Connection* find(Peer peer) {
    const auto found = by_peer.find(peer);
    return found == by_peer.end() ? nullptr : found->second.get();
  }

  void take_datagram(Time now, std::size_t at_port, const ReceivedDatagram& received) {
    Transport& transport = *transports[at_port];
    if (!wire.permits(received.from)) return wire.drops.add(Errc::not_loopback);
    if (link::Listener::is_lost(received.bytes)) return on_lost(now, transport, received);
    if (link::Listener::is_handshake(received.bytes)) return greet(now, at_port, received);
    const auto id = link::Listener::connection_of(received.bytes);
    if (!id) return wire.drops.add(id.error());
    const auto found = by_id.find(*id);
    Connection* connection = found == by_id.end() ? nullptr : found->second;
    if (connection == nullptr) {
      auto admitted = listener.admit(now, at_port, received.bytes);
      if (admitted && admitted->error != Errc::none) {
        wire.drops.add(admitted->error);
        return turn_away(now, transport, admitted->admission, received,
                         error_info(admitted->error).text, admitted->error);
      }
      if (admitted && closed_all && admitted->admission.answered <= closed_all->at) {
        listener.forget(now, admitted->admission);
        return turn_away(now, transport, admitted->admission, received, closed_all->reason,
                         Errc::closed_here);
      }
      if (admitted) connection = &add(transport, std::move(admitted->admission));
    }
    if (connection == nullptr || connection->transport != &transport) {
      wire.drops.add(Errc::unknown_connection);
      transport.end(received.from);  // a stream has no business with it
      return;
    }
    touch(*connection);
    // The link drops what does not open, and counts its drops.
    (void)connection->session.link().receive_from(now, received.from, received.bytes);
    drain(now, *connection);
  }

  // A client that hears nothing: of a connection that is here it will hear.
  void on_lost(Time now, Transport& transport, const ReceivedDatagram& received) {
    const auto id = link::Listener::lost_connection(received.bytes);
    if (!id) return wire.drops.add(id.error());
    if (by_id.contains(*id)) return;
    wire.drops.add(Errc::unknown_connection);
    std::array<std::byte, 32> reply{};
    reply_with(now, transport, received.from, reply, listener.reply_to_lost(received.bytes, reply));
  }

  // The link takes the keys.
  link::Link link_of(link::Admission& admission) {
    link::Link made = link::Link::accept(
        admission, admission.from,
        link_options(wire.protocol, options, schema::Direction::from_client, draw("link")),
        admission.answered);
    admission.agreed.reset();
    return made;
  }

  Connection& add(Transport& transport, link::Admission admission) {
    const Peer peer{++last_peer};
    link::Link made_link = link_of(admission);
    auto made =
        std::make_unique<Connection>(Connection{.peer = peer,
                                                .transport = &transport,
                                                .place = order.size(),
                                                .session = Session(wire, std::move(made_link)),
                                                .admission = std::move(admission)});
    Connection& connection = *made;
    by_id[connection.admission.id] = made.get();
    transport.keep(connection.admission.from);
    if (transport.is_stream()) by_stream.emplace(connection.admission.from, made.get());
    order.push_back(made.get());
    turns.emplace_back();
    by_peer[peer] = std::move(made);
    return connection;
  }

  // The client gets the cause once; no connection is made.
  void turn_away(Time now, Transport& transport, link::Admission& admission,
                 const ReceivedDatagram& received, std::string_view reason, Errc code) {
    link::Link link = link_of(admission);
    (void)link.receive_from(now, received.from, received.bytes);
    link.close(now, reason, code);
    std::array<std::byte, link::kMaxDatagramBytes> out;  // NOLINT: written before it is read
    const std::size_t size = link.poll_datagram(now, out);
    reply_with(now, transport, link.destination(), out, size);
    transport.end(received.from);
  }

  // What the door says belongs to no link; it is counted with those that are gone.
  void reply_with(Time now, Transport& transport, const Endpoint& to,
                  std::span<const std::byte> reply, std::size_t bytes) {
    if (bytes == 0) return;
    ++retired.datagrams_sent;
    retired.bytes_sent += bytes;
    retired.overhead_bits_sent += bytes * 8;
    transport.send(now, to, reply.first(bytes));
  }

  void greet(Time now, std::size_t at_port, const ReceivedDatagram& received) {
    Transport& transport = *transports[at_port];
    std::array<std::byte, link::kBaseDatagramBytes> reply{};
    const auto outcome = listener.receive(now, received.from, received.bytes, reply,
                                          transport_kind_of(transport), at_port);
    if (outcome.error != Errc::none) wire.drops.add(outcome.error);
    reply_with(now, transport, received.from, reply, outcome.reply_bytes);
    // A stream brings one good offer, or ends.
    if (outcome.error != Errc::none) transport.end(received.from);
  }
  static link::TransportKind transport_kind_of(const Transport& transport) {
    return transport.is_stream() ? link::TransportKind::stream : link::TransportKind::datagrams;
  }

  // Connects that wait for their key exchange, as the rate permits.
  void exchange_keys(Time now) {
    std::array<std::byte, link::kBaseDatagramBytes> reply{};
    while (const auto done = listener.exchange(now, reply)) {
      if (done->error != Errc::none) wire.drops.add(done->error);
      reply_with(now, *transports[done->transport_index], done->to, reply, done->reply_bytes);
      if (done->error != Errc::none) transports[done->transport_index]->end(done->to);
    }
  }

  bool may_resume() const { return options.resume > Duration{0} && options.key.has_value(); }

  // The first datagram of a client opened: it exists for the game from now on.
  void opened(Connection& connection) {
    if (!connection.admission.replaces) return announce(connection);
    const auto old = std::find_if(order.begin(), order.end(), [&](const Connection* other) {
      return other->admission.serial == *connection.admission.replaces && other->announced &&
             !other->gone;
    });
    // If not: its time was up while the handshake was under way.
    if (old == order.end()) return announce(connection);
    connection.announced = true;
    // The new connection is the old peer from now on; what is left of the old one ends unhandled.
    Connection& before = **old;
    connection.slot = std::exchange(before.slot, 0);
    std::swap(by_peer[before.peer], by_peer[connection.peer]);
    std::swap(before.peer, connection.peer);
    peer_table.replace(connection);
    before.gone = true;
    before.away = false;
    before.session.drop_waiting();
    some_leave = true;
    touch(before);
    before.session.link().close(last_now, error_info(Errc::replaced).text);
    on_resume.each([&](const auto& handler) { run_guarded([&] { handler(connection.peer); }); });
  }

  void drain(Time now, Connection& connection) {
    Events events(host, *this, connection);
    connection.session.drain(now, events);
  }
  void expire_requests(Time now, Connection& connection) {
    Events events(host, *this, connection);
    connection.session.expire_requests(now, events);
  }

  // Streams that ended take their connections along.
  void on_ended(Time now, Transport& transport) {
    while (const auto ended = transport.take_ended()) {
      const auto [first, last] = by_stream.equal_range(*ended);
      for (auto each = first; each != last; ++each) {
        Connection& connection = *each->second;
        if (connection.transport != &transport) continue;
        touch(connection);
        connection.session.link().transport_ended(now);
        drain(now, connection);
      }
    }
  }
  void drop_stream(const Connection& connection) {
    if (!connection.transport->is_stream()) return;
    const auto [first, last] = by_stream.equal_range(connection.admission.from);
    for (auto each = first; each != last; ++each) {
      if (each->second != &connection) continue;
      by_stream.erase(each);
      break;
    }
    connection.transport->end(connection.admission.from);
  }

  static bool is_closed(const Connection* connection) {
    return connection->gone && connection->session.link().state() == link::State::closed;
  }

  // Clients that did not come back in time.
  void discard_away(Time now) {
    for (Connection* connection : order) {
      if (!connection->away || connection->gone || now < connection->away_until) continue;
      send_close(*connection, Errc::timeout, error_info(Errc::timeout).text);
    }
  }

  void remove_closed(Time now) {
    for (Connection* connection : order) {
      if (!connection->away || connection->forgotten) continue;
      connection->forgotten = true;
      listener.forget(now, connection->admission, !connection->gone);
      by_id.erase(connection->admission.id);
    }
    if (std::none_of(order.begin(), order.end(), is_closed)) return;
    std::vector<Peer> peers;
    std::size_t kept = 0;
    for (std::size_t i = 0; i < order.size(); ++i) {
      Connection* const connection = order[i];
      if (!is_closed(connection)) {
        connection->place = kept;
        turns[kept] = turns[i];
        order[kept++] = connection;
        continue;
      }
      retired.add(connection->session.link());
      retired_drops.add(connection->session.link().stats().drops);
      if (!connection->forgotten) {
        listener.forget(now, connection->admission);
        by_id.erase(connection->admission.id);
      }
      drop_stream(*connection);
      peers.push_back(connection->peer);
    }
    order.resize(kept);
    turns.resize(kept);
    for (const Peer peer : peers) by_peer.erase(peer);
  }

  void consume(Time now);
  void touch(const Connection& connection) {
    turns[connection.place].touched = turns[connection.place].stirred = true;
  }
  // Whether any is on its way out: otherwise nobody has to be looked for.
  bool note_leaving() {
    return some_leave = std::any_of(order.begin(), order.end(), [](const Connection* connection) {
             return connection->gone || connection->away;
           });
  }

  Server& host;
  std::vector<Transport*> transports;
  std::size_t next_port = 0;  // whose turn it is
  Wire wire;
  ServerOptions options;
  Secret32 drawn_from;
  link::Listener listener;
  std::unordered_map<Peer, std::unique_ptr<Connection>> by_peer;
  std::unordered_map<link::ConnectionId, Connection*> by_id;
  std::unordered_multimap<Endpoint, Connection*> by_stream;  // where it comes from
  // An idle connection is looked at only when its time has come: a thousand of them cost little.
  struct Turn {
    Time wakeup{};
    bool touched = true;  // since it was last sent for
    bool stirred = true;  // since it was last woken
    [[nodiscard]] bool due(Time now) const { return touched || now >= wakeup; }
  };
  std::vector<Connection*> order;  // by peer
  std::vector<Turn> turns;         // of those in order
  bool some_leave = false;
  // Handshakes that were under way when all connections were closed end as those did.
  struct ClosedAll {
    Time at;
    std::string reason;
  };
  std::optional<ClosedAll> closed_all;
  std::uint32_t last_peer = 0;
  std::uint32_t last_slot = 0;           // given out so far
  std::deque<std::uint32_t> free_slots;  // given out before, free the longest first
  PeerTable peer_table;
  std::size_t offered = 0;  // place behind the one that was last offered to fill for
  link::SharedBytesPool shared;
  std::vector<Connection*> chosen;  // scratch of fan_out
  std::vector<Connection*> due;     // scratch of send
  route::Observers<Peer> on_connect;
  route::Observers<Peer> on_resume;
  route::Observers<Peer, Errc, std::string_view> on_disconnect;
  std::function<Errc(Peer, std::span<const std::byte>, std::size_t)> on_payload;
  std::vector<LoopStage*> stages;
  Time last_now{};
  Traffic retired;
  CauseCounts retired_drops;
};

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
  impl_->wire.guard = [this](const std::function<void()>& run) { impl_->run_guarded(run); };
  dispatcher_.owned_by(
      [this](Peer peer, const schema::AnyRef& entity) { return owners_.owns(peer, entity); });
}

Server::~Server() {
  // Open requests end as disconnected, and none can be made any more.
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
  Connection* connection = impl_->peer_table.find(impl_->offered, to);
  impl_->peer_table.prefetch_scheduled(impl_->offered);
  if (connection == nullptr) connection = impl_->find(to);  // nobody has heard of it yet
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

// A turn of a port takes so many datagrams, then it is the next one's: none keeps the others
// waiting.
void Server::Impl::consume(Time now) {
  constexpr std::size_t kTurn = 16;
  const Time end = options.clock ? options.clock() + options.receive_time : kNever;
  std::size_t left = options.receive_datagrams;
  std::size_t empty = 0;
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

void Server::receive(Time now) {
  impl_->last_now = now;
  impl_->consume(now);
  for (Transport* transport : impl_->transports) impl_->on_ended(now, *transport);
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
    impl_->remove_closed(now);
    impl_->note_leaving();
  }
  impl_->exchange_keys(now);
  for (LoopStage* stage : impl_->stages) stage->after_receive(now, impl_->wire.guard);
  for (Transport* transport : impl_->transports)
    transport->flush(now);  // handshakes do not wait for a tick
}

void Server::flush(Time now) {
  impl_->last_now = now;
  for (LoopStage* stage : impl_->stages) stage->before_flush(now, impl_->wire.guard);
  std::vector<Connection*>& due = impl_->due;
  due.clear();
  for (std::size_t i = 0; i < impl_->order.size(); ++i) {
    if (impl_->turns[i].due(now)) due.push_back(impl_->order[i]);
  }
  for (std::size_t i = 0; i < due.size(); ++i) {
    prefetch_ahead(due, i, link::Link::Use::poll_datagram);
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
  for (const Peer peer : peers) {
    Connection* const found = impl_->peer_table.find(at, peer);
    if (found != nullptr && peer != left_out) chosen.push_back(found);
  }
  std::size_t count = 0;
  std::size_t left = chosen.size();
  // One round for each version that somebody has; there is seldom more than one.
  for (std::size_t first = 0; left > 0; ++first) {
    if (chosen[first] == nullptr) continue;
    const std::uint16_t agreed = chosen[first]->session.link().version();
    const auto packed = agreed == 0 ? fail(Errc::closed) : pack(agreed);
    link::SharedBytes shared;
    if (packed) shared = impl_->shared.make(packed->bytes.first(bits::bytes_for(packed->bits)));
    for (std::size_t i = first; i < chosen.size(); ++i) {
      prefetch_ahead(chosen, i, link::Link::Use::send);
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

std::size_t Server::send_encoded(std::span<const Peer> peers, const PackedMessage& message) {
  return fan_out(peers, Peer{0}, [&](std::uint16_t version) -> Result<PackedMessage> {
    if (version != message.version) return fail(Errc::unknown_to_peer);
    return message;
  });
}

void Server::pause(bool paused) {
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
  if (connection->admission.serial != request_id.connection ||
      !connection->session.asks(info.type, request_id.number)) {
    return Errc::stray_answer;
  }
  const auto packed = packer_.pack_with(info, version(to), request_id.number, encode);
  if (!packed) return packed.error();
  const Errc error = send_packed(to, *packed);
  if (error == Errc::none) connection->session.take_request_id(info.type, request_id.number);
  return error;
}

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

void Server::close(Peer peer, std::string_view reason) {
  if (Connection* connection = impl_->find(peer)) {
    impl_->touch(*connection);
    connection->session.link().close(impl_->last_now, reason);
    // Of one that is away the link has ended: it is gone now, and may not come back.
    if (connection->away) impl_->send_close(*connection, Errc::closed_here, reason);
  }
}

void Server::close_all(std::string_view reason) {
  impl_->closed_all = Impl::ClosedAll{impl_->last_now, std::string(reason)};
  for (Connection* connection : impl_->order) {
    impl_->touch(*connection);
    connection->session.link().close(impl_->last_now, reason);
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

Counts Server::counts() const {
  Counts counts{impl_->wire.drops,         dispatcher_.counts(),      packer_.out_of_range(),
                impl_->wire.sends_refused, packer_.unknown_to_peer(), packer_.packed(),
                impl_->wire.refs_emptied};
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
