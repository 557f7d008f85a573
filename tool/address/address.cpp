// Addresses as commands take them, and a transport to each.
#include "address/address.h"

#include "kwind/io/udp_transport.h"
#ifdef KWIND_HAS_WEB
#include "kwind/web/web_socket_transport.h"
#endif

namespace kwind::tool {

// HOST:PORT is resolved at once; of a web socket's URL the host is resolved and the rest is kept.
Result<ServerAddress> parse_server_address(const std::string& text) {
  if (!text.starts_with("ws://") && !text.starts_with("wss://")) {
    const auto endpoint = io::resolve(text);
    if (!endpoint) return fail(endpoint.error());
    return ServerAddress{io::reachable(*endpoint), {}};
  }
#ifdef KWIND_HAS_WEB
  const auto address = web::WebSocketAddress::parse(text);
  if (!address) return fail(address.error());
  const auto endpoint = io::resolve(address->host + ":" + std::to_string(address->port));
  if (!endpoint) return fail(endpoint.error());
  return ServerAddress{io::reachable(*endpoint), text};
#else
  return fail(Errc::bad_address);
#endif
}

// A datagram socket, a stream or a web socket, as the address says.
Result<std::unique_ptr<io::PollableTransport>> open_transport_to(
    [[maybe_unused]] const ServerAddress& server, const Endpoint& local) {
#ifdef KWIND_HAS_WEB
  if (server.is_web_socket()) {
    const auto address = web::WebSocketAddress::parse(server.url);
    if (!address) return fail(address.error());
    auto made = web::WebSocketTransport::connect(server.endpoint, *address);
    if (!made) return fail(made.error());
    return std::unique_ptr<io::PollableTransport>(std::move(*made));
  }
#endif
  auto made = io::UdpTransport::open(local);
  if (!made) return fail(made.error());
  return std::unique_ptr<io::PollableTransport>(std::move(*made));
}

}  // namespace kwind::tool
