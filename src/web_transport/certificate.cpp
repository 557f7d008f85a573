// X.509 certificates by GnuTLS.
//
// A page may connect to a server whose certificate no authority signed if it names the SHA-256 of
// that certificate ("serverCertificateHashes" in the WebTransport interface of browsers). Browsers
// demand then: ECDSA over P-256, and at most 14 days from the first to the last valid second.
#include "web_transport/certificate.h"

#include <gnutls/crypto.h>
#include <gnutls/x509.h>

#include <algorithm>

namespace kwind::web {
namespace {

constexpr std::int64_t kClockSkewSeconds = 3600;  // of the page's machine

constexpr std::string_view kHost = "localhost";

struct KeyDelete {
  void operator()(gnutls_x509_privkey_int* key) const { gnutls_x509_privkey_deinit(key); }
};
struct CertificateDelete {
  void operator()(gnutls_x509_crt_int* made) const { gnutls_x509_crt_deinit(made); }
};
using Key = std::unique_ptr<gnutls_x509_privkey_int, KeyDelete>;
using X509 = std::unique_ptr<gnutls_x509_crt_int, CertificateDelete>;

// GnuTLS returns a negative number for each failure; the first failure ends the chain.
bool fill(gnutls_x509_crt_t to, gnutls_x509_privkey_t key, std::int64_t unix_now) {
  std::array<unsigned char, 16> serial{};
  if (gnutls_rnd(GNUTLS_RND_NONCE, serial.data(), serial.size()) < 0) return false;
  serial[0] &= 0x7f;  // a positive number (RFC 5280, 4.1.2.2)
  serial[0] |= 0x01;
  const std::string name = "CN=kestrel-wind";
  const std::int64_t from = unix_now - kClockSkewSeconds;
  return gnutls_x509_crt_set_version(to, 3) >= 0 &&
         gnutls_x509_crt_set_serial(to, serial.data(), serial.size()) >= 0 &&
         gnutls_x509_crt_set_dn(to, name.c_str(), nullptr) >= 0 &&
         gnutls_x509_crt_set_activation_time(to, static_cast<time_t>(from)) >= 0 &&
         gnutls_x509_crt_set_expiration_time(
             to, static_cast<time_t>(from + Certificate::kValidSeconds)) >= 0 &&
         // Browsers refuse a certificate without a name for a host, whichever it is.
         gnutls_x509_crt_set_subject_alt_name(to, GNUTLS_SAN_DNSNAME, kHost.data(), kHost.size(),
                                              GNUTLS_FSAN_SET) >= 0 &&
         gnutls_x509_crt_set_key(to, key) >= 0 &&
         gnutls_x509_crt_sign2(to, to, key, GNUTLS_DIG_SHA256, 0) >= 0;
}

}  // namespace

Certificate::~Certificate() {
  if (credentials_ != nullptr) gnutls_certificate_free_credentials(credentials_);
}

Result<std::shared_ptr<const Certificate>> Certificate::load(const std::string& certificate_file,
                                                             const std::string& private_key_file) {
  std::shared_ptr<Certificate> made(new Certificate);
  if (gnutls_certificate_allocate_credentials(&made->credentials_) < 0 ||
      gnutls_certificate_set_x509_key_file(made->credentials_, certificate_file.c_str(),
                                           private_key_file.c_str(), GNUTLS_X509_FMT_PEM) < 0) {
    return fail(Errc::bad_key);
  }
  if (const Errc error = made->note_hash(); error != Errc::none) return fail(error);
  return made;
}

Result<std::shared_ptr<const Certificate>> Certificate::make(std::int64_t unix_now) {
  std::shared_ptr<Certificate> made(new Certificate);
  gnutls_x509_privkey_t raw_key = nullptr;
  if (gnutls_x509_privkey_init(&raw_key) < 0) return fail(Errc::bad_key);
  const Key key(raw_key);
  gnutls_x509_crt_t raw_certificate = nullptr;
  if (gnutls_x509_crt_init(&raw_certificate) < 0) return fail(Errc::bad_key);
  const X509 certificate(raw_certificate);
  if (gnutls_x509_privkey_generate(key.get(), GNUTLS_PK_ECDSA,
                                   GNUTLS_CURVE_TO_BITS(GNUTLS_ECC_CURVE_SECP256R1), 0) < 0 ||
      !fill(certificate.get(), key.get(), unix_now) ||
      gnutls_certificate_allocate_credentials(&made->credentials_) < 0 ||
      gnutls_certificate_set_x509_key(made->credentials_, &raw_certificate, 1, key.get()) < 0) {
    return fail(Errc::bad_key);
  }
  if (const Errc error = made->note_hash(); error != Errc::none) return fail(error);
  return made;
}

// Both are of the first certificate of the chain, the server's own.
Errc Certificate::note_hash() {
  gnutls_datum_t der{};
  if (gnutls_certificate_get_crt_raw(credentials_, 0, 0, &der) < 0) return Errc::bad_key;
  std::size_t size = hash_.size();
  if (gnutls_fingerprint(GNUTLS_DIG_SHA256, &der, hash_.data(), &size) < 0) return Errc::bad_key;
  gnutls_x509_crt_t raw = nullptr;
  if (gnutls_x509_crt_init(&raw) < 0) return Errc::bad_key;
  const X509 own(raw);
  if (gnutls_x509_crt_import(own.get(), &der, GNUTLS_X509_FMT_DER) < 0) return Errc::bad_key;
  expires_ = static_cast<std::int64_t>(gnutls_x509_crt_get_expiration_time(own.get()));
  return Errc::none;
}

}  // namespace kwind::web
