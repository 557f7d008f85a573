// ChaCha20-Poly1305 and AES-256-GCM by libsodium; the key of the next phase is derived from the
// present one.
#include "link/datagram/aead.h"

#include <sodium.h>

#include "kwind/core/assert.h"
#include "kwind/core/prefetch.h"
#include "link/sodium_bytes.h"

namespace kwind::link {
bool has_aes_hardware() {
  static const bool available = sodium_init() >= 0 && crypto_aead_aes256gcm_is_available() == 1;
  return available;
}

struct Aead::Expanded {
  alignas(16) crypto_aead_aes256gcm_state state{};
  explicit Expanded(const Secret32& key) {
    crypto_aead_aes256gcm_beforenm(&state, sodium_in(key.bytes()));
  }
  ~Expanded() { sodium_memzero(&state, sizeof state); }
  Expanded(const Expanded&) = delete;
  Expanded& operator=(const Expanded&) = delete;
};

Aead::Aead(Cipher cipher, const Secret32& key) : cipher_(cipher), key_(key) {
  KWIND_ASSERT(cipher_ != Cipher::aes256_gcm || has_aes_hardware());
}
// The key schedule of AES takes half a kilobyte: it is made at the first use and dropped by rest(),
// so that a connection at rest costs 32 bytes of key.
const Aead::Expanded& Aead::expanded() const {
  if (!expanded_) expanded_ = std::make_unique<Expanded>(key_);
  return *expanded_;
}
void Aead::rest() {
  expanded_.reset();
}
void Aead::prefetch() const {
  if (expanded_) kwind::prefetch(expanded_.get(), sizeof(Expanded));
}
Aead::Aead(Aead&&) noexcept = default;
Aead& Aead::operator=(Aead&&) noexcept = default;
Aead::~Aead() = default;

// Encrypts `body` in place and authenticates `head` with it. The packet number is the nonce: a
// number is never used twice under one key.
void Aead::seal(std::uint64_t number, std::span<const std::byte> head, std::span<std::byte> body,
                std::span<std::byte, kTagBytes> tag) const {
  const auto nonce = nonce_of(number);
  switch (cipher_) {
    case Cipher::chacha20_poly1305:
      crypto_aead_chacha20poly1305_ietf_encrypt_detached(
          sodium_out(body), sodium_out(tag), nullptr, sodium_in(body), body.size(), sodium_in(head),
          head.size(), nullptr, nonce.data(), sodium_in(key_.bytes()));
      return;
    case Cipher::aes256_gcm:
      crypto_aead_aes256gcm_encrypt_detached_afternm(
          sodium_out(body), sodium_out(tag), nullptr, sodium_in(body), body.size(), sodium_in(head),
          head.size(), nullptr, nonce.data(), &expanded().state);
      return;
  }
}

// Returns false, and leaves `plain` without meaning, when any bit of head, body or tag was changed.
bool Aead::open(std::uint64_t number, std::span<const std::byte> head,
                std::span<const std::byte> body, std::span<std::byte> plain) const {
  KWIND_ASSERT(body.size() >= kTagBytes && plain.size() == body.size() - kTagBytes);
  const auto nonce = nonce_of(number);
  const auto sealed = body.first(plain.size());
  const auto tag = body.last(kTagBytes);
  switch (cipher_) {
    case Cipher::chacha20_poly1305:
      return crypto_aead_chacha20poly1305_ietf_decrypt_detached(
                 sodium_out(plain), nullptr, sodium_in(sealed), sealed.size(), sodium_in(tag),
                 sodium_in(head), head.size(), nonce.data(), sodium_in(key_.bytes())) == 0;
    case Cipher::aes256_gcm:
      return crypto_aead_aes256gcm_decrypt_detached_afternm(
                 sodium_out(plain), nullptr, sodium_in(sealed), sealed.size(), sodium_in(tag),
                 sodium_in(head), head.size(), nonce.data(), &expanded().state) == 0;
  }
  return false;
}

// The key of the next phase is a one-way function of this one: a key that leaks says nothing about
// the phases before it.
Aead Aead::next() const {
  return {cipher_, derive(key_, "next datagram key")};
}

}  // namespace kwind::link
