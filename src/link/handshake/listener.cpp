// Server side of the handshake. A connect is checked in the order of cost: form, cookie, rate, key
// exchange, identity, ticket, capacity. An attempt becomes a connection when its first datagram
// opens.
#include "kwind/link/listener.h"

#include <fmt/format.h>

#include <array>
#include <cstring>
#include <deque>
#include <unordered_map>
#include <unordered_set>
#include <utility>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "link/datagram/data_header.h"
#include "link/handshake/agreed.h"
#include "link/handshake/exchange_queue.h"
#include "link/handshake/handshake.h"
#include "link/handshake/listener_state.h"
#include "link/random.h"

namespace kwind::link {
namespace {

constexpr Duration kSweepEvery = std::chrono::seconds(1);

// Resumes and tickets are kept by digest: a table that leaks is of no use to anybody.
Digest128 digest_of(const Secret32& resume) {
  return blake2b_128(resume.bytes());
}

// The newest version that both ends know under the same digest; `place` is its index in the
// client's list.
std::uint16_t version_common(const Identity& ours, const Identity& theirs, std::size_t& place) {
  for (std::size_t i = 0; i < theirs.versions.size(); ++i) {  // the client's order: newest first
    for (const VersionDigest& entry : ours.versions) {
      if (entry.version == theirs.versions[i].version &&
          same_bytes(entry.digest, theirs.versions[i].digest)) {
        place = i;
        return entry.version;
      }
    }
  }
  return 0;
}

// The client's best of the code tables that this side holds; 0: the built-in one.
std::uint8_t common_code_tables(const Identity& ours, const std::vector<std::uint64_t>& theirs) {
  for (std::size_t i = 0; i < theirs.size(); ++i) {
    if (std::find(ours.code_table_sets.begin(), ours.code_table_sets.end(), theirs[i]) !=
        ours.code_table_sets.end()) {
      return static_cast<std::uint8_t>(i + 1);
    }
  }
  return 0;
}

}  // namespace

Listener::Listener(const ListenerOptions& options) : state_(std::make_unique<State>(options)) {
  KWIND_ASSERT(options.capacity >= 1 && options.attempts >= 1 &&
               options.capacity + options.attempts <= 65536 && options.number < 16);
  KWIND_ASSERT(options.key || options.gate == nullptr);  // no ticket travels in plaintext
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

// Cheap and unauthenticated: only says to which link a data datagram is to be given.
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

// A stranger's datagram is answered at once only where the answer costs a hash. A connect waits in
// the queue of exchanges.
Listener::Outcome Listener::receive(Time now, const Endpoint& from,
                                    std::span<const std::byte> datagram, std::span<std::byte> reply,
                                    TransportKind transport_kind, std::size_t transport_index) {
  if (now >= state_->next_sweep) state_->sweep(now);
  const auto form = form_of(datagram);
  if (!form) return {form.error(), 0};
  switch (*form) {
    case Form::hello: return state_->on_hello(now, from, datagram, reply);
    case Form::connect:
      return state_->on_connect_request(now, from, datagram, reply, transport_kind,
                                        transport_index);
    case Form::cookie:
    case Form::accept:
    case Form::handshake_error:
    case Form::versions:
    case Form::reset:
    case Form::lost: return {Errc::unexpected, 0};
  }
  return {Errc::unknown_form, 0};
}

// Answers with a cookie and keeps nothing.
Listener::Outcome Listener::State::on_hello(Time now, const Endpoint& from,
                                            std::span<const std::byte> datagram,
                                            std::span<std::byte> reply) const {
  const auto hello = read_hello(datagram);
  if (!hello && hello.error() == Errc::link_version && datagram.size() == kBaseDatagramBytes) {
    const auto nonce = read_nonce(datagram);
    return {Errc::link_version, write(Versions{*nonce, {kLinkVersion}}, reply)};
  }
  if (!hello) return {hello.error(), 0};
  if ((hello->mode == Mode::encrypted) != options.key.has_value()) {
    return {Errc::mode_differs,
            write(HandshakeError{hello->client_nonce, Errc::mode_differs}, reply)};
  }
  const Cookie cookie = make_cookie(cookie_key, from, hello->client_nonce, now);
  return {Errc::none, write(CookieReply{hello->client_nonce, cookie}, reply)};
}

// In the order of cost: mode, cookie, copies of a connect that was answered, cookies that were
// used, and last the queue.
Listener::Outcome Listener::State::on_connect_request(Time now, const Endpoint& from,
                                                      std::span<const std::byte> datagram,
                                                      std::span<std::byte> reply,
                                                      TransportKind transport_kind,
                                                      std::size_t transport_index) {
  const auto head = read_connect_head(datagram);
  if (!head) return {head.error(), 0};
  // Who says over UDP that it came by a stream wants to be spared the cookie.
  if (head->opening.transport_kind != transport_kind) return {Errc::unexpected, 0};
  const std::uint64_t nonce = head->opening.client_nonce;
  const auto handshake_error = [&](Errc code) {
    return Outcome{code, write(HandshakeError{nonce, code}, reply)};
  };
  if ((head->opening.mode == Mode::encrypted) != options.key.has_value()) {
    return handshake_error(Errc::mode_differs);
  }
  // A stream's address has proven itself by opening the stream.
  if (transport_kind == TransportKind::datagrams &&
      !cookie_fits(head->cookie, cookie_key, from, nonce, now)) {
    // Perhaps it expired on a slow path: a new one costs nothing and keeps nothing.
    const Cookie cookie = make_cookie(cookie_key, from, nonce, now);
    return {Errc::bad_cookie, write(CookieReply{nonce, cookie}, reply)};
  }
  ConnectKey key{from, {}};
  std::copy_n(datagram.begin() + kConnectHeadBytes, key.ephemeral.size(), key.ephemeral.begin());
  if (const auto known = by_connect.find(key); known != by_connect.end()) {
    Attempt& attempt = attempts[known->second];
    const std::vector<std::byte>& same = attempt.reply;
    // A client repeats its connect some times in the time that it has.
    if (++attempt.copies > kMaxCopies || same.empty())
      return {Errc::unexpected, 0};  // the connection exists by now
    std::copy(same.begin(), same.end(), reply.begin());
    return {Errc::none, same.size()};
  }
  // A cookie is good for one exchange. Streams have none: each is good for one.
  if (transport_kind == TransportKind::datagrams &&
      (taken_cookies[0].contains(head->cookie) || taken_cookies[1].contains(head->cookie))) {
    return {Errc::bad_cookie, 0};
  }
  const Errc error =
      queue.push(now, {from, transport_index, transport_kind, {datagram.begin(), datagram.end()}});
  return error == Errc::none ? Outcome{} : handshake_error(error);
}

// One key exchange: the only costly step that a stranger can ask for. The caller bounds how many it
// asks for in a turn.
std::optional<Listener::Exchanged> Listener::exchange(Time now, std::span<std::byte> reply) {
  State& s = *state_;
  while (const auto connect = s.queue.pop(now)) {
    const auto head = read_connect_head(connect->datagram);
    KWIND_ASSERT(head);
    const std::span<const std::byte> datagram(connect->datagram);
    Attempt attempt{{connect->from, {}}, connect->transport_index, {}, now, 0, {}, {}};
    std::copy_n(datagram.begin() + kConnectHeadBytes, attempt.key.ephemeral.size(),
                attempt.key.ephemeral.begin());
    if (s.by_connect.contains(attempt.key)) continue;  // another copy was faster
    if (connect->transport_kind == TransportKind::datagrams) {
      if (now >= s.next_turn) {
        std::swap(s.taken_cookies[0], s.taken_cookies[1]);
        s.taken_cookies[0].clear();
        s.next_turn = now + kCookieTurn;
      }
      // Two connects with one cookie waited: the first had it.
      if (s.taken_cookies[1].contains(head->cookie) ||
          !s.taken_cookies[0].insert(head->cookie).second) {
        continue;
      }
    }
    ++s.counts.exchanges;
    Exchanged done = s.accept(now, *connect, reply, attempt);
    if (done.error != Errc::none) {
      ++s.counts.exchanges_failed;
      attempt.once.reset();  // it is still to be used
      s.queue.blame(now, connect->from);
    }
    // A refusal is kept for copies of the connect as well: they cost no exchange.
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

namespace {

// Opens the sealed part of a connect: by Noise, or in plaintext mode by its check, and then `noise`
// stays empty. Errors: wrong_key; those of read_plaintext().
Errc open_connect(const ListenerOptions& options, std::span<const std::byte> datagram,
                  const Secret32& ephemeral, std::optional<NoiseNk>& noise,
                  Secret<kConnectPayloadBytes>& payload) {
  const auto message = datagram.subspan(kConnectHeadBytes);
  if (options.key) {
    noise =
        NoiseNk::responder(prologue_of(datagram.first(kConnectHeadBytes)), *options.key, ephemeral);
    return noise->read_first(message, payload.bytes()) ? Errc::none : Errc::wrong_key;
  }
  const auto plaintext = read_plaintext(message);
  if (!plaintext) return plaintext.error();
  std::copy(plaintext->begin(), plaintext->end(), payload.bytes().begin());
  return Errc::none;
}

// What the server's link needs to know of the handshake, but for its keys.
Agreed agreed_on(const Admission& admission, TransportKind transport_kind) {
  Agreed agreed;
  agreed.id = admission.id;
  agreed.version = admission.version;
  agreed.code_tables = admission.code_tables;
  agreed.transport_kind = transport_kind;
  agreed.resumed = admission.replaces.has_value();
  return agreed;
}

// The keys of data: from the handshake's secrets, or in plaintext mode from bytes that everybody on
// the path saw.
std::variant<CheckKeys, AeadKeys> keys_of(std::optional<NoiseNk>& noise, Cipher cipher,
                                          std::span<const std::byte> message,
                                          std::span<const std::byte> sealed, ConnectionId id) {
  if (noise) {
    const NoiseNk::Keys keys = noise->split();
    return AeadKeys{cipher, derive(keys.up, "datagrams up"), derive(keys.down, "datagrams down")};
  }
  return CheckKeys{plaintext_key("clear up", message.first(32), sealed.first(32), id),
                   plaintext_key("clear down", message.first(32), sealed.first(32), id)};
}

}  // namespace

// The welcome of a client that is let in: its id, what both ends agreed on, and the secrets with
// which the client recognises a reset and may resume.
void Listener::State::welcome(const Connect& connect, Admission& admission, Welcome& sent) {
  std::size_t place = 0;
  version_common(options.identity, connect.identity, place);
  admission.id = take_id();
  sent.id = admission.id;
  sent.version_index = static_cast<std::uint8_t>(place);
  sent.cipher = options.aes && connect.aes && has_aes_hardware() && options.key
                    ? Cipher::aes256_gcm
                    : Cipher::chacha20_poly1305;
  sent.code_tables = admission.code_tables;
  sent.resumed = admission.replaces.has_value();
  const Secret32 nonce_from = draw("gone");
  sent.reset_nonce = bits::Reader(nonce_from.bytes()).get(64);
  sent.reset = reset_token(admission.id, sent.reset_nonce);
  if (options.resume > Duration{0} && options.key) {
    sent.resume = draw("resume");
    sent.resume_window_s = static_cast<std::uint16_t>(
        std::chrono::floor<std::chrono::seconds>(options.resume).count());
    admission.resume = digest_of(sent.resume);
  }
}

// Opens the connect, decides, and writes the accept. A refusal is encrypted too, so that nobody but
// the server can send a client away.
Listener::Exchanged Listener::State::accept(Time now, const ExchangeQueue::Connect& waited,
                                            std::span<std::byte> reply, Attempt& attempt) {
  const std::span<const std::byte> datagram(waited.datagram);
  const auto head = read_connect_head(datagram);
  const std::uint64_t nonce = head->opening.client_nonce;
  Exchanged done{waited.from, waited.transport_index, waited.transport_kind, Errc::none, 0, {}};
  const auto failed = [&](Errc code, std::size_t bytes) {
    done.error = code;
    done.reply_bytes = bytes;
    return done;
  };
  const auto handshake_error = [&](Errc code) {
    return failed(code, write(HandshakeError{nonce, code}, reply));
  };

  const Secret32 ephemeral = draw("ephemeral");
  std::optional<NoiseNk> noise;
  Secret<kConnectPayloadBytes> payload;
  if (const Errc error = open_connect(options, datagram, ephemeral, noise, payload);
      error != Errc::none) {
    return error == Errc::wrong_key ? handshake_error(error) : failed(error, 0);
  }
  const auto connect = read_connect(payload.bytes());
  if (!connect) return failed(connect.error(), 0);
  Accept accept;
  std::string why;
  auto admission = decide(now, *connect, attempt, why);
  if (admission) {
    admission->from = waited.from;
    admission->answered = now;
    welcome(*connect, *admission, accept.welcome.emplace());
  } else {
    accept.refusal = {admission.error(), why, {}};
    if (admission.error() == Errc::schema_mismatch) {
      accept.refusal.mismatch = mismatch_of(options.identity, connect->identity);
    }
  }

  Secret<kMaxAcceptPayloadBytes> out;
  const auto body = std::span(out.bytes()).first(write(accept, out.bytes()));
  const std::size_t size = kAcceptHeadBytes + body.size() + NoiseNk::kOverheadBytes;
  write_accept_head(nonce, reply);
  const auto sealed = reply.subspan(kAcceptHeadBytes, size - kAcceptHeadBytes);
  if (!noise) {
    write_plaintext(ephemeral.bytes(), body, sealed);
  } else if (!noise->write_second(body, sealed)) {  // an ephemeral key that no honest client has
    if (admission) free_id(admission->id);
    return handshake_error(Errc::wrong_key);
  }
  if (!admission) return failed(admission.error(), size);

  Agreed agreed = agreed_on(*admission, head->opening.transport_kind);
  agreed.keys = keys_of(noise, accept.welcome->cipher, datagram.subspan(kConnectHeadBytes), sealed,
                        agreed.id);
  admission->agreed = std::make_shared<const Agreed>(std::move(agreed));
  done.reply_bytes = size;
  done.attempt = admission->id;
  attempt.admission = std::move(*admission);
  return done;
}

// Decides without changing anything: protocol, version, state format, code tables, credential,
// capacity. Tickets and resume tokens are used up only when the connection exists; see admit().
Result<Admission> Listener::State::decide(Time now, const Connect& connect, Attempt& attempt,
                                          std::string& why) const {
  const Identity& ours = options.identity;
  if (connect.identity.name != ours.name) {
    why = fmt::format("this server speaks `{}`", ours.name);
    return fail(Errc::protocol_name);
  }
  Admission admission;
  std::size_t place = 0;
  admission.version = version_common(ours, connect.identity, place);
  if (admission.version == 0) return fail(Errc::schema_mismatch);
  if (connect.identity.payload_version != ours.payload_version) {
    why = fmt::format("the client has version {}, this server {}", connect.identity.payload_version,
                      ours.payload_version);
    return fail(Errc::state_version);
  }
  if (admission.version >= ours.code_tables_since) {
    admission.code_tables = common_code_tables(ours, connect.code_table_sets);
  }
  if (admission.code_tables > 0) {
    admission.code_tables_digest = connect.code_table_sets[admission.code_tables - 1U];
  }

  if (connect.resume) {
    attempt.once = digest_of(*connect.resume);
    const auto found = resumes.find(*attempt.once);
    if (found == resumes.end() || now >= found->second.until) {
      return fail(Errc::resume_unknown);
    }
    admission.replaces = found->second.serial;
    admission.claims = found->second.claims;
    if (admission.claims != nullptr && options.gate != nullptr) {
      // It does not bring its ticket again, but that holds no longer for that.
      if (admission.claims->expires <= options.unix_now()) return fail(Errc::ticket_expired);
      if (!options.gate->may_resume(*admission.claims)) return fail(Errc::ticket_invalid);
    }
  } else if (options.gate != nullptr) {
    if (connect.ticket.empty()) return fail(Errc::ticket_missing);
    auto claims = options.gate->check(connect.ticket, options.unix_now());
    if (!claims) return fail(claims.error());
    const Digest128 ticket = blake2b_128(claims->id);
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
// The first datagram of data proves that the client has the keys: it must open under them.
bool opens(const Agreed& agreed, Time now, std::span<const std::byte> datagram) {
  if (datagram.size() > kMaxDatagramBytes) return false;
  const auto header = read_data_header(datagram, true);
  std::optional<Envelope> envelope;
  if (const auto* plaintext = std::get_if<CheckKeys>(&agreed.keys)) {
    envelope.emplace(*plaintext, false);
  } else {
    envelope.emplace(std::get<AeadKeys>(agreed.keys), false, KeyLife{}, now);
  }
  if (!header || datagram.size() < header->bytes + envelope->tag_bytes()) return false;
  std::array<std::byte, kMaxDatagramBytes> memory;  // NOLINT: filled by open()
  const std::uint64_t number = expand(0, header->number_low, header->wide ? 16 : 8);
  return envelope->open(now, number, header->phase, datagram, header->bytes, memory).has_value();
}
}  // namespace

// The first data datagram that opens turns an attempt into a connection.
std::optional<Listener::Admitted> Listener::admit(Time now, std::size_t transport_index,
                                                  std::span<const std::byte> datagram) {
  State& s = *state_;
  if (now >= s.next_sweep) s.sweep(now);
  const auto id = connection_of(datagram);
  if (!id) return std::nullopt;
  const auto found = s.by_id.find(*id);
  if (found == s.by_id.end()) return std::nullopt;
  const std::size_t place = found->second;
  Attempt& attempt = s.attempts[place];
  if (attempt.transport_index != transport_index ||
      now - attempt.answered >= s.options.handshake_timeout ||
      !opens(*attempt.admission->agreed, now, datagram)) {
    return std::nullopt;
  }
  Admitted admitted;
  admitted.admission = *attempt.admission;
  admitted.admission.serial = ++s.serials;
  admitted.error = s.use_up(now, attempt);
  s.queue.forgive(now, attempt.key.from);
  // A late copy of the connect must make no second connection: the attempt stays, without keys.
  attempt.reply = {};
  s.by_id.erase(found);
  attempt.admission.reset();
  if (attempt.once) s.by_once.erase(*std::exchange(attempt.once, std::nullopt));
  if (admitted.error != Errc::none) {
    s.free_id(*id);
    return admitted;
  }
  ++s.open;
  if (admitted.admission.resume) {
    s.resumes[*admitted.admission.resume] = {admitted.admission.serial, admitted.admission.claims,
                                             kNever};
  }
  return admitted;
}

// A client that comes back before the server has noticed that it was gone takes its own place.
bool Listener::State::is_full(const Attempt& attempt, const Admission& admission) const {
  if (open < options.capacity) return false;
  if (!admission.replaces) return true;
  const auto right = resumes.find(*attempt.once);
  return right == resumes.end() || right->second.until != kNever;
}

// A ticket or resume token counts once. The check happens here once more, because other attempts
// may have become connections since decide().
Errc Listener::State::use_up(Time now, const Attempt& attempt) {
  const Admission& admission = *attempt.admission;
  if (is_full(attempt, admission)) return Errc::server_full;
  if (admission.replaces) {
    const auto right = resumes.find(*attempt.once);
    if (right == resumes.end() || now >= right->second.until) return Errc::resume_unknown;
    resumes.erase(right);
  } else if (admission.claims) {
    if (used_tickets.size() >= options.used_tickets) return Errc::ticket_table_full;
    if (!used_tickets.emplace(*attempt.once, admission.claims->expires).second ||
        !options.gate->take(*admission.claims)) {
      return Errc::ticket_used;
    }
  }
  return Errc::none;
}

bool Listener::is_lost(std::span<const std::byte> datagram) {
  return !datagram.empty() && datagram[0] == static_cast<std::byte>(Form::lost);
}

// The id of a reset query, which may be of any connection or of none.
Result<ConnectionId> Listener::lost_connection(std::span<const std::byte> datagram) {
  const auto lost = read_lost(datagram);
  if (!lost) return fail(lost.error());
  return lost->id;
}

// A stateless reset for a connection that this process does not know. The answer is smaller than
// the query.
std::size_t Listener::reply_to_lost(std::span<const std::byte> datagram,
                                    std::span<std::byte> reply) const {
  const auto lost = read_lost(datagram);
  if (!lost || state_->by_id.contains(lost->id)) return 0;  // an attempt is in flight
  return write_reset(state_->reset_token(lost->id, lost->reset_nonce), reply);
}

// Of one connection: by the number that its welcome gave. Who asks for another number gets a token
// that nobody listens to.
Digest128 Listener::State::reset_token(ConnectionId id, std::uint64_t nonce) const {
  std::array<std::byte, 12> data{};
  bits::Writer writer(data);
  writer.put(static_cast<std::uint32_t>(id), 32);
  writer.put(nonce, 64);
  writer.finish();
  // From the key that outlives a restart. In plaintext mode there is none, and nothing is safe
  // anyway.
  return first_half(
      derive(options.key ? options.key->secret : Secret32{}, "connection gone", data));
}

// The connection ended. Its resume token stays valid for the resume window, if the end permits a
// return.
void Listener::forget(Time now, const Admission& admission, bool may_resume) {
  State& s = *state_;
  std::size_t& counted = admission.vacated ? s.vacated : s.open;
  KWIND_ASSERT(counted > 0);
  --counted;
  s.free_id(admission.id);
  if (!admission.resume) return;
  const auto kept = s.resumes.find(*admission.resume);
  if (kept == s.resumes.end()) return;
  // At most one per slot: a flood of short connections cannot fill memory with them.
  if (may_resume && s.resumes.size() <= 2 * s.options.capacity) {
    kept->second.until = now + s.options.resume;
  } else {
    s.resumes.erase(kept);
  }
}

// The bound keeps memory bounded: clients that break rules and come again at once may not have more
// connections that drain than the server has places.
bool Listener::vacate(Admission& admission) {
  State& s = *state_;
  if (admission.vacated) return true;
  if (s.vacated >= s.options.capacity) return false;
  KWIND_ASSERT(s.open > 0);
  admission.vacated = true;
  --s.open;
  ++s.vacated;
  return true;
}

// The client is not to come back: it was kicked, banned or discarded.
void Listener::revoke(const Admission& admission) {
  if (admission.resume) state_->resumes.erase(*admission.resume);
}

// Once a second everything that has expired leaves its table.
void Listener::State::sweep(Time now) {
  next_sweep = now + kSweepEvery;
  expire(now);
  queue.sweep(now);
  if (!used_tickets.empty()) {
    const std::int64_t unix = options.unix_now();
    std::erase_if(used_tickets, [&](const auto& entry) { return entry.second < unix; });
  }
  std::erase_if(resumes, [&](const auto& entry) { return now >= entry.second.until; });
}

}  // namespace kwind::link
