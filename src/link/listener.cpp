#include "kwind/link/listener.h"

#include <fmt/format.h>

#include <array>
#include <cstring>
#include <deque>
#include <unordered_map>
#include <unordered_set>
#include <utility>
#include <vector>

#include "agreed.h"
#include "data_header.h"
#include "exchange_queue.h"
#include "handshake.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "random.h"

namespace kwind::link {
namespace {

constexpr Duration kSweepEvery = std::chrono::seconds(1);

bits::Digest128 first_half(const bits::Secret32& secret) {
  bits::Digest128 digest{};
  std::copy_n(secret.bytes().begin(), digest.size(), digest.begin());
  return digest;
}

// Comebacks and tickets are kept by digest: a table that leaks is of no use to anybody.
bits::Digest128 digest_of(const bits::Secret32& comeback) {
  return bits::blake2b_128(comeback.bytes());
}

std::uint16_t version_common(const Identity& ours, const Identity& theirs, std::size_t& place) {
  for (std::size_t i = 0; i < theirs.versions.size(); ++i) {  // the client's order: newest first
    for (const VersionDigest& entry : ours.versions) {
      if (entry.version == theirs.versions[i].version &&
          bits::same_bytes(entry.digest, theirs.versions[i].digest)) {
        place = i;
        return entry.version;
      }
    }
  }
  return 0;
}

// The client's best of the code sets that this side holds; 0: the built-in one.
std::uint8_t common_code_set(const Identity& ours, const std::vector<std::uint64_t>& theirs) {
  for (std::size_t i = 0; i < theirs.size(); ++i) {
    if (std::find(ours.code_sets.begin(), ours.code_sets.end(), theirs[i]) !=
        ours.code_sets.end()) {
      return static_cast<std::uint8_t>(i + 1);
    }
  }
  return 0;
}

// What the client says in an offer, as it was understood.
struct OfferKey {
  Endpoint from;
  PublicKey ephemeral;
  friend bool operator==(const OfferKey&, const OfferKey&) = default;
};
// Under a key of the process: strangers choose what is hashed.
struct KeyedHash {
  bits::Key128 key{};
  std::size_t operator()(const OfferKey& offer) const noexcept {
    return std::hash<Endpoint>()(offer.from) ^ (*this)(std::span<const std::byte>(offer.ephemeral));
  }
  std::size_t operator()(const bits::Digest128& digest) const noexcept {
    return (*this)(std::span<const std::byte>(digest));
  }
  std::size_t operator()(std::span<const std::byte> bytes) const noexcept {
    return bits::keyed_check(key, bytes, 0);
  }
};

// What is kept of a handshake that was answered: no more than goes on with it.
struct Attempt {
  OfferKey key;
  std::size_t port = 0;
  std::vector<std::byte> reply;  // to copies of the offer
  Time answered{};
  std::uint32_t copies = 0;               // of the offer, that came after the first
  std::optional<Admission> admission{};   // if it was not refused
  std::optional<bits::Digest128> once{};  // its ticket, or the right to come back that it brought
};

struct Returning {
  std::uint64_t serial = 0;
  std::shared_ptr<const Claims> claims{};
  Time until = kNever;
};

// No cookie is valid for longer: those taken in this turn and in the one before are all that can
// come again. The rate of exchanges bounds how many there are.
constexpr Duration kCookieTurn = std::chrono::seconds(20);
constexpr std::uint32_t kMostCopies = 20;

}  // namespace

struct Listener::State {
  explicit State(const ListenerOptions& options_in)
      : options(options_in),
        cookie_key(bits::derive(options.secret, "cookies")),
        drawn_from(bits::derive(options.secret, "drawn")),
        evictions(draw("evictions"), "evictions"),
        queue(options.exchanges, draw("networks")),
        hash{first_half(draw("hashes"))},
        by_offer(0, hash),
        by_once(0, hash),
        taken_cookies{Cookies(0, hash), Cookies(0, hash)} {
    bits::wipe(options.secret.bytes());
  }

  using Cookies = std::unordered_set<bits::Digest128, KeyedHash>;

  Outcome hear_hello(Time now, const Endpoint& from, std::span<const std::byte> datagram,
                     std::span<std::byte> reply) const;
  Outcome hear_offer(Time now, const Endpoint& from, std::span<const std::byte> datagram,
                     std::span<std::byte> reply, Carrier carrier, std::size_t port);
  // The key exchange: decides, and writes the answer.
  Exchanged answer(Time now, const ExchangeQueue::Offer& offer, std::span<std::byte> reply,
                   Attempt& attempt);
  Result<Admission> decide(Time now, const Offer& offer, Attempt& attempt, std::string& why) const;
  [[nodiscard]] bool is_full(const Attempt& attempt, const Admission& admission) const;
  Errc use_up(Time now, const Attempt& attempt);

  // ---- attempts ----

  void add(Attempt attempt) {
    if (attempts.size() >= options.attempts) {
      ++counts.attempts_evicted;
      remove(evictions.next() % attempts.size());
    }
    // One under way for each ticket: who has two of them has one client too many.
    if (attempt.once) {
      if (const auto other = by_once.find(*attempt.once); other != by_once.end()) {
        remove(other->second);
      }
      by_once[*attempt.once] = attempts.size();
    }
    by_offer[attempt.key] = attempts.size();
    if (attempt.admission) by_id[attempt.admission->id] = attempts.size();
    attempts.push_back(std::move(attempt));
  }
  void remove(std::size_t place) {
    Attempt& attempt = attempts[place];
    by_offer.erase(attempt.key);
    if (attempt.once) by_once.erase(*attempt.once);
    if (attempt.admission) {
      by_id.erase(attempt.admission->id);
      free_id(attempt.admission->id);
    }
    if (place + 1 < attempts.size()) {
      attempt = std::move(attempts.back());
      by_offer[attempt.key] = place;
      if (attempt.once) by_once[*attempt.once] = place;
      if (attempt.admission) by_id[attempt.admission->id] = place;
    }
    attempts.pop_back();
  }
  void expire(Time now) {
    for (std::size_t i = attempts.size(); i-- > 0;) {
      if (now - attempts[i].answered < options.handshake_timeout) continue;
      if (attempts[i].admission) ++counts.attempts_expired;
      remove(i);
    }
  }

  // ---- ids ----

  ConnectionId take_id() {
    KWIND_ASSERT(!free.empty());
    const std::uint16_t index = free.front();
    free.pop_front();
    const std::uint8_t generation = ++generations[index];  // late datagrams meet another id
    return static_cast<ConnectionId>((std::uint32_t{options.number} << 24) |
                                     (std::uint32_t{generation} << 16) | index);
  }
  void free_id(ConnectionId id) {
    free.push_back(static_cast<std::uint16_t>(static_cast<std::uint32_t>(id) & 0xffff));
  }

  // A secret of its own for each use. The one that it was drawn from is gone then, so that who
  // reads this process's memory later cannot tell earlier ones.
  bits::Secret32 draw(std::string_view label) {
    const bits::Secret32 drawn = bits::derive(drawn_from, label);
    drawn_from = bits::derive(drawn_from, "next");
    return drawn;
  }
  [[nodiscard]] bits::Digest128 gone_token(ConnectionId id, std::uint64_t nonce) const;
  void sweep(Time now);

  ListenerOptions options;
  ListenerCounts counts;
  bits::Secret32 cookie_key;
  bits::Secret32 drawn_from;
  KeyedRandom evictions;
  ExchangeQueue queue;
  KeyedHash hash;
  std::vector<Attempt> attempts;                                        // in no order
  std::unordered_map<OfferKey, std::size_t, KeyedHash> by_offer;        // place in attempts
  std::unordered_map<ConnectionId, std::size_t> by_id;                  // likewise
  std::unordered_map<bits::Digest128, std::size_t, KeyedHash> by_once;  // likewise
  std::array<Cookies, 2> taken_cookies;  // in this turn, and in the one before
  Time next_turn{};
  struct DigestHash {
    std::size_t operator()(const bits::Digest128& digest) const noexcept {
      std::uint64_t part = 0;  // digests are as good as random
      std::memcpy(&part, digest.data(), sizeof part);
      return static_cast<std::size_t>(part);
    }
  };
  std::unordered_map<bits::Digest128, std::int64_t, DigestHash> used_tickets;  // until, unix time
  std::unordered_map<bits::Digest128, Returning, DigestHash> comebacks;
  std::vector<std::uint8_t> generations;  // by index of ids
  std::deque<std::uint16_t> free;         // indices, free the longest first
  std::size_t open = 0;
  std::uint64_t serials = 0;
  Time next_sweep{};
};

Listener::Listener(const ListenerOptions& options) : state_(std::make_unique<State>(options)) {
  KWIND_ASSERT(options.capacity >= 1 && options.attempts >= 1 &&
               options.capacity + options.attempts <= 65536 && options.number < 16);
  KWIND_ASSERT(options.key || options.gate == nullptr);  // no ticket travels in clear
  KWIND_ASSERT(options.unix_now || options.gate == nullptr);
  State& s = *state_;
  // Ids should not repeat at once when the server was restarted.
  const auto first = std::to_integer<std::uint8_t>(s.draw("generations").bytes()[0]);
  // One more than can be in use, for the attempt that another one makes room for; and all places
  // again, for clients that come back while their old connections end.
  const std::size_t ids = std::min<std::size_t>(2 * options.capacity + options.attempts + 1, 65536);
  s.generations.assign(ids, first);
  for (std::size_t i = 0; i < ids; ++i) s.free.push_back(static_cast<std::uint16_t>(i));
}
Listener::Listener(Listener&&) noexcept = default;
Listener& Listener::operator=(Listener&&) noexcept = default;
Listener::~Listener() = default;

bool Listener::is_handshake(std::span<const std::byte> datagram) {
  return !datagram.empty() && !is_data(datagram);
}

Result<ConnectionId> Listener::connection_of(std::span<const std::byte> datagram) {
  if (datagram.empty()) return fail(Errc::truncated);
  if (!is_data(datagram)) return fail(Errc::unknown_form);
  if (datagram.size() < 4) return fail(Errc::truncated);
  return connection_id_of(datagram);
}

std::size_t Listener::connections() const {
  return state_->open;
}
std::size_t Listener::attempts() const {
  return state_->by_id.size();
}
std::size_t Listener::capacity() const {
  return state_->options.capacity;
}
const ListenerCounts& Listener::counts() const {
  return state_->counts;
}

Listener::Outcome Listener::receive(Time now, const Endpoint& from,
                                    std::span<const std::byte> datagram, std::span<std::byte> reply,
                                    Carrier carrier, std::size_t port) {
  if (now >= state_->next_sweep) state_->sweep(now);
  const auto form = form_of(datagram);
  if (!form) return {form.error(), 0};
  switch (*form) {
    case Form::hello: return state_->hear_hello(now, from, datagram, reply);
    case Form::offer: return state_->hear_offer(now, from, datagram, reply, carrier, port);
    case Form::cookie:
    case Form::answer:
    case Form::notice:
    case Form::versions:
    case Form::gone:
    case Form::lost: return {Errc::unexpected, 0};
  }
  return {Errc::unknown_form, 0};
}

Listener::Outcome Listener::State::hear_hello(Time now, const Endpoint& from,
                                              std::span<const std::byte> datagram,
                                              std::span<std::byte> reply) const {
  const auto hello = read_hello(datagram);
  if (!hello && hello.error() == Errc::link_version && datagram.size() == kBaseDatagramBytes) {
    const auto nonce = read_nonce(datagram);
    return {Errc::link_version, write(Versions{*nonce, {kLinkVersion}}, reply)};
  }
  if (!hello) return {hello.error(), 0};
  if ((hello->mode == Mode::sealed) != options.key.has_value()) {
    return {Errc::mode_differs, write(Notice{hello->client_nonce, Errc::mode_differs}, reply)};
  }
  const Cookie cookie = make_cookie(cookie_key, from, hello->client_nonce, now);
  return {Errc::none, write(CookieReply{hello->client_nonce, cookie}, reply)};
}

Listener::Outcome Listener::State::hear_offer(Time now, const Endpoint& from,
                                              std::span<const std::byte> datagram,
                                              std::span<std::byte> reply, Carrier carrier,
                                              std::size_t port) {
  const auto head = read_offer_head(datagram);
  if (!head) return {head.error(), 0};
  // Who says over UDP that it came by a stream wants to be spared the cookie.
  if (head->opening.carrier != carrier) return {Errc::unexpected, 0};
  const std::uint64_t nonce = head->opening.client_nonce;
  const auto notice = [&](Errc code) { return Outcome{code, write(Notice{nonce, code}, reply)}; };
  if ((head->opening.mode == Mode::sealed) != options.key.has_value()) {
    return notice(Errc::mode_differs);
  }
  // A stream's address has proven itself by opening the stream.
  if (carrier == Carrier::datagrams && !cookie_fits(head->cookie, cookie_key, from, nonce, now)) {
    // Perhaps it expired on a slow path: a new one costs nothing and keeps nothing.
    const Cookie cookie = make_cookie(cookie_key, from, nonce, now);
    return {Errc::bad_cookie, write(CookieReply{nonce, cookie}, reply)};
  }
  OfferKey key{from, {}};
  std::copy_n(datagram.begin() + kOfferHeadBytes, key.ephemeral.size(), key.ephemeral.begin());
  if (const auto known = by_offer.find(key); known != by_offer.end()) {
    Attempt& attempt = attempts[known->second];
    const std::vector<std::byte>& same = attempt.reply;
    // A client repeats its offer some times in the time that it has.
    if (++attempt.copies > kMostCopies || same.empty())
      return {Errc::unexpected, 0};  // the connection exists by now
    std::copy(same.begin(), same.end(), reply.begin());
    return {Errc::none, same.size()};
  }
  // A cookie is good for one exchange. Streams have none: each is good for one.
  if (carrier == Carrier::datagrams &&
      (taken_cookies[0].contains(head->cookie) || taken_cookies[1].contains(head->cookie))) {
    return {Errc::bad_cookie, 0};
  }
  const Errc error = queue.push(now, {from, port, carrier, {datagram.begin(), datagram.end()}});
  return error == Errc::none ? Outcome{} : notice(error);
}

std::optional<Listener::Exchanged> Listener::exchange(Time now, std::span<std::byte> reply) {
  State& s = *state_;
  while (const auto offer = s.queue.pop(now)) {
    const auto head = read_offer_head(offer->datagram);
    KWIND_ASSERT(head);
    const std::span<const std::byte> datagram(offer->datagram);
    Attempt attempt{{offer->from, {}}, offer->port, {}, now, 0, {}, {}};
    std::copy_n(datagram.begin() + kOfferHeadBytes, attempt.key.ephemeral.size(),
                attempt.key.ephemeral.begin());
    if (s.by_offer.contains(attempt.key)) continue;  // another copy was faster
    if (offer->carrier == Carrier::datagrams) {
      if (now >= s.next_turn) {
        std::swap(s.taken_cookies[0], s.taken_cookies[1]);
        s.taken_cookies[0].clear();
        s.next_turn = now + kCookieTurn;
      }
      // Two offers with one cookie waited: the first had it.
      if (s.taken_cookies[1].contains(head->cookie) ||
          !s.taken_cookies[0].insert(head->cookie).second) {
        continue;
      }
    }
    ++s.counts.exchanges;
    Exchanged done = s.answer(now, *offer, reply, attempt);
    if (done.error != Errc::none) {
      ++s.counts.exchanges_failed;
      attempt.once.reset();  // it is still to be used
      s.queue.blame(now, offer->from);
    }
    // A refusal is kept for copies of the offer as well: they cost no exchange.
    const auto written = reply.first(done.reply_bytes);
    attempt.reply.assign(written.begin(), written.end());
    if (done.reply_bytes > 0) s.add(std::move(attempt));
    return done;
  }
  return std::nullopt;
}

Time Listener::next_exchange() const {
  return state_->queue.next();
}

Listener::Exchanged Listener::State::answer(Time now, const ExchangeQueue::Offer& waited,
                                            std::span<std::byte> reply, Attempt& attempt) {
  const std::span<const std::byte> datagram(waited.datagram);
  const auto head = read_offer_head(datagram);
  const std::uint64_t nonce = head->opening.client_nonce;
  Exchanged done{waited.from, waited.port, waited.carrier, Errc::none, 0, {}};
  const auto failed = [&](Errc code, std::size_t bytes) {
    done.error = code;
    done.reply_bytes = bytes;
    return done;
  };
  const auto notice = [&](Errc code) { return failed(code, write(Notice{nonce, code}, reply)); };
  const auto message = datagram.subspan(kOfferHeadBytes);

  const bits::Secret32 ephemeral = draw("ephemeral");
  std::optional<NoiseNk> noise;
  bits::Secret<kOfferPayloadBytes> payload;
  if (options.key) {
    noise =
        NoiseNk::responder(prologue_of(datagram.first(kOfferHeadBytes)), *options.key, ephemeral);
    if (!noise->read_first(message, payload.bytes())) return notice(Errc::wrong_key);
  } else {
    const auto clear = read_clear(message);
    if (!clear) return failed(clear.error(), 0);
    std::copy(clear->begin(), clear->end(), payload.bytes().begin());
  }
  const auto offer = read_offer(payload.bytes());
  if (!offer) return failed(offer.error(), 0);

  Answer answer;
  std::string why;
  auto admission = decide(now, *offer, attempt, why);
  Agreed agreed;
  if (admission) {
    std::size_t place = 0;
    version_common(options.identity, offer->identity, place);
    admission->id = take_id();
    admission->from = waited.from;
    admission->answered = now;
    Welcome& welcome = answer.welcome.emplace();
    welcome.id = admission->id;
    welcome.version_index = static_cast<std::uint8_t>(place);
    welcome.cipher = options.aes && offer->aes && has_aes_hardware() && options.key
                         ? Cipher::aes256_gcm
                         : Cipher::chacha20_poly1305;
    welcome.code_set = admission->code_set;
    welcome.returned = admission->replaces.has_value();
    const bits::Secret32 nonce_from = draw("gone");
    welcome.gone_nonce = bits::Reader(nonce_from.bytes()).get(64);
    welcome.gone = gone_token(admission->id, welcome.gone_nonce);
    if (options.comeback > Duration{0} && options.key) {
      welcome.comeback = draw("comeback");
      welcome.comeback_s = static_cast<std::uint16_t>(
          std::chrono::floor<std::chrono::seconds>(options.comeback).count());
      admission->comeback = digest_of(welcome.comeback);
    }
    agreed.id = welcome.id;
    agreed.version = admission->version;
    agreed.code_set = welcome.code_set;
    agreed.carrier = head->opening.carrier;
    agreed.returned = welcome.returned;
  } else {
    answer.refusal = {admission.error(), why, {}};
    if (admission.error() == Errc::schema_mismatch) {
      answer.refusal.mismatch = mismatch_of(options.identity, offer->identity);
    }
  }

  bits::Secret<kMostAnswerPayloadBytes> out;
  const auto body = std::span(out.bytes()).first(write(answer, out.bytes()));
  const std::size_t size = kAnswerHeadBytes + body.size() + NoiseNk::kOverheadBytes;
  write_answer_head(nonce, reply);
  const auto sealed = reply.subspan(kAnswerHeadBytes, size - kAnswerHeadBytes);
  if (noise) {
    if (!noise->write_second(body, sealed)) {  // an ephemeral key that no honest client has
      if (admission) free_id(admission->id);
      return notice(Errc::wrong_key);
    }
  } else {
    write_clear(ephemeral.bytes(), body, sealed);
  }
  if (!admission) return failed(admission.error(), size);

  if (noise) {
    const NoiseNk::Keys keys = noise->split();
    agreed.keys = SealKeys{answer.welcome->cipher, bits::derive(keys.up, "datagrams up"),
                           bits::derive(keys.down, "datagrams down")};
  } else {
    agreed.keys =
        CheckKeys{clear_key("clear up", message.first(32), sealed.first(32), agreed.id),
                  clear_key("clear down", message.first(32), sealed.first(32), agreed.id)};
  }
  admission->agreed = std::make_shared<const Agreed>(std::move(agreed));
  done.reply_bytes = size;
  done.attempt = admission->id;
  attempt.admission = std::move(*admission);
  return done;
}

Result<Admission> Listener::State::decide(Time now, const Offer& offer, Attempt& attempt,
                                          std::string& why) const {
  const Identity& ours = options.identity;
  if (offer.identity.name != ours.name) {
    why = fmt::format("this server speaks `{}`", ours.name);
    return fail(Errc::protocol_name);
  }
  Admission admission;
  std::size_t place = 0;
  admission.version = version_common(ours, offer.identity, place);
  if (admission.version == 0) return fail(Errc::schema_mismatch);
  if (offer.identity.payload_version != ours.payload_version) {
    why = fmt::format("the client has version {}, this server {}", offer.identity.payload_version,
                      ours.payload_version);
    return fail(Errc::state_version);
  }
  admission.code_set = common_code_set(ours, offer.code_sets);
  if (admission.code_set > 0) {
    admission.code_set_digest = offer.code_sets[admission.code_set - 1U];
  }

  if (offer.comeback) {
    attempt.once = digest_of(*offer.comeback);
    const auto found = comebacks.find(*attempt.once);
    if (found == comebacks.end() || now >= found->second.until) {
      return fail(Errc::comeback_unknown);
    }
    admission.replaces = found->second.serial;
    admission.claims = found->second.claims;
    if (admission.claims != nullptr && options.gate != nullptr) {
      // It does not bring its ticket again, but that holds no longer for that.
      if (admission.claims->expires <= options.unix_now()) return fail(Errc::ticket_expired);
      if (!options.gate->may_return(*admission.claims)) return fail(Errc::ticket_invalid);
    }
  } else if (options.gate != nullptr) {
    if (offer.ticket.empty()) return fail(Errc::ticket_missing);
    auto claims = options.gate->check(offer.ticket, options.unix_now());
    if (!claims) return fail(claims.error());
    const bits::Digest128 ticket = bits::blake2b_128(claims->id);
    if (used_tickets.contains(ticket)) return fail(Errc::ticket_used);
    attempt.once = ticket;
    admission.claims = std::make_shared<const Claims>(std::move(*claims));
  }
  if (free.empty() || is_full(attempt, admission)) {
    why = fmt::format("{} of {} places are taken", open, options.capacity);
    return fail(Errc::server_full);
  }
  return admission;
}

// Whether only the client of this attempt can have made the datagram.
namespace {
bool opens(const Agreed& agreed, Time now, std::span<const std::byte> datagram) {
  if (datagram.size() > kMaxDatagramBytes) return false;
  const auto header = read_data_header(datagram, true);
  std::optional<Envelope> envelope;
  if (const auto* clear = std::get_if<CheckKeys>(&agreed.keys)) {
    envelope.emplace(*clear, false);
  } else {
    envelope.emplace(std::get<SealKeys>(agreed.keys), false, KeyLife{}, now);
  }
  if (!header || datagram.size() < header->bytes + envelope->tag_bytes()) return false;
  std::array<std::byte, kMaxDatagramBytes> memory;  // NOLINT: filled by open()
  const std::uint64_t number = expand(0, header->number_low, header->wide ? 16 : 8);
  return envelope->open(now, number, header->phase, datagram, header->bytes, memory).has_value();
}
}  // namespace

std::optional<Listener::Admitted> Listener::admit(Time now, std::size_t port,
                                                  std::span<const std::byte> datagram) {
  State& s = *state_;
  if (now >= s.next_sweep) s.sweep(now);
  const auto id = connection_of(datagram);
  if (!id) return std::nullopt;
  const auto found = s.by_id.find(*id);
  if (found == s.by_id.end()) return std::nullopt;
  const std::size_t place = found->second;
  Attempt& attempt = s.attempts[place];
  if (attempt.port != port || now - attempt.answered >= s.options.handshake_timeout ||
      !opens(*attempt.admission->agreed, now, datagram)) {
    return std::nullopt;
  }
  Admitted admitted;
  admitted.admission = *attempt.admission;
  admitted.admission.serial = ++s.serials;
  admitted.error = s.use_up(now, attempt);
  s.queue.forgive(now, attempt.key.from);
  // A late copy of the offer must make no second connection: the attempt stays, without keys.
  attempt.reply = {};
  s.by_id.erase(found);
  attempt.admission.reset();
  if (attempt.once) s.by_once.erase(*std::exchange(attempt.once, std::nullopt));
  if (admitted.error != Errc::none) {
    s.free_id(*id);
    return admitted;
  }
  ++s.open;
  if (admitted.admission.comeback) {
    s.comebacks[*admitted.admission.comeback] = {admitted.admission.serial,
                                                 admitted.admission.claims, kNever};
  }
  return admitted;
}

// A client that comes back before the server has noticed that it was gone takes its own place.
bool Listener::State::is_full(const Attempt& attempt, const Admission& admission) const {
  if (open < options.capacity) return false;
  if (!admission.replaces) return true;
  const auto right = comebacks.find(*attempt.once);
  return right == comebacks.end() || right->second.until != kNever;
}

Errc Listener::State::use_up(Time now, const Attempt& attempt) {
  const Admission& admission = *attempt.admission;
  if (is_full(attempt, admission)) return Errc::server_full;
  if (admission.replaces) {
    const auto right = comebacks.find(*attempt.once);
    if (right == comebacks.end() || now >= right->second.until) return Errc::comeback_unknown;
    comebacks.erase(right);
  } else if (admission.claims) {
    if (used_tickets.size() >= options.used_tickets) return Errc::ticket_table_full;
    if (!used_tickets.emplace(*attempt.once, admission.claims->expires).second) {
      return Errc::ticket_used;
    }
  }
  return Errc::none;
}

bool Listener::is_lost(std::span<const std::byte> datagram) {
  return !datagram.empty() && datagram[0] == static_cast<std::byte>(Form::lost);
}

Result<ConnectionId> Listener::lost_connection(std::span<const std::byte> datagram) {
  const auto lost = read_lost(datagram);
  if (!lost) return fail(lost.error());
  return lost->id;
}

std::size_t Listener::answer_lost(std::span<const std::byte> datagram,
                                  std::span<std::byte> reply) const {
  const auto lost = read_lost(datagram);
  if (!lost || state_->by_id.contains(lost->id)) return 0;  // an attempt is under way
  return write_gone(state_->gone_token(lost->id, lost->gone_nonce), reply);
}

// Of one connection: by the number that its welcome told. Who asks for another number gets a token
// that nobody listens to.
bits::Digest128 Listener::State::gone_token(ConnectionId id, std::uint64_t nonce) const {
  std::array<std::byte, 12> data{};
  bits::Writer writer(data);
  writer.put(static_cast<std::uint32_t>(id), 32);
  writer.put(nonce, 64);
  writer.finish();
  // From the key that outlives a restart. In clear mode there is none, and nothing is safe anyway.
  return first_half(
      bits::derive(options.key ? options.key->secret : bits::Secret32{}, "connection gone", data));
}

void Listener::forget(Time now, const Admission& admission, bool may_return) {
  State& s = *state_;
  KWIND_ASSERT(s.open > 0);
  --s.open;
  s.free_id(admission.id);
  if (!admission.comeback) return;
  const auto kept = s.comebacks.find(*admission.comeback);
  if (kept == s.comebacks.end()) return;
  // As many as places: a flood of short connections cannot fill memory with them.
  if (may_return && s.comebacks.size() <= 2 * s.options.capacity) {
    kept->second.until = now + s.options.comeback;
  } else {
    s.comebacks.erase(kept);
  }
}

void Listener::revoke(const Admission& admission) {
  if (admission.comeback) state_->comebacks.erase(*admission.comeback);
}

void Listener::State::sweep(Time now) {
  next_sweep = now + kSweepEvery;
  expire(now);
  queue.sweep(now);
  if (!used_tickets.empty()) {
    const std::int64_t unix = options.unix_now();
    std::erase_if(used_tickets, [&](const auto& entry) { return entry.second < unix; });
  }
  std::erase_if(comebacks, [&](const auto& entry) { return now >= entry.second.until; });
}

}  // namespace kwind::link
