// The server's door: answers hellos, keeps nothing for addresses that have not proven themselves,
// and admits connections. The host gives it every handshake datagram and makes a Link of each
// Admission. One listener, one thread at a time.
#pragma once
#include <optional>
#include <span>
#include <unordered_map>
#include <vector>

#include "kwind/bits/endpoint.h"
#include "kwind/bits/secret.h"
#include "kwind/link/admission.h"
#include "kwind/link/keys.h"
#include "kwind/link/link.h"
#include "kwind/link/spec.h"
#include "kwind/link/ticket_gate.h"

namespace kwind::link {

struct ListenerOptions {
  Identity identity;
  bits::Secret32 secret;         ///< 32 random bytes; cookies and ephemeral keys are made from it
  std::size_t capacity = 64;     ///< most connections at once, 1 to 65536
  std::uint8_t number = 0;       ///< which server of several on one machine, 0 to 15; part of ids
  std::optional<KeyPair> key{};  ///< absent: clear mode, and only that
  bool aes = true;               ///< AES-256-GCM where both ends have the hardware
  const TicketGate* gate = nullptr;  ///< asks for tickets, and checks them; borrowed
  /// Seconds since 1970, by which tickets expire. Required if there is a gate.
  std::function<std::int64_t()> unix_now{};
  std::size_t used_tickets = 100000;     ///< most ids of used tickets kept until they expire
  std::size_t pending_per_address = 16;  ///< most admissions of one address not yet opened
  /// How long after a connection ended a client may come back; 0: not at all. At most 18 hours.
  Duration comeback = Duration{0};
};

class Listener {
 public:
  struct Outcome {
    Errc error = Errc::none;             ///< why the datagram was dropped or refused
    std::size_t reply_bytes = 0;         ///< to be sent back to where the datagram came from
    std::optional<Admission> admission;  ///< a new connection; make a Link of it
  };

  explicit Listener(ListenerOptions options);

  /// Whether a datagram belongs to the handshake; others carry a connection id.
  [[nodiscard]] static bool is_handshake(std::span<const std::byte> datagram);
  /// The connection id of a client's datagram. Errors: truncated, unknown_form.
  [[nodiscard]] static Result<ConnectionId> connection_of(std::span<const std::byte> datagram);

  /// Answers a handshake datagram. `reply` must be kBaseDatagramBytes long; what is written into it
  /// is never longer than `datagram`. O(1); one key exchange for an offer whose cookie fits, none
  /// otherwise.
  /// `carrier` is what brought it: over a stream the address has proven itself, and no cookie is
  /// asked for; an offer that names another carrier is dropped.
  Outcome receive(Time now, const Endpoint& from, std::span<const std::byte> datagram,
                  std::span<std::byte> reply, Carrier carrier = Carrier::datagrams);

  /// What a datagram for a connection that is not known here is answered with, so that the client
  /// of a restarted server learns of it: 0, or fewer bytes than it has.
  std::size_t answer_unknown(std::span<const std::byte> datagram, std::span<std::byte> reply) const;

  /// The client's first datagram opened: the connection exists. Its ticket, or its right to come
  /// back, counts as used from now on. Errors: ticket_used, ticket_table_full, comeback_unknown:
  /// the connection must end.
  Errc opened(Time now, ConnectionId id);

  /// Gives the place of a connection free again. To be called when its link is closed. With
  /// `may_return` its client may come back while ListenerOptions::comeback lasts.
  void forget(Time now, ConnectionId id, bool may_return = false);

  [[nodiscard]] std::size_t connections() const { return options_.capacity - free_.size(); }
  [[nodiscard]] std::size_t capacity() const { return options_.capacity; }

 private:
  struct OfferKey {
    Endpoint from;
    PublicKey ephemeral;
    friend bool operator==(const OfferKey&, const OfferKey&) = default;
  };
  struct OfferHash {
    std::size_t operator()(const OfferKey& key) const noexcept;
  };
  struct Slot {
    std::uint8_t generation = 0;
    bool used = false;
    std::optional<OfferKey> offer{};  // a late copy must not make a second connection
    bool pending = false;             // not yet opened
    std::vector<std::byte> reply{};   // to copies of the offer, until opened
    std::shared_ptr<const Claims> claims{};
    std::optional<bits::Digest128> came_by{};   // the comeback that its offer brought
    std::optional<bits::Digest128> comeback{};  // its own
  };
  struct Comeback {
    ConnectionId id{};
    std::shared_ptr<const Claims> claims{};
    Time until = kNever;
  };

  struct Said;  // an offer as it was understood
  Outcome hear_hello(Time now, const Endpoint& from, std::span<const std::byte> datagram,
                     std::span<std::byte> reply) const;
  Outcome hear_offer(Time now, const Endpoint& from, std::span<const std::byte> datagram,
                     std::span<std::byte> reply, Carrier carrier);
  Result<Admission> decide(Time now, const Said& said, std::string& why);
  ConnectionId take_place(const OfferKey& key);
  [[nodiscard]] std::size_t place_of(ConnectionId id) const;
  [[nodiscard]] bits::Digest128 gone_token(ConnectionId id) const;
  void no_longer_pending(Slot& slot);
  void sweep(Time now);

  ListenerOptions options_;
  std::unordered_map<OfferKey, std::size_t, OfferHash> by_offer_;
  std::unordered_map<Endpoint, std::size_t> pending_by_address_;  // port 0
  struct DigestHash {
    std::size_t operator()(const bits::Digest128& digest) const noexcept;
  };
  std::unordered_map<bits::Digest128, std::int64_t, DigestHash> used_tickets_;  // until, unix time
  std::unordered_map<bits::Digest128, Comeback, DigestHash> comebacks_;
  std::vector<Slot> slots_;
  std::vector<std::uint16_t> free_;
  std::uint64_t offers_ = 0;
  Time next_sweep_{};
};

}  // namespace kwind::link
