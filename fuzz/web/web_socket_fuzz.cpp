// Bytes of a hostile client to the web socket transport: HTTP, TLS-less upgrades, frames. The first
// byte says whether a right handshake stands before the rest. Over a socket on loopback.
#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <string_view>

#include "kwind/core/assert.h"
#include "kwind/io/clock.h"
#include "kwind/web/web_socket_transport.h"

namespace {

using kwind::web::WebSocketTransport;

constexpr std::string_view kUpgrade =
    "GET /kwind HTTP/1.1\r\nHost: a\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n"
    "Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: aGVsbG8gd29ybGQgaGVsbA==\r\n"
    "Sec-WebSocket-Protocol: kestrel-wind\r\n\r\n";

WebSocketTransport& transport() {
  static const auto made = [] {
    kwind::web::WebSocketOptions options;
    options.connections_per_address = 100000;
    options.pages = [](std::string_view path) -> std::optional<kwind::web::Page> {
      if (path == "/") return kwind::web::Page{"text/plain", "page"};
      return std::nullopt;
    };
    return WebSocketTransport::listen(kwind::Endpoint::loopback(0), options);
  }();
  KWIND_ASSERT(made.has_value());
  return **made;
}

void pump() {
  for (int i = 0; i < 3; ++i) {
    while (const auto got = transport().receive(kwind::io::now())) {
      KWIND_ASSERT(!got->bytes.empty() && got->bytes.size() <= 1472);
      transport().send(kwind::io::now(), got->from, got->bytes);
    }
    transport().flush(kwind::io::now());
    while (transport().take_ended()) {
    }
  }
}

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  const int socket = ::socket(AF_INET, SOCK_STREAM, 0);
  sockaddr_in to{};
  to.sin_family = AF_INET;
  to.sin_port = htons(transport().local().port);
  to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (::connect(socket, reinterpret_cast<const sockaddr*>(&to), sizeof to) != 0) {
    ::close(socket);
    return 0;
  }
  ::fcntl(socket, F_SETFL, O_NONBLOCK);
  // No TIME_WAIT: thousands of connections a second would use up the ports.
  const linger at_once{1, 0};
  ::setsockopt(socket, SOL_SOCKET, SO_LINGER, &at_once, sizeof at_once);
  if ((data[0] & 1) != 0) {
    (void)::send(socket, kUpgrade.data(), kUpgrade.size(), MSG_NOSIGNAL);
    pump();
  }
  (void)::send(socket, data + 1, size - 1, MSG_NOSIGNAL);
  pump();
  char memory[4096];
  (void)::recv(socket, memory, sizeof memory, 0);
  ::close(socket);
  pump();
  return 0;
}
