// URLs of web sockets (RFC 6455, 3).
#include <charconv>

#include "kwind/web/web_socket_transport.h"

namespace kwind::web {

Result<WebSocketAddress> WebSocketAddress::parse(std::string_view url) {
  WebSocketAddress made;
  if (url.starts_with("wss://")) {
    made.tls = true;
    made.port = 443;
    url.remove_prefix(6);
  } else if (url.starts_with("ws://")) {
    url.remove_prefix(5);
  } else {
    return fail(Errc::bad_address);
  }
  const std::size_t slash = url.find('/');
  if (slash != std::string_view::npos) made.path = std::string(url.substr(slash));
  std::string_view host = url.substr(0, slash);
  const std::size_t bracket = host.rfind(']');
  const std::size_t colon = host.rfind(':');
  if (colon != std::string_view::npos && (bracket == std::string_view::npos || colon > bracket)) {
    const std::string_view digits = host.substr(colon + 1);
    const auto read = std::from_chars(digits.data(), digits.data() + digits.size(), made.port);
    if (read.ec != std::errc() || read.ptr != digits.data() + digits.size() || made.port == 0) {
      return fail(Errc::bad_address);
    }
    host = host.substr(0, colon);
  }
  if (host.empty()) return fail(Errc::bad_address);
  made.host = std::string(host);
  return made;
}

}  // namespace kwind::web
