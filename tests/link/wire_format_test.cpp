// The worked examples of docs/wire-format.md are what the code writes, byte for byte, and the page
// is parsed by a test that knows nothing but the page.
#include <gtest/gtest.h>

#include <algorithm>
#include <fstream>
#include <iterator>

#include "kit/forge.h"
#include "kit/sim_pair.h"
#include "link/datagram/ack_block.h"
#include "link/datagram/frames.h"
#include "link/handshake/handshake.h"

namespace kwind::link {
namespace wire_format_test {

using namespace std::chrono_literals;
using kit::at;

// All hexadecimal of the page, blanks and line breaks taken out of ```hex blocks.
std::vector<std::string> examples() {
  std::ifstream in(KWIND_SOURCE_DIR "/docs/wire-format.md");
  const std::string page(std::istreambuf_iterator<char>(in), {});
  std::vector<std::string> found;
  const std::string fence = "```hex\n";
  for (std::size_t at = page.find(fence); at != std::string::npos; at = page.find(fence, at + 1)) {
    const std::size_t begin = at + fence.size();
    std::string block = page.substr(begin, page.find("```", begin) - begin);
    std::erase_if(block, [](char c) { return c == ' ' || c == '\n'; });
    found.push_back(block);
  }
  return found;
}

void expect_example(std::span<const std::byte> bytes) {
  const std::string hex = to_hex(bytes, bytes.size());
  const auto all = examples();
  EXPECT_NE(std::find(all.begin(), all.end(), hex), all.end())
      << "docs/wire-format.md does not show\n"
      << hex;
}

std::span<const std::byte> without_padding(std::span<const std::byte> bytes) {
  while (!bytes.empty() && bytes.back() == std::byte{0}) bytes = bytes.first(bytes.size() - 1);
  return bytes;
}

constexpr std::uint64_t kNonce = 0x0102030405060708;

Cookie example_cookie() {
  Cookie cookie{};
  for (std::size_t i = 0; i < 16; ++i) cookie[i] = static_cast<std::byte>(0xc0 + i);
  return cookie;
}

Secret32 bytes_from(std::uint8_t first) {
  Secret32 secret;
  for (std::size_t i = 0; i < 32; ++i) secret.bytes()[i] = static_cast<std::byte>(first + i);
  return secret;
}

Welcome example_welcome() {
  Welcome welcome;
  welcome.id = ConnectionId{0x0010000};
  welcome.reset.fill(std::byte{0x60});
  welcome.reset_nonce = 0x7071727374757677;
  welcome.resume = bytes_from(0x80);
  welcome.resume_window_s = 60;
  return welcome;
}

TEST(WireFormat, ShowsThePlainDatagrams) {
  std::array<std::byte, kBaseDatagramBytes> out{};
  write_hello({kLinkVersion, kNonce, Mode::encrypted, TransportKind::datagrams}, out);
  expect_example(without_padding(out));
  expect_example(std::span(out).first(write(CookieReply{kNonce, example_cookie()}, out)));
  expect_example(std::span(out).first(write(HandshakeError{kNonce, Errc::wrong_key}, out)));
  expect_example(std::span(out).first(write(Versions{kNonce, {2}}, out)));
  ResetToken token{};
  token.fill(std::byte{0x60});
  expect_example(std::span(out).first(write_reset(token, out)));
}

TEST(WireFormat, ShowsAWholeHandshakeAndASealedDatagramEachWay) {
  const KeyPair server = KeyPair::from_secret(bytes_from(0x20));
  expect_example(server.public_key);

  std::array<std::byte, kBaseDatagramBytes> connect{};
  write_connect_head({kLinkVersion, kNonce, Mode::encrypted, TransportKind::datagrams},
                     example_cookie(), connect);
  std::array<std::byte, kConnectPayloadBytes> said{};
  write(Connect{kit::test_identity(), true, {}, "e30.e30.c2ln", {}}, said);
  expect_example(without_padding(said));
  const auto prologue = prologue_of(std::span(connect).first(kConnectHeadBytes));
  expect_example(prologue);
  NoiseNk client = NoiseNk::initiator(prologue, server.public_key, bytes_from(0x40));
  ASSERT_TRUE(client.write_first(said, std::span(connect).subspan(kConnectHeadBytes)));
  expect_example(std::span(connect).first(kConnectHeadBytes + 48));
  expect_example(std::span(connect).last(16));

  std::array<std::byte, kConnectPayloadBytes> heard{};
  NoiseNk host = NoiseNk::responder(prologue, server, bytes_from(0x60));
  ASSERT_TRUE(host.read_first(std::span(connect).subspan(kConnectHeadBytes), heard));
  EXPECT_EQ(heard, said);
  std::array<std::byte, kBaseDatagramBytes> payload{};
  const std::size_t payload_bytes = write(Accept{example_welcome(), {}}, payload);
  expect_example(std::span(payload).first(payload_bytes));
  std::array<std::byte, kBaseDatagramBytes> accept{};
  const std::size_t size = kAcceptHeadBytes + payload_bytes + NoiseNk::kOverheadBytes;
  write_accept_head(kNonce, accept);
  const auto sealed = std::span(accept).subspan(kAcceptHeadBytes, size - kAcceptHeadBytes);
  ASSERT_TRUE(host.write_second(std::span(payload).first(payload_bytes), sealed));
  expect_example(std::span(accept).first(size));
  std::vector<std::byte> back(payload_bytes);
  ASSERT_TRUE(client.read_second(sealed, back));
  EXPECT_EQ(to_hex(client.split().up.bytes(), 32), to_hex(host.split().up.bytes(), 32));

  Agreed agreed;
  agreed.id = example_welcome().id;
  agreed.version = 1;
  const AeadKeys keys{Cipher::chacha20_poly1305, derive(host.split().up, "datagrams up"),
                      derive(host.split().down, "datagrams down")};
  expect_example(keys.up.bytes());
  expect_example(keys.down.bytes());
  expect_example(Aead(keys.cipher, keys.up).next().key().bytes());
  agreed.keys = keys;
  LinkOptions options;
  options.channels = {{Delivery::unreliable}, {Delivery::sequenced}, {Delivery::ordered}};
  options.tags = 1;
  Admission admission;
  admission.id = agreed.id;
  admission.version = 1;
  admission.agreed = std::make_shared<const Agreed>(agreed);
  Link link = Link::accept(admission, Endpoint::loopback(9), options, at(0s));

  // The client's first datagram: a ping, packet number 0.
  std::array<std::byte, 64> memory{};
  bits::Writer first(memory);
  DataHeader header;
  header.id = agreed.id;
  const std::size_t head = write(header, true, first);
  FrameWriter(first, options.channels, 0).ping();
  const std::size_t ping_bytes = first.finish() + Aead::kTagBytes;
  expect_example(std::span(memory).first(ping_bytes - Aead::kTagBytes));
  Envelope envelope(keys, true, KeyLife{}, at(0s));
  const auto ping = std::span(memory).first(ping_bytes);
  envelope.close(Time{}, 0, ping, head);
  expect_example(ping);
  ASSERT_EQ(link.receive(at(40ms), ping), Errc::none);

  // The answer, 10 ms later: the ack, a sequenced message of 24 bits, an ordered one of 16; it also
  // opens the ordered channel's window.
  const std::array<std::byte, 3> state{std::byte{0xaa}, std::byte{0xbb}, std::byte{0xcc}};
  const std::array<std::byte, 2> order{std::byte{0x12}, std::byte{0x34}};
  ASSERT_EQ(link.send(1, 0, state, 24), Errc::none);
  ASSERT_EQ(link.send(2, 0, order, 16), Errc::none);
  std::array<std::byte, kMaxDatagramBytes> out{};
  const std::size_t answered = link.poll_datagram(at(50ms), out);
  expect_example(std::span(out).first(answered));
  std::array<std::byte, kMaxDatagramBytes> plain{};
  Envelope opening(keys, true, KeyLife{}, at(0s));
  const auto body = opening.open(at(60ms), 0, false, std::span(out).first(answered), 2, plain);
  ASSERT_TRUE(body);
  expect_example(*body);
}

TEST(WireFormat, ShowsTheKeysAndADatagramOfClearMode) {
  const auto client = bytes_from(0x40);
  const auto server = bytes_from(0x60);
  const ConnectionId id{0x0010000};
  const CheckKeys keys{plaintext_key("clear up", client.bytes(), server.bytes(), id),
                       plaintext_key("clear down", client.bytes(), server.bytes(), id)};
  expect_example(keys.up);
  expect_example(keys.down);
  std::array<std::byte, 64> memory{};
  bits::Writer out(memory);
  DataHeader header;
  header.id = id;
  const std::size_t head = write(header, true, out);
  const std::vector<ChannelSpec> channels = {{Delivery::unreliable}};
  FrameWriter(out, channels, 0).ping();
  const auto datagram = std::span(memory).first(out.finish() + Envelope::kCheckBytes);
  Envelope(keys, true).close(Time{}, 0, datagram, head);
  expect_example(datagram);
}

// ---- what a datagram of state costs ----

struct Costs {
  double up = 0;
  double down = 0;
};

// 20 ticks a second, a state message of 200 bits each way: bytes beyond the message, mean of a
// second's datagrams in the middle of the run.
Costs state_costs(Mode mode) {
  kit::SimPair pair({.conditions = {.delay = 40ms}, .mode = mode});
  Costs costs;
  const std::array<std::byte, 25> state{};
  for (int tick = 0; tick < 100; ++tick) {
    pair.run_until(at(50ms * tick));
    if (!pair.has_server() || pair.server().state() != State::open) continue;
    std::array<std::uint64_t, 2> bytes{pair.client().stats().bytes_sent,
                                       pair.server().stats().bytes_sent};
    EXPECT_EQ(pair.client().send(1, 1, state, 200), Errc::none);
    EXPECT_EQ(pair.server().send(1, 1, state, 200), Errc::none);
    pair.run_until(pair.now());
    if (tick < 60 || tick >= 80) continue;
    const std::size_t frame = message_head_bits(pair.channels(), 1, 200) + 200;
    const double message = static_cast<double>(frame) / 8;
    costs.up += (static_cast<double>(pair.client().stats().bytes_sent - bytes[0]) - message) / 20;
    costs.down += (static_cast<double>(pair.server().stats().bytes_sent - bytes[1]) - message) / 20;
  }
  return costs;
}

TEST(WireFormat, StateDatagramsCostWhatIsPromised) {
  const Costs sealed = state_costs(Mode::encrypted);
  EXPECT_LE(sealed.down, 22);
  EXPECT_LE(sealed.up, 26);
  EXPECT_GT(sealed.down, 18);
  const Costs plaintext = state_costs(Mode::plaintext);
  EXPECT_LE(plaintext.down, 12);
  EXPECT_LE(plaintext.up, 12.9) << "the last byte is filled up";
}

}  // namespace wire_format_test
}  // namespace kwind::link
