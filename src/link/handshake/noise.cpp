// Noise_NK_25519_ChaChaPoly_BLAKE2b from libsodium's primitives (The Noise Protocol Framework,
// revision 34).
#include "link/handshake/noise.h"

#include <sodium.h>

#include <algorithm>
#include <string_view>

#include "kwind/core/assert.h"
#include "link/sodium_bytes.h"

namespace kwind::link {
namespace {

constexpr std::string_view kName = "Noise_NK_25519_ChaChaPoly_BLAKE2b";
constexpr std::size_t kBlockBytes = 128;  // of BLAKE2b, for HMAC

using Hash = std::array<std::byte, 64>;

class Hasher {
 public:
  Hasher() { crypto_generichash_blake2b_init(&state_, nullptr, 0, 64); }
  ~Hasher() { sodium_memzero(&state_, sizeof state_); }
  Hasher(const Hasher&) = delete;
  Hasher& operator=(const Hasher&) = delete;
  Hasher& add(std::span<const std::byte> data) {
    crypto_generichash_blake2b_update(&state_, sodium_in(data), data.size());
    return *this;
  }
  void finish(std::span<std::byte> out) {
    crypto_generichash_blake2b_final(&state_, sodium_out(out), out.size());
  }

 private:
  crypto_generichash_blake2b_state state_{};
};

// RFC 2104 with BLAKE2b-512. The key is a chaining key, 64 bytes: shorter than a block.
void hmac(std::span<const std::byte> key, std::span<const std::byte> first,
          std::span<const std::byte> second, std::span<std::byte> out) {
  Secret<kBlockBytes> pad;
  Secret<64> inner;
  const auto fill = [&](std::byte with) {
    std::fill(pad.bytes().begin(), pad.bytes().end(), with);
    for (std::size_t i = 0; i < key.size(); ++i) pad.bytes()[i] ^= key[i];
  };
  fill(std::byte{0x36});
  Hasher().add(pad.bytes()).add(first).add(second).finish(inner.bytes());
  fill(std::byte{0x5c});
  Hasher().add(pad.bytes()).add(inner.bytes()).finish(out);
}

// Section 4.3: two outputs of 64 bytes.
struct Pair {
  Secret<64> first;
  Secret<64> second;
};
// HKDF (RFC 5869) with two outputs, as section 4.3 of the Noise specification has it.
Pair hkdf(const Secret<64>& chaining_key, std::span<const std::byte> input) {
  Secret<64> temporary;
  hmac(chaining_key.bytes(), input, {}, temporary.bytes());
  Pair out;
  const std::array<std::byte, 1> one{std::byte{1}};
  const std::array<std::byte, 1> two{std::byte{2}};
  hmac(temporary.bytes(), one, {}, out.first.bytes());
  hmac(temporary.bytes(), out.first.bytes(), two, out.second.bytes());
  return out;
}

Secret32 cut(const Secret<64>& key) {
  return Secret32(key.bytes().first<32>());
}

}  // namespace

// Section 5.2, MixHash: h = HASH(h || data). h stands for all that both ends have seen; it is what
// each AEAD authenticates beside its text, so that a message fits one handshake alone.
void NoiseNk::Symmetric::mix_hash(std::span<const std::byte> data) {
  Hash next{};
  Hasher().add(hash).add(data).finish(next);
  hash = next;
}

// Section 5.2, MixKey: each exchange makes a new chaining key and a new key, whose nonces begin at
// 0.
void NoiseNk::Symmetric::mix_key(std::span<const std::byte> input) {
  const Pair keys = hkdf(chaining_key, input);
  chaining_key = keys.first;
  key = cut(keys.second);
  nonce = 0;
}

// EncryptAndHash and DecryptAndHash. A text that fails to open changes nothing.
void NoiseNk::Symmetric::seal(std::span<const std::byte> plain, std::span<std::byte> out) {
  KWIND_ASSERT(key && out.size() == plain.size() + kTagBytes);
  const auto at = nonce_of(nonce++);
  crypto_aead_chacha20poly1305_ietf_encrypt(sodium_out(out), nullptr, sodium_in(plain),
                                            plain.size(), sodium_in(hash), hash.size(), nullptr,
                                            at.data(), sodium_in(key->bytes()));
  mix_hash(out);
}

// A tag that does not match leaves the nonce as it was: the right message can still come.
bool NoiseNk::Symmetric::open(std::span<const std::byte> sealed, std::span<std::byte> plain) {
  KWIND_ASSERT(key && sealed.size() == plain.size() + kTagBytes);
  const auto at = nonce_of(nonce);
  if (crypto_aead_chacha20poly1305_ietf_decrypt(
          sodium_out(plain), nullptr, nullptr, sodium_in(sealed), sealed.size(), sodium_in(hash),
          hash.size(), at.data(), sodium_in(key->bytes())) != 0) {
    return false;
  }
  ++nonce;
  mix_hash(sealed);
  return true;
}

// Initialize(): both ends mix in the protocol's name, the prologue and, as NK wants, the static key
// of the server, which the client knows beforehand.
NoiseNk::NoiseNk(std::span<const std::byte> prologue, const PublicKey& server,
                 const Secret32& ephemeral)
    : server_(server), ephemeral_(KeyPair::from_secret(ephemeral)) {
  // The name is shorter than a hash: it is the hash, filled up with zeros.
  static_assert(kName.size() <= sizeof(Hash));
  std::transform(kName.begin(), kName.end(), state_.hash.begin(),
                 [](char c) { return static_cast<std::byte>(c); });
  std::copy(state_.hash.begin(), state_.hash.end(), state_.chaining_key.bytes().begin());
  state_.mix_hash(prologue);
  state_.mix_hash(server);
}

NoiseNk NoiseNk::initiator(std::span<const std::byte> prologue, const PublicKey& server,
                           const Secret32& ephemeral) {
  return {prologue, server, ephemeral};
}

// The responder also holds the secret half of its static key.
NoiseNk NoiseNk::responder(std::span<const std::byte> prologue, const KeyPair& server,
                           const Secret32& ephemeral) {
  NoiseNk noise(prologue, server.public_key, ephemeral);
  noise.static_ = server;
  return noise;
}

// False for a public key of low order, whose shared secret would be zero whatever the other half
// is.
bool NoiseNk::mix_exchange(Symmetric& state, const Secret32& mine,
                           std::span<const std::byte> theirs) const {
  Secret32 shared;
  if (crypto_scalarmult_curve25519(sodium_out(shared.bytes()), sodium_in(mine.bytes()),
                                   sodium_in(theirs)) != 0) {
    return false;
  }
  state.mix_key(shared.bytes());
  return true;
}

// -> e, es: the client's ephemeral key, and the exchange with the server's static key. Only the
// server can open what follows; that it is who the client meant is proven by its answer.
bool NoiseNk::write_first(std::span<const std::byte> payload, std::span<std::byte> out) {
  KWIND_ASSERT(out.size() == payload.size() + kOverheadBytes);
  std::copy(ephemeral_.public_key.begin(), ephemeral_.public_key.end(), out.begin());
  state_.mix_hash(ephemeral_.public_key);
  if (!mix_exchange(state_, ephemeral_.secret, server_)) return false;
  state_.seal(payload, out.subspan(kKeyBytes));
  return true;
}

// The responder's mirror image of write_first().
bool NoiseNk::read_first(std::span<const std::byte> message, std::span<std::byte> payload) {
  KWIND_ASSERT(message.size() == payload.size() + kOverheadBytes && static_);
  const auto theirs = message.first<kKeyBytes>();
  std::copy(theirs.begin(), theirs.end(), remote_ephemeral_.begin());
  state_.mix_hash(theirs);
  return mix_exchange(state_, static_->secret, theirs) &&
         state_.open(message.subspan(kKeyBytes), payload);
}

// <- e, ee: the server's ephemeral key, and the exchange of both ephemeral keys. From here on
// nobody can open the connection later, not even with the server's static key.
bool NoiseNk::write_second(std::span<const std::byte> payload, std::span<std::byte> out) {
  KWIND_ASSERT(out.size() == payload.size() + kOverheadBytes);
  std::copy(ephemeral_.public_key.begin(), ephemeral_.public_key.end(), out.begin());
  state_.mix_hash(ephemeral_.public_key);
  if (!mix_exchange(state_, ephemeral_.secret, remote_ephemeral_)) return false;
  state_.seal(payload, out.subspan(kKeyBytes));
  return true;
}

// The initiator's mirror image of write_second().
bool NoiseNk::read_second(std::span<const std::byte> message, std::span<std::byte> payload) {
  KWIND_ASSERT(message.size() == payload.size() + kOverheadBytes);
  Symmetric tried = state_;  // a forged answer must not spoil the real one that may follow
  const auto theirs = message.first<kKeyBytes>();
  tried.mix_hash(theirs);
  if (!mix_exchange(tried, ephemeral_.secret, theirs)) return false;
  if (!tried.open(message.subspan(kKeyBytes), payload)) return false;
  state_ = tried;
  return true;
}

// Section 5.2, Split: the first key is for the initiator's datagrams, the second for the
// responder's.
NoiseNk::Keys NoiseNk::split() const {
  const Pair keys = hkdf(state_.chaining_key, {});
  return {cut(keys.first), cut(keys.second)};
}

}  // namespace kwind::link
