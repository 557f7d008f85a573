// The worked examples of docs/wire-format.md are what the code writes, byte for byte.
#include <gtest/gtest.h>

#include <algorithm>
#include <fstream>
#include <iterator>

#include "kit/sim_pair.h"
#include "link/ack_block.h"
#include "link/frames.h"
#include "link/handshake.h"

namespace kwind::link {
namespace {

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
  const std::string hex = bits::to_hex(bytes, bytes.size());
  const auto all = examples();
  EXPECT_NE(std::find(all.begin(), all.end(), hex), all.end())
      << "docs/wire-format.md does not show\n"
      << hex;
}

constexpr std::uint64_t kNonce = 0x0102030405060708;
const Admission kAdmission{ConnectionId{0x00010000}, kNonce, 0x1112131415161718, 1};

TEST(WireFormat, ShowsTheHandshakeDatagrams) {
  std::array<std::byte, kMaxDatagramBytes> out{};
  Cookie cookie{};
  for (std::size_t i = 0; i < 16; ++i) cookie[i] = static_cast<std::byte>(0xc0 + i);
  const std::size_t hello =
      write(Hello{kLinkVersion, kNonce, std::nullopt, kit::test_identity()}, out);
  // 1200 bytes, all zeros between the last field and the check.
  const auto last =
      std::find_if(out.rbegin() + 4, out.rend(), [](std::byte b) { return b != std::byte{0}; });
  std::vector<std::byte> shown(out.begin(), last.base());
  shown.insert(shown.end(), out.begin() + static_cast<std::ptrdiff_t>(hello) - 4,
               out.begin() + static_cast<std::ptrdiff_t>(hello));
  expect_example(shown);
  expect_example(std::span(out).first(write(CookieReply{kNonce, cookie}, out)));
  expect_example(
      std::span(out).first(write(Welcome{kNonce, kAdmission.server_nonce, kAdmission.id, 0}, out)));
  expect_example(std::span(out).first(write(Refusal{kNonce, Errc::server_full, "2 of 2"}, out)));
  expect_example(std::span(out).first(write(Versions{kNonce, {1}}, out)));
}

TEST(WireFormat, ShowsTheKeysOfTheChecks) {
  const CheckKeys keys = make_check_keys(kNonce, kAdmission.server_nonce, kAdmission.id);
  expect_example(keys.up);
  expect_example(keys.down);
}

TEST(WireFormat, ShowsADatagramWithAcksAndMessages) {
  LinkOptions options;
  options.channels = {{Delivery::unreliable}, {Delivery::sequenced}, {Delivery::ordered}};
  options.tags = 1;
  Link server = Link::accept(kAdmission, options, at(0s));
  // The client's first datagram: a ping, packet number 0.
  std::array<std::byte, 64> memory{};
  bits::Writer first(memory);
  first.put(1, 8);
  first.put(0x00010000, 32);
  first.put(0, 16);
  write_ping(first);
  const std::size_t size = first.finish();
  const CheckKeys keys = make_check_keys(kNonce, kAdmission.server_nonce, kAdmission.id);
  bits::Writer check{std::span(memory).subspan(size)};
  check.put(bits::keyed_check(keys.up, std::span(memory).first(size), 0), 32);
  check.finish();
  const auto ping = std::span(memory).first(size + 4);
  expect_example(ping);
  ASSERT_EQ(server.receive(at(40ms), ping), Errc::none);

  // The answer, 10 ms later: the ack, a sequenced message of 24 bits, an ordered one of 16.
  const std::array<std::byte, 3> state{std::byte{0xaa}, std::byte{0xbb}, std::byte{0xcc}};
  const std::array<std::byte, 2> order{std::byte{0x12}, std::byte{0x34}};
  ASSERT_EQ(server.send(1, 0, state, 24), Errc::none);
  ASSERT_EQ(server.send(2, 0, order, 16), Errc::none);
  std::array<std::byte, kMaxDatagramBytes> out{};
  const std::size_t answer = server.poll_datagram(at(50ms), out);
  EXPECT_EQ(answer, 3U + 17 + 4) << "header; acks and frames of 129 bits; check";
  expect_example(std::span(out).first(answer));
}

}  // namespace
}  // namespace kwind::link
