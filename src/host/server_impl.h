// The inside of a Server: its connections with their stages and turns, key exchanges, clients that
// may resume, and the events of sessions. server.cpp is the face.
#pragma once
#include <algorithm>
#include <array>
#include <deque>
#include <unordered_map>
#include <utility>

#include "host/peer_table.h"
#include "kwind/host/server.h"
#include "kwind/io/clock.h"
#include "kwind/link/listener.h"
#include "kwind/route/observers.h"

namespace kwind::host {

/// Connection ids have 16 bits for the slot.
inline constexpr std::size_t kMaxIds = 65536;

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
      const auto report = [&] {
        if (server_.on_payload) error = server_.on_payload(connection_.peer, payload, bits);
      };
      guard(nullptr, std::ref(report));  // by reference: a copy would be allocated
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

  // The game is called once when a client is gone, and can still see where it was.
  void send_close(Connection& connection, Errc code, std::string_view text) {
    if (connection.gone) return;
    connection.gone = true;
    some_leave = true;
    listener.revoke(connection.admission);  // a discarded client cannot resume
    vacate(connection);
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
  // Frees the place of a connection that ended. Clients that break rules and come again at once
  // could fill the server with connections that drain: where there are too many, the oldest ends.
  void vacate(Connection& connection) {
    if (connection.forgotten || listener.vacate(connection.admission)) return;
    const auto oldest = std::find_if(order.begin(), order.end(), [](const Connection* other) {
      return other->admission.vacated && !other->forgotten;
    });
    KWIND_ASSERT(oldest != order.end());
    (*oldest)->session.link().stop_draining();
    forget(**oldest);
    (void)listener.vacate(connection.admission);
  }
  // The id of a connection that is over is free for another one.
  void forget(Connection& connection, bool may_resume = false) {
    connection.forgotten = true;
    listener.forget(last_now, connection.admission, may_resume);
    by_id.erase(connection.admission.id);
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
    touch(*connection);  // dropped or not: the next flush() begins a new budget
    if (!transport.is_stream() && !connection->session.charge_datagram()) return;
    // The link drops what does not open, and counts its drops.
    (void)connection->session.link().receive_from(now, received.from, received.bytes);
    drain(now, *connection);
  }

  // A client that receives nothing: a connection that exists answers it.
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
    link::Link made =
        link::Link::accept(admission, admission.from,
                           link_options(wire.protocol, options, schema::Direction::from_client,
                                        draw("link"), options.receive_window),
                           admission.answered);
    admission.agreed.reset();
    return made;
  }

  Connection& add(Transport& transport, link::Admission admission) {
    // After 2^32 connections numbers come again: not those that are in use.
    do {
      ++last_peer;
    } while (last_peer == 0 || by_peer.contains(Peer{last_peer}));
    const Peer peer{last_peer};
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
    if (transport.has_connections()) by_address.emplace(connection.admission.from, made.get());
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
    // If not: its time was up while the handshake was in flight.
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

  // Streams and sessions that ended take their connections along.
  void on_ended(Time now, Transport& transport) {
    while (const auto ended = transport.take_ended()) {
      const auto [first, last] = by_address.equal_range(*ended);
      for (auto each = first; each != last; ++each) {
        Connection& connection = *each->second;
        if (connection.transport != &transport) continue;
        touch(connection);
        connection.session.link().transport_ended(now);
        drain(now, connection);
      }
    }
  }
  void end_transport(const Connection& connection) {
    if (!connection.transport->has_connections()) return;
    const auto [first, last] = by_address.equal_range(connection.admission.from);
    for (auto each = first; each != last; ++each) {
      if (each->second != &connection) continue;
      by_address.erase(each);
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

  void remove_closed() {
    for (Connection* connection : order) {
      if (connection->away && !connection->forgotten) forget(*connection, !connection->gone);
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
      if (!connection->forgotten) forget(*connection);
      end_transport(*connection);
      peers.push_back(connection->peer);
    }
    order.resize(kept);
    turns.resize(kept);
    for (const Peer peer : peers) by_peer.erase(peer);
  }

  void take_datagrams(Time now);
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
  // Of transports that have connections of their own: where the client comes from.
  std::unordered_multimap<Endpoint, Connection*> by_address;
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
  // Handshakes that were in flight when all connections were closed end as those did.
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

}  // namespace kwind::host
