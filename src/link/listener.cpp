#include "kwind/link/listener.h"

#include <fmt/format.h>

#include "handshake.h"
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::link {

Listener::Listener(ListenerOptions options) : options_(std::move(options)) {
  KWIND_ASSERT(options_.capacity >= 1 && options_.capacity <= 65536);
  slots_.resize(options_.capacity);
  for (std::size_t i = options_.capacity; i-- > 0;) free_.push_back(static_cast<std::uint16_t>(i));
}

bool Listener::is_handshake(std::span<const std::byte> datagram) {
  const auto form = form_of(datagram);
  return form && *form != Form::data;
}

Result<ConnectionId> Listener::connection_of(std::span<const std::byte> datagram) {
  const auto form = form_of(datagram);
  if (!form) return fail(form.error());
  if (*form != Form::data) return fail(Errc::unknown_form);
  if (datagram.size() < 5) return fail(Errc::truncated);
  bits::Reader reader(datagram.subspan(1));
  return static_cast<ConnectionId>(reader.get(32));
}

Result<std::size_t> Listener::common_version(const Identity& theirs, std::string& why) const {
  const Identity& ours = options_.identity;
  if (theirs.name != ours.name) {
    why = fmt::format("this server speaks `{}`", ours.name);
    return fail(Errc::protocol_name);
  }
  for (std::size_t i = 0; i < theirs.versions.size(); ++i) {  // the client's order: newest first
    for (const VersionDigest& entry : ours.versions) {
      if (entry.version == theirs.versions[i].version &&
          bits::same_bytes(entry.digest, theirs.versions[i].digest)) {
        return i;
      }
    }
  }
  return fail(Errc::schema_mismatch);
}

ConnectionId Listener::take_slot(const HelloKey& key) {
  const std::uint16_t index = free_.back();
  free_.pop_back();
  Slot& slot = slots_[index];
  ++slot.generation;  // a late datagram of the place's last tenant meets another id
  slot.used_by = key;
  return static_cast<ConnectionId>((std::uint32_t{options_.number} << 24) |
                                   (std::uint32_t{slot.generation} << 16) | index);
}

Listener::Outcome Listener::receive(Time now, const Endpoint& from,
                                    std::span<const std::byte> datagram,
                                    std::span<std::byte> reply) {
  const auto hello = read_hello(datagram);
  if (!hello && hello.error() == Errc::link_version && datagram.size() == kMaxDatagramBytes) {
    const auto nonce = read_hello_nonce(datagram);
    return {Errc::link_version, write(Versions{*nonce, {kLinkVersion}}, reply), {}};
  }
  if (!hello) return {hello.error(), 0, {}};
  const std::uint64_t nonce = hello->client_nonce;
  if (!hello->cookie) {
    const CookieReply answer{nonce, make_cookie(options_.secret, from, nonce, now)};
    return {Errc::none, write(answer, reply), {}};
  }
  if (!cookie_fits(*hello->cookie, options_.secret, from, nonce, now)) {
    // Perhaps it expired on a slow path: a new one costs nothing and keeps nothing.
    const CookieReply answer{nonce, make_cookie(options_.secret, from, nonce, now)};
    return {Errc::bad_cookie, write(answer, reply), {}};
  }
  std::string why;
  const auto agreed = common_version(hello->identity, why);
  if (!agreed) {
    Refusal refusal{nonce, agreed.error(), why};
    if (agreed.error() == Errc::schema_mismatch) {
      refusal.mismatch = mismatch_of(options_.identity, hello->identity);
    }
    return {agreed.error(), write(refusal, reply), {}};
  }

  const auto answer_of = [&](const Admission& admission) {
    return Welcome{nonce, admission.server_nonce, admission.id, static_cast<std::uint8_t>(*agreed)};
  };
  const HelloKey key{from, nonce};
  if (const auto known = by_hello_.find(key); known != by_hello_.end()) {
    return {Errc::none, write(answer_of(known->second), reply), {}};  // a copy gets the same answer
  }
  if (free_.empty()) {
    why = fmt::format("{} of {} places are taken", by_hello_.size(), options_.capacity);
    return {Errc::server_full, write(Refusal{nonce, Errc::server_full, why}, reply), {}};
  }
  std::array<std::byte, 16> seed{};
  bits::Writer writer(seed);
  writer.put(++admitted_, 64);
  writer.put(nonce, 64);
  writer.finish();
  const bits::Digest128 random = bits::keyed_blake2b_128(options_.secret, "server nonce", seed);
  Admission admission;
  admission.id = take_slot(key);
  admission.client_nonce = nonce;
  admission.server_nonce = bits::Reader(random).get(64);
  admission.version = hello->identity.versions[*agreed].version;
  by_hello_.emplace(key, admission);
  return {Errc::none, write(answer_of(admission), reply), admission};
}

void Listener::forget(ConnectionId id) {
  const auto index = static_cast<std::uint16_t>(static_cast<std::uint32_t>(id) & 0xffff);
  Slot& slot = slots_[index];
  if (!slot.used_by) return;
  by_hello_.erase(*slot.used_by);
  slot.used_by.reset();
  free_.push_back(index);
}

}  // namespace kwind::link
