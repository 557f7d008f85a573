// The certificate of a WebTransport server: from PEM files, or one that the server makes and that
// pages accept by its hash. Private to web_transport.
#pragma once
#include <gnutls/gnutls.h>

#include <array>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <string>

#include "kwind/core/errors.h"

namespace kwind::web {

/// A certificate with its private key, for TLS sessions. Immutable once made.
class Certificate {
 public:
  /// Reads PEM files. Errors: bad_key.
  static Result<std::shared_ptr<const Certificate>> load(const std::string& certificate_file,
                                                         const std::string& private_key_file);
  /// Makes a key and a self-signed certificate that browsers accept by hash: ECDSA over P-256,
  /// valid from an hour before `unix_now` for kValidSeconds. Errors: bad_key.
  static Result<std::shared_ptr<const Certificate>> make(std::int64_t unix_now);
  /// Browsers refuse by hash what is valid for longer than 14 days.
  static constexpr std::int64_t kValidSeconds = std::int64_t{13} * 24 * 3600;

  Certificate(const Certificate&) = delete;
  Certificate& operator=(const Certificate&) = delete;
  ~Certificate();

  [[nodiscard]] gnutls_certificate_credentials_t credentials() const { return credentials_; }
  /// SHA-256 of the certificate in DER.
  [[nodiscard]] const std::array<std::byte, 32>& hash() const { return hash_; }
  /// When it expires, in seconds since 1970.
  [[nodiscard]] std::int64_t expires() const { return expires_; }

 private:
  Certificate() = default;
  Errc note_hash();

  gnutls_certificate_credentials_t credentials_ = nullptr;
  std::array<std::byte, 32> hash_{};
  std::int64_t expires_ = 0;
};

}  // namespace kwind::web
