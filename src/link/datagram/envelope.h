// Encryption of datagrams with key updates, or the keyed check of plaintext mode. Composed by Link.
// One link, one thread.
//
// Invariant 1: a key never encrypts the same packet number twice: numbers only grow.
// Invariant 2: the sender goes to its next key only after a packet under the present one was acked,
//   so the receiver is never two keys behind.
#pragma once
#include <cstdint>
#include <functional>
#include <optional>
#include <span>

#include "kwind/core/digest.h"
#include "kwind/core/errors.h"
#include "kwind/core/time.h"
#include "link/datagram/aead.h"

namespace kwind::link {

/// The keys of one connection's datagrams in plaintext mode, one for each direction.
struct CheckKeys {
  Key128 up{};    ///< client to server
  Key128 down{};  ///< server to client
};

struct AeadKeys {
  Cipher cipher = Cipher::chacha20_poly1305;
  Secret32 up;
  Secret32 down;
};

/// When a sender changes its key.
struct KeyLife {
  std::uint64_t datagrams = std::uint64_t{1} << 20;
  Duration time = std::chrono::hours(1);
};

class Envelope {
 public:
  static constexpr std::size_t kCheckBytes = 4;
  static constexpr std::size_t kMaxTagBytes = Aead::kTagBytes;

  Envelope(const CheckKeys& keys, bool client);
  Envelope(const AeadKeys& keys, bool client, KeyLife life, Time now);

  [[nodiscard]] std::size_t tag_bytes() const { return seal_ ? Aead::kTagBytes : kCheckBytes; }
  [[nodiscard]] bool encrypted() const { return seal_.has_value(); }
  /// How often this end went to its next key.
  [[nodiscard]] std::uint64_t send_phase() const { return sending_.phase; }

  /// The key phase bit that close() will use for the datagram of this number.
  [[nodiscard]] bool phase_of(Time now, std::uint64_t number) const;
  /// Closes a datagram of `head_bytes` and a body in place: `datagram` ends in room for the tag.
  /// Goes to the next key first when it is time. Requires: numbers grow, see invariant 1.
  void close(Time now, std::uint64_t number, std::span<std::byte> datagram, std::size_t head_bytes);
  /// What close() needs beyond the envelope itself, see kwind::prefetch.
  void prefetch() const {
    if (seal_) seal_->send.prefetch();
  }
  /// A packet was acked: see invariant 2.
  void acked(std::uint64_t number) {
    if (number >= sending_.first) sending_.acked = true;
  }

  /// Checks a datagram and gives its body, the tag taken off: decrypted in `memory`, or in
  /// plaintext mode where it was. Errors: bad_check; key_exhausted after 2^36 of them.
  Result<std::span<const std::byte>> open(Time now, std::uint64_t number, bool phase,
                                          std::span<const std::byte> datagram,
                                          std::size_t head_bytes, std::span<std::byte> memory);
  /// Nothing but keepalives is to be encrypted for a while: see Aead::rest.
  void rest();
  /// How long a replaced key is still accepted: three probe timeouts.
  void keep_old_keys_for(Duration time) { grace_ = time; }

  /// Calls `out` with each key as it comes into use: direction ("up" or "down"), phase number, key.
  /// Secrets leave the process this way and no other; see LinkOptions::key_log.
  using KeyLog = std::function<void(bool up, std::uint64_t phase, std::span<const std::byte>)>;
  void log_keys(KeyLog out);

 private:
  [[nodiscard]] bool key_change_due(Time now, std::uint64_t number) const {
    const bool worn =
        number - sending_.first >= life_.datagrams || now - sending_.since >= life_.time;
    return seal_ && worn && sending_.acked;
  }
  struct Seal {
    Aead send;
    Aead receive;
    std::optional<Aead> old_receive{};
  };
  struct Sending {
    std::uint64_t phase = 0;
    std::uint64_t first = 0;  // number of the first packet under this key
    Time since{};
    bool acked = false;
  };
  struct Receiving {
    std::uint64_t phase = 0;
    std::uint64_t first = 0;  // least number seen under this key
    Time old_until{};
  };

  bool client_;
  KeyLife life_;
  Sending sending_;
  Key128 send_check_{};
  std::optional<Seal> seal_;
  Key128 receive_check_{};
  Receiving receiving_;
  Duration grace_ = std::chrono::seconds(1);
  std::uint64_t failures_ = 0;
  KeyLog key_log_;
};

}  // namespace kwind::link
