// Tickets of strangers. The first byte chooses: as it is, or with a right signature over what the
// input puts into header and claims, so that the fuzzer reaches what lies behind it.
#include <sodium.h>

#include <cstdint>
#include <cstdlib>
#include <string>
#include <vector>

#include "kwind/ticket/ticket.h"

using namespace kwind;

namespace {

std::string encode(std::string_view bytes) {
  std::string text(
      sodium_base64_ENCODED_LEN(bytes.size(), sodium_base64_VARIANT_URLSAFE_NO_PADDING), '\0');
  sodium_bin2base64(text.data(), text.size(), reinterpret_cast<const unsigned char*>(bytes.data()),
                    bytes.size(), sodium_base64_VARIANT_URLSAFE_NO_PADDING);
  text.pop_back();
  return text;
}

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  static const ticket::SigningKey key = ticket::SigningKey::from_seed(Secret32());
  std::string text(reinterpret_cast<const char*>(data + 1), size - 1);
  const bool signed_right = data[0] % 2 == 1;
  if (signed_right) {
    const std::size_t cut = text.find('\n');
    const std::string_view all(text);
    std::string token = encode(all.substr(0, cut)) + "." +
                        encode(cut == std::string::npos ? "" : all.substr(cut + 1));
    unsigned char verify[32];
    unsigned char secret[64];
    crypto_sign_seed_keypair(verify, secret,
                             reinterpret_cast<const unsigned char*>(key.seed.bytes().data()));
    unsigned char signature[64];
    crypto_sign_detached(signature, nullptr, reinterpret_cast<const unsigned char*>(token.data()),
                         token.size(), secret);
    text = token + "." + encode({reinterpret_cast<const char*>(signature), sizeof signature});
  }
  const auto claims = ticket::check(text, key.verify, "quay", 1000);
  if (claims && !signed_right) std::abort();  // a signature was guessed
  if (claims && (claims->subject.empty() || claims->id.empty() || claims->expires <= 1000)) {
    std::abort();
  }
  if (claims && !ticket::read_unchecked(text)) std::abort();
  (void)ticket::verify_key_from_jwk(text);
  return 0;
}
