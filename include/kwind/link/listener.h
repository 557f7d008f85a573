// The server's door: answers hellos, keeps nothing for addresses that have not proven themselves,
// and admits connections. The host gives it every handshake datagram and makes a Link of each
// Admission. One listener, one thread at a time.
#pragma once
#include <optional>
#include <span>
#include <unordered_map>
#include <vector>

#include "kwind/bits/endpoint.h"
#include "kwind/link/link.h"
#include "kwind/link/spec.h"

namespace kwind::link {

struct ListenerOptions {
  Identity identity;
  bits::Key128 secret{};      ///< 16 random bytes; cookies and nonces are made from it
  std::size_t capacity = 64;  ///< most connections at once, 1 to 65536
  std::uint8_t number = 0;    ///< which server of several on one machine; part of connection ids
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

  /// Answers a handshake datagram. `reply` must be kMaxDatagramBytes long; what is written into it
  /// is never longer than `datagram`. O(1).
  Outcome receive(Time now, const Endpoint& from, std::span<const std::byte> datagram,
                  std::span<std::byte> reply);

  /// Gives the place of a connection free again. To be called when its link is closed.
  void forget(ConnectionId id);

  [[nodiscard]] std::size_t connections() const { return by_hello_.size(); }
  [[nodiscard]] std::size_t capacity() const { return options_.capacity; }

 private:
  struct HelloKey {
    Endpoint from;
    std::uint64_t client_nonce;
    friend bool operator==(const HelloKey&, const HelloKey&) = default;
  };
  struct HelloHash {
    std::size_t operator()(const HelloKey& key) const noexcept {
      return std::hash<Endpoint>()(key.from) ^ static_cast<std::size_t>(key.client_nonce);
    }
  };
  struct Slot {
    std::uint8_t generation = 0;
    std::optional<HelloKey> used_by;
  };

  Result<std::size_t> common_version(const Identity& theirs, std::string& why) const;
  ConnectionId take_slot(const HelloKey& key);

  ListenerOptions options_;
  std::unordered_map<HelloKey, Admission, HelloHash> by_hello_;
  std::vector<Slot> slots_;
  std::vector<std::uint16_t> free_;
  std::uint64_t admitted_ = 0;
};

}  // namespace kwind::link
