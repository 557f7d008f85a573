// The state of a Listener: attempts in flight, connections by slot, used cookies and tickets,
// resume tokens. Every table is bounded. listener.cpp acts on it.
#pragma once
#include <array>
#include <deque>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "kwind/link/listener.h"
#include "link/handshake/agreed.h"
#include "link/handshake/exchange_queue.h"
#include "link/handshake/handshake.h"
#include "link/random.h"

namespace kwind::link {

inline Digest128 first_half(const Secret32& secret) {
  Digest128 digest{};
  std::copy_n(secret.bytes().begin(), digest.size(), digest.begin());
  return digest;
}

// Identifies the copies of one connect.
struct ConnectKey {
  Endpoint from;
  PublicKey ephemeral;
  friend bool operator==(const ConnectKey&, const ConnectKey&) = default;
};
// Under a key of the process: strangers choose what is hashed.
struct KeyedHash {
  Key128 key{};
  std::size_t operator()(const ConnectKey& connect) const noexcept {
    return std::hash<Endpoint>()(connect.from) ^
           (*this)(std::span<const std::byte>(connect.ephemeral));
  }
  std::size_t operator()(const Digest128& digest) const noexcept {
    return (*this)(std::span<const std::byte>(digest));
  }
  std::size_t operator()(std::span<const std::byte> bytes) const noexcept {
    return keyed_check(key, bytes, 0);
  }
};

// What is kept of a handshake that was answered: no more than goes on with it.
struct Attempt {
  ConnectKey key;
  std::size_t transport_index = 0;
  std::vector<std::byte> reply;  // to copies of the connect
  Time answered{};
  std::uint32_t copies = 0;              // of the connect, that came after the first
  std::optional<Admission> admission{};  // if it was not refused
  std::optional<Digest128> once{};       // its ticket, or the right to come back that it brought
};

struct Resuming {
  std::uint64_t serial = 0;
  std::shared_ptr<const Claims> claims{};
  Time until = kNever;
};

// No cookie is valid for longer: those taken in this turn and in the one before are all that can
// come again. The rate of exchanges bounds how many there are.
inline constexpr Duration kCookieTurn = std::chrono::seconds(20);
inline constexpr std::uint32_t kMaxCopies = 20;

struct Listener::State {
  explicit State(const ListenerOptions& options_in)
      : options(options_in),
        cookie_key(derive(options.secret, "cookies")),
        drawn_from(derive(options.secret, "drawn")),
        evictions(draw("evictions"), "evictions"),
        queue(options.exchanges, draw("networks")),
        hash{first_half(draw("hashes"))},
        by_connect(0, hash),
        by_once(0, hash),
        taken_cookies{Cookies(0, hash), Cookies(0, hash)} {
    wipe(options.secret.bytes());
  }

  using Cookies = std::unordered_set<Digest128, KeyedHash>;

  Outcome on_hello(Time now, const Endpoint& from, std::span<const std::byte> datagram,
                   std::span<std::byte> reply) const;
  Outcome on_connect_request(Time now, const Endpoint& from, std::span<const std::byte> datagram,
                             std::span<std::byte> reply, TransportKind transport_kind,
                             std::size_t transport_index);
  // The key exchange: decides, and writes the answer.
  void welcome(const Connect& connect, Admission& admission, Welcome& sent);
  Exchanged accept(Time now, const ExchangeQueue::Connect& connect, std::span<std::byte> reply,
                   Attempt& attempt);
  Result<Admission> decide(Time now, const Connect& connect, Attempt& attempt,
                           std::string& why) const;
  [[nodiscard]] bool is_full(const Attempt& attempt, const Admission& admission) const;
  Errc use_up(Time now, const Attempt& attempt);

  // ---- attempts ----

  void add(Attempt attempt) {
    if (attempts.size() >= options.attempts) {
      ++counts.attempts_evicted;
      remove(evictions.next() % attempts.size());
    }
    // One in flight for each ticket: who has two of them has one client too many.
    if (attempt.once) {
      if (const auto other = by_once.find(*attempt.once); other != by_once.end()) {
        remove(other->second);
      }
      by_once[*attempt.once] = attempts.size();
    }
    by_connect[attempt.key] = attempts.size();
    if (attempt.admission) by_id[attempt.admission->id] = attempts.size();
    attempts.push_back(std::move(attempt));
  }
  void remove(std::size_t place) {
    Attempt& attempt = attempts[place];
    by_connect.erase(attempt.key);
    if (attempt.once) by_once.erase(*attempt.once);
    if (attempt.admission) {
      by_id.erase(attempt.admission->id);
      free_id(attempt.admission->id);
    }
    if (place + 1 < attempts.size()) {
      attempt = std::move(attempts.back());
      by_connect[attempt.key] = place;
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
  // reads this process's memory later cannot compute earlier ones.
  Secret32 draw(std::string_view label) {
    const Secret32 drawn = derive(drawn_from, label);
    drawn_from = derive(drawn_from, "next");
    return drawn;
  }
  [[nodiscard]] Digest128 reset_token(ConnectionId id, std::uint64_t nonce) const;
  void sweep(Time now);

  ListenerOptions options;
  ListenerCounts counts;
  Secret32 cookie_key;
  Secret32 drawn_from;
  KeyedRandom evictions;
  ExchangeQueue queue;
  KeyedHash hash;
  std::vector<Attempt> attempts;                                      // in no order
  std::unordered_map<ConnectKey, std::size_t, KeyedHash> by_connect;  // place in attempts
  std::unordered_map<ConnectionId, std::size_t> by_id;                // likewise
  std::unordered_map<Digest128, std::size_t, KeyedHash> by_once;      // likewise
  std::array<Cookies, 2> taken_cookies;  // in this turn, and in the one before
  Time next_turn{};
  struct DigestHash {
    std::size_t operator()(const Digest128& digest) const noexcept {
      std::uint64_t part = 0;  // digests are as good as random
      std::memcpy(&part, digest.data(), sizeof part);
      return static_cast<std::size_t>(part);
    }
  };
  std::unordered_map<Digest128, std::int64_t, DigestHash> used_tickets;  // until, unix time
  std::unordered_map<Digest128, Resuming, DigestHash> resumes;
  std::vector<std::uint8_t> generations;  // by index of ids
  std::deque<std::uint16_t> free;         // indices, free the longest first
  std::size_t open = 0;                   // connections that count against the capacity
  std::size_t vacated = 0;                // connections that ended and whose links drain
  std::uint64_t serials = 0;
  Time next_sweep{};
};

}  // namespace kwind::link
