// The stream below a web socket: TCP or TLS behind one type, with one type of handler, so that the
// compiler makes the templates of the web socket once. Private to web.
#pragma once
#include <openssl/ssl.h>

#include <boost/asio/io_context.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/ssl/context.hpp>
#include <boost/asio/ssl/stream.hpp>
#include <boost/beast/core/role.hpp>
#include <functional>
#include <memory>
#include <string>
#include <utility>
#include <vector>

namespace kwind::web {

namespace asio = boost::asio;
namespace beast = boost::beast;
using boost::system::error_code;
using tcp = asio::ip::tcp;
using Tls = asio::ssl::context;

/// A TCP connection, with TLS if `tls` is given.
class Wire {
 public:
  using Done = std::function<void(const error_code&, std::size_t)>;
  using executor_type = asio::io_context::executor_type;

  Wire(asio::io_context& context, tcp::socket socket, std::shared_ptr<Tls> tls)
      : context_(context), tls_(std::move(tls)), plain_(std::move(socket)) {
    if (tls_) secure_ = std::make_unique<asio::ssl::stream<tcp::socket&>>(plain_, *tls_);
  }

  executor_type get_executor() noexcept { return context_.get_executor(); }
  tcp::socket& socket() { return plain_; }
  [[nodiscard]] bool is_tls() const { return secure_ != nullptr; }

  void handshake(asio::ssl::stream_base::handshake_type side, const std::string& host,
                 std::function<void(const error_code&)> done) {
    if (!host.empty()) SSL_set_tlsext_host_name(secure_->native_handle(), host.c_str());
    secure_->async_handshake(side, std::move(done));
  }

  void read_some(const std::vector<asio::mutable_buffer>& into, const Done& done) {
    if (secure_) return secure_->async_read_some(into, done);
    plain_.async_read_some(into, done);
  }
  void write_some(const std::vector<asio::const_buffer>& from, const Done& done) {
    if (secure_) return secure_->async_write_some(from, done);
    plain_.async_write_some(from, done);
  }

  // The names and the form that Asio expects of a stream.
  template <class Buffers, class Handler>
  auto async_read_some(const Buffers& buffers, Handler&& handler) {
    return start<asio::mutable_buffer>(
        buffers, std::forward<Handler>(handler),
        [this](const auto& all, const Done& done) { read_some(all, done); });
  }
  template <class Buffers, class Handler>
  auto async_write_some(const Buffers& buffers, Handler&& handler) {
    return start<asio::const_buffer>(
        buffers, std::forward<Handler>(handler),
        [this](const auto& all, const Done& done) { write_some(all, done); });
  }

  void close() {
    error_code ignored;
    plain_.close(ignored);
  }

 private:
  template <class Buffer, class Buffers, class Handler, class Operation>
  auto start(const Buffers& buffers, Handler&& handler, Operation operation) {
    std::vector<Buffer> all;
    for (auto each = asio::buffer_sequence_begin(buffers);
         each != asio::buffer_sequence_end(buffers); ++each) {
      if (Buffer(*each).size() > 0) all.push_back(*each);
    }
    return asio::async_initiate<Handler, void(error_code, std::size_t)>(
        [operation, all = std::move(all)](auto&& wanted) {
          // Handlers can only be moved, a std::function can be copied.
          auto kept = std::make_shared<std::decay_t<decltype(wanted)>>(
              std::forward<decltype(wanted)>(wanted));
          operation(all,
                    [kept](const error_code& error, std::size_t bytes) { (*kept)(error, bytes); });
        },
        handler);
  }

  asio::io_context& context_;
  std::shared_ptr<Tls> tls_;
  tcp::socket plain_;
  std::unique_ptr<asio::ssl::stream<tcp::socket&>> secure_;
};

// Found by the web socket through their argument: how a stream is ended.
inline void beast_close_socket(Wire& wire) {
  wire.close();
}
template <class Handler>
void async_teardown(beast::role_type, Wire& wire, Handler&& handler) {
  error_code error;
  wire.socket().shutdown(tcp::socket::shutdown_send, error);
  asio::post(wire.get_executor(),
             [kept = std::forward<Handler>(handler)]() mutable { kept(error_code()); });
}

}  // namespace kwind::web
