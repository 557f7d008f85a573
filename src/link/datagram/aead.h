// Authenticated encryption of datagrams in one direction under one key: ChaCha20-Poly1305 (RFC
// 8439) or AES-256-GCM (NIST SP 800-38D), from libsodium. The nonce is the full packet number, so a
// key must never see one number twice. One direction of one link, one thread.
#pragma once
#include <cstdint>
#include <memory>
#include <span>

#include "kwind/core/secret.h"

namespace kwind::link {

enum class Cipher : std::uint8_t { chacha20_poly1305 = 0, aes256_gcm = 1 };

/// Whether this machine computes AES-256-GCM in hardware; without, it is not offered.
bool has_aes_hardware();

class Aead {
 public:
  static constexpr std::size_t kTagBytes = 16;

  /// Requires: has_aes_hardware() for Cipher::aes256_gcm.
  Aead(Cipher cipher, const Secret32& key);
  Aead(Aead&&) noexcept;
  Aead& operator=(Aead&&) noexcept;
  ~Aead();

  /// Encrypts `body` in place and writes its tag; `head` is authenticated with it.
  void seal(std::uint64_t number, std::span<const std::byte> head, std::span<std::byte> body,
            std::span<std::byte, kTagBytes> tag) const;
  /// Decrypts `body`, tag included, to `plain`, kTagBytes shorter. False if anything was changed.
  [[nodiscard]] bool open(std::uint64_t number, std::span<const std::byte> head,
                          std::span<const std::byte> body, std::span<std::byte> plain) const;
  /// The key that follows this one in the same direction.
  [[nodiscard]] Aead next() const;
  /// Gives the memory of the AES key schedule back until it is needed again: half a KiB that ten
  /// thousand idle connections need not hold.
  void rest();

  void prefetch() const;

  [[nodiscard]] const Secret32& key() const { return key_; }
  [[nodiscard]] Cipher cipher() const { return cipher_; }

 private:
  struct Expanded;  // the AES key schedule, wiped when it goes
  [[nodiscard]] const Expanded& expanded() const;
  Cipher cipher_;
  Secret32 key_;
  mutable std::unique_ptr<Expanded> expanded_;  // made when first needed
};

}  // namespace kwind::link
