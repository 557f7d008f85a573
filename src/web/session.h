// One connection of the web socket transport, from its first byte on: the HTTP request, the upgrade
// or a page, and then one binary message for each datagram. Private to web; included by its
// transport alone.
//
// Asynchronous operations of all connections run on one io_context without a thread of its own.
// Their handlers hold the session by shared_ptr, so that it lives until the last one has run.
#pragma once
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
#include "kwind/web/web_socket_transport.h"
#include "web/origin.h"
#include "web/wire.h"

namespace kwind::web {

namespace http = boost::beast::http;
namespace websocket = boost::beast::websocket;
using Request = http::request<http::empty_body>;

constexpr Duration kSweepEvery = std::chrono::seconds(1);
constexpr Duration kCloseTimeout = std::chrono::seconds(2);
constexpr Duration kPause = std::chrono::seconds(1);  // of accepting
constexpr int kHandlersPerTurn = 256;  // so that a flood cannot keep the program here
constexpr std::size_t kEndsPerTurn = 64;
constexpr int kPingsPerSecond = 20;

inline Endpoint from_asio(const tcp::endpoint& endpoint) {
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

inline tcp::endpoint to_asio(const Endpoint& endpoint) {
  if (endpoint.is_v4()) {
    return {
        asio::ip::address_v4({endpoint.ip[12], endpoint.ip[13], endpoint.ip[14], endpoint.ip[15]}),
        endpoint.port};
  }
  asio::ip::address_v6::bytes_type ip{};
  std::copy(endpoint.ip.begin(), endpoint.ip.end(), ip.begin());
  return {asio::ip::address_v6(ip), endpoint.port};
}

inline std::string_view view(beast::string_view text) {
  return {text.data(), text.size()};
}

// Whether a comma-separated header lists the word.
inline bool lists(std::string_view header, std::string_view word) {
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

inline std::string_view path_of(beast::string_view target) {
  return view(target).substr(0, view(target).find('?'));
}

// Why the system refused to listen.
inline Errc from_boost(const error_code& error) {
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

// One connection, from its first byte on. Handlers hold it by shared_ptr: it lives until the last
// one has run.
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
  bool sweeps_on = false;  // more are late than a turn ends
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

inline const char* reason_of(unsigned status) {
  switch (status) {
    case 200: return "OK";
    case 403: return "Forbidden";
    case 404: return "Not Found";
    case 426: return "Upgrade Required";
    case 431: return "Request Header Fields Too Large";
    default: return "Bad Request";
  }
}

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
    if (!is_allowed_origin(view(request[http::field::origin]), view(request[http::field::host]),
                           owner.options.origins)) {
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

}  // namespace kwind::web
