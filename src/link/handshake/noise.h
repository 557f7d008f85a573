// Noise_NK_25519_ChaChaPoly_BLAKE2b: the handshake by which a client that knows the server's public
// key comes to keys that only both ends have. The Noise Protocol Framework, revision 34; section
// numbers below are its. Built from libsodium's primitives. One handshake, one thread.
#pragma once
#include <array>
#include <cstdint>
#include <optional>
#include <span>

#include "kwind/core/secret.h"
#include "kwind/link/keys.h"

namespace kwind::link {

class NoiseNk {
 public:
  static constexpr std::size_t kKeyBytes = 32;
  static constexpr std::size_t kTagBytes = 16;
  /// What a message adds to its payload: the sender's ephemeral key and a tag.
  static constexpr std::size_t kOverheadBytes = kKeyBytes + kTagBytes;

  /// The client's end. `ephemeral` must be 32 random bytes, used for nothing else.
  static NoiseNk initiator(std::span<const std::byte> prologue, const PublicKey& server,
                           const Secret32& ephemeral);
  /// The server's end.
  static NoiseNk responder(std::span<const std::byte> prologue, const KeyPair& server,
                           const Secret32& ephemeral);

  /// Message 1 (-> e, es): writes payload.size() + kOverheadBytes bytes. False for a server key
  /// that no honest server has (RFC 7748, 6.1).
  [[nodiscard]] bool write_first(std::span<const std::byte> payload, std::span<std::byte> out);
  /// Writes message.size() - kOverheadBytes bytes; false if the message is not for this key and
  /// prologue. Requires: message.size() >= kOverheadBytes.
  [[nodiscard]] bool read_first(std::span<const std::byte> message, std::span<std::byte> payload);
  /// Message 2 (<- e, ee), likewise.
  [[nodiscard]] bool write_second(std::span<const std::byte> payload, std::span<std::byte> out);
  /// May be tried again with another message after false.
  [[nodiscard]] bool read_second(std::span<const std::byte> message, std::span<std::byte> payload);

  struct Keys {
    Secret32 up;    ///< client to server
    Secret32 down;  ///< server to client
  };
  /// Section 5.2, Split(), after message 2.
  [[nodiscard]] Keys split() const;

 private:
  using Hash = std::array<std::byte, 64>;

  // Section 5.2: the symmetric state.
  struct Symmetric {
    Secret<64> chaining_key;
    Hash hash{};
    std::optional<Secret32> key;
    std::uint64_t nonce = 0;

    void mix_hash(std::span<const std::byte> data);
    void mix_key(std::span<const std::byte> input);
    void seal(std::span<const std::byte> plain, std::span<std::byte> out);
    [[nodiscard]] bool open(std::span<const std::byte> sealed, std::span<std::byte> plain);
  };

  NoiseNk(std::span<const std::byte> prologue, const PublicKey& server, const Secret32& ephemeral);
  [[nodiscard]] bool mix_exchange(Symmetric& state, const Secret32& mine,
                                  std::span<const std::byte> theirs) const;

  Symmetric state_;
  PublicKey server_{};
  std::optional<KeyPair> static_;  // the server's end only
  KeyPair ephemeral_;
  PublicKey remote_ephemeral_{};
};

}  // namespace kwind::link
