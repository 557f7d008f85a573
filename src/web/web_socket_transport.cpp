// Web sockets (RFC 6455) by Boost.Beast: HTTP/1.1 upgrade, then one binary message for each
// datagram.
//
// Asynchronous operations of all connections run on one io_context without a thread of its own:
// receive() and flush() run what is ready. The program blocks in poll() on the sockets themselves.
//
// session.cpp has one connection: handshake, frames, close. This file has what concerns all of
// them: limits, certificates, and the interface of a transport.
#include "kwind/web/web_socket_transport.h"

#include <algorithm>
#include <boost/asio/ip/v6_only.hpp>
#include <utility>

#include "web/session.h"

namespace kwind::web {

// ---- the transport ----

// Handlers that are pending keep sessions alive; they run no more once the context is gone.
WebSocketTransport::State::~State() {
  // Sessions go before the context that their sockets are registered with.
  for (const auto& [peer, session] : sessions) session->close_socket();
  for (const auto& session : closing) session->close_socket();
  sessions.clear();
  closing.clear();
}

// Connections that exist keep the certificate with which they began.
Errc WebSocketTransport::State::load_tls() {
  if (options.certificate_file.empty() && options.private_key_file.empty()) return Errc::none;
  auto made = std::make_shared<Tls>(Tls::tls_server);
  error_code error;
  // TLS 1.2 and 1.3 (RFC 8996 retires what came before).
  made->set_options(Tls::no_tlsv1 | Tls::no_tlsv1_1 | Tls::single_dh_use, error);
  made->use_certificate_chain_file(options.certificate_file, error);
  if (error) return Errc::bad_key;
  made->use_private_key_file(options.private_key_file, Tls::pem, error);
  if (error) return Errc::bad_key;
  tls = std::move(made);
  return Errc::none;
}

// One accept is pending at any time, except in the pause after a failure.
void WebSocketTransport::State::accept() {
  acceptor->async_accept(
      [this](const error_code& error, tcp::socket socket) { on_accept(error, std::move(socket)); });
}

// Limits are checked before anything is read: of all connections, of those in their handshake (half
// of all), of those that are closing, and of one address.
void WebSocketTransport::State::on_accept(const error_code& error, tcp::socket socket) {
  if (error == asio::error::operation_aborted) return;
  if (error) {
    // Out of descriptors: without a pause the loop would spin for as long as this lasts.
    accepts_again = now + kPause;
    return;
  }
  // The next accept is pending before this connection is looked at.
  accept();
  error_code failed;
  const auto remote = socket.remote_endpoint(failed);
  if (failed) return;
  const Endpoint peer = from_asio(remote);
  if (const auto old = sessions.find(peer); old != sessions.end()) {
    // The peer broke its connection and came back before that was noticed.
    const std::shared_ptr<Session> session = old->second;
    remove(peer);
    session->close_socket();
  }
  const auto others = per_address.find(peer.network());
  // Checks cost a few comparisons: a flood of connections is turned away before any byte is read.
  if (sessions.size() >= options.connections || pending >= (options.connections + 1) / 2 ||
      closing.size() >= options.connections ||
      (others != per_address.end() && others->second >= options.connections_per_address)) {
    ++web.turned_away;
    return;
  }
  ++web.accepted;
  // Datagrams are small and do not wait for more: no Nagle (RFC 896).
  socket.set_option(tcp::no_delay(true), failed);
  const auto session = std::make_shared<Session>(*this, peer, std::move(socket), tls);
  add(session);
  session->start();
}

// A connection counts as pending until the server keeps it, see keep().
void WebSocketTransport::State::add(std::shared_ptr<Session> session) {
  ++pending;
  ++per_address[session->peer.network()];
  sessions[session->peer] = std::move(session);
}

// The end is reported by take_ended(). Counts of the address are given back, and addresses without
// connections forgotten.
void WebSocketTransport::State::remove(const Endpoint& peer) {
  const auto found = sessions.find(peer);
  if (found == sessions.end()) return;
  const std::shared_ptr<Session> session = found->second;
  sessions.erase(found);
  session->is_gone = true;
  if (!session->is_kept) --pending;
  const auto address = per_address.find(session->peer.network());
  if (--address->second == 0) per_address.erase(address);
  ended.push_back(session->peer);
}

// Runs handlers that are ready, kHandlersPerTurn of them at most.
void WebSocketTransport::State::run_handlers() {
  if (context.stopped()) context.restart();
  int ran = 0;
  // Ends without a ready handler or at the limit.
  while (ran < kHandlersPerTurn && context.poll_one() > 0) ++ran;
  may_have_more = ran == kHandlersPerTurn;
}

// Once a second: ends connections that took too long for their handshake or for closing. Thousands
// can be late at once: each turn ends kEndsPerTurn of them, and the next turn goes on.
void WebSocketTransport::State::sweep() {
  next_sweep = now + kSweepEvery;
  if (accepts_again && now >= *accepts_again) {
    accepts_again.reset();
    accept();
  }
  std::vector<std::shared_ptr<Session>> late;
  if (acceptor) {
    // Those whose handshake takes too long.
    for (const auto& [peer, session] : sessions) {
      if (late.size() == kEndsPerTurn) break;
      if (!session->is_kept && now - session->since >= options.handshake_timeout) {
        late.push_back(session);
      }
    }
  }
  web.timeouts += late.size();
  for (const auto& session : late) {
    remove(session->peer);
    session->close_socket();
  }
  bool more = late.size() == kEndsPerTurn;
  late.clear();
  // Those that do not end their closing handshake.
  for (const auto& session : closing) {
    if (late.size() == kEndsPerTurn) break;
    if (now - session->closing_since >= kCloseTimeout) late.push_back(session);
  }
  for (const auto& session : late) {
    session->close_socket();
    closing.erase(session);
  }
  more = more || late.size() == kEndsPerTurn;
  if (more) next_sweep = now;
  sweeps_on = more;
}

WebSocketTransport::WebSocketTransport(std::unique_ptr<State> state) : state_(std::move(state)) {}
WebSocketTransport::~WebSocketTransport() = default;

// The unspecified address takes both families on one socket, if the system has IPv6.
Result<std::unique_ptr<WebSocketTransport>> WebSocketTransport::listen(
    const Endpoint& local, const WebSocketOptions& options) {
  auto state = std::make_unique<State>();
  state->options = options;
  state->now = io::now();
  if (const Errc error = state->load_tls(); error != Errc::none) return fail(error);
  state->acceptor = std::make_unique<tcp::acceptor>(state->context);
  error_code error;
  const bool is_any = local.ip == Endpoint::any(0).ip;
  tcp::endpoint at = to_asio(local);
  // One socket of IPv6 that also takes IPv4 (RFC 3493, 3.7).
  if (is_any) at = tcp::endpoint(asio::ip::address_v6::any(), local.port);
  state->acceptor->open(at.protocol(), error);
  if (error && is_any) {
    error.clear();
    at = tcp::endpoint(asio::ip::address_v4::any(), local.port);
    state->acceptor->open(at.protocol(), error);
  }
  if (error) return fail(from_boost(error));
  if (is_any && at.address().is_v6()) {
    state->acceptor->set_option(asio::ip::v6_only(false), error);
  }
#ifndef _WIN32
  state->acceptor->set_option(tcp::acceptor::reuse_address(true), error);
#endif
  state->acceptor->bind(at, error);
  if (error) return fail(from_boost(error));
  state->acceptor->listen(asio::socket_base::max_listen_connections, error);
  if (error) return fail(from_boost(error));
  state->local_endpoint = from_asio(state->acceptor->local_endpoint(error));
  if (is_any) state->local_endpoint.ip = local.ip;
  state->accept();
  return std::unique_ptr<WebSocketTransport>(new WebSocketTransport(std::move(state)));
}

// The certificate of the server must be of the host in the URL (RFC 6125), by the system's
// authorities or by a file of them.
Result<std::unique_ptr<WebSocketTransport>> WebSocketTransport::connect(
    const Endpoint& server, const WebSocketAddress& address, const std::string& authority_file) {
  auto state = std::make_unique<State>();
  state->now = io::now();
  std::shared_ptr<Tls> tls;
  if (address.tls) {
    tls = std::make_shared<Tls>(Tls::tls_client);
    error_code error;
    tls->set_verify_mode(asio::ssl::verify_peer, error);
    if (authority_file.empty()) {
      tls->set_default_verify_paths(error);
    } else {
      tls->load_verify_file(authority_file, error);
    }
    if (error) return fail(Errc::bad_key);
    tls->set_verify_callback(asio::ssl::host_name_verification(address.host), error);
  }
  const auto session = std::make_shared<Session>(*state, server, tcp::socket(state->context), tls);
  state->add(session);
  session->connect(address);
  return std::unique_ptr<WebSocketTransport>(new WebSocketTransport(std::move(state)));
}

Endpoint WebSocketTransport::local() const {
  return state_->local_endpoint;
}
const TransportCounts& WebSocketTransport::counts() const {
  return state_->counts;
}
const WebSocketCounts& WebSocketTransport::web_socket_counts() const {
  return state_->web;
}
std::size_t WebSocketTransport::connections() const {
  return state_->sessions.size();
}

Errc WebSocketTransport::reload_certificate() {
  return state_->load_tls();
}

// Handlers run only when nothing waits in the inbox, so that a flood of small messages is handed
// out before more of it is read.
std::optional<ReceivedDatagram> WebSocketTransport::receive(Time now) {
  State& state = *state_;
  // One message of the inbox in each call.
  state.now = now;
  if (state.inbox.empty()) {
    if (now >= state.next_sweep) state.sweep();
    state.run_handlers();
    if (state.inbox.empty()) return std::nullopt;
  }
  state.handed_out = std::move(state.inbox.front().bytes);
  const Endpoint from = state.inbox.front().from;
  state.inbox.pop_front();
  ++state.counts.datagrams_received;
  state.counts.bytes_received += state.handed_out.size();
  return ReceivedDatagram{from, state.handed_out};
}

// A peer that does not read is ended once more than the limit waits for it.
void WebSocketTransport::send(Time, const Endpoint& to, std::span<const std::byte> bytes) {
  State& state = *state_;
  KWIND_ASSERT(!bytes.empty() && bytes.size() <= state.options.datagram_bytes);
  const auto found = state.sessions.find(to);
  if (found == state.sessions.end()) {
    ++state.counts.send_failures;
    return;
  }
  const std::shared_ptr<Session> session = found->second;
  // Back-pressure: the limit is bytes that the peer has not taken.
  if (session->unsent_bytes + bytes.size() > state.options.unsent_bytes) {
    ++state.web.too_slow;
    ++state.counts.send_failures;
    state.remove(to);
    session->close_socket();
    return;
  }
  session->send(bytes);
  ++state.counts.datagrams_sent;
  state.counts.bytes_sent += bytes.size();
  session->write_next();
}

// Connections that the server ended are closed in order once what was sent has left.
void WebSocketTransport::flush(Time now) {
  State& state = *state_;
  state.now = now;
  // Noted by end() since the last flush.
  for (const Endpoint& peer : std::exchange(state.to_end, {})) {
    const auto found = state.sessions.find(peer);
    if (found == state.sessions.end()) continue;
    const std::shared_ptr<Session> session = found->second;
    if (session->unsent.empty()) session->close_gracefully(websocket::close_code::normal);
  }
  state.run_handlers();
}

// The server has let the client in: the handshake's time limit holds no more.
void WebSocketTransport::keep(const Endpoint& peer) {
  const auto found = state_->sessions.find(peer);
  if (found == state_->sessions.end() || found->second->is_kept) return;
  found->second->is_kept = true;
  --state_->pending;
}

// Only noted: send() may be in the middle of this connection.
void WebSocketTransport::end(const Endpoint& peer) {
  const auto found = state_->sessions.find(peer);
  if (found == state_->sessions.end() || found->second->is_ending) return;
  found->second->is_ending = true;
  state_->to_end.push_back(peer);
}

Time WebSocketTransport::next_wakeup() const {
  return state_->accepts_again.value_or(kNever);
}

std::optional<Endpoint> WebSocketTransport::take_ended() {
  if (state_->ended.empty()) return std::nullopt;
  const Endpoint peer = state_->ended.back();
  state_->ended.pop_back();
  return peer;
}

bool WebSocketTransport::holds_some() const {
  return state_->may_have_more || state_->sweeps_on || !state_->inbox.empty() ||
         !state_->ended.empty();
}

// Sockets that the program is to wait for with poll().
void WebSocketTransport::add_waits(std::vector<Waiting>& out) const {
  if (state_->acceptor && !state_->accepts_again) {
    out.push_back({static_cast<int>(state_->acceptor->native_handle()), false});
  }
  const auto add = [&](Session& session) {
    const int descriptor = session.descriptor();
    // An HTTP or TLS exchange before the web socket is open may wait for either.
    if (descriptor >= 0) out.push_back({descriptor, session.is_writing});
  };
  // Every socket that may become ready.
  for (const auto& [peer, session] : state_->sessions) add(*session);
  for (const auto& session : state_->closing) add(*session);
}

}  // namespace kwind::web
