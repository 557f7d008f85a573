// Web sockets (RFC 6455) by Boost.Beast: HTTP/1.1 upgrade, then one binary message for each datagram.
//
// Asynchronous operations of all connections run on one io_context without a thread of its own:
// receive() and flush() run what is ready. The program blocks in poll() on the sockets themselves.
#include "kwind/web/web_socket_transport.h"

#include <algorithm>
#include <boost/asio/io_context.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/ip/v6_only.hpp>
#include <boost/asio/ssl/context.hpp>
#include <boost/asio/ssl/host_name_verification.hpp>
#include <boost/asio/ssl/stream.hpp>
#include <boost/asio/write.hpp>
#include <boost/beast/core/flat_buffer.hpp>
#include <boost/beast/http/empty_body.hpp>
#include <boost/beast/http/parser.hpp>
#include <boost/beast/websocket/rfc6455.hpp>
#include <boost/beast/websocket/stream.hpp>
#include <deque>
#include <unordered_map>
#include <unordered_set>
#include <utility>

#include "kwind/core/assert.h"
#include "kwind/io/clock.h"
#include "web/wire.h"

namespace kwind::web {
namespace {

namespace http = boost::beast::http;
namespace websocket = boost::beast::websocket;
using Request = http::request<http::empty_body>;

constexpr Duration kSweepEvery = std::chrono::seconds(1);
constexpr Duration kCloseTimeout = std::chrono::seconds(2);
constexpr Duration kPause = std::chrono::seconds(1);  // of accepting
constexpr int kHandlersPerTurn = 256;  // so that a flood cannot keep the program here
constexpr int kPingsPerSecond = 20;

Endpoint network_of(Endpoint endpoint) {
  endpoint.port = 0;
  if (!endpoint.is_v4()) {
    std::fill(endpoint.ip.begin() + 8, endpoint.ip.end(), std::uint8_t{0});
  }
  return endpoint;
}

Endpoint from_asio(const tcp::endpoint& endpoint) {
  if (endpoint.address().is_v4()) {
    const auto ip = endpoint.address().to_v4().to_bytes();
    return Endpoint::v4(ip[0], ip[1], ip[2], ip[3], endpoint.port());
  }
  Endpoint made;
  const auto ip = endpoint.address().to_v6().to_bytes();
  std::copy(ip.begin(), ip.end(), made.ip.begin());
  made.port = endpoint.port();
  return made;
}

tcp::endpoint to_asio(const Endpoint& endpoint) {
  if (endpoint.is_v4()) {
    return {
        asio::ip::address_v4({endpoint.ip[12], endpoint.ip[13], endpoint.ip[14], endpoint.ip[15]}),
        endpoint.port};
  }
  asio::ip::address_v6::bytes_type ip{};
  std::copy(endpoint.ip.begin(), endpoint.ip.end(), ip.begin());
  return {asio::ip::address_v6(ip), endpoint.port};
}

std::string_view view(beast::string_view text) {
  return {text.data(), text.size()};
}

// Whether a comma-separated header lists the word.
bool lists(std::string_view header, std::string_view word) {
  while (!header.empty()) {
    const std::size_t comma = header.find(',');
    std::string_view item = header.substr(0, comma);
    while (!item.empty() && item.front() == ' ') item.remove_prefix(1);
    while (!item.empty() && item.back() == ' ') item.remove_suffix(1);
    if (item == word) return true;
    header = comma == std::string_view::npos ? std::string_view() : header.substr(comma + 1);
  }
  return false;
}

bool is_allowed_origin(const Request& request, const WebSocketOptions& options) {
  const auto origin = view(request[http::field::origin]);
  if (origin.empty()) return true;  // no browser
  for (const std::string& allowed : options.origins) {
    if (allowed == "*" || allowed == origin) return true;
  }
  // A page of this server: the origin is the host that the request names, with its scheme.
  const std::size_t scheme = origin.find("://");
  const auto host = view(request[http::field::host]);
  return scheme != std::string_view::npos && !host.empty() && origin.substr(scheme + 3) == host;
}

std::string_view path_of(beast::string_view target) {
  return view(target).substr(0, view(target).find('?'));
}

// Why the system refused to listen.
Errc from_boost(const error_code& error) {
  if (error == asio::error::address_in_use) return Errc::address_in_use;
  if (error == asio::error::access_denied || error == asio::error::no_permission) {
    return Errc::no_permission;
  }
  if (error == boost::system::errc::address_not_available ||
      error == asio::error::address_family_not_supported) {
    return Errc::bad_address;
  }
  return Errc::socket_failure;
}

}  // namespace

// One connection, from its first byte on. Handlers hold it by shared_ptr: it lives until the last one
// has run.
class Session;

struct WebSocketTransport::State {
  State() = default;
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State();

  WebSocketOptions options;
  asio::io_context context{1};
  std::unique_ptr<tcp::acceptor> acceptor;
  std::shared_ptr<Tls> tls;
  Endpoint local_endpoint;
  TransportCounts counts;
  WebSocketCounts web;
  std::unordered_map<Endpoint, std::shared_ptr<Session>> sessions;
  std::unordered_map<Endpoint, std::size_t> per_address;
  std::unordered_set<std::shared_ptr<Session>> closing;  // their close frames are in flight
  std::size_t pending = 0;                               // sessions that are not kept
  struct Inbound {
    Endpoint from;
    std::vector<std::byte> bytes;
  };
  std::deque<Inbound> inbox;
  std::vector<std::byte> handed_out;
  std::vector<Endpoint> ended;
  std::vector<Endpoint> to_end;
  bool may_have_more = false;
  Time now{};
  Time next_sweep{};
  std::optional<Time> accepts_again;

  Errc load_tls();
  void accept();
  void on_accept(const error_code& error, tcp::socket socket);
  void add(std::shared_ptr<Session> session);
  void remove(const Endpoint& peer);
  void run_handlers();
  void sweep();
};

namespace {

const char* reason_of(unsigned status) {
  switch (status) {
    case 200: return "OK";
    case 403: return "Forbidden";
    case 404: return "Not Found";
    case 426: return "Upgrade Required";
    case 431: return "Request Header Fields Too Large";
    default: return "Bad Request";
  }
}

}  // namespace

class Session : public std::enable_shared_from_this<Session> {
 public:
  using State = WebSocketTransport::State;

  Session(State& state, const Endpoint& remote, tcp::socket socket, std::shared_ptr<Tls> tls)
      : owner(state),
        peer(remote),
        since(state.now),
        socket_(state.context, std::move(socket), std::move(tls)) {
    socket_.auto_fragment(false);
    socket_.binary(true);
    socket_.read_message_max(owner.options.datagram_bytes);
    socket_.set_option(websocket::stream_base::timeout{websocket::stream_base::none(),
                                                       websocket::stream_base::none(), false});
    socket_.control_callback([this](websocket::frame_type type, beast::string_view) {
      if (type == websocket::frame_type::ping) on_ping();
    });
  }

  void start() {
    if (!wire().is_tls()) return read_request();
    wire().handshake(asio::ssl::stream_base::server, {},
                     [self = keep_alive()](const error_code& error) {
                       if (error) {
                         ++self->owner.web.tls_failures;
                         return self->drop();
                       }
                       self->read_request();
                     });
  }

  void connect(const WebSocketAddress& address) {
    address_ = address;
    is_writing = true;  // a socket can be written to once it is connected
    wire().socket().async_connect(to_asio(peer), [self = keep_alive()](const error_code& error) {
      self->is_writing = false;
      if (error) return self->drop();
      error_code ignored;
      self->wire().socket().set_option(tcp::no_delay(true), ignored);
      if (!self->wire().is_tls()) return self->upgrade();
      self->wire().handshake(asio::ssl::stream_base::client, self->address_.host,
                             [self](const error_code& failed) {
                               if (failed) {
                                 ++self->owner.web.tls_failures;
                                 return self->drop();
                               }
                               self->upgrade();
                             });
    });
  }

  void close_gracefully(websocket::close_code code) {
    if (is_closing_) return;
    is_closing_ = true;
    closing_since = owner.now;
    const auto self = keep_alive();
    leave();
    owner.closing.insert(self);
    if (!is_open) return drop();
    code_ = code;
    if (is_writing) return;  // the handler of that operation sends the close frame
    send_close_frame();
  }

  void close_socket() { wire().close(); }
  [[nodiscard]] int descriptor() {
    tcp::socket& socket = wire().socket();
    return socket.is_open() ? static_cast<int>(socket.native_handle()) : -1;
  }

  void write_next() {
    if (is_writing || !is_open || unsent.empty() || is_closing_) return;
    is_writing = true;
    socket_.async_write(asio::buffer(unsent.front()),
                        [self = keep_alive()](const error_code& error, std::size_t) {
                          self->is_writing = false;
                          if (error) return self->drop();
                          self->unsent_bytes -= self->unsent.front().size();
                          self->unsent.pop_front();
                          if (self->is_closing_) return self->send_close_frame();
                          if (!self->unsent.empty()) return self->write_next();
                          if (self->is_ending) {
                            self->close_gracefully(websocket::close_code::normal);
                          }
                        });
  }

  void send(std::span<const std::byte> bytes) {
    unsent_bytes += bytes.size();
    unsent.emplace_back(bytes.begin(), bytes.end());
  }

  State& owner;
  const Endpoint peer;
  const Time since;
  Time closing_since{};
  bool is_open = false;     // the web socket is
  bool is_kept = false;     // it belongs to a peer
  bool is_ending = false;   // at the end of its queue
  bool is_gone = false;     // not in State::sessions any more
  bool is_writing = false;  // an operation is in flight
  std::deque<std::vector<std::byte>> unsent;
  std::size_t unsent_bytes = 0;
  Time pings_since{};
  int pings = 0;

 private:
  std::shared_ptr<Session> keep_alive() { return shared_from_this(); }
  Wire& wire() { return socket_.next_layer(); }

  void leave() {
    if (!is_gone) owner.remove(peer);
  }
  // Ends the connection without a close frame.
  void drop() {
    const auto self = keep_alive();
    leave();
    close_socket();
    owner.closing.erase(self);
  }

  void send_close_frame() {
    is_writing = true;
    socket_.async_close(code_, [self = keep_alive()](const error_code&) { self->drop(); });
  }

  void read_request() {
    parser_.header_limit(static_cast<std::uint32_t>(owner.options.header_bytes));
    wire().read_some({buffer_.prepare(4096)},
                     [self = keep_alive()](const error_code& error, std::size_t bytes) {
                       if (error) return self->drop();
                       self->buffer_.commit(bytes);
                       self->on_request_bytes();
                     });
  }

  void on_request_bytes() {
    error_code error;
    buffer_.consume(parser_.put(buffer_.data(), error));
    if (error == http::error::header_limit) {
      ++owner.web.header_too_long;
      return respond(431, {});
    }
    if (error && error != http::error::need_more) {
      ++owner.web.bad_requests;
      return respond(400, {"text/plain", "this is no HTTP request\n"});
    }
    if (!parser_.is_header_done()) return read_request();
    on_request();
  }

  void on_request() {
    const Request& request = parser_.get();
    const std::string_view path = path_of(request.target());
    const bool is_upgrade = websocket::is_upgrade(request);
    if (path != owner.options.path) {
      if (!is_upgrade && request.method() == http::verb::get && owner.options.pages) {
        if (auto page = owner.options.pages(path)) {
          ++owner.web.pages;
          return respond(200, *page);
        }
      }
      ++owner.web.not_found;
      return respond(404, {"text/plain", "there is nothing at this path\n"});
    }
    if (!is_upgrade || buffer_.size() > 0) {
      ++owner.web.bad_requests;
      return respond(426, {"text/plain", "this path speaks web sockets, version 13\n"});
    }
    if (!lists(view(request[http::field::sec_websocket_protocol]), kSubprotocol)) {
      ++owner.web.bad_requests;
      return respond(400, {"text/plain", "the subprotocol is kestrel-wind\n"});
    }
    if (!is_allowed_origin(request, owner.options)) {
      ++owner.web.bad_origins;
      return respond(403, {"text/plain", "pages of this origin may not connect\n"});
    }
    socket_.set_option(websocket::stream_base::decorator([](websocket::response_type& response) {
      response.set(http::field::sec_websocket_protocol,
                   beast::string_view(kSubprotocol.data(), kSubprotocol.size()));
    }));
    socket_.async_accept(request, [self = keep_alive()](const error_code& failed) {
      if (failed) {
        ++self->owner.web.bad_requests;
        return self->drop();
      }
      self->opened();
    });
  }

  void upgrade() {
    socket_.set_option(websocket::stream_base::decorator([](websocket::request_type& request) {
      request.set(http::field::sec_websocket_protocol,
                  beast::string_view(kSubprotocol.data(), kSubprotocol.size()));
    }));
    const std::string host = address_.port == (address_.tls ? 443 : 80)
                                 ? address_.host
                                 : address_.host + ":" + std::to_string(address_.port);
    socket_.async_handshake(host, address_.path, [self = keep_alive()](const error_code& error) {
      if (error) {
        ++self->owner.web.bad_requests;
        return self->drop();
      }
      self->opened();
    });
  }

  void opened() {
    is_open = true;
    ++owner.web.opened;
    read();
    write_next();
  }

  void read() {
    socket_.async_read(buffer_, [self = keep_alive()](const error_code& error, std::size_t) {
      self->on_read(error);
    });
  }

  void on_read(const error_code& error) {
    if (is_closing_) return;
    if (error) {
      if (error != websocket::error::closed && error != asio::error::eof &&
          error != asio::error::operation_aborted && error != asio::error::connection_reset) {
        ++owner.web.bad_frames;
      }
      return drop();
    }
    if (!socket_.got_binary()) {
      ++owner.web.text_messages;
      return close_gracefully(websocket::close_code::unknown_data);
    }
    if (buffer_.size() == 0) {
      ++owner.web.empty_messages;
      return close_gracefully(websocket::close_code::protocol_error);
    }
    const auto bytes = buffer_.cdata();
    const auto* first = static_cast<const std::byte*>(bytes.data());
    owner.inbox.push_back({peer, {first, first + bytes.size()}});
    buffer_.consume(buffer_.size());
    read();
  }

  void on_ping() {
    if (owner.now - pings_since >= std::chrono::seconds(1)) {
      pings_since = owner.now;
      pings = 0;
    }
    if (++pings != kPingsPerSecond) return;
    ++owner.web.ping_floods;
    close_gracefully(websocket::close_code::policy_error);
  }

  void respond(unsigned status, const Page& page) {
    response_ = "HTTP/1.1 " + std::to_string(status) + " " + reason_of(status);
    response_ +=
        "\r\nConnection: close\r\nCache-Control: no-store\r\nX-Content-Type-Options: nosniff";
    if (status == 426) response_ += "\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13";
    response_ += "\r\nContent-Type: " + (page.type.empty() ? std::string("text/plain") : page.type);
    response_ += "\r\nContent-Length: " + std::to_string(page.body.size()) + "\r\n\r\n";
    response_ += page.body;
    is_writing = true;
    write_response(0);
  }
  void write_response(std::size_t from) {
    wire().write_some({asio::buffer(response_.data() + from, response_.size() - from)},
                      [self = keep_alive(), from](const error_code& error, std::size_t bytes) {
                        if (error) return self->drop();
                        if (from + bytes < self->response_.size()) {
                          return self->write_response(from + bytes);
                        }
                        self->is_writing = false;
                        error_code ignored;
                        self->wire().socket().shutdown(tcp::socket::shutdown_send, ignored);
                        self->drain();
                      });
  }
  // Reads and drops what the other end still sends: closing at once would reset the connection
  // before the response was read. The handshake timeout ends it.
  void drain() {
    buffer_.consume(buffer_.size());
    wire().read_some({buffer_.prepare(1024)},
                     [self = keep_alive()](const error_code& error, std::size_t) {
                       if (error) return self->drop();
                       self->drain();
                     });
  }

  websocket::stream<Wire> socket_;
  beast::flat_buffer buffer_;
  http::request_parser<http::empty_body> parser_;
  std::string response_;
  WebSocketAddress address_;
  websocket::close_code code_ = websocket::close_code::normal;
  bool is_closing_ = false;
};

// ---- the transport ----

WebSocketTransport::State::~State() {
  // Sessions go before the context that their sockets are registered with.
  for (const auto& [peer, session] : sessions) session->close_socket();
  for (const auto& session : closing) session->close_socket();
  sessions.clear();
  closing.clear();
}

Errc WebSocketTransport::State::load_tls() {
  if (options.certificate_file.empty() && options.private_key_file.empty()) return Errc::none;
  auto made = std::make_shared<Tls>(Tls::tls_server);
  error_code error;
  made->set_options(Tls::no_tlsv1 | Tls::no_tlsv1_1 | Tls::single_dh_use, error);
  made->use_certificate_chain_file(options.certificate_file, error);
  if (error) return Errc::bad_key;
  made->use_private_key_file(options.private_key_file, Tls::pem, error);
  if (error) return Errc::bad_key;
  tls = std::move(made);
  return Errc::none;
}

void WebSocketTransport::State::accept() {
  acceptor->async_accept(
      [this](const error_code& error, tcp::socket socket) { on_accept(error, std::move(socket)); });
}

void WebSocketTransport::State::on_accept(const error_code& error, tcp::socket socket) {
  if (error == asio::error::operation_aborted) return;
  if (error) {
    // Out of descriptors: without a pause the loop would spin for as long as this lasts.
    accepts_again = now + kPause;
    return;
  }
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
  const auto others = per_address.find(network_of(peer));
  if (sessions.size() >= options.connections || pending >= (options.connections + 1) / 2 ||
      closing.size() >= options.connections ||
      (others != per_address.end() && others->second >= options.connections_per_address)) {
    ++web.turned_away;
    return;
  }
  ++web.accepted;
  socket.set_option(tcp::no_delay(true), failed);
  const auto session = std::make_shared<Session>(*this, peer, std::move(socket), tls);
  add(session);
  session->start();
}

void WebSocketTransport::State::add(std::shared_ptr<Session> session) {
  ++pending;
  ++per_address[network_of(session->peer)];
  sessions[session->peer] = std::move(session);
}

void WebSocketTransport::State::remove(const Endpoint& peer) {
  const auto found = sessions.find(peer);
  if (found == sessions.end()) return;
  const std::shared_ptr<Session> session = found->second;
  sessions.erase(found);
  session->is_gone = true;
  if (!session->is_kept) --pending;
  const auto address = per_address.find(network_of(session->peer));
  if (--address->second == 0) per_address.erase(address);
  ended.push_back(session->peer);
}

// Runs handlers that are ready, kHandlersPerTurn of them at most.
void WebSocketTransport::State::run_handlers() {
  if (context.stopped()) context.restart();
  int ran = 0;
  while (ran < kHandlersPerTurn && context.poll_one() > 0) ++ran;
  may_have_more = ran == kHandlersPerTurn;
}

void WebSocketTransport::State::sweep() {
  next_sweep = now + kSweepEvery;
  if (accepts_again && now >= *accepts_again) {
    accepts_again.reset();
    accept();
  }
  std::vector<std::shared_ptr<Session>> late;
  if (acceptor) {
    for (const auto& [peer, session] : sessions) {
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
  late.clear();
  for (const auto& session : closing) {
    if (now - session->closing_since >= kCloseTimeout) late.push_back(session);
  }
  for (const auto& session : late) {
    session->close_socket();
    closing.erase(session);
  }
}

WebSocketTransport::WebSocketTransport(std::unique_ptr<State> state) : state_(std::move(state)) {}
WebSocketTransport::~WebSocketTransport() = default;

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

std::optional<ReceivedDatagram> WebSocketTransport::receive(Time now) {
  State& state = *state_;
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

void WebSocketTransport::send(Time, const Endpoint& to, std::span<const std::byte> bytes) {
  State& state = *state_;
  KWIND_ASSERT(!bytes.empty() && bytes.size() <= state.options.datagram_bytes);
  const auto found = state.sessions.find(to);
  if (found == state.sessions.end()) {
    ++state.counts.send_failures;
    return;
  }
  const std::shared_ptr<Session> session = found->second;
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

void WebSocketTransport::flush(Time now) {
  State& state = *state_;
  state.now = now;
  for (const Endpoint& peer : std::exchange(state.to_end, {})) {
    const auto found = state.sessions.find(peer);
    if (found == state.sessions.end()) continue;
    const std::shared_ptr<Session> session = found->second;
    if (session->unsent.empty()) session->close_gracefully(websocket::close_code::normal);
  }
  state.run_handlers();
}

void WebSocketTransport::keep(const Endpoint& peer) {
  const auto found = state_->sessions.find(peer);
  if (found == state_->sessions.end() || found->second->is_kept) return;
  found->second->is_kept = true;
  --state_->pending;
}

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
  return state_->may_have_more || !state_->inbox.empty() || !state_->ended.empty();
}

void WebSocketTransport::add_waits(std::vector<Waiting>& out) const {
  if (state_->acceptor && !state_->accepts_again) {
    out.push_back({static_cast<int>(state_->acceptor->native_handle()), false});
  }
  const auto add = [&](Session& session) {
    const int descriptor = session.descriptor();
    // An HTTP or TLS exchange before the web socket is open may wait for either.
    if (descriptor >= 0) out.push_back({descriptor, session.is_writing});
  };
  for (const auto& [peer, session] : state_->sessions) add(*session);
  for (const auto& session : state_->closing) add(*session);
}

}  // namespace kwind::web
