// The front of a server: options in text to transports and keys, and the loop.
#include "kwind/server.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "front/key_file.h"
#include "kwind/io/clock.h"
#include "kwind/io/tcp_transport.h"
#include "kwind/io/udp_transport.h"

namespace kwind {

namespace {

// "udp:HOST:PORT", "tcp:HOST:PORT" or "HOST:PORT".
Result<std::unique_ptr<io::PollableTransport>> listen_at(std::string_view text) {
  const bool is_tcp = text.starts_with("tcp:");
  if (is_tcp || text.starts_with("udp:")) text.remove_prefix(4);
  const auto at = io::resolve(text);
  if (!at) return fail(at.error());
  if (is_tcp) {
    auto made = io::TcpTransport::listen(*at);
    if (!made) return fail(made.error());
    return std::unique_ptr<io::PollableTransport>(std::move(*made));
  }
  auto made = io::UdpTransport::open(*at);
  if (!made) return fail(made.error());
  return std::unique_ptr<io::PollableTransport>(std::move(*made));
}

}  // namespace

// Only regular files are read.
std::string text_of_file(const std::string& path) {
  // A pipe would block, a device might never end.
  std::error_code error;
  if (!std::filesystem::is_regular_file(path, error)) return {};
  constexpr std::size_t kMaxKeyFileBytes = 4096;
  std::string text(kMaxKeyFileBytes, '\0');
  std::ifstream in(path, std::ios::binary);
  in.read(text.data(), static_cast<std::streamsize>(text.size()));
  text.resize(static_cast<std::size_t>(in.gcount()));
  while (!text.empty() && static_cast<unsigned char>(text.back()) <= ' ') text.pop_back();
  return text;
}

// Keys first, then transports; the first that cannot be opened is named.
tl::expected<std::unique_ptr<Server>, OpenError> Server::open(const schema::ProtocolInfo& protocol,
                                                              const ServerOptions& options) {
  host::ServerOptions chosen = options.host;
  chosen.capacity = options.capacity;
  if (!chosen.plaintext) {
    Secret32 secret = io::random_secret();
    if (!options.secret_key_file.empty()) {
      const auto read = link::parse_secret_key(text_of_file(options.secret_key_file));
      if (!read) {
        return tl::unexpected(OpenError{
            read.error(), fmt::format("secret key file `{}`: {}; `kwind keys` writes server.key",
                                      options.secret_key_file, error_info(read.error()).text)});
      }
      secret = *read;
    }
    chosen.key = link::KeyPair::from_secret(secret);
  }
  KWIND_ASSERT(!options.listen.empty());
  std::vector<std::unique_ptr<io::PollableTransport>> opened;
  for (const std::string& text : options.listen) {
    auto transport = listen_at(text);
    if (!transport) {
      return tl::unexpected(OpenError{
          transport.error(),
          fmt::format("cannot listen on `{}`: {}", text, error_info(transport.error()).text)});
    }
    opened.push_back(std::move(*transport));
  }
  return std::unique_ptr<Server>(new Server(std::move(opened), protocol, chosen));
}

// The first transport belongs to the constructor of the base class.
Server::Server(std::vector<std::unique_ptr<io::PollableTransport>> opened,
               const schema::ProtocolInfo& protocol, const host::ServerOptions& options)
    : detail::OwnedTransports{std::move(opened)},
      host::Server(*transports.front(), protocol, options),
      public_key_(options.key ? link::key_text(options.key->public_key) : std::string()) {
  for (const auto& transport : transports) {
    if (transport != transports.front()) listen_on(*transport);
    polled_.push_back(transport.get());
  }
}
Server::~Server() = default;

// Web sockets and WebTransport come this way.
void Server::add_transport(std::unique_ptr<io::PollableTransport> transport) {
  listen_on(*transport);
  polled_.push_back(transport.get());
  transports.push_back(std::move(transport));
}

void Server::step(Time now) {
  receive(now);
  flush(now);
}

// Until a datagram, a timer, or wake() from another thread.
void Server::wait(Duration longest) {
  const std::array<int, 1> also{waker_.descriptor()};
  io::wait_for_any(polled_, std::min(next_wakeup(), io::now() + longest), also);
  waker_.clear();
}

void Server::wake() {
  waker_.wake();
}

// stop() may come from any thread and from a signal handler.
void Server::run() {
  // A stop() before run() counts: exchange() forgets it only once it has been obeyed.
  while (!stops_.exchange(false)) {
    step(io::now());
    wait(std::chrono::hours(1));
  }
}

void Server::stop() {
  stops_ = true;
  wake();
}

Endpoint Server::address(std::size_t index) const {
  KWIND_ASSERT(index < transports.size());
  return transports[index]->local();
}

std::string Server::public_key() const {
  return public_key_;
}

}  // namespace kwind
