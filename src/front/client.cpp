// The front of a client: a state machine around one host::Client at a time.
//
//   connecting -> connected -> resuming -> connected      the server kept the peer
//                                 |
//   connecting <- waiting <- - - -+                       it did not, or no answer
//   any state -> closed                                   close(), or a refusal that repeats itself
//
// A transport without an answer gives way to the next one after `next_transport_after`; the last
// one has its whole handshake timeout.
#include "kwind/client.h"

#include <fmt/format.h>

#include <algorithm>

#include "front/key_file.h"
#include "kwind/io/clock.h"
#include "kwind/io/tcp_transport.h"
#include "kwind/io/udp_transport.h"

namespace kwind {

struct Client::Plan {
  ClientOptions options;
  Endpoint server;
  std::size_t transport = 0;  // index into options.transports
  Time attempt_began{};
  Time retry_at{};
  Duration back_off{0};
  Errc code = Errc::none;  // of the newest end
  std::string reason;
};

namespace {

// TCP or UDP, or whatever the program opens.
Result<std::unique_ptr<io::PollableTransport>> open_transport(const ClientOptions& options,
                                                              link::TransportKind kind,
                                                              const Endpoint& server) {
  if (options.open_transport) return options.open_transport(server);
  if (kind == link::TransportKind::stream) {
    auto made = io::TcpTransport::connect(server);
    if (!made) return fail(made.error());
    return std::unique_ptr<io::PollableTransport>(std::move(*made));
  }
  auto made = io::UdpTransport::open(io::local_for(server));
  if (!made) return fail(made.error());
  return std::unique_ptr<io::PollableTransport>(std::move(*made));
}

// Another attempt would get the same answer.
bool is_final(Errc code) {
  switch (code) {
    case Errc::closed_here:
    case Errc::closed_by_peer:
    case Errc::replaced:
    case Errc::wrong_key:
    case Errc::protocol_name:
    case Errc::schema_mismatch:
    case Errc::link_version:
    case Errc::state_version:
    case Errc::mode_differs:
    case Errc::ticket_missing:
    case Errc::ticket_invalid:
    case Errc::not_loopback:
    case Errc::too_many_faults: return true;
    default: return false;
  }
}

// A ticket is fetched for attempts that need one: it may be good for one connection only.
host::ClientOptions host_options(const ClientOptions& options, bool with_ticket) {
  host::ClientOptions made = options.host;
  if (with_ticket && options.ticket) made.ticket = options.ticket();
  return made;
}

}  // namespace

// Address and key are checked here; whether a server answers shows later.
tl::expected<std::unique_ptr<Client>, OpenError> Client::open(const schema::ProtocolInfo& protocol,
                                                              const ClientOptions& options) {
  KWIND_ASSERT(!options.transports.empty());
  auto plan = std::make_unique<Plan>();
  plan->options = options;
  const auto server = io::resolve(options.server);
  if (!server) {
    return tl::unexpected(
        OpenError{server.error(), fmt::format("server `{}`: {}; write HOST:PORT", options.server,
                                              error_info(server.error()).text)});
  }
  plan->server = *server;
  if (!options.host.plaintext) {
    auto key = link::parse_public_key(options.server_key);
    if (!key) key = link::parse_public_key(text_of_file(options.server_key));
    if (!key) {
      return tl::unexpected(
          OpenError{key.error(), fmt::format("server key `{}`: {}; give the key or a file with it",
                                             options.server_key, error_info(key.error()).text)});
    }
    plan->options.host.server_key = *key;
  }
  auto transport = open_transport(options, options.transports.front(), *server);
  if (!transport) {
    return tl::unexpected(OpenError{
        transport.error(),
        fmt::format("server `{}`: {}", options.server, error_info(transport.error()).text)});
  }
  const Time now = io::now();
  plan->attempt_began = now;
  return std::unique_ptr<Client>(new Client(std::move(*transport), protocol, std::move(plan), now));
}

// Handlers of this class come first, so that the state is right when the program's run.
Client::Client(std::unique_ptr<io::PollableTransport> opened, const schema::ProtocolInfo& protocol,
               std::unique_ptr<Plan> plan, Time now)
    : detail::OwnedTransport{std::move(opened)},
      host::Client(*transport, plan->server, protocol, now, host_options(plan->options, true)),
      plan_(std::move(plan)) {
  on_connect([this] {
    plan_->back_off = Duration{0};
    set_state(ConnectionState::connected, Errc::none, {});
  });
  on_disconnect([this](Errc code, std::string_view reason) {
    plan_->code = code;
    plan_->reason = reason;
  });
}
Client::~Client() = default;

void Client::on_state(std::function<void(ConnectionState, Errc, std::string_view)> handler) {
  on_state_.add(std::move(handler));
}

link::TransportKind Client::transport_kind() const {
  return transport->is_stream() ? link::TransportKind::stream : link::TransportKind::datagrams;
}

// Handlers are called for changes alone.
void Client::set_state(ConnectionState state, Errc code, std::string_view reason) {
  if (state == state_) return;
  state_ = state;
  on_state_.each([&](const auto& handler) { run_guarded([&] { handler(state, code, reason); }); });
}

// Opens a transport and a connection in place of the present ones.
void Client::attempt(Time now) {
  const auto token = state_ == ConnectionState::resuming ? resume() : std::nullopt;
  auto made =
      open_transport(plan_->options, plan_->options.transports[plan_->transport], plan_->server);
  if (!made) {
    plan_->retry_at = now + plan_->options.longest_retry;
    return set_state(ConnectionState::waiting, made.error(), error_info(made.error()).text);
  }
  host::ClientOptions options = host_options(plan_->options, !token);
  if (token) options.resume = token->secret;
  ++attempts_;
  plan_->attempt_began = now;
  reconnect(**made, plan_->server, now, options);
  transport = std::move(*made);  // the old one was in use until here
  if (state_ == ConnectionState::waiting) set_state(ConnectionState::connecting, Errc::none, {});
}

// After an end: a resume, another transport, a wait, or the end for good.
void Client::ended_at(Time now) {
  const Errc code = plan_->code;
  const bool had_ticket = plan_->options.ticket != nullptr;
  const bool ticket_may_be_renewed =
      had_ticket && (code == Errc::ticket_expired || code == Errc::ticket_used);
  const bool is_over =
      (is_final(code) || code == Errc::ticket_expired || code == Errc::ticket_used) &&
      !ticket_may_be_renewed;
  if (is_over || !plan_->options.reconnect) {
    return set_state(ConnectionState::closed, code, plan_->reason);
  }
  if (state_ == ConnectionState::connected && resume()) {
    set_state(ConnectionState::resuming, code, plan_->reason);
    return attempt(now);
  }
  if (code == Errc::handshake_timeout || code == Errc::transport_ended) {
    plan_->transport = (plan_->transport + 1) % plan_->options.transports.size();
  }
  plan_->back_off = plan_->back_off == Duration{0}
                        ? plan_->options.first_retry
                        : std::min(plan_->back_off * 2, plan_->options.longest_retry);
  plan_->retry_at = now + plan_->back_off;
  set_state(ConnectionState::waiting, code, plan_->reason);
}

// Between connections only the clock counts.
void Client::step(Time now) {
  if (state_ == ConnectionState::waiting) {
    if (now < plan_->retry_at) return;
    attempt(now);
    if (state_ == ConnectionState::waiting) return;
  }
  if (state_ == ConnectionState::closed) return;
  receive(now);
  if (ended()) {
    ended_at(now);
    if (state_ == ConnectionState::waiting || state_ == ConnectionState::closed) return;
  }
  const bool is_last = plan_->transport + 1 == plan_->options.transports.size();
  if (state_ == ConnectionState::connecting && !is_last &&
      now - plan_->attempt_began >= plan_->options.next_transport_after) {
    ++plan_->transport;
    attempt(now);
  }
  flush(now);
}

// While waiting there is no connection to close.
void Client::close(std::string_view reason) {
  host::Client::close(reason);
  if (state_ == ConnectionState::waiting) {
    set_state(ConnectionState::closed, Errc::closed_here, reason);
  }
}

// Until something arrives, or it is time to try again.
void Client::wait(Duration longest) {
  const Time until = io::now() + longest;
  if (state_ == ConnectionState::waiting) {
    return io::wait_for_any({}, std::min(until, plan_->retry_at));
  }
  Time next = next_wakeup();
  if (state_ == ConnectionState::connecting) {
    next = std::min(next, plan_->attempt_began + plan_->options.next_transport_after);
  }
  transport->wait(std::min(until, next));
}

// Until close(), or an end after which no attempt would help.
void Client::run() {
  while (state_ != ConnectionState::closed) {
    step(io::now());
    wait(std::chrono::milliseconds(100));
  }
}

}  // namespace kwind
