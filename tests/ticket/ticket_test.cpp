// Tickets: issued, checked, forged; and exchanged with a JWT library of another language.
#include "kwind/ticket/ticket.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "cli/process.h"
#include "kit/sim_pair.h"

namespace kwind::ticket {
namespace ticket_test {

constexpr std::int64_t kNow = 1800000000;
const std::string kServer = link::key_text(kit::server_key().public_key);

SigningKey key() {
  return SigningKey::from_seed(kit::secret_of(40));
}
Ticket pilot() {
  return {"pilot 7", "t-1", kNow + 60, 0, 0, kServer, R"({"boat":"Marsh Hen"})"};
}
Errc error_of(const std::string& text, std::int64_t now = kNow,
              const std::string& audience = kServer) {
  const auto claims = check(text, key().verify, audience, now);
  return claims ? Errc::none : claims.error();
}

// Header and claims as given, signed by `signer`: what an issuer could get wrong or an attacker
// try.
std::string made_by_hand(const std::string& header, const std::string& claims,
                         const SigningKey& signer = key()) {
  // issue() signs what it builds itself, so the parts are put together by a peer of it.
  const auto done = kit::run({"/usr/bin/python3", "-c", R"(
import sys, base64
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
b = lambda x: base64.urlsafe_b64encode(x).rstrip(b"=")
text = b(sys.argv[1].encode()) + b"." + b(sys.argv[2].encode())
key = Ed25519PrivateKey.from_private_bytes(bytes.fromhex(sys.argv[3]))
print((text + b"." + b(key.sign(text))).decode(), end="")
)",
                              header, claims, to_hex(signer.seed.bytes(), 32)});
  EXPECT_EQ(done.code, 0) << done.err;
  return done.out;
}
const std::string kHeader = R"({"alg":"EdDSA","typ":"JWT"})";
std::string claims_with(const std::string& more) {
  return R"({"sub":"p","jti":"1","exp":1800000060,"aud":")" + kServer + "\"" + more + "}";
}

TEST(Tickets, ComeBackAsTheyWereIssued) {
  const auto text = issue(pilot(), key());
  ASSERT_TRUE(text);
  const auto claims = check(*text, key().verify, kServer, kNow);
  ASSERT_TRUE(claims);
  EXPECT_EQ(claims->subject, "pilot 7");
  EXPECT_EQ(claims->id, "t-1");
  EXPECT_EQ(claims->expires, kNow + 60);
  EXPECT_EQ(nlohmann::json::parse(claims->app)["boat"], "Marsh Hen");
  EXPECT_EQ(read_unchecked(*text)->subject, "pilot 7");
}

TEST(Tickets, AreRefusedWhenExpiredForeignOrForged) {
  const std::string text = *issue(pilot(), key());
  EXPECT_EQ(error_of(text, kNow + 59), Errc::none);
  EXPECT_EQ(error_of(text, kNow + 60), Errc::ticket_expired);
  EXPECT_EQ(error_of(text, kNow, "another server"), Errc::ticket_invalid);
  Ticket later = pilot();
  later.not_before = kNow + 5;
  EXPECT_EQ(error_of(*issue(later, key())), Errc::ticket_expired);
  EXPECT_EQ(error_of(*issue(pilot(), SigningKey::from_seed(kit::secret_of(41)))),
            Errc::ticket_invalid);
  for (std::size_t i = 0; i < text.size(); ++i) {
    std::string changed = text;
    changed[i] = changed[i] == 'A' ? 'B' : 'A';
    EXPECT_EQ(error_of(changed), Errc::ticket_invalid) << i;
    EXPECT_EQ(error_of(text.substr(0, i)), Errc::ticket_invalid) << i;
  }
  EXPECT_EQ(error_of(text + "="), Errc::ticket_invalid);
  EXPECT_EQ(error_of(text + "."), Errc::ticket_invalid);
}

// A server that started anew does not know which tickets were used before.
TEST(Tickets, IssuedBeforeTheStartOfAServerThatAsksForThatHaveExpired) {
  Ticket ticket = pilot();
  const Gate any(key().verify, kit::server_key().public_key);
  const Gate fresh(key().verify, kit::server_key().public_key, kNow - 10);
  const auto by = [&](const Gate& gate) {
    const auto claims = gate.check(*issue(ticket, key()), kNow);
    return claims ? Errc::none : claims.error();
  };
  EXPECT_EQ(by(any), Errc::none);
  EXPECT_EQ(by(fresh), Errc::ticket_expired) << "it does not say when it was issued";
  ticket.issued = kNow - 11;
  EXPECT_EQ(by(any), Errc::none);
  EXPECT_EQ(by(fresh), Errc::ticket_expired);
  ticket.issued = kNow - 10;
  EXPECT_EQ(by(fresh), Errc::none);
  EXPECT_EQ(read_unchecked(*issue(ticket, key()))->issued, kNow - 10);
  ticket.app = R"({"iat":1})";
  EXPECT_EQ(issue(ticket, key()).error(), Errc::ticket_invalid);
}

TEST(Tickets, KnowOneAlgorithmAndNoWayAroundIt) {
  EXPECT_EQ(error_of(made_by_hand(kHeader, claims_with(""))), Errc::none);
  for (const char* alg : {"none", "None", "HS256", "ES256", "eddsa", ""}) {
    const std::string header = std::string(R"({"typ":"JWT","alg":")") + alg + "\"}";
    EXPECT_EQ(error_of(made_by_hand(header, claims_with(""))), Errc::ticket_invalid) << alg;
  }
  EXPECT_EQ(error_of(made_by_hand(R"({"typ":"JWT"})", claims_with(""))), Errc::ticket_invalid);
  EXPECT_EQ(error_of(made_by_hand(R"({"alg":"EdDSA","crit":["x"],"x":1})", claims_with(""))),
            Errc::ticket_invalid);
  EXPECT_EQ(error_of(made_by_hand(R"({"alg":"none","alg":"EdDSA"})", claims_with(""))),
            Errc::ticket_invalid)
      << "a name that stands twice";
}

TEST(Tickets, NeedTheirClaimsInTheirForms) {
  for (const char* claims :
       {"[]", "1", "{", R"({"jti":"1","exp":1800000060,"aud":"@"})",
        R"({"sub":"p","exp":1800000060,"aud":"@"})", R"({"sub":"p","jti":"1","aud":"@"})",
        R"({"sub":"p","jti":"1","exp":1800000060})",
        R"({"sub":"p","jti":"1","exp":"1800000060","aud":"@"})",
        R"({"sub":7,"jti":"1","exp":1800000060,"aud":"@"})",
        R"({"sub":"p","jti":"1","exp":1e300,"aud":"@"})",
        R"({"sub":"p","jti":"1","exp":1800000060,"aud":["x","y"]})",
        R"({"sub":"p","jti":"1","exp":1800000060,"aud":"@","nbf":"soon"})"}) {
    std::string text = claims;
    if (const auto at = text.find('@'); at != std::string::npos) text.replace(at, 1, kServer);
    EXPECT_EQ(error_of(made_by_hand(kHeader, text)), Errc::ticket_invalid) << claims;
  }
  const std::string several =
      R"({"sub":"p","jti":"1","exp":1800000060.5,"aud":["x",")" + kServer + "\"]}";
  EXPECT_EQ(error_of(made_by_hand(kHeader, several)), Errc::none) << "one of several audiences";
}

TEST(Tickets, RefuseToBeIssuedWrongOrTooLong) {
  Ticket wrong = pilot();
  wrong.subject.clear();
  EXPECT_EQ(issue(wrong, key()).error(), Errc::ticket_invalid);
  wrong = pilot();
  wrong.app = "[1]";
  EXPECT_EQ(issue(wrong, key()).error(), Errc::ticket_invalid);
  wrong.app = R"({"exp":9999999999})";
  EXPECT_EQ(issue(wrong, key()).error(), Errc::ticket_invalid);
  wrong.app = R"({"story":")" + std::string(600, 'x') + "\"}";
  EXPECT_EQ(issue(wrong, key()).error(), Errc::message_too_large);
}

TEST(Tickets, PassBetweenThisAndAnotherLibraryBothWays) {
  const std::string script = KWIND_SOURCE_DIR "/tests/ticket/jwt_peer.py";
  const auto theirs = kit::run(
      {"/usr/bin/python3", script, "issue", to_jwk(key()), claims_with(R"(,"boat":"Tern")")});
  ASSERT_EQ(theirs.code, 0) << theirs.err;
  const std::string token = theirs.out.substr(0, theirs.out.find('\n'));
  const auto claims = check(token, key().verify, kServer, kNow);
  ASSERT_TRUE(claims);
  EXPECT_EQ(nlohmann::json::parse(claims->app)["boat"], "Tern");

  const auto read = kit::run(
      {"/usr/bin/python3", script, "check", to_jwk(key().verify), kServer, *issue(pilot(), key())});
  ASSERT_EQ(read.code, 0) << read.err;
  EXPECT_EQ(nlohmann::json::parse(read.out)["sub"], "pilot 7");
}

TEST(TicketKeys, ComeBackFromJson) {
  EXPECT_EQ(signing_key_from_jwk(to_jwk(key()))->verify, key().verify);
  EXPECT_EQ(*verify_key_from_jwk(to_jwk(key().verify)), key().verify);
  EXPECT_EQ(*verify_key_from_jwk(to_jwk(key())), key().verify)
      << "the public half of a private one";
  EXPECT_FALSE(signing_key_from_jwk(to_jwk(key().verify)));
  std::string wrong = to_jwk(key());
  wrong.replace(wrong.find("Ed25519"), 7, "X25519");
  EXPECT_FALSE(signing_key_from_jwk(wrong));
  EXPECT_FALSE(verify_key_from_jwk("{}"));
  EXPECT_FALSE(verify_key_from_jwk(""));
}

}  // namespace ticket_test
}  // namespace kwind::ticket
