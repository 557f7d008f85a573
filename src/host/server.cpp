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
  link::ConnectionId id;
  Endpoint from;
  Session session;
  bool announced = false;  // on_connect was called
  bool gone = false;       // on_disconnect was called, or never will be
};

}  // namespace

struct Server::Impl {
  Impl(io::Port& port_in, const schema::ProtocolInfo& protocol, const ServerOptions& options)
      : port(port_in),
        wire(protocol, schema::Direction::from_client, options),
        listener({identity_of(protocol), options.entropy ? *options.entropy : io::entropy(),
                  options.capacity, 0}) {
    KWIND_ASSERT(wire.permits(port.local()));
  }

  // What a connection's events mean to this server.
  class Events final : public Session::Sink {
   public:
    Events(Impl& server, Connection& connection, route::Dispatcher<Peer>& dispatcher)
        : server_(server), connection_(connection), dispatcher_(dispatcher) {}
    void opened() override {
      connection_.announced = true;
      if (server_.on_connect) server_.on_connect(connection_.peer);
    }
    Errc message(std::uint16_t kind, const bits::Reader& fields, schema::Layout& layout) override {
      return dispatcher_.dispatch(kind, connection_.peer, fields, layout);
    }
    void closed(Errc code, std::string_view text) override {
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

  void take_datagram(Time now, const io::Received& received, route::Dispatcher<Peer>& dispatcher) {
    if (!wire.permits(received.from)) return wire.drops.add(Errc::not_loopback);
    if (link::Listener::is_handshake(received.bytes)) return greet(now, received);
    const auto id = link::Listener::connection_of(received.bytes);
    if (!id) return wire.drops.add(id.error());
    const auto found = by_id.find(*id);
    if (found == by_id.end() || found->second->from != received.from) {
      return wire.drops.add(Errc::unknown_connection);
    }
    Connection& connection = *found->second;
    connection.session.link().receive(now, received.bytes);  // counts its own drops
    drain(now, connection, dispatcher);
  }

  void greet(Time now, const io::Received& received) {
    std::array<std::byte, link::kMaxDatagramBytes> reply{};
    const auto outcome = listener.receive(now, received.from, received.bytes, reply);
    if (outcome.error != Errc::none) wire.drops.add(outcome.error);
    if (outcome.reply_bytes > 0) {
      // What the door says belongs to no link yet; it is counted with those that are gone.
      ++retired.datagrams_sent;
      retired.bytes_sent += outcome.reply_bytes;
      retired.overhead_bits_sent += outcome.reply_bytes * 8;
      port.send(now, received.from, std::span(reply).first(outcome.reply_bytes));
    }
    if (!outcome.admission) return;
    const Peer peer{++last_peer};
    auto made = std::make_unique<Connection>(Connection{
        peer, outcome.admission->id, received.from,
        Session(wire, link::Link::accept(*outcome.admission,
                                         link_options(wire.protocol, wire.timeouts), now))});
    by_id[made->id] = made.get();
    order.push_back(made.get());
    by_peer[peer] = std::move(made);
  }

  void drain(Time now, Connection& connection, route::Dispatcher<Peer>& dispatcher) {
    Events events(*this, connection, dispatcher);
    connection.session.drain(now, events);
  }

  static bool is_closed(const Connection* connection) {
    return connection->gone && connection->session.link().state() == link::State::closed;
  }

  void remove_closed() {
    if (std::none_of(order.begin(), order.end(), is_closed)) return;
    std::vector<Peer> peers;
    for (Connection* connection : order) {
      if (!is_closed(connection)) continue;
      retired.add(connection->session.link());
      retired_drops.add(connection->session.link().stats().drops);
      listener.forget(connection->id);
      by_id.erase(connection->id);
      peers.push_back(connection->peer);
    }
    std::erase_if(order, is_closed);
    for (const Peer peer : peers) by_peer.erase(peer);
  }

  io::Port& port;
  Wire wire;
  link::Listener listener;
  std::unordered_map<Peer, std::unique_ptr<Connection>> by_peer;
  std::unordered_map<link::ConnectionId, Connection*> by_id;
  std::vector<Connection*> order;  // by peer
  std::uint32_t last_peer = 0;
  std::function<void(Peer)> on_connect;
  std::function<void(Peer, Errc, std::string_view)> on_disconnect;
  Time last_now{};
  Traffic retired;
  CauseCounts retired_drops;
};

Server::Server(io::Port& port, const schema::ProtocolInfo& protocol, ServerOptions options)
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

void Server::receive(Time now) {
  impl_->last_now = now;
  while (const auto received = impl_->port.receive(now)) {
    impl_->take_datagram(now, *received, dispatcher_);
  }
  for (std::size_t i = 0; i < impl_->order.size(); ++i) {
    Connection& connection = *impl_->order[i];
    connection.session.link().wake(now);
    impl_->drain(now, connection, dispatcher_);
  }
  impl_->remove_closed();
  impl_->port.flush(now);  // handshakes do not wait for the next tick
}

void Server::send(Time now) {
  impl_->last_now = now;
  for (Connection* connection : impl_->order) {
    connection->session.pump_out(now, impl_->port, connection->from);
  }
  impl_->port.flush(now);
}

Time Server::next_wakeup() const {
  Time next = impl_->port.next_wakeup();
  for (const Connection* connection : impl_->order) {
    next = std::min(next, connection->session.next_wakeup());
  }
  return next;
}

Errc Server::send_packed(Peer to, const PackedMessage& message) {
  Connection* connection = impl_->find(to);
  if (connection == nullptr) return Errc::no_such_peer;
  return connection->session.send(impl_->last_now, message);
}

std::size_t Server::send_packed_to_all_but(Peer left_out, const PackedMessage& message) {
  std::size_t count = 0;
  for (Connection* connection : impl_->order) {
    if (connection->peer == left_out || !connection->announced || connection->gone) continue;
    if (connection->session.link().version() != message.version) continue;
    if (connection->session.send(impl_->last_now, message) == Errc::none) ++count;
  }
  return count;
}

void Server::close(Peer peer, std::string_view reason) {
  if (Connection* connection = impl_->find(peer)) {
    connection->session.link().close(impl_->last_now, reason);
  }
}

void Server::close_all(std::string_view reason) {
  for (Connection* connection : impl_->order)
    connection->session.link().close(impl_->last_now, reason);
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
