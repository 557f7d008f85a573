// Tries a connection step by step, each of which can fail for a reason of its own: the name, the
// route, the port, datagrams of full size, the mode, the key, the handshake, time and loss.
#include "diagnose/diagnose.h"

#include <fmt/format.h>

#include <algorithm>
#include <memory>

#include "address/address.h"
#include "kwind/capture/account.h"
#include "kwind/host/options.h"
#include "kwind/io/clock.h"
#include "kwind/io/probe.h"
#include "kwind/io/tcp_transport.h"
#include "kwind/io/udp_transport.h"

namespace kwind::tool {
namespace {

using namespace std::chrono_literals;
using Found = Step::Found;

constexpr unsigned kCopies = 4;  // the last is given two seconds

double ms(Duration duration) {
  return std::chrono::duration<double, std::milli>(duration).count();
}

// Without a description any protocol name does: the refusal shows that the key is right.
link::Identity identity_of(const schema::Protocol* protocol) {
  link::Identity identity;
  if (protocol == nullptr) {
    identity.name = "kwind diagnose";
    identity.versions.push_back({1, {}});
    return identity;
  }
  identity.name = protocol->name;
  identity.payload_version = schema::kStateVersion;
  for (std::uint32_t v = protocol->version; v >= schema::oldest_version(*protocol); --v) {
    const auto version = static_cast<std::uint16_t>(v);
    identity.versions.push_back({version, schema::digest_of(*protocol, version)});
  }
  for (const schema::DeclarationInfo& row : schema::declaration_digests(*protocol)) {
    identity.declarations.push_back({std::string(row.name), row.from, row.digest});
  }
  return identity;
}

// Fills datagrams to the brim, so that the path's MTU is looked for and losses are counted.
class Ballast final : public link::PayloadSource {
 public:
  // Datagrams of a fixed size, to see how many arrive.
  std::optional<std::uint64_t> fill(Time, bits::Writer& out) override {
    if (left_ == 0) return std::nullopt;
    --left_;
    while (out.room_bits() >= 64) out.put(0, 64);
    return ++token_;
  }
  void allow(unsigned datagrams) { left_ = datagrams; }

 private:
  unsigned left_ = 0;
  std::uint64_t token_ = 0;
};

class Diagnosis {
 public:
  Diagnosis(const DiagnoseOptions& options, const std::function<void(const Step&)>& tell)
      : options_(options), tell_(tell) {}

  bool run() {
    return name() && (is_stream() ? open_stream() : probe_server()) &&
           (can_go_on_ ? handshake() : true);
  }

 private:
  bool fine(const char* step, std::string text) {
    tell_({step, Found::fine, std::move(text)});
    return true;
  }
  bool wrong(const char* step, std::string text, std::string advice) {
    tell_({step, Found::wrong, std::move(text), std::move(advice)});
    return false;
  }
  void unknown(const char* step, std::string text) {
    tell_({step, Found::unknown, std::move(text)});
  }

  // The address, and what the resolver makes of it.
  bool name() {
    const auto address = parse_server_address(options_.address);
    if (!address) {
      return wrong("name",
                   fmt::format("{} is not HOST:PORT or ws://HOST:PORT/PATH, or no such host",
                               options_.address),
                   "check the spelling, and that names can be looked up here");
    }
    address_ = *address;
    server_ = address_.endpoint;
    return fine("name", server_.text() == options_.address
                            ? "an address as it stands"
                            : fmt::format("{} is {}", options_.address, server_.text()));
  }

  [[nodiscard]] bool is_stream() const { return options_.tcp || address_.is_web_socket(); }

  // An attempt with fresh randomness.
  link::ConnectOptions who() const {
    link::ConnectOptions who{identity_of(options_.protocol), io::random_secret()};
    // Any key will do to say hello; which one it was is seen only later.
    if (!options_.plaintext) who.server_key = options_.key.value_or(link::PublicKey{});
    who.transport_kind = is_stream() ? link::TransportKind::stream : link::TransportKind::datagrams;
    who.ticket = options_.ticket;
    return who;
  }
  // Channels of the description, or none.
  link::LinkOptions link_options() const {
    link::LinkOptions options;
    if (options_.protocol != nullptr) {
      options.channels = capture::channel_specs(*options_.protocol);
    } else {
      options.channels = {{Delivery::unreliable}};
    }
    options.tags = 1;
    return options;
  }

  // Whether anybody answers at the address, before keys matter.
  bool probe_server() {
    // A hello of its own, so that refusals of routers and of the machine are heard.
    const Time start = io::now();
    link::Link link = link::Link::connect(who(), link_options(), start);
    std::array<std::byte, link::kMaxDatagramBytes> hello{};
    const std::size_t size = link.poll_datagram(start, hello);
    const auto probe_result = io::probe(server_, std::span(hello).first(size), kCopies);
    if (!probe_result) {
      return wrong("route", std::string(error_info(probe_result.error()).text),
                   "check that this machine has a network");
    }
    if (probe_result->how == io::ProbeResult::unreachable) {
      return wrong("route", fmt::format("no way leads to {}", server_.text()),
                   "check the address, and this machine's routes and own firewall");
    }
    fine("route", fmt::format("from {}", probe_result->from.text()));
    if (probe_result->how == io::ProbeResult::nobody_listens) {
      return wrong(
          "port",
          fmt::format("the machine is there, and nobody listens on UDP port {}", server_.port),
          "start the server, or ask for its port; is it bound to this address?");
    }
    if (probe_result->how == io::ProbeResult::silent) {
      return wrong(
          "port",
          fmt::format("nothing came back in {} tries: a firewall drops the "
                      "datagrams, or the machine is down, or what listens there "
                      "is no server of this kind",
                      probe_result->copies),
          fmt::format("let UDP port {} through on the way; `kwind record --port {}` on the "
                      "server shows whether anything arrives",
                      server_.port, server_.port));
    }
    fine("port", fmt::format("answers after {:.1f} ms{}", ms(probe_result->round_trip),
                             probe_result->copies > 1
                                 ? fmt::format(", to copy {} of the hello", probe_result->copies)
                                 : ""));
    return on_first(link, probe_result->answer);
  }

  // What the answer to the hello says about the server.
  bool on_first(link::Link& link, std::span<const std::byte> answer) {
    const Errc error = link.receive(io::now(), answer);
    Errc refused = Errc::none;
    std::string text;
    while (const auto event = link.poll_event()) {
      if (event->kind != link::Event::Kind::closed) continue;
      refused = event->code;
      text = event->text;
    }
    if (refused == Errc::link_version) {
      return wrong("link version", text, "bring client and server to the same release");
    }
    if (error != Errc::none) {
      return wrong(
          "link version",
          fmt::format("what came back is no answer to a hello: {}", error_info(error).text),
          "something else listens there; ask for the server's port");
    }
    fine("link version", fmt::format("{}, as here", link::kLinkVersion));
    if (refused == Errc::mode_differs) {
      if (options_.plaintext) {
        return wrong("mode", "this server encrypts its datagrams",
                     "leave --plaintext out, and give its public key with --server-key");
      }
      return wrong("mode", "this server sends plaintext: nothing is encrypted",
                   "say --plaintext to go on, or start the server with a key");
    }
    fine("mode", options_.plaintext ? "plaintext, as asked for" : "encrypted");
    if (!options_.plaintext && !options_.key) {
      unknown("key", "not checked: without --server-key the handshake ends here, after the cookie");
      can_go_on_ = false;
    }
    return true;
  }

  // TCP or the web socket instead of a datagram.
  bool open_stream() {
    Errc error = Errc::none;
    if (address_.is_web_socket()) {
      auto opened = open_transport_to(address_, {});
      if (opened) stream_ = std::move(*opened);
      if (!opened) error = opened.error();
    } else {
      auto opened = io::TcpTransport::connect(server_);
      if (opened) stream_ = std::move(*opened);
      if (!opened) error = opened.error();
    }
    if (error != Errc::none) {
      return wrong("port", std::string(error_info(error).text), "check the address");
    }
    if (!options_.plaintext && !options_.key) {
      unknown("key", "not checked: over a stream the handshake needs --server-key from its start");
      can_go_on_ = false;
    }
    return true;
  }

  // The stream that was opened, or a UDP socket.
  io::PollableTransport* port() {
    if (stream_) return stream_.get();
    if (!udp_) {
      auto opened = io::UdpTransport::open(Endpoint::any(0));
      if (!opened) return nullptr;
      udp_ = std::move(*opened);
    }
    return udp_.get();
  }

  // One turn of the pump. False once the connection has ended.
  bool turn(link::Link& link, io::PollableTransport& port, Time until) {
    Time now = io::now();
    port.wait(std::min({until, link.next_wakeup(), now + 20ms}));
    now = io::now();
    while (const auto received = port.receive(now)) {
      if (received->from == server_) (void)link.receive(now, received->bytes);
    }
    while (port.take_ended()) link.transport_ended(now);
    if (now >= link.next_wakeup()) link.wake(now);
    while (const auto event = link.poll_event()) {
      if (event->kind != link::Event::Kind::closed) continue;
      end_ = event->code;
      end_text_ = event->text;
    }
    std::array<std::byte, link::kMaxDatagramBytes> out{};
    while (const std::size_t size = link.poll_datagram(now, out)) {
      port.send(now, server_, std::span(out).first(size));
    }
    port.flush(now);
    return link.state() != link::State::closed;
  }

  // The handshake until its end, and how it ended.
  bool handshake() {
    io::PollableTransport* const socket = port();
    if (socket == nullptr) return wrong("handshake", "no socket can be opened here", "");
    link::Link link = link::Link::connect(who(), link_options(), io::now());
    const Time discard = io::now() + 6s;
    while (link.state() == link::State::greeting && turn(link, *socket, discard)) {
    }
    if (link.state() == link::State::closed && end_ == Errc::transport_ended &&
        address_.is_web_socket()) {
      return wrong("port",
                   fmt::format("no web socket at {}: nobody listens there, the path is another, or "
                               "with wss the certificate is not trusted here",
                               options_.address),
                   "the server's path is /kwind unless WebSocketOptions::path says another; "
                   "`curl -v` with http in place of ws shows the answer");
    }
    if (link.state() == link::State::closed && end_ == Errc::transport_ended) {
      return wrong("port",
                   fmt::format("no stream to {}: nobody listens on TCP port {}, or it was "
                               "closed at once",
                               server_.text(), server_.port),
                   "start the server with a TCP port, or leave --tcp out");
    }
    if (is_stream()) {
      fine("port", address_.is_web_socket() ? "a web socket is open" : "a stream is open");
    }
    if (link.state() != link::State::open) return explain_refusal();
    if (!options_.plaintext) fine("key", "the server has proven that it holds the secret half");
    if (options_.protocol != nullptr) {
      fine("description",
           fmt::format("version {} of `{}` on both ends", link.version(), options_.protocol->name));
    }
    fine("ticket", options_.ticket.empty() ? "none was asked for" : "accepted");
    fine("connection", fmt::format("open, {}", link.protection()));
    return measure(link, *socket);
  }

  // From the code of the refusal to what is to be done.
  bool explain_refusal() {
    // Whoever refuses after the offer was opened holds the key.
    const bool opened = end_ != Errc::wrong_key && end_ != Errc::handshake_timeout &&
                        end_ != Errc::server_busy && end_ != Errc::mode_differs;
    if (opened && !options_.plaintext)
      fine("key", "the server has opened what was encrypted for it");
    const std::string text = end_text_.empty() ? std::string(error_info(end_).text) : end_text_;
    switch (end_) {
      case Errc::wrong_key:
        return wrong("key", "this is not the public key of that server",
                     "ask for its present one: server.pub of `kwind keys`");
      case Errc::protocol_name:
        if (options_.protocol == nullptr) {
          unknown("description", text + "; give its FILE.kw to go on");
          return true;
        }
        return wrong("description", text, "connect to a server of the same game");
      case Errc::schema_mismatch:
        return wrong("description", text, "`kwind compare` shows what differs");
      case Errc::ticket_missing:
      case Errc::ticket_invalid:
      case Errc::ticket_expired:
      case Errc::ticket_used:
        return wrong("ticket", std::string(error_info(end_).text),
                     "give one with --ticket: `kwind ticket issue`, or the login service");
      case Errc::handshake_timeout:
        return wrong("handshake", text, "the path loses much, or the server is overloaded");
      default: return wrong("connection", host::explain_end(end_, text), "");
    }
  }

  // Round trip, loss and throughput over some seconds.
  bool measure(link::Link& link, io::PollableTransport& port) {
    Ballast ballast;
    const Time end = io::now() + Duration(static_cast<Duration::rep>(options_.seconds * 1e9));
    for (Time next = io::now(); io::now() < end && link.state() == link::State::open;) {
      if (io::now() >= next) {
        next += 50ms;
        ballast.allow(1);
        link.schedule_payload(&ballast, 1);
      }
      if (!turn(link, port, next)) break;
    }
    const link::Stats stats = link.stats();
    if (link.state() == link::State::open) {
      link.close(io::now(), "diagnosis done");
      const Time discard = io::now() + 2s;
      while (io::now() < discard && turn(link, port, discard)) {
      }
    } else {
      return wrong("connection", host::explain_end(end_, end_text_), "");
    }
    if (stats.smoothed_rtt > Duration{0}) {
      fine("round trip",
           fmt::format("{:.1f} ms, at best {:.1f}, varying by {:.1f}", ms(stats.smoothed_rtt),
                       ms(stats.min_rtt), ms(stats.rtt_variation)));
    }
    if (is_stream()) return true;
    fine("datagrams", fmt::format("up to {} bytes pass", stats.mtu));
    const double loss = stats.datagrams_sent == 0
                            ? 0
                            : 100.0 * static_cast<double>(stats.packets_lost) /
                                  static_cast<double>(stats.datagrams_sent);
    const std::string text = fmt::format("{} of {} datagrams to the server, {:.1f} %",
                                         stats.packets_lost, stats.datagrams_sent, loss);
    if (loss < 5) return fine("loss", text);
    return wrong("loss", text, "the path is bad or too narrow; `kwind lag` can imitate it");
  }

  const DiagnoseOptions& options_;
  const std::function<void(const Step&)>& tell_;
  Endpoint server_;
  bool can_go_on_ = true;
  ServerAddress address_;
  std::unique_ptr<io::PollableTransport> stream_;
  std::unique_ptr<io::UdpTransport> udp_;
  Errc end_ = Errc::none;
  std::string end_text_;
};

}  // namespace

bool diagnose(const DiagnoseOptions& options, const std::function<void(const Step&)>& tell) {
  return Diagnosis(options, tell).run();
}

}  // namespace kwind::tool
