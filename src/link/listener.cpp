#include "kwind/link/listener.h"

#include <fmt/format.h>

#include <cstring>

#include "agreed.h"
#include "data_header.h"
#include "handshake.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

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

Endpoint address_of(Endpoint from) {
  from.port = 0;
  return from;
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

}  // namespace

struct Listener::Said {
  OfferKey key;
  Offer offer;
  std::size_t version_place = 0;
};

std::size_t Listener::OfferHash::operator()(const OfferKey& key) const noexcept {
  std::uint64_t part = 0;  // public keys are as good as random
  std::memcpy(&part, key.ephemeral.data(), sizeof part);
  return std::hash<Endpoint>()(key.from) ^ static_cast<std::size_t>(part);
}
std::size_t Listener::DigestHash::operator()(const bits::Digest128& digest) const noexcept {
  std::uint64_t part = 0;
  std::memcpy(&part, digest.data(), sizeof part);
  return static_cast<std::size_t>(part);
}

Listener::Listener(ListenerOptions options) : options_(std::move(options)) {
  KWIND_ASSERT(options_.capacity >= 1 && options_.capacity <= 65536 && options_.number < 16);
  KWIND_ASSERT(options_.key || options_.gate == nullptr);  // no ticket travels in clear
  KWIND_ASSERT(options_.unix_now || options_.gate == nullptr);
  slots_.resize(options_.capacity);
  // Ids should not repeat at once when the server was restarted.
  const bits::Secret32 random = bits::derive(options_.secret, "generations");
  const auto first = std::to_integer<std::uint8_t>(random.bytes()[0]);
  for (Slot& slot : slots_) slot.generation = first;
  free_.reserve(options_.capacity);
  for (std::size_t i = options_.capacity; i-- > 0;) free_.push_back(static_cast<std::uint16_t>(i));
}

bool Listener::is_handshake(std::span<const std::byte> datagram) {
  return !datagram.empty() && !is_data(datagram);
}

Result<ConnectionId> Listener::connection_of(std::span<const std::byte> datagram) {
  if (datagram.empty()) return fail(Errc::truncated);
  if (!is_data(datagram)) return fail(Errc::unknown_form);
  if (datagram.size() < 4) return fail(Errc::truncated);
  return connection_id_of(datagram);
}

Listener::Outcome Listener::receive(Time now, const Endpoint& from,
                                    std::span<const std::byte> datagram, std::span<std::byte> reply,
                                    Carrier carrier) {
  if (now >= next_sweep_) sweep(now);
  const auto form = form_of(datagram);
  if (!form) return {form.error(), 0, {}};
  switch (*form) {
    case Form::hello: return hear_hello(now, from, datagram, reply);
    case Form::offer: return hear_offer(now, from, datagram, reply, carrier);
    case Form::cookie:
    case Form::answer:
    case Form::notice:
    case Form::versions:
    case Form::gone: return {Errc::unexpected, 0, {}};
  }
  return {Errc::unknown_form, 0, {}};
}

Listener::Outcome Listener::hear_hello(Time now, const Endpoint& from,
                                       std::span<const std::byte> datagram,
                                       std::span<std::byte> reply) const {
  const auto hello = read_hello(datagram);
  if (!hello && hello.error() == Errc::link_version && datagram.size() == kBaseDatagramBytes) {
    const auto nonce = read_nonce(datagram);
    return {Errc::link_version, write(Versions{*nonce, {kLinkVersion}}, reply), {}};
  }
  if (!hello) return {hello.error(), 0, {}};
  if ((hello->mode == Mode::sealed) != options_.key.has_value()) {
    return {Errc::mode_differs, write(Notice{hello->client_nonce, Errc::mode_differs}, reply), {}};
  }
  const Cookie cookie = make_cookie(options_.secret, from, hello->client_nonce, now);
  return {Errc::none, write(CookieReply{hello->client_nonce, cookie}, reply), {}};
}

Listener::Outcome Listener::hear_offer(Time now, const Endpoint& from,
                                       std::span<const std::byte> datagram,
                                       std::span<std::byte> reply, Carrier carrier) {
  const auto head = read_offer_head(datagram);
  if (!head) return {head.error(), 0, {}};
  // Who says over UDP that it came by a stream wants to be spared the cookie.
  if (head->opening.carrier != carrier) return {Errc::unexpected, 0, {}};
  const std::uint64_t nonce = head->opening.client_nonce;
  const auto notice = [&](Errc code) {
    return Outcome{code, write(Notice{nonce, code}, reply), {}};
  };
  if ((head->opening.mode == Mode::sealed) != options_.key.has_value()) {
    return notice(Errc::mode_differs);
  }
  // A stream's address has proven itself by opening the stream.
  if (carrier == Carrier::datagrams &&
      !cookie_fits(head->cookie, options_.secret, from, nonce, now)) {
    // Perhaps it expired on a slow path: a new one costs nothing and keeps nothing.
    const Cookie cookie = make_cookie(options_.secret, from, nonce, now);
    return {Errc::bad_cookie, write(CookieReply{nonce, cookie}, reply), {}};
  }
  const auto message = datagram.subspan(kOfferHeadBytes);
  Said said{{from, {}}, {}, 0};
  std::copy_n(message.begin(), said.key.ephemeral.size(), said.key.ephemeral.begin());
  if (const auto known = by_offer_.find(said.key); known != by_offer_.end()) {
    const std::vector<std::byte>& same = slots_[known->second].reply;
    if (same.empty()) return {Errc::unexpected, 0, {}};  // the connection exists by now
    std::copy(same.begin(), same.end(), reply.begin());
    return {Errc::none, same.size(), {}};
  }
  const auto waiting = pending_by_address_.find(address_of(from));
  if (waiting != pending_by_address_.end() && waiting->second >= options_.pending_per_address) {
    return notice(Errc::server_busy);
  }

  std::array<std::byte, 8> count{};
  bits::Writer counter(count);
  counter.put(++offers_, 64);
  counter.finish();
  const bits::Secret32 ephemeral = bits::derive(options_.secret, "server ephemeral", count);
  std::optional<NoiseNk> noise;
  bits::Secret<kOfferPayloadBytes> payload;
  if (options_.key) {
    noise =
        NoiseNk::responder(prologue_of(datagram.first(kOfferHeadBytes)), *options_.key, ephemeral);
    if (!noise->read_first(message, payload.bytes())) return notice(Errc::wrong_key);
  } else {
    const auto clear = read_clear(message);
    if (!clear) return {clear.error(), 0, {}};
    std::copy(clear->begin(), clear->end(), payload.bytes().begin());
  }
  auto offer = read_offer(payload.bytes());
  if (!offer) return {offer.error(), 0, {}};
  said.offer = std::move(*offer);

  Answer answer;
  std::string why;
  auto admission = decide(now, said, why);
  Agreed agreed;
  if (admission) {
    Slot& slot = slots_[place_of(admission->id)];
    std::size_t place = 0;
    version_common(options_.identity, said.offer.identity, place);
    Welcome& welcome = answer.welcome.emplace();
    welcome.id = admission->id;
    welcome.version_index = static_cast<std::uint8_t>(place);
    welcome.cipher = options_.aes && said.offer.aes && has_aes_hardware() && options_.key
                         ? Cipher::aes256_gcm
                         : Cipher::chacha20_poly1305;
    welcome.code_set = admission->code_set;
    welcome.returned = admission->replaces.has_value();
    welcome.gone = gone_token(admission->id);
    if (options_.comeback > Duration{0} && options_.key) {
      welcome.comeback = bits::derive(options_.secret, "comeback", count);
      welcome.comeback_s = static_cast<std::uint16_t>(
          std::chrono::floor<std::chrono::seconds>(options_.comeback).count());
      slot.comeback = digest_of(welcome.comeback);
      comebacks_[*slot.comeback] = {admission->id, admission->claims, kNever};
    }
    agreed.id = welcome.id;
    agreed.version = admission->version;
    agreed.code_set = welcome.code_set;
    agreed.carrier = head->opening.carrier;
    agreed.returned = welcome.returned;
  } else {
    answer.refusal = {admission.error(), why, {}};
    if (admission.error() == Errc::schema_mismatch) {
      answer.refusal.mismatch = mismatch_of(options_.identity, said.offer.identity);
    }
  }

  bits::Secret<kMostAnswerPayloadBytes> out;
  const auto body = std::span(out.bytes()).first(write(answer, out.bytes()));
  const std::size_t size = kAnswerHeadBytes + body.size() + NoiseNk::kOverheadBytes;
  write_answer_head(nonce, reply);
  const auto sealed = reply.subspan(kAnswerHeadBytes, size - kAnswerHeadBytes);
  if (noise) {
    if (!noise->write_second(body, sealed)) {  // an ephemeral key that no honest client has
      if (admission) forget(now, admission->id);
      return notice(Errc::wrong_key);
    }
  } else {
    write_clear(ephemeral.bytes(), body, sealed);
  }
  if (!admission) return {admission.error(), size, {}};

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
  slots_[place_of(admission->id)].reply.assign(reply.begin(),
                                               reply.begin() + static_cast<std::ptrdiff_t>(size));
  return {Errc::none, size, std::move(*admission)};
}

Result<Admission> Listener::decide(Time now, const Said& said, std::string& why) {
  const Identity& ours = options_.identity;
  if (said.offer.identity.name != ours.name) {
    why = fmt::format("this server speaks `{}`", ours.name);
    return fail(Errc::protocol_name);
  }
  Admission admission;
  std::size_t place = 0;
  admission.version = version_common(ours, said.offer.identity, place);
  if (admission.version == 0) return fail(Errc::schema_mismatch);
  if (said.offer.identity.payload_version != ours.payload_version) {
    why = fmt::format("the client has version {}, this server {}",
                      said.offer.identity.payload_version, ours.payload_version);
    return fail(Errc::state_version);
  }
  admission.code_set = common_code_set(ours, said.offer.code_sets);
  if (admission.code_set > 0) {
    admission.code_set_digest = said.offer.code_sets[admission.code_set - 1U];
  }

  std::optional<bits::Digest128> came_by;
  if (said.offer.comeback) {
    came_by = digest_of(*said.offer.comeback);
    const auto found = comebacks_.find(*came_by);
    if (found == comebacks_.end() || now >= found->second.until) {
      return fail(Errc::comeback_unknown);
    }
    admission.replaces = found->second.id;
    admission.claims = found->second.claims;
  } else if (options_.gate != nullptr) {
    if (said.offer.ticket.empty()) return fail(Errc::ticket_missing);
    auto claims = options_.gate->check(said.offer.ticket, options_.unix_now());
    if (!claims) return fail(claims.error());
    if (used_tickets_.contains(bits::blake2b_128(claims->id))) return fail(Errc::ticket_used);
    admission.claims = std::make_shared<const Claims>(std::move(*claims));
  }
  if (free_.empty()) {
    why = fmt::format("{} of {} places are taken", connections(), options_.capacity);
    return fail(Errc::server_full);
  }
  admission.id = take_place(said.key);
  Slot& slot = slots_[place_of(admission.id)];
  slot.claims = admission.claims;
  slot.came_by = came_by;
  return admission;
}

std::size_t Listener::answer_unknown(std::span<const std::byte> datagram,
                                     std::span<std::byte> reply) const {
  const auto id = connection_of(datagram);
  // Shorter ones are no datagrams of ours; an answer as long as the question could go on for ever.
  if (!id || datagram.size() < kLeastDataBytes) return 0;
  return write_gone(gone_token(*id), reply);
}

bits::Digest128 Listener::gone_token(ConnectionId id) const {
  std::array<std::byte, 4> data{};
  bits::Writer writer(data);
  writer.put(static_cast<std::uint32_t>(id), 32);
  writer.finish();
  // From the key that outlives a restart. In clear mode there is none, and nothing is safe anyway.
  return first_half(bits::derive(options_.key ? options_.key->secret : bits::Secret32{},
                                 "connection gone", data));
}

ConnectionId Listener::take_place(const OfferKey& key) {
  const std::uint16_t index = free_.back();
  free_.pop_back();
  Slot& slot = slots_[index];
  const std::uint8_t generation = ++slot.generation;  // late datagrams meet another id
  slot = Slot{};
  slot.generation = generation;
  slot.used = true;
  slot.offer = key;
  slot.pending = true;
  by_offer_.emplace(key, index);
  ++pending_by_address_[address_of(key.from)];
  return static_cast<ConnectionId>((std::uint32_t{options_.number} << 24) |
                                   (std::uint32_t{generation} << 16) | index);
}

std::size_t Listener::place_of(ConnectionId id) const {
  const auto number = static_cast<std::uint32_t>(id);
  const std::size_t index = number & 0xffff;
  KWIND_ASSERT(index < slots_.size() && slots_[index].generation == ((number >> 16) & 0xff));
  return index;
}

void Listener::no_longer_pending(Slot& slot) {
  if (!slot.pending) return;
  const auto address = pending_by_address_.find(address_of(slot.offer->from));
  if (--address->second == 0) pending_by_address_.erase(address);
  slot.pending = false;
  slot.reply = {};
}

Errc Listener::opened(Time now, ConnectionId id) {
  if (now >= next_sweep_) sweep(now);
  Slot& slot = slots_[place_of(id)];
  no_longer_pending(slot);
  if (slot.came_by) {
    if (comebacks_.erase(*slot.came_by) == 0) return Errc::comeback_unknown;
  } else if (slot.claims) {
    if (used_tickets_.size() >= options_.used_tickets) return Errc::ticket_table_full;
    if (!used_tickets_.emplace(bits::blake2b_128(slot.claims->id), slot.claims->expires).second) {
      return Errc::ticket_used;
    }
  }
  return Errc::none;
}

void Listener::forget(Time now, ConnectionId id, bool may_return) {
  const std::size_t index = place_of(id);
  Slot& slot = slots_[index];
  if (!slot.used) return;
  no_longer_pending(slot);
  by_offer_.erase(*slot.offer);
  if (slot.comeback) {
    const auto kept = comebacks_.find(*slot.comeback);
    if (kept != comebacks_.end()) {
      // As many as places: a flood of short connections cannot fill memory with comebacks.
      if (may_return && comebacks_.size() <= 2 * options_.capacity) {
        kept->second.until = now + options_.comeback;
      } else {
        comebacks_.erase(kept);
      }
    }
  }
  slot.used = false;
  slot.claims.reset();
  slot.comeback.reset();
  slot.came_by.reset();
  free_.push_back(static_cast<std::uint16_t>(index));
}

void Listener::sweep(Time now) {
  next_sweep_ = now + kSweepEvery;
  if (!used_tickets_.empty()) {
    const std::int64_t unix = options_.unix_now();
    std::erase_if(used_tickets_, [&](const auto& entry) { return entry.second < unix; });
  }
  std::erase_if(comebacks_, [&](const auto& entry) { return now >= entry.second.until; });
}

}  // namespace kwind::link
