#include "greeting.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/bits/reader.h"

namespace kwind::link {
namespace {

constexpr Duration kFirstRetry = std::chrono::milliseconds(250);
// Not rarer: beside a flood that fills the server's buffers only one in some gets through.
constexpr Duration kRetry = std::chrono::milliseconds(350);
constexpr unsigned kMostCookies = 8;  // a server that never likes its own cookie is not worth more

std::uint64_t nonce_from(const bits::Secret32& seed) {
  return bits::Reader(bits::derive(seed, "client nonce").bytes()).get(64);
}

}  // namespace

Greeting::Greeting(ConnectOptions options, Time now)
    : options_(std::move(options)), nonce_(nonce_from(options_.seed)), next_send_(now) {
  // There is no fallback to clear, and a ticket never travels in clear.
  KWIND_ASSERT(options_.server_key || (options_.ticket.empty() && !options_.comeback));
  if (options_.carrier == Carrier::stream) make_offer(Cookie{});  // a stream proves its address
}

Greeting::Reply Greeting::receive(Time now, std::span<const std::byte> datagram) {
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
    case Form::offer:
    case Form::gone:
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
    case Form::answer: hear_answer(now, datagram, reply); return reply;
    case Form::notice: {
      const auto notice = read_notice(datagram);
      if (!notice) {
        reply.error = notice.error();
      } else if (notice->client_nonce != nonce_ || notice->code == Errc::none) {
        reply.error = Errc::unexpected;
      } else if (notice->code == Errc::server_busy && options_.carrier == Carrier::datagrams) {
        busy_ = true;  // its turn may come: the offer is repeated until the time is over
      } else {
        reply.refused = notice->code;
        reply.text = error_info(notice->code).text;
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

void Greeting::take_cookie(Time now, const CookieReply& cookie, Reply& reply) {
  if (cookie.client_nonce != nonce_ || cookies_ >= kMostCookies || cookie_ == cookie.cookie) {
    reply.error = Errc::unexpected;
    return;
  }
  ++cookies_;
  if (copies_ == 1) reply.rtt = now - last_sent_;
  copies_ = 0;
  next_send_ = now;
  make_offer(cookie.cookie);
}

void Greeting::make_offer(const Cookie& cookie) {
  cookie_ = cookie;
  const Opening opening{kLinkVersion, nonce_, options_.server_key ? Mode::sealed : Mode::clear,
                        options_.carrier};
  offer_.assign(kBaseDatagramBytes, std::byte{0});
  write_offer_head(opening, cookie, offer_);
  bits::Secret<kOfferPayloadBytes> payload;  // it may hold a ticket
  write(Offer{options_.identity, options_.aes && has_aes_hardware(), options_.identity.code_sets,
              options_.ticket, options_.comeback},
        payload.bytes());
  // A new cookie means a new prologue: under the old ephemeral key a nonce would be used twice.
  const std::array<std::byte, 1> which{static_cast<std::byte>(cookies_)};
  const bits::Secret32 ephemeral = bits::derive(options_.seed, "client ephemeral", which);
  const auto message = std::span(offer_).subspan(kOfferHeadBytes);
  if (!options_.server_key) {
    write_clear(ephemeral.bytes(), payload.bytes(), message);
    return;
  }
  noise_ = NoiseNk::initiator(prologue_of(std::span(offer_).first(kOfferHeadBytes)),
                              *options_.server_key, ephemeral);
  // A key that no server can have: the offer stays zeros, and the server will not open it.
  if (!noise_->write_first(payload.bytes(), message)) noise_.reset();
}

void Greeting::hear_answer(Time now, std::span<const std::byte> datagram, Reply& reply) {
  const auto nonce = read_answer_head(datagram);
  if (!nonce || *nonce != nonce_ || offer_.empty()) {
    reply.error = nonce ? Errc::unexpected : nonce.error();
    return;
  }
  const auto message = datagram.subspan(kAnswerHeadBytes);
  std::vector<std::byte> payload(message.size() - NoiseNk::kOverheadBytes);
  if (options_.server_key) {
    if (!noise_ || !noise_->read_second(message, payload)) {
      reply.error = Errc::bad_check;
      return;
    }
  } else {
    const auto clear = read_clear(message);
    if (!clear) {
      reply.error = clear.error();
      return;
    }
    payload.assign(clear->begin(), clear->end());
  }
  const auto answer = read_answer(payload);
  bits::wipe(payload);
  if (!answer) {
    reply.error = answer.error();
  } else if (!answer->welcome) {
    const Refusal& refusal = answer->refusal;
    reply.refused = refusal.code;
    reply.text =
        refusal.mismatch ? explain_mismatch(options_.identity, *refusal.mismatch) : refusal.text;
    if (reply.text.empty()) reply.text = error_info(refusal.code).text;
  } else if (answer->welcome->version_index >= options_.identity.versions.size() ||
             answer->welcome->code_set > options_.identity.code_sets.size() ||
             (answer->welcome->cipher == Cipher::aes256_gcm && !has_aes_hardware())) {
    reply.error = Errc::unexpected;
  } else {
    reply.agreed = agree(*answer->welcome, message);
    if (copies_ == 1) reply.rtt = now - last_sent_;
  }
}

Agreed Greeting::agree(const Welcome& welcome, std::span<const std::byte> message) const {
  Agreed agreed;
  agreed.id = welcome.id;
  agreed.version = options_.identity.versions[welcome.version_index].version;
  agreed.code_set = welcome.code_set;
  agreed.returned = welcome.returned;
  agreed.carrier = options_.carrier;
  agreed.gone = welcome.gone;
  agreed.gone_nonce = welcome.gone_nonce;
  agreed.comeback = welcome.comeback;
  agreed.comeback_for = std::chrono::seconds(welcome.comeback_s);
  if (options_.server_key) {
    const NoiseNk::Keys keys = noise_->split();
    agreed.keys = SealKeys{welcome.cipher, bits::derive(keys.up, "datagrams up"),
                           bits::derive(keys.down, "datagrams down")};
  } else {
    const auto mine = std::span(offer_).subspan(kOfferHeadBytes, 32);
    agreed.keys = CheckKeys{clear_key("clear up", mine, message.first(32), welcome.id),
                            clear_key("clear down", mine, message.first(32), welcome.id)};
  }
  return agreed;
}

std::size_t Greeting::poll_datagram(Time now, std::span<std::byte> out) {
  if (now < next_send_) return 0;
  last_sent_ = now;
  next_send_ =
      options_.carrier == Carrier::stream ? kNever : now + (copies_ == 0 ? kFirstRetry : kRetry);
  ++copies_;
  if (!offer_.empty()) {
    std::copy(offer_.begin(), offer_.end(), out.begin());
    return offer_.size();
  }
  return write_hello(
      {kLinkVersion, nonce_, options_.server_key ? Mode::sealed : Mode::clear, options_.carrier},
      out);
}

}  // namespace kwind::link
