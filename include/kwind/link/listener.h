// Server side of the handshake: answers hellos with a stateless cookie, keeps nothing for unproven
// addresses, and admits connections. The host passes every handshake datagram to receive() and
// makes a Link of each Admission. One listener, one thread at a time.
#pragma once
#include <functional>
#include <memory>
#include <optional>
#include <span>

#include "kwind/core/compiler.h"
#include "kwind/core/endpoint.h"
#include "kwind/core/secret.h"
#include "kwind/link/admission.h"
#include "kwind/link/keys.h"
#include "kwind/link/link.h"
#include "kwind/link/spec.h"
#include "kwind/link/ticket_gate.h"

namespace kwind::link {

/// How many connects are answered with a key exchange, which costs some 0.15 ms each.
struct ExchangeLimits {
  std::size_t queued = 256;  ///< connects that wait, at most; 1.2 kB each
  double per_second = 400;   ///< exchanges
  double burst = 20;         ///< of these at once
  /// Exchanges of one IPv4 address or IPv6 /64 at once; they are forgiven within some ten seconds,
  /// those of connections that opened at once. Enough for fifty players behind one address.
  double per_network = 64;
};

/// Options of a listener.
struct ListenerOptions {
  Identity identity;
  Secret32 secret;               ///< 32 random bytes; cookies, keys and ids are made from it
  std::size_t capacity = 64;     ///< most connections at once
  std::uint8_t number = 0;       ///< which server of several on one machine, 0 to 15; part of ids
  std::optional<KeyPair> key{};  ///< absent: plaintext mode, and only that
  bool aes = true;               ///< AES-256-GCM where both ends have the hardware
  const TicketGate* gate = nullptr;  ///< asks for tickets, and checks them; borrowed
  /// Seconds since 1970, by which tickets expire. Required if there is a gate.
  std::function<std::int64_t()> unix_now{};
  std::size_t used_tickets = 100000;  ///< most ids of used tickets kept until they expire
  ExchangeLimits exchanges{};
  /// Most handshakes that were answered and whose client has not shown that it received the answer.
  /// They take none of the capacity; one at random goes when there are more. With capacity at most
  /// 65536.
  std::size_t attempts = 2048;
  Duration handshake_timeout = std::chrono::seconds(5);  ///< an attempt ends after that
  /// How long after a connection ended a client may come back; 0: not at all. At most 18 hours.
  Duration resume = Duration{0};
};

/// Counters since the start.
struct ListenerCounts {
  std::uint64_t exchanges = 0;         ///< key exchanges
  std::uint64_t exchanges_failed = 0;  ///< of these, that came to nothing
  std::uint64_t attempts_evicted = 0;  ///< for lack of room
  std::uint64_t attempts_expired = 0;  ///< their client did not go on
};

/// The server's side of all handshakes.
class KWIND_API Listener {
 public:
  /// What came of a datagram.
  struct Outcome {
    Errc error = Errc::none;      ///< why the datagram was dropped or refused
    std::size_t reply_bytes = 0;  ///< to be sent back to where the datagram came from
  };

  explicit Listener(const ListenerOptions& options);
  Listener(Listener&&) noexcept;
  Listener& operator=(Listener&&) noexcept;
  ~Listener();

  /// Whether a datagram belongs to the handshake; others carry a connection id.
  [[nodiscard]] static bool is_handshake(std::span<const std::byte> datagram);
  /// The connection id of a client's datagram. Errors: truncated, unknown_form.
  [[nodiscard]] static Result<ConnectionId> connection_of(std::span<const std::byte> datagram);

  /// Answers a handshake datagram. `reply` must be kBaseDatagramBytes long; what is written into it
  /// is never longer than `datagram`. O(1). A connect whose cookie fits waits for exchange().
  /// `transport` is what brought it, and `transport_index` the caller's number of where: over a
  /// stream the address has proven itself, and no cookie is asked for; a connect that names
  /// another transport is dropped. Errors, with or without a reply: server_busy, bad_cookie, those
  /// of the form.
  Outcome receive(Time now, const Endpoint& from, std::span<const std::byte> datagram,
                  std::span<std::byte> reply,
                  TransportKind transport_kind = TransportKind::datagrams,
                  std::size_t transport_index = 0);

  /// A key exchange that was done.
  struct Exchanged {
    Endpoint to;  ///< where `reply` goes
    std::size_t transport_index = 0;
    TransportKind transport_kind = TransportKind::datagrams;
    Errc error = Errc::none;  ///< why it was refused
    std::size_t reply_bytes = 0;
    std::optional<ConnectionId> attempt;  ///< if it was not refused
  };
  /// Exchanges keys for the connect whose turn it is, within ExchangeLimits; nothing if there is
  /// none. To be called until then, after what known connections sent. One key exchange.
  std::optional<Exchanged> exchange(Time now, std::span<std::byte> reply);
  /// When exchange() will have something to do; kNever without a connect.
  [[nodiscard]] Time next_exchange() const;

  /// What came of a client's first datagram.
  struct Admitted {
    Errc error = Errc::none;  ///< why its connection must end at once
    Admission admission;      ///< make a Link of it, and give the datagram to that
  };
  /// The first datagram of a client that received its answer makes its attempt a connection. Nothing
  /// if it belongs to no attempt that came by `transport_index`, or was not made by its client.
  /// With it its ticket, or its right to come back, counts as used. Errors: server_full,
  /// ticket_used, ticket_expired, ticket_table_full, resume_unknown, ticket_invalid.
  std::optional<Admitted> admit(Time now, std::size_t transport_index,
                                std::span<const std::byte> datagram);

  /// Whether a datagram asks for a connection, see lost_connection().
  [[nodiscard]] static bool is_lost(std::span<const std::byte> datagram);
  /// A client that receives nothing any more asks whether its connection is known, by a number that
  /// its welcome gave to it alone: the answer, if the caller does not know the connection either, so
  /// that the client of a restarted server learns of it. 0 bytes for others; never more than
  /// `datagram` has.
  std::size_t reply_to_lost(std::span<const std::byte> datagram, std::span<std::byte> reply) const;
  [[nodiscard]] static Result<ConnectionId> lost_connection(std::span<const std::byte> datagram);

  /// Gives the place of a connection free again. To be called when its link is closed. With
  /// `may_resume` its client may come back while ListenerOptions::resume lasts.
  void forget(Time now, const Admission& admission, bool may_resume = false);
  /// The program is done with a connection whose link still sends the client its end: its place
  /// is free for another client at once, its id only by forget(). At most `capacity` connections
  /// may be in that state. False, and no change, if that many are: forget() one of them first.
  bool vacate(Admission& admission);
  /// Nobody comes back for this connection any more.
  void revoke(const Admission& admission);

  [[nodiscard]] std::size_t connections() const;
  [[nodiscard]] std::size_t attempts() const;  ///< handshakes in flight
  [[nodiscard]] std::size_t capacity() const;
  [[nodiscard]] const ListenerCounts& counts() const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kwind::link
