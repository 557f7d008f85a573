#include "kwind/host/server.h"

#include <algorithm>
#include <unordered_map>

#include "kwind/io/clock.h"
#include "kwind/link/listener.h"
#include "session.h"

namespace kwind::host {
namespace {

struct Connection {
  Peer peer;
  io::Port* port;
  link::Admission admission;
  Session session;
  bool announced = false;  // on_connect was called
  bool gone = false;       // on_disconnect was called, or never will be
  bool away = false;       // the connection broke, and the client may come back until then
  Time away_until{};
  bool forgotten = false;  // its place at the door is free again
  // An idle connection is looked at only when its time has come: a thousand of them cost little.
  bool touched = true;  // since its wake-up was asked for
  Time wakeup{};
  [[nodiscard]] bool due(Time now) const { return touched || now >= wakeup; }
};

}  // namespace

struct Server::Impl {
  Impl(io::Port& port_in, const schema::ProtocolInfo& protocol, const ServerOptions& options_in)
      : ports{&port_in},
        wire(protocol, schema::Direction::from_client, options_in),
        options(options_in),
        seed(seed_of(options)),
        listener(door(protocol)) {
    KWIND_ASSERT(wire.permits(port_in.local()));
  }

  link::ListenerOptions door(const schema::ProtocolInfo& protocol) const {
    KWIND_ASSERT(options.key.has_value() != options.clear_mode.has_value());
    link::ListenerOptions door{identity_of(protocol), seed, options.capacity, 0};
    door.key = options.key;
    door.aes = options.aes;
    door.gate = options.gate;
    door.unix_at_zero = options.unix_at_zero;
    door.comeback = options.comeback;
    return door;
  }

  // What a connection's events mean to this server.
  class Events final : public Session::Sink {
   public:
    Events(Impl& server, Connection& connection, route::Dispatcher<Peer>& dispatcher)
        : server_(server), connection_(connection), dispatcher_(dispatcher) {}
    void opened() override { server_.opened(connection_); }
    Errc message(std::uint16_t kind, const bits::Reader& fields, schema::Layout& layout) override {
      return dispatcher_.dispatch(kind, connection_.peer, fields, layout);
    }
    void closed(Errc code, std::string_view text) override {
      const bool broke = code == Errc::timeout || code == Errc::carrier_ended;
      if (broke && connection_.announced && server_.may_return()) {
        connection_.away = true;
        connection_.away_until = server_.last_now + server_.options.comeback;
        return;
      }
      const bool tell = connection_.announced && !connection_.gone;
      connection_.gone = true;
      if (tell && server_.on_disconnect) server_.on_disconnect(connection_.peer, code, text);
    }

   private:
    Impl& server_;
    Connection& connection_;
    route::Dispatcher<Peer>& dispatcher_;
  };

  Connection* find(Peer peer) {
    const auto found = by_peer.find(peer);
    return found == by_peer.end() ? nullptr : found->second.get();
  }

  void take_datagram(Time now, io::Port& port, const io::Received& received,
                     route::Dispatcher<Peer>& dispatcher) {
    if (!wire.permits(received.from)) return wire.drops.add(Errc::not_loopback);
    if (link::Listener::is_handshake(received.bytes)) return greet(now, port, received);
    const auto id = link::Listener::connection_of(received.bytes);
    if (!id) return wire.drops.add(id.error());
    const auto found = by_id.find(*id);
    if (found == by_id.end() || found->second->port != &port) {
      wire.drops.add(Errc::unknown_connection);
      std::array<std::byte, 32> reply{};
      reply_with(now, port, received.from, reply, listener.answer_unknown(received.bytes, reply));
      return;
    }
    Connection& connection = *found->second;
    connection.touched = true;
    // The link drops what does not open, and counts its drops.
    connection.session.link().receive_from(now, received.from, received.bytes);
    drain(now, connection, dispatcher);
  }

  // What the door says belongs to no link; it is counted with those that are gone.
  void reply_with(Time now, io::Port& port, const Endpoint& to, std::span<const std::byte> reply,
                  std::size_t bytes) {
    if (bytes == 0) return;
    ++retired.datagrams_sent;
    retired.bytes_sent += bytes;
    retired.overhead_bits_sent += bytes * 8;
    port.send(now, to, reply.first(bytes));
  }

  void greet(Time now, io::Port& port, const io::Received& received) {
    std::array<std::byte, link::kBaseDatagramBytes> reply{};
    const auto outcome =
        listener.receive(now, received.from, received.bytes, reply,
                         port.is_stream() ? link::Carrier::stream : link::Carrier::datagrams);
    if (outcome.error != Errc::none) wire.drops.add(outcome.error);
    reply_with(now, port, received.from, reply, outcome.reply_bytes);
    if (!outcome.admission) return;
    const Peer peer{++last_peer};
    auto made = std::make_unique<Connection>(Connection{
        peer, &port, *outcome.admission,
        Session(wire, link::Link::accept(*outcome.admission, received.from,
                                         link_options(wire.protocol, options, seed), now))});
    by_id[made->admission.id] = made.get();
    order.push_back(made.get());
    by_peer[peer] = std::move(made);
  }

  bool may_return() const { return options.comeback > Duration{0} && options.key.has_value(); }

  // The first datagram of a client opened: it exists for the game from now on.
  void opened(Connection& connection) {
    if (const Errc error = listener.opened(last_now, connection.admission.id);
        error != Errc::none) {
      connection.session.link().close(last_now, error_info(error).text);
      return;
    }
    if (!connection.admission.replaces) {
      connection.announced = true;
      if (on_connect) on_connect(connection.peer);
      return;
    }
    const auto old = std::find_if(order.begin(), order.end(), [&](const Connection* other) {
      return other->admission.id == *connection.admission.replaces && other->announced &&
             !other->gone;
    });
    connection.announced = true;
    if (old == order.end()) {  // its time was up while the handshake was under way
      if (on_connect) on_connect(connection.peer);
      return;
    }
    // The new connection is the old peer from now on; what is left of the old one ends unheard.
    Connection& before = **old;
    std::swap(by_peer[before.peer], by_peer[connection.peer]);
    std::swap(before.peer, connection.peer);
    before.gone = true;
    before.away = false;
    before.touched = true;
    before.session.link().close(last_now, error_info(Errc::replaced).text);
    if (on_return) on_return(connection.peer);
  }

  void drain(Time now, Connection& connection, route::Dispatcher<Peer>& dispatcher) {
    Events events(*this, connection, dispatcher);
    connection.session.drain(now, events);
  }

  // Streams that ended take their connections along.
  void hear_ended(Time now, io::Port& port, route::Dispatcher<Peer>& dispatcher) {
    while (const auto ended = port.take_ended()) {
      for (Connection* connection : order) {
        if (connection->port != &port || connection->session.link().peer() != *ended) continue;
        connection->touched = true;
        connection->session.link().carrier_ended(now);
        drain(now, *connection, dispatcher);
      }
    }
  }

  static bool is_closed(const Connection* connection) {
    return connection->gone && connection->session.link().state() == link::State::closed;
  }

  // Clients that did not come back in time.
  void give_up_away(Time now) {
    for (Connection* connection : order) {
      if (!connection->away || connection->gone || now < connection->away_until) continue;
      connection->gone = true;
      if (on_disconnect) {
        on_disconnect(connection->peer, Errc::timeout, error_info(Errc::timeout).text);
      }
    }
  }

  void remove_closed(Time now) {
    for (Connection* connection : order) {
      if (!connection->away || connection->forgotten) continue;
      connection->forgotten = true;
      listener.forget(now, connection->admission.id, true);
      by_id.erase(connection->admission.id);
    }
    if (std::none_of(order.begin(), order.end(), is_closed)) return;
    std::vector<Peer> peers;
    for (Connection* connection : order) {
      if (!is_closed(connection)) continue;
      retired.add(connection->session.link());
      retired_drops.add(connection->session.link().stats().drops);
      if (!connection->forgotten) {
        listener.forget(now, connection->admission.id);
        by_id.erase(connection->admission.id);
      }
      peers.push_back(connection->peer);
    }
    std::erase_if(order, is_closed);
    for (const Peer peer : peers) by_peer.erase(peer);
  }

  std::vector<io::Port*> ports;
  Wire wire;
  ServerOptions options;
  bits::Secret32 seed;
  link::Listener listener;
  std::unordered_map<Peer, std::unique_ptr<Connection>> by_peer;
  std::unordered_map<link::ConnectionId, Connection*> by_id;
  std::vector<Connection*> order;  // by peer
  std::uint32_t last_peer = 0;
  std::function<void(Peer)> on_connect;
  std::function<void(Peer)> on_return;
  std::function<void(Peer, Errc, std::string_view)> on_disconnect;
  Time last_now{};
  Traffic retired;
  CauseCounts retired_drops;
};

Server::Server(io::Port& port, const schema::ProtocolInfo& protocol, const ServerOptions& options)
    : protocol_(protocol),
      dispatcher_(protocol.messages.size()),
      packer_(protocol, schema::Direction::from_server, options.policy),
      impl_(std::make_unique<Impl>(port, protocol, options)) {}
Server::~Server() = default;

void Server::on_connect(std::function<void(Peer)> handler) {
  impl_->on_connect = std::move(handler);
}
void Server::on_disconnect(std::function<void(Peer, Errc, std::string_view)> handler) {
  impl_->on_disconnect = std::move(handler);
}

void Server::on_return(std::function<void(Peer)> handler) {
  impl_->on_return = std::move(handler);
}

void Server::serve(io::Port& another) {
  KWIND_ASSERT(impl_->wire.permits(another.local()));
  impl_->ports.push_back(&another);
}

void Server::receive(Time now) {
  impl_->last_now = now;
  for (io::Port* port : impl_->ports) {
    while (const auto received = port->receive(now)) {
      impl_->take_datagram(now, *port, *received, dispatcher_);
    }
    impl_->hear_ended(now, *port, dispatcher_);
  }
  for (std::size_t i = 0; i < impl_->order.size(); ++i) {
    Connection& connection = *impl_->order[i];
    if (!connection.due(now)) continue;
    connection.touched = true;
    connection.session.link().wake(now);
    impl_->drain(now, connection, dispatcher_);
  }
  impl_->give_up_away(now);
  impl_->remove_closed(now);
  for (io::Port* port : impl_->ports) port->flush(now);  // handshakes do not wait for a tick
}

void Server::send(Time now) {
  impl_->last_now = now;
  for (Connection* connection : impl_->order) {
    if (!connection->due(now)) continue;
    connection->session.pump_out(now, *connection->port, std::nullopt);
    connection->wakeup = connection->session.next_wakeup();
    connection->touched = false;
  }
  for (io::Port* port : impl_->ports) port->flush(now);
}

Time Server::next_wakeup() const {
  Time next = kNever;
  for (const io::Port* port : impl_->ports) next = std::min(next, port->next_wakeup());
  for (const Connection* connection : impl_->order) {
    next = std::min(next,
                    connection->touched ? connection->session.next_wakeup() : connection->wakeup);
    if (connection->away && !connection->gone) next = std::min(next, connection->away_until);
  }
  return next;
}

Errc Server::send_packed(Peer to, const PackedMessage& message) {
  Connection* connection = impl_->find(to);
  if (connection == nullptr) return Errc::no_such_peer;
  connection->touched = true;
  return connection->session.send(impl_->last_now, message);
}

std::size_t Server::send_packed_to_all_but(Peer left_out, const PackedMessage& message) {
  std::size_t count = 0;
  for (Connection* connection : impl_->order) {
    if (connection->peer == left_out || !connection->announced || connection->gone) continue;
    if (connection->session.link().version() != message.version) continue;
    connection->touched = true;
    if (connection->session.send(impl_->last_now, message) == Errc::none) ++count;
  }
  return count;
}

void Server::close(Peer peer, std::string_view reason) {
  if (Connection* connection = impl_->find(peer)) {
    connection->touched = true;
    connection->session.link().close(impl_->last_now, reason);
  }
}

void Server::close_all(std::string_view reason) {
  for (Connection* connection : impl_->order) {
    connection->touched = true;
    connection->session.link().close(impl_->last_now, reason);
  }
}

std::vector<Peer> Server::peers() const {
  std::vector<Peer> peers;
  for (const Connection* connection : impl_->order) {
    if (connection->announced && !connection->gone) peers.push_back(connection->peer);
  }
  return peers;
}

std::size_t Server::connections() const {
  return impl_->order.size();
}

std::uint16_t Server::version(Peer peer) const {
  const Connection* connection = impl_->find(peer);
  return connection == nullptr ? std::uint16_t{0} : connection->session.link().version();
}

bool Server::version_in_use(std::uint16_t version) const {
  return std::any_of(impl_->order.begin(), impl_->order.end(), [&](const Connection* connection) {
    return connection->announced && !connection->gone &&
           connection->session.link().version() == version;
  });
}

const link::Claims* Server::claims(Peer peer) const {
  const Connection* connection = impl_->find(peer);
  return connection == nullptr ? nullptr : connection->admission.claims.get();
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
  Counts counts{impl_->wire.drops, dispatcher_.counts(), packer_.out_of_range(),
                impl_->wire.sends_refused, packer_.unknown_to_peer()};
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
