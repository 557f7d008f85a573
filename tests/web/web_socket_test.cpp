// The web socket transport against clients that speak byte by byte, right and wrong.
#include "kwind/web/web_socket_transport.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>

#include "host_test.h"
#include "kit/sweep.h"
#include "kwind/io/clock.h"
#include "kwind/kwind.h"

namespace kwind::web {
namespace web_socket_test {

using namespace std::chrono_literals;

constexpr std::string_view kUpgrade =
    "GET /kwind HTTP/1.1\r\nHost: harbour.example\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n"
    "Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: aGVsbG8gd29ybGQgaGVsbA==\r\n"
    "Sec-WebSocket-Protocol: kestrel-wind\r\n";

std::string request_with(std::string_view headers) {
  return fmt::format("{}{}\r\n", kUpgrade, headers);
}

// A stream that is driven byte by byte, in the thread of the transport.
class Raw {
 public:
  explicit Raw(WebSocketTransport& transport) : transport_(transport) {
    socket_ = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in to{};
    to.sin_family = AF_INET;
    to.sin_port = htons(transport.local().port);
    to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    EXPECT_EQ(::connect(socket_, reinterpret_cast<const sockaddr*>(&to), sizeof to), 0);
    ::fcntl(socket_, F_SETFL, O_NONBLOCK);
  }
  ~Raw() { close(); }
  Raw(const Raw&) = delete;
  Raw& operator=(const Raw&) = delete;

  void close() {
    if (socket_ >= 0) ::close(std::exchange(socket_, -1));
  }
  void send(std::string_view bytes) {
    while (!bytes.empty()) {
      const auto sent = ::send(socket_, bytes.data(), bytes.size(), MSG_NOSIGNAL);
      if (sent > 0) bytes.remove_prefix(static_cast<std::size_t>(sent));
      pump();
      if (sent < 0 && errno != EAGAIN) return;
    }
  }
  // What arrives until `wanted` is in it, the stream ends, or half a second has passed.
  const std::string& read_until(std::string_view wanted) {
    const Time end = io::now() + 500ms;
    while (io::now() < end && (wanted.empty() || heard_.find(wanted) == std::string::npos)) {
      pump();
      char memory[4096];
      const auto got = ::recv(socket_, memory, sizeof memory, 0);
      if (got == 0) {
        ended_ = true;
        break;
      }
      if (got > 0) heard_.append(memory, static_cast<std::size_t>(got));
    }
    return heard_;
  }
  void forget() { heard_.clear(); }
  [[nodiscard]] bool ended() const { return ended_; }

  // A web socket that is open.
  void open() {
    send(request_with(""));
    EXPECT_NE(read_until("\r\n\r\n").find("101 Switching"), std::string::npos) << heard_;
    forget();
  }
  // A masked frame (RFC 6455, 5.2), with a mask of zeros.
  void frame(unsigned char first, std::string_view payload, bool masked = true) {
    std::string bytes(1, static_cast<char>(first));
    const char mask_bit = masked ? '\x80' : '\0';
    if (payload.size() < 126) {
      bytes += static_cast<char>(static_cast<char>(payload.size()) | mask_bit);
    } else {
      bytes += static_cast<char>(126 | mask_bit);
      bytes += static_cast<char>(payload.size() >> 8);
      bytes += static_cast<char>(payload.size() & 0xff);
    }
    if (masked) bytes.append(4, '\0');
    bytes += payload;
    send(bytes);
  }
  // The code of the close frame that arrives; 0: there was none.
  unsigned close_code() {
    read_until("");
    const auto at = heard_.find('\x88');
    if (at == std::string::npos || heard_.size() < at + 4) return 0;
    const auto byte = [&](std::size_t i) {
      return unsigned{static_cast<unsigned char>(heard_[i])};
    };
    return byte(at + 2) << 8 | byte(at + 3);
  }

  std::vector<std::string> datagrams;
  Endpoint newest_from{};

 private:
  void pump() {
    while (const auto got = transport_.receive(io::now())) {
      newest_from = got->from;
      datagrams.emplace_back(reinterpret_cast<const char*>(got->bytes.data()), got->bytes.size());
    }
    transport_.flush(io::now());
  }

  WebSocketTransport& transport_;
  int socket_ = -1;
  bool ended_ = false;
  std::string heard_;
};

std::unique_ptr<WebSocketTransport> listen(WebSocketOptions options = {}) {
  auto made = WebSocketTransport::listen(Endpoint::loopback(0), options);
  EXPECT_TRUE(made.has_value());
  return std::move(*made);
}

std::string answer_to(WebSocketTransport& transport, const std::string& request) {
  Raw raw(transport);
  raw.send(request);
  const std::string heard = raw.read_until("");
  return heard.substr(0, heard.find("\r\n"));
}

std::string with(std::string text, std::string_view from, std::string_view to) {
  const auto at = text.find(from);
  return at == std::string::npos ? text : text.replace(at, from.size(), to);
}

TEST(WebSocket, RefusesWrongHandshakesWithTheirCodes) {
  auto transport = listen();
  const std::string good = request_with("");
  EXPECT_EQ(answer_to(*transport, good), "HTTP/1.1 101 Switching Protocols");
  EXPECT_EQ(answer_to(*transport, with(good, "GET", "POST")), "HTTP/1.1 426 Upgrade Required");
  EXPECT_EQ(answer_to(*transport, with(good, "/kwind", "/other")), "HTTP/1.1 404 Not Found");
  EXPECT_EQ(answer_to(*transport, with(good, "kestrel-wind", "chat")), "HTTP/1.1 400 Bad Request");
  EXPECT_EQ(answer_to(*transport, with(good, "Version: 13", "Version: 8")).substr(0, 10),
            "HTTP/1.1 4");
  EXPECT_EQ(answer_to(*transport, "GET /kwind HTTP/1.1\r\n\r\n"), "HTTP/1.1 426 Upgrade Required");
  EXPECT_EQ(answer_to(*transport, "this is no request\r\n\r\n"), "HTTP/1.1 400 Bad Request");
  const WebSocketCounts& counts = transport->web_socket_counts();
  EXPECT_EQ(counts.not_found, 1U);
  EXPECT_EQ(counts.bad_requests, 5U);
  EXPECT_EQ(counts.opened, 1U);
}

TEST(WebSocket, RefusesPagesFromElsewhere) {
  auto transport = listen({.origins = {"https://harbour.example"}});
  const auto from = [&](std::string_view origin) {
    return answer_to(*transport, request_with(fmt::format("Origin: {}\r\n", origin)));
  };
  EXPECT_EQ(from("https://harbour.example"), "HTTP/1.1 101 Switching Protocols");
  EXPECT_EQ(from("http://harbour.example"), "HTTP/1.1 101 Switching Protocols") << "its own host";
  EXPECT_EQ(from("https://harbour.example.elsewhere"), "HTTP/1.1 403 Forbidden");
  EXPECT_EQ(from("null"), "HTTP/1.1 403 Forbidden");
  EXPECT_EQ(transport->web_socket_counts().bad_origins, 2U);
}

TEST(WebSocket, EndsOversizedAndEndlessHeaders) {
  auto transport = listen({.handshake_timeout = 300ms});
  EXPECT_EQ(answer_to(*transport, fmt::format("{}X: {}", kUpgrade, std::string(9000, 'x'))),
            "HTTP/1.1 431 Request Header Fields Too Large");
  Raw slow(*transport);
  for (int i = 0; i < 4; ++i) {
    slow.send("G");
    slow.read_until("");
  }
  EXPECT_TRUE(slow.ended());
  const WebSocketCounts& counts = transport->web_socket_counts();
  EXPECT_EQ(counts.header_too_long, 1U);
  EXPECT_GE(counts.timeouts, 1U);
  EXPECT_EQ(transport->connections(), 0U);
}

TEST(WebSocket, ClosesWrongFramesWithTheirCodes) {
  auto transport = listen();
  const auto code_after = [&](auto&& work) {
    Raw raw(*transport);
    raw.open();
    work(raw);
    return raw.close_code();
  };
  EXPECT_EQ(code_after([](Raw& raw) { raw.frame(0x81, "hello"); }), 1003U) << "text";
  EXPECT_EQ(code_after([](Raw& raw) { raw.frame(0x82, ""); }), 1002U) << "empty";
  EXPECT_EQ(code_after([](Raw& raw) { raw.frame(0x82, std::string(1473, 'x')); }), 1009U);
  EXPECT_EQ(code_after([](Raw& raw) { raw.frame(0x82, "unmasked", false); }), 1002U);
  EXPECT_EQ(code_after([](Raw& raw) { raw.frame(0xf2, "reserved bits"); }), 1002U);
  EXPECT_EQ(code_after([](Raw& raw) { raw.frame(0x80, "continues nothing"); }), 1002U);
  EXPECT_EQ(code_after([](Raw& raw) {
              for (int i = 0; i < 40; ++i) raw.frame(0x89, "ping");
            }),
            1008U);
  const WebSocketCounts& counts = transport->web_socket_counts();
  EXPECT_EQ(counts.text_messages, 1U);
  EXPECT_EQ(counts.empty_messages, 1U);
  EXPECT_EQ(counts.bad_frames, 4U);
  EXPECT_EQ(counts.ping_floods, 1U);
}

TEST(WebSocket, ClosesWithItsCodeWhileAWriteIsInFlight) {
  auto transport = listen({.unsent_bytes = std::size_t{32} << 20});
  Raw raw(*transport);
  raw.open();
  raw.frame(0x82, "first");
  raw.read_until("");
  const std::vector<std::byte> bytes(1400, std::byte{1});
  // More than the system holds for a peer that reads nothing.
  for (int i = 0; i < 10000; ++i) transport->send(io::now(), raw.newest_from, bytes);
  transport->flush(io::now());
  raw.frame(0x81, "text");
  std::string heard;
  for (int i = 0; i < 20 && !raw.ended(); ++i) {
    heard = raw.read_until("");
  }
  EXPECT_TRUE(heard.ends_with("\x88\x02\x03\xeb")) << heard.size() << " bytes, then the close";
}

TEST(WebSocket, PutsLegalFragmentsTogether) {
  auto transport = listen();
  Raw raw(*transport);
  raw.open();
  raw.frame(0x02, "one ");
  raw.frame(0x89, "a ping between");
  raw.frame(0x00, "two ");
  raw.frame(0x80, "three");
  raw.frame(0x82, "whole");
  EXPECT_NE(raw.read_until("").find("\x8a"), std::string::npos) << "the pong";
  EXPECT_EQ(raw.datagrams, (std::vector<std::string>{"one two three", "whole"}));
}

TEST(WebSocket, ReportsTheEndWithAndWithoutACloseFrame) {
  auto transport = listen();
  for (const bool politely : {true, false}) {
    Raw raw(*transport);
    raw.open();
    EXPECT_EQ(transport->connections(), 1U);
    if (politely) {
      raw.frame(0x88, std::string("\x03\xe8", 2));
      EXPECT_EQ(raw.close_code(), 1000U);
    }
    raw.close();
    const Time end = io::now() + 2s;
    while (transport->connections() > 0 && io::now() < end) {
      transport->receive(io::now());
      transport->flush(io::now());
    }
    EXPECT_EQ(transport->connections(), 0U);
    EXPECT_TRUE(transport->take_ended().has_value());
  }
}

TEST(WebSocket, EndsAPeerThatDoesNotReadAndNoOther) {
  auto transport = listen({.unsent_bytes = 64 * 1024});
  Raw slow(*transport);
  slow.open();
  slow.frame(0x82, "slow");
  slow.read_until("");
  ASSERT_EQ(slow.datagrams, std::vector<std::string>{"slow"});
  Raw quick(*transport);
  quick.open();
  const std::vector<std::byte> bytes(1400, std::byte{1});
  for (int i = 0; i < 20000 && transport->web_socket_counts().too_slow == 0; ++i) {
    transport->send(io::now(), slow.newest_from, bytes);
    transport->flush(io::now());
  }
  EXPECT_EQ(transport->web_socket_counts().too_slow, 1U);
  EXPECT_EQ(transport->connections(), 1U);
  quick.frame(0x82, "still here");
  quick.read_until("");
  EXPECT_EQ(quick.datagrams, std::vector<std::string>{"still here"});
}

TEST(WebSocket, ForgetsThousandsOfHostileConnections) {
  auto transport = listen({.connections_per_address = 4096, .handshake_timeout = 200ms});
  const auto resident = [] {
    std::ifstream in("/proc/self/statm");
    std::size_t size = 0;
    std::size_t pages = 0;
    in >> size >> pages;
    return pages * 4096;
  };
  const auto rounds = static_cast<int>(kit::sweep_size(1000, 10000));
  const std::string good = request_with("");
  std::size_t before = 0;
  for (int i = 0; i < rounds; ++i) {
    Raw raw(*transport);
    switch (i % 6) {
      case 0: raw.send(good); break;
      case 1: raw.send(good.substr(0, static_cast<std::size_t>(i) % good.size())); break;
      case 2: raw.send(std::string(200, static_cast<char>(i))); break;
      case 3:
        raw.send(good);
        raw.frame(0x81, "text");
        break;
      case 4:
        raw.send(good);
        raw.send(std::string(300, '\xff'));
        break;
      default: break;
    }
    if (i == rounds / 2) before = resident();
  }
  const Time end = io::now() + 5s;
  while (transport->connections() > 0 && io::now() < end) {
    transport->receive(io::now());
    transport->flush(io::now());
  }
  EXPECT_EQ(transport->connections(), 0U);
  if (!kit::kSanitized) {  // AddressSanitizer keeps what was freed for a while
    EXPECT_LT(resident(), before + (std::size_t{4} << 20)) << rounds << " connections";
  }
  EXPECT_EQ(transport->web_socket_counts().accepted, static_cast<std::uint64_t>(rounds));
}

TEST(WebSocket, ParsesAddresses) {
  const auto plain = WebSocketAddress::parse("ws://harbour.example:8080/pier");
  ASSERT_TRUE(plain.has_value());
  EXPECT_EQ(plain->host, "harbour.example");
  EXPECT_EQ(plain->port, 8080);
  EXPECT_EQ(plain->path, "/pier");
  EXPECT_FALSE(plain->tls);
  const auto secure = WebSocketAddress::parse("wss://[::1]");
  ASSERT_TRUE(secure.has_value());
  EXPECT_EQ(secure->host, "[::1]");
  EXPECT_EQ(secure->port, 443);
  EXPECT_EQ(secure->path, "/kwind");
  for (const char* wrong : {"http://a", "ws://", "ws://a:0", "ws://a:70000", "ws://a:b"}) {
    EXPECT_EQ(WebSocketAddress::parse(wrong).error(), Errc::bad_address) << wrong;
  }
}

// A native client and a server through the transport, with and without TLS.
class Ends : public testing::TestWithParam<bool> {};

TEST_P(Ends, TalkThroughIt) {
  WebSocketOptions options;
  const auto folder = std::filesystem::temp_directory_path() / "kwind-web-socket-test";
  std::filesystem::create_directories(folder);
  const std::string certificate = (folder / "cert.pem").string();
  const std::string key = (folder / "key.pem").string();
  if (GetParam()) {
    const std::string command =
        "openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 2 -subj "
        "/CN=localhost -addext subjectAltName=DNS:localhost -out " +
        certificate + " -keyout " + key + " 2>/dev/null";
    ASSERT_EQ(std::system(command.c_str()), 0);  // NOLINT: a test
    options.certificate_file = certificate;
    options.private_key_file = key;
  }
  auto server = Server::open(host_test::kProtocol, {.listen = {"127.0.0.1:0"}});
  ASSERT_TRUE(server.has_value());
  (*server)->add_transport(listen(options));
  const Endpoint at = (*server)->address(1);
  WebSocketAddress address{GetParam(), "localhost", at.port, "/kwind"};
  const auto client_with = [&](const std::string& authority) {
    ClientOptions made{.server = at.text(), .server_key = (*server)->public_key()};
    made.open_transport =
        [=](const Endpoint& to) -> Result<std::unique_ptr<io::PollableTransport>> {
      auto transport = WebSocketTransport::connect(to, address, authority);
      if (!transport) return fail(transport.error());
      return std::unique_ptr<io::PollableTransport>(std::move(*transport));
    };
    made.reconnect = false;
    return *Client::open(host_test::kProtocol, made);
  };
  auto client = client_with(certificate);
  std::vector<std::string> heard;
  (*server)->on<host_test::Say>([&](Peer peer, const host_test::Say& say) {
    (void)(*server)->send(peer, host_test::Said{1, say.number, say.words + "!"});
  });
  client->on<host_test::Said>([&](const host_test::Said& said) { heard.push_back(said.words); });
  bool sent = false;
  const Time end = io::now() + 5s;
  while (heard.empty() && io::now() < end) {
    (*server)->step(io::now());
    client->step(io::now());
    if (client->connected() && !std::exchange(sent, true)) {
      EXPECT_EQ(client->send(host_test::Say{1, "ahoy"}), Errc::none);
    }
  }
  EXPECT_EQ(heard, std::vector<std::string>{"ahoy!"});
  EXPECT_EQ(client->transport_kind(), link::TransportKind::stream);
  if (GetParam()) {
    // A certificate that nobody trusts ends the attempt.
    auto doubtful = client_with("");
    const Time until = io::now() + 5s;
    while (doubtful->connection_state() != ConnectionState::closed && io::now() < until) {
      (*server)->step(io::now());
      doubtful->step(io::now());
    }
    EXPECT_EQ(doubtful->connection_state(), ConnectionState::closed);
  }
  std::filesystem::remove_all(folder);
}

INSTANTIATE_TEST_SUITE_P(PlainAndTls, Ends, testing::Bool());

}  // namespace web_socket_test
}  // namespace kwind::web
