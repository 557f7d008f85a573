// Client side of the handshake: hello, cookie, connect, accept, with retransmission.
//
//   hello    is repeated until a cookie comes (a stream leaves both out: it proves its address)
//   connect  is repeated, bit for bit, until an accept or a refusal comes
//
// Whatever comes that does not fit the attempt is counted and changes nothing: anybody on the path
// can send it.
#include "link/handshake/client_handshake.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/bits/reader.h"
#include "kwind/core/printable.h"

namespace kwind::link {
namespace {

constexpr Duration kFirstRetry = std::chrono::milliseconds(250);
// Not rarer: beside a flood that fills the server's buffers only one in some gets through.
constexpr Duration kRetry = std::chrono::milliseconds(350);
constexpr unsigned kMaxCookies = 8;  // a server that never likes its own cookie is not worth more

// The nonce names the attempt in every answer, so that answers of an earlier attempt are kept
// apart.
std::uint64_t nonce_from(const Secret32& seed) {
  return bits::Reader(derive(seed, "client nonce").bytes()).get(64);
}

}  // namespace

ClientHandshake::ClientHandshake(ConnectOptions options, Time now)
    : options_(std::move(options)), nonce_(nonce_from(options_.seed)), next_send_(now) {
  // There is no fallback to plaintext, and a ticket never travels in plaintext.
  KWIND_ASSERT(options_.server_key || (options_.ticket.empty() && !options_.resume));
  if (options_.transport_kind == TransportKind::stream)
    make_connect(Cookie{});  // a stream proves its address
}

// A refusal without encryption is believed only if it repeats this attempt's nonce.
ClientHandshake::Reply ClientHandshake::receive(Time now, std::span<const std::byte> datagram) {
  Reply reply;
  if (datagram.empty() || is_data(datagram)) {
    reply.error = datagram.empty() ? Errc::truncated : Errc::unexpected;
    return reply;
  }
  const auto form = form_of(datagram);
  if (!form) {
    reply.error = form.error();
    return reply;
  }
  switch (*form) {
    case Form::hello:
    case Form::connect:
    case Form::reset:
    case Form::lost: reply.error = Errc::unexpected; return reply;
    case Form::cookie: {
      const auto cookie = read_cookie(datagram);
      if (cookie) {
        take_cookie(now, *cookie, reply);
      } else {
        reply.error = cookie.error();
      }
      return reply;
    }
    case Form::accept: on_accept(now, datagram, reply); return reply;
    case Form::handshake_error: {
      const auto handshake_error = read_handshake_error(datagram);
      if (!handshake_error) {
        reply.error = handshake_error.error();
      } else if (handshake_error->client_nonce != nonce_ || handshake_error->code == Errc::none) {
        reply.error = Errc::unexpected;
      } else if (handshake_error->code == Errc::server_busy &&
                 options_.transport_kind == TransportKind::datagrams) {
        busy_ = true;  // its turn may come: the connect is repeated until the time is over
      } else {
        reply.refused = handshake_error->code;
        reply.text = error_info(handshake_error->code).text;
      }
      return reply;
    }
    case Form::versions: {
      const auto versions = read_versions(datagram);
      if (!versions) {
        reply.error = versions.error();
      } else if (versions->client_nonce != nonce_ ||
                 std::find(versions->known.begin(), versions->known.end(), kLinkVersion) !=
                     versions->known.end()) {
        reply.error = Errc::unexpected;
      } else {
        reply.refused = Errc::link_version;
        reply.text = fmt::format("the server knows link versions {}, this client {}",
                                 fmt::join(versions->known, ", "), kLinkVersion);
      }
      return reply;
    }
  }
  return reply;
}

// A new cookie begins the connect anew: the old one may have expired, or the server was restarted.
void ClientHandshake::take_cookie(Time now, const CookieReply& cookie, Reply& reply) {
  if (cookie.client_nonce != nonce_ || cookies_ >= kMaxCookies || cookie_ == cookie.cookie) {
    reply.error = Errc::unexpected;
    return;
  }
  ++cookies_;
  if (copies_ == 1) reply.rtt = now - last_sent_;
  copies_ = 0;
  next_send_ = now;
  make_connect(cookie.cookie);
}

// The whole connect is made once for each cookie and repeated bit for bit: the server recognises
// copies.
void ClientHandshake::make_connect(const Cookie& cookie) {
  cookie_ = cookie;
  const Opening opening{kLinkVersion, nonce_,
                        options_.server_key ? Mode::encrypted : Mode::plaintext,
                        options_.transport_kind};
  connect_.assign(kBaseDatagramBytes, std::byte{0});
  write_connect_head(opening, cookie, connect_);
  Secret<kConnectPayloadBytes> payload;  // it may hold a ticket
  write(Connect{options_.identity, options_.aes && has_aes_hardware(),
                options_.identity.code_table_sets, options_.ticket, options_.resume},
        payload.bytes());
  // A new cookie means a new prologue: under the old ephemeral key a nonce would be used twice.
  const std::array<std::byte, 1> which{static_cast<std::byte>(cookies_)};
  const Secret32 ephemeral = derive(options_.seed, "client ephemeral", which);
  const auto message = std::span(connect_).subspan(kConnectHeadBytes);
  if (!options_.server_key) {
    write_plaintext(ephemeral.bytes(), payload.bytes(), message);
    return;
  }
  noise_ = NoiseNk::initiator(prologue_of(std::span(connect_).first(kConnectHeadBytes)),
                              *options_.server_key, ephemeral);
  // A key that no server can have: the connect stays zeros, and the server will not open it.
  if (!noise_->write_first(payload.bytes(), message)) noise_.reset();
}

// Only a message that the server itself wrote ends the attempt: a welcome, or a refusal with its
// reason. A welcome that names what this client did not offer is not believed.
void ClientHandshake::on_accept(Time now, std::span<const std::byte> datagram, Reply& reply) {
  const auto nonce = read_accept_head(datagram);
  if (!nonce || *nonce != nonce_ || connect_.empty()) {
    reply.error = nonce ? Errc::unexpected : nonce.error();
    return;
  }
  const auto message = datagram.subspan(kAcceptHeadBytes);
  std::vector<std::byte> payload(message.size() - NoiseNk::kOverheadBytes);
  if (options_.server_key) {
    if (!noise_ || !noise_->read_second(message, payload)) {
      reply.error = Errc::bad_check;
      return;
    }
  } else {
    const auto plaintext = read_plaintext(message);
    if (!plaintext) {
      reply.error = plaintext.error();
      return;
    }
    payload.assign(plaintext->begin(), plaintext->end());
  }
  const auto accept = read_accept(payload);
  wipe(payload);
  if (!accept) {
    reply.error = accept.error();
  } else if (!accept->welcome) {
    const Refusal& refusal = accept->refusal;
    reply.refused = refusal.code;
    reply.text = refusal.mismatch ? explain_mismatch(options_.identity, *refusal.mismatch)
                                  : printable(refusal.text);
    if (reply.text.empty()) reply.text = error_info(refusal.code).text;
  } else if (accept->welcome->version_index >= options_.identity.versions.size() ||
             accept->welcome->code_tables > options_.identity.code_table_sets.size() ||
             (accept->welcome->cipher == Cipher::aes256_gcm &&
              !(options_.aes && has_aes_hardware()))) {
    reply.error = Errc::unexpected;
  } else {
    reply.agreed = agree(*accept->welcome, message);
    if (copies_ == 1) reply.rtt = now - last_sent_;
  }
}

// Keys of datagrams, derived from those of the handshake, by direction.
Agreed ClientHandshake::agree(const Welcome& welcome, std::span<const std::byte> message) const {
  Agreed agreed;
  agreed.id = welcome.id;
  agreed.version = options_.identity.versions[welcome.version_index].version;
  agreed.code_tables = welcome.code_tables;
  agreed.resumed = welcome.resumed;
  agreed.transport_kind = options_.transport_kind;
  agreed.reset = welcome.reset;
  agreed.reset_nonce = welcome.reset_nonce;
  agreed.resume = welcome.resume;
  agreed.resume_for = std::chrono::seconds(welcome.resume_window_s);
  if (options_.server_key) {
    const NoiseNk::Keys keys = noise_->split();
    agreed.keys = AeadKeys{welcome.cipher, derive(keys.up, "datagrams up"),
                           derive(keys.down, "datagrams down")};
  } else {
    const auto mine = std::span(connect_).subspan(kConnectHeadBytes, 32);
    agreed.keys = CheckKeys{plaintext_key("clear up", mine, message.first(32), welcome.id),
                            plaintext_key("clear down", mine, message.first(32), welcome.id)};
  }
  return agreed;
}

// The hello, or the connect once there is a cookie, at fixed pauses. A stream needs no repetition.
std::size_t ClientHandshake::poll_datagram(Time now, std::span<std::byte> out) {
  if (now < next_send_) return 0;
  last_sent_ = now;
  next_send_ = options_.transport_kind == TransportKind::stream
                   ? kNever
                   : now + (copies_ == 0 ? kFirstRetry : kRetry);
  ++copies_;
  if (!connect_.empty()) {
    std::copy(connect_.begin(), connect_.end(), out.begin());
    return connect_.size();
  }
  return write_hello({kLinkVersion, nonce_, options_.server_key ? Mode::encrypted : Mode::plaintext,
                      options_.transport_kind},
                     out);
}

}  // namespace kwind::link
