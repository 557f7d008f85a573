// The cryptographic parts of a handshake: Noise_NK against an implementation in another language,
// and the ciphers of datagrams.
#include <gtest/gtest.h>

#include <sstream>

#include "cli/process.h"
#include "kit/sim_pair.h"
#include "link/datagram/aead.h"
#include "link/handshake/noise.h"

namespace kwind {
namespace noise_test {

std::string hex(std::span<const std::byte> bytes) {
  return to_hex(bytes, bytes.size());
}
std::vector<std::byte> from_hex(const std::string& text) {
  std::vector<std::byte> bytes;
  for (std::size_t i = 0; i + 1 < text.size(); i += 2) {
    bytes.push_back(static_cast<std::byte>(std::stoi(text.substr(i, 2), nullptr, 16)));
  }
  return bytes;
}

// Each end once against an implementation that shares no code with this one.
TEST(Noise, ShakesHandsWithAnIndependentImplementationInBothRoles) {
  const link::KeyPair server = kit::server_key();
  const auto prologue = from_hex("00112233");
  const auto first = from_hex("aabbcc");
  const auto second = from_hex("0102030405");
  const std::string script = KWIND_SOURCE_DIR "/tests/link/noise_peer.py";

  link::NoiseNk client = link::NoiseNk::initiator(prologue, server.public_key, kit::secret_of(77));
  std::vector<std::byte> sent(first.size() + link::NoiseNk::kOverheadBytes);
  ASSERT_TRUE(client.write_first(first, sent));
  const auto as_server = kit::run({"/usr/bin/python3", script, "responder", hex(prologue),
                                   hex(server.secret.bytes()), hex(sent), hex(second)});
  ASSERT_EQ(as_server.code, 0) << as_server.err;
  // It prints the payload it read, its message, and the two keys.
  std::istringstream server_said(as_server.out);
  std::string read;
  std::string message;
  std::string up;
  std::string down;
  server_said >> read >> message >> up >> down;
  EXPECT_EQ(read, hex(first));
  std::vector<std::byte> heard(second.size());
  ASSERT_TRUE(client.read_second(from_hex(message), heard));
  EXPECT_EQ(heard, second);
  EXPECT_EQ(up, hex(client.split().up.bytes()));
  EXPECT_EQ(down, hex(client.split().down.bytes()));

  kit::Process peer(
      {"/usr/bin/python3", script, "initiator", hex(prologue), hex(server.public_key), hex(first)});
  const std::string opening = peer.read_line();
  link::NoiseNk host = link::NoiseNk::responder(prologue, server, kit::secret_of(78));
  std::vector<std::byte> received_first(first.size());
  ASSERT_TRUE(host.read_first(from_hex(opening), received_first)) << opening;
  EXPECT_EQ(received_first, first);
  std::vector<std::byte> accept(second.size() + link::NoiseNk::kOverheadBytes);
  ASSERT_TRUE(host.write_second(second, accept));
  peer.write_line(hex(accept));
  EXPECT_EQ(peer.read_line(), hex(second));
  EXPECT_EQ(peer.read_line(), hex(host.split().up.bytes()));
  EXPECT_EQ(peer.read_line(), hex(host.split().down.bytes()));
}

TEST(Noise, OpensNothingThatWasChangedAndSurvivesForgedAnswers) {
  const auto prologue = from_hex("0011");
  std::array<std::byte, 20> payload{};
  const auto exchange = [&](std::size_t flip, bool first_message) {
    link::NoiseNk client =
        link::NoiseNk::initiator(prologue, kit::server_key().public_key, kit::secret_of(1));
    link::NoiseNk server = link::NoiseNk::responder(prologue, kit::server_key(), kit::secret_of(2));
    std::array<std::byte, 68> one{};
    std::array<std::byte, 68> two{};
    std::array<std::byte, 20> got{};
    EXPECT_TRUE(client.write_first(payload, one));
    if (first_message) one[flip / 8] ^= std::byte{1} << (flip % 8);
    if (!server.read_first(one, got)) return false;
    EXPECT_TRUE(server.write_second(payload, two));
    auto forged = two;
    forged[flip / 8] ^= std::byte{1} << (flip % 8);
    EXPECT_FALSE(client.read_second(forged, got));
    return client.read_second(two, got);
  };
  for (std::size_t bit = 0; bit < 68 * 8; bit += 3) {
    // X25519 ignores the highest bit of a public key; the hash over the message does not.
    EXPECT_FALSE(exchange(bit, true)) << bit;
    EXPECT_TRUE(exchange(bit, false)) << bit << ": a forged answer must not spoil the real one";
  }
  link::NoiseNk weak = link::NoiseNk::initiator(prologue, {}, kit::secret_of(1));
  std::array<std::byte, 68> one{};
  EXPECT_FALSE(weak.write_first(payload, one)) << "a key of small order";
}

TEST(Aead, BothCiphersOpenWhatTheySealedAndNothingElse) {
  for (const auto cipher : {link::Cipher::chacha20_poly1305, link::Cipher::aes256_gcm}) {
    if (cipher == link::Cipher::aes256_gcm && !link::has_aes_hardware()) continue;
    const link::Aead aead(cipher, kit::secret_of(5));
    const std::array<std::byte, 3> head{std::byte{1}};
    std::array<std::byte, 30 + 16> datagram{};
    std::array<std::byte, 30> plain{};
    aead.seal(7, head, std::span(datagram).first(30), std::span(datagram).last<16>());
    EXPECT_TRUE(aead.open(7, head, datagram, plain));
    EXPECT_EQ(plain, (std::array<std::byte, 30>{}));
    EXPECT_FALSE(aead.open(8, head, datagram, plain)) << "another number";
    EXPECT_FALSE(aead.open(7, {}, datagram, plain)) << "another head";
    EXPECT_FALSE(aead.next().open(7, head, datagram, plain)) << "another key";
    for (std::size_t bit = 0; bit < datagram.size() * 8; ++bit) {
      datagram[bit / 8] ^= std::byte{1} << (bit % 8);
      EXPECT_FALSE(aead.open(7, head, datagram, plain));
      datagram[bit / 8] ^= std::byte{1} << (bit % 8);
    }
  }
}

}  // namespace noise_test
}  // namespace kwind
