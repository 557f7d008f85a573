// Where a command connects to: "HOST:PORT" over UDP, "ws://HOST:PORT/PATH" or "wss://..." over a
// web socket.
#pragma once
#include <memory>
#include <string>

#include "kwind/core/errors.h"
#include "kwind/io/pollable_transport.h"

namespace kwind::tool {

struct ServerAddress {
  Endpoint endpoint{};  ///< that packets go to
  std::string url{};    ///< of a web socket; empty: UDP

  [[nodiscard]] bool is_web_socket() const { return !url.empty(); }
  [[nodiscard]] std::string text() const { return is_web_socket() ? url : endpoint.text(); }
};

/// Blocks while a host name is resolved. Errors: bad_address; so is a web socket in a build without
/// KWIND_WEB.
Result<ServerAddress> parse_server_address(const std::string& text);

/// A transport for one client; over UDP from `local`. Errors: those of UdpTransport::open() and
/// WebSocketTransport::connect().
Result<std::unique_ptr<io::PollableTransport>> open_transport_to(const ServerAddress& server,
                                                                 const Endpoint& local);

}  // namespace kwind::tool
