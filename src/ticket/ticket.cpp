// JSON Web Tokens signed with Ed25519 (RFC 8037). The algorithm is fixed: what the header of a
// token asks for is compared, never obeyed. The signature is checked before the claims are parsed.
//
// Threats and answers: `alg: none` and key confusion (the algorithm is compared with a constant),
// duplicated members (refused), `crit` extensions (refused), tickets of another server (`aud`),
// replay (the server remembers ids until they expire), time (`exp` is mandatory).
#include "kwind/ticket/ticket.h"

#include <sodium.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <set>
#include <vector>

#include "kwind/link/spec.h"

namespace kwind::ticket {
namespace {

using Json = nlohmann::json;

constexpr int kVariant = sodium_base64_VARIANT_URLSAFE_NO_PADDING;
constexpr std::size_t kSignatureBytes = crypto_sign_BYTES;
constexpr const char* kNamed[] = {"sub", "jti", "exp", "nbf", "iat", "aud"};

const unsigned char* in(std::span<const std::byte> data) {
  return reinterpret_cast<const unsigned char*>(data.data());
}
const unsigned char* in(std::string_view text) {
  return reinterpret_cast<const unsigned char*>(text.data());
}

std::string encode(std::span<const unsigned char> bytes) {
  std::string text(sodium_base64_ENCODED_LEN(bytes.size(), kVariant), '\0');
  sodium_bin2base64(text.data(), text.size(), bytes.data(), bytes.size(), kVariant);
  text.pop_back();  // the terminating zero
  return text;
}
std::string encode(std::string_view text) {
  return encode(std::span(in(text), text.size()));
}

// Strict: one byte string has one text.
// Without padding, without other alphabets, without bits left over.
bool decode(std::string_view text, std::vector<unsigned char>& bytes) {
  bytes.resize(text.size());
  if (text.empty()) return true;
  std::size_t size = 0;
  const char* end = nullptr;
  if (sodium_base642bin(bytes.data(), bytes.size(), text.data(), text.size(), nullptr, &size, &end,
                        kVariant) != 0 ||
      end != text.data() + text.size()) {
    return false;
  }
  bytes.resize(size);
  return true;
}

// The library throws at what is no UTF-8.
std::optional<std::string> text_of(const Json& json) {
  try {
    return json.dump();
  } catch (const Json::exception&) {
    return std::nullopt;
  }
}

// An object in which no name stands twice: readers differ in which of the two they take.
bool parse_object(std::string_view text, Json& out) {
  // One set of names for each depth of nesting.
  std::vector<std::set<std::string>> names;
  bool twice = false;
  const auto watch = [&](int depth, Json::parse_event_t event, Json& parsed) {
    const auto level = static_cast<std::size_t>(depth);
    if (event == Json::parse_event_t::object_start) {
      names.resize(std::max(names.size(), level + 2));
      names[level + 1].clear();
    } else if (event == Json::parse_event_t::key) {
      twice = twice || !names[level].insert(parsed.get<std::string>()).second;
    }
    return true;
  };
  out = Json::parse(text.begin(), text.end(), watch, false);
  return !twice && out.is_object();
}

std::string text_of(const Json& object, const char* name) {
  const auto found = object.find(name);
  return found != object.end() && found->is_string() ? found->get<std::string>() : std::string();
}

// A JSON Web Signature in compact form (RFC 7515, 7.1): header, payload and signature in base64url,
// with dots between them.
struct Parts {
  std::string_view signed_text;  // header and payload
  // RFC 8725, 3.1: the algorithm is ours to say. RFC 7515, 4.1.11: `crit` must be understood.
  bool header_fits = false;
  std::vector<unsigned char> payload;
  std::vector<unsigned char> signature;
};

// Decodes the three parts. The header is compared here; the payload stays bytes until the signature
// is checked.
bool take_apart(std::string_view text, Parts& parts) {
  if (text.size() > link::kMaxTicketBytes) return false;
  const std::size_t first = text.find('.');
  const std::size_t second = first == std::string_view::npos ? first : text.find('.', first + 1);
  if (second == std::string_view::npos) return false;
  std::vector<unsigned char> bytes;
  if (!decode(text.substr(0, first), bytes) ||
      !decode(text.substr(first + 1, second - first - 1), parts.payload) ||
      !decode(text.substr(second + 1), parts.signature)) {
    return false;
  }
  Json header;
  if (!parse_object({reinterpret_cast<const char*>(bytes.data()), bytes.size()}, header)) {
    return false;
  }
  parts.signed_text = text.substr(0, second);
  parts.header_fits = text_of(header, "alg") == "EdDSA" && !header.contains("crit");
  // `typ` is not compared: it says nothing that matters.
  return true;
}

// A NumericDate (RFC 7519, 2); whole seconds suffice. False if it is there and is none.
bool time_of(const Json& object, const char* name, std::int64_t& out) {
  const auto found = object.find(name);
  if (found == object.end()) return true;
  if (!found->is_number()) return false;
  const double seconds = found->get<double>();
  // Written so that NaN is refused.
  if (!(seconds >= 0 && seconds < 1e15)) return false;
  out = static_cast<std::int64_t>(seconds);
  return true;
}

// The registered claims that tickets use (RFC 7519, 4.1), and everything else as text for the game.
bool read_claims(const std::vector<unsigned char>& payload, Json& claims, Ticket& out) {
  if (!parse_object({reinterpret_cast<const char*>(payload.data()), payload.size()}, claims)) {
    return false;
  }
  out.subject = text_of(claims, "sub");
  out.id = text_of(claims, "jti");
  out.audience = text_of(claims, "aud");
  out.app = text_of(claims).value_or("");
  return time_of(claims, "exp", out.expires) && time_of(claims, "nbf", out.not_before) &&
         time_of(claims, "iat", out.issued);
}

// RFC 7519, 4.1.3: one audience, or several of which we are one.
bool is_for(const Json& claims, std::string_view audience) {
  const auto found = claims.find("aud");
  if (found == claims.end()) return false;
  if (found->is_string()) return found->get_ref<const std::string&>() == audience;
  // O(audiences).
  return found->is_array() && std::any_of(found->begin(), found->end(), [&](const Json& each) {
           return each.is_string() && each.get_ref<const std::string&>() == audience;
         });
}

// The number of bytes must be that of the curve. The decoded copy is wiped from memory.
bool key_part(const Json& jwk, const char* name, std::span<std::byte> out) {
  std::vector<unsigned char> bytes;
  const bool fits = decode(text_of(jwk, name), bytes) && bytes.size() == out.size();
  if (fits) std::copy_n(reinterpret_cast<const std::byte*>(bytes.data()), out.size(), out.begin());
  wipe(std::as_writable_bytes(std::span(bytes)));
  return fits;
}

// RFC 8037, 2: an octet key pair of Ed25519.
bool parse_jwk(std::string_view text, Json& jwk) {
  return parse_object(text, jwk) && text_of(jwk, "kty") == "OKP" &&
         text_of(jwk, "crv") == "Ed25519";
}

}  // namespace

// The seed is the secret (RFC 8032, 5.1.5); everything else follows from it.
SigningKey SigningKey::from_seed(const Secret32& seed) {
  SigningKey key;
  key.seed = seed;
  Secret<crypto_sign_SECRETKEYBYTES> whole;
  crypto_sign_seed_keypair(reinterpret_cast<unsigned char*>(key.verify.data()),
                           reinterpret_cast<unsigned char*>(whole.bytes().data()),
                           in(seed.bytes()));
  return key;
}

// Written by hand: the order of members is fixed, and the secret passes through no JSON library.
std::string to_jwk(const SigningKey& key) {
  return R"({"kty":"OKP","crv":"Ed25519","d":")" + link::key_text(key.seed.bytes()) + R"(","x":")" +
         link::key_text(key.verify) + "\"}";
}
std::string to_jwk(const VerifyKey& key) {
  return R"({"kty":"OKP","crv":"Ed25519","x":")" + link::key_text(key) + "\"}";
}

// A public key that does not belong to the secret is refused: tickets would be signed that no
// server takes.
Result<SigningKey> signing_key_from_jwk(std::string_view text) {
  Json jwk;
  Secret32 seed;
  if (!parse_jwk(text, jwk) || !key_part(jwk, "d", seed.bytes())) return fail(Errc::bad_key);
  SigningKey key = SigningKey::from_seed(seed);
  VerifyKey stated{};
  if (!key_part(jwk, "x", stated) || stated != key.verify) return fail(Errc::bad_key);
  return key;
}

// A file with the secret key serves as well; only its public part is read.
Result<VerifyKey> verify_key_from_jwk(std::string_view text) {
  Json jwk;
  VerifyKey key{};
  if (!parse_jwk(text, jwk) || !key_part(jwk, "x", key)) return fail(Errc::bad_key);
  return key;
}

// Members of the game's own may not bear the names of registered claims.
Result<std::string> issue(const Ticket& ticket, const SigningKey& key) {
  // Subject, id and audience are what a server needs to admit and to remember.
  Json claims;
  if (ticket.subject.empty() || ticket.id.empty() || ticket.audience.empty() ||
      !parse_object(ticket.app, claims) ||
      std::any_of(std::begin(kNamed), std::end(kNamed),
                  [&](const char* name) { return claims.contains(name); })) {
    return fail(Errc::ticket_invalid);
  }
  claims["sub"] = ticket.subject;
  claims["jti"] = ticket.id;
  claims["exp"] = ticket.expires;
  claims["aud"] = ticket.audience;
  if (ticket.not_before != 0) claims["nbf"] = ticket.not_before;
  if (ticket.issued != 0) claims["iat"] = ticket.issued;
  const auto claims_text = text_of(claims);
  if (!claims_text) return fail(Errc::ticket_invalid);
  std::string text = encode(std::string_view(R"({"alg":"EdDSA","typ":"JWT"})")) + "." +
                     encode(std::string_view(*claims_text));
  // The expanded key lives on the stack and is wiped when this returns.
  Secret<crypto_sign_SECRETKEYBYTES> whole;
  VerifyKey verify{};
  crypto_sign_seed_keypair(reinterpret_cast<unsigned char*>(verify.data()),
                           reinterpret_cast<unsigned char*>(whole.bytes().data()),
                           in(key.seed.bytes()));
  std::array<unsigned char, kSignatureBytes> signature{};
  crypto_sign_detached(signature.data(), nullptr, in(text), text.size(), in(whole.bytes()));
  text += "." + encode(signature);
  if (text.size() > link::kMaxTicketBytes) return fail(Errc::message_too_large);
  return text;
}

// For display alone: nobody has vouched for what it says.
Result<Ticket> read_unchecked(std::string_view text) {
  Parts parts;
  Json claims;
  Ticket ticket;
  if (!take_apart(text, parts) || !read_claims(parts.payload, claims, ticket)) {
    return fail(Errc::ticket_invalid);
  }
  return ticket;
}

// In this order: form, algorithm, signature, claims, audience, time. Nothing of the payload is
// parsed before the signature holds.
Result<link::Claims> check(std::string_view text, const VerifyKey& key, std::string_view audience,
                           std::int64_t unix_seconds, std::int64_t issued_from) {
  Parts parts;
  if (!take_apart(text, parts)) return fail(Errc::ticket_invalid);
  if (!parts.header_fits || parts.signature.size() != kSignatureBytes ||
      crypto_sign_verify_detached(parts.signature.data(), in(parts.signed_text),
                                  parts.signed_text.size(), in(key)) != 0) {
    return fail(Errc::ticket_invalid);
  }
  Json claims;
  Ticket ticket;
  if (!read_claims(parts.payload, claims, ticket) || ticket.subject.empty() || ticket.id.empty() ||
      !claims.contains("exp") || !is_for(claims, audience)) {
    return fail(Errc::ticket_invalid);
  }
  // One error for all reasons of time: the client's clock may be wrong.
  if (unix_seconds >= ticket.expires || unix_seconds < ticket.not_before ||
      ticket.issued < issued_from) {
    return fail(Errc::ticket_expired);
  }
  return link::Claims{ticket.subject, ticket.id, ticket.expires, ticket.app};
}

}  // namespace kwind::ticket
