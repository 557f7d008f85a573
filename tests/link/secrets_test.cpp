// Secrets that have ended are gone from the process's memory: it is searched for them.
#include <gtest/gtest.h>

#include <cstdio>
#include <cstring>
#include <fstream>
#include <memory>
#include <sstream>

#include "kit/sim_pair.h"
#include "kit/sweep.h"
#include "link/datagram/envelope.h"
#include "link/handshake/handshake.h"

namespace kwind {
namespace secrets_test {

using namespace std::chrono_literals;
using kit::at;

constexpr auto kMask = std::byte{0xa5};
using Masked = std::array<std::byte, 32>;  // so that what is searched for is not found in itself

Masked masked(std::span<const std::byte> secret) {
  Masked made{};
  for (std::size_t i = 0; i < made.size(); ++i) made[i] = secret[i] ^ kMask;
  return made;
}

// How often the secret stands in what this process can write to.
[[gnu::noinline]] std::size_t count_in_memory(const Masked& wanted) {
  std::size_t count = 0;
  std::ifstream maps("/proc/self/maps");
  for (std::string line; std::getline(maps, line);) {
    unsigned long begin = 0;
    unsigned long end = 0;
    char mode[5] = {};
    if (std::sscanf(line.c_str(), "%lx-%lx %4s", &begin, &end, mode) != 3) continue;
    if (std::string_view(mode).substr(0, 2) != "rw" || line.find("[v") != std::string::npos)
      continue;
    const auto* const from = reinterpret_cast<const std::byte*>(begin);
    const std::size_t size = end - begin;
    for (std::size_t i = 0; i + wanted.size() <= size; ++i) {
      if ((from[i] ^ kMask) != wanted[0]) continue;
      std::size_t same = 1;
      while (same < wanted.size() && (from[i + same] ^ kMask) == wanted[same]) ++same;
      if (same == wanted.size()) ++count;
    }
  }
  return count;
}

class Secrets : public testing::Test {
 protected:
  void SetUp() override {
    if (kit::kSanitized) GTEST_SKIP() << "a sanitizer keeps memory of its own";
  }
};

TEST_F(Secrets, ASearchFindsWhatIsThere) {
  const auto here = std::make_unique<Secret32>(kit::secret_of(0x5eed));
  const Masked wanted = masked(derive(*here, "for this test alone").bytes());
  const std::size_t before = count_in_memory(wanted);
  const auto kept = std::make_unique<Secret32>(derive(*here, "for this test alone"));
  EXPECT_GT(count_in_memory(wanted), before);
}

// The ephemeral keys of both ends: who has one of them opens the recorded handshake.
TEST_F(Secrets, EphemeralKeysAreGoneOnceBothEndsAreOpen) {
  const Secret32 client_seed = derive(kit::secret_of(7), "client of the test");
  const Secret32 door_secret = derive(kit::secret_of(8), "door of the test");
  const std::array<std::byte, 1> first_cookie{std::byte{1}};
  const Masked client = masked(derive(client_seed, "client ephemeral", first_cookie).bytes());
  // The listener draws from a chain that replaces itself: four secrets before the first exchange.
  Secret32 chain = derive(door_secret, "drawn");
  for (int i = 0; i < 4; ++i) chain = derive(chain, "next");
  Masked server{};
  link::PublicKey public_half{};
  {
    const Secret32 ephemeral = derive(chain, "ephemeral");
    server = masked(ephemeral.bytes());
    public_half = link::KeyPair::from_secret(ephemeral).public_key;
  }
  wipe(chain.bytes());
  bool is_that_key = false;
  kit::SimPairOptions options{.conditions = {.delay = 5ms}};
  options.watch = [&](Time, bool from_server, std::span<const std::byte> datagram) {
    if (!from_server || datagram[0] != static_cast<std::byte>(link::Form::accept)) return;
    is_that_key = std::equal(public_half.begin(), public_half.end(),
                             datagram.begin() + link::kAcceptHeadBytes);
  };
  options.adjust_door = [&](link::ListenerOptions& door) { door.secret = door_secret; };
  options.adjust_client = [&](link::ConnectOptions& who) { who.seed = client_seed; };
  kit::SimPair pair(options);
  pair.run_until(at(12ms));
  EXPECT_GT(count_in_memory(client), 0U) << "the offer is made, and its answer is awaited";
  pair.run_until(at(1s));
  ASSERT_EQ(pair.client().state(), link::State::open);
  ASSERT_TRUE(pair.has_server());
  EXPECT_TRUE(is_that_key);
  EXPECT_EQ(count_in_memory(server), 0U);
  EXPECT_EQ(count_in_memory(client), 0U);
}

// A ticket lets in who has it: what the link holds of it goes with the handshake.
TEST_F(Secrets, ATicketIsGoneOnceBothEndsAreOpen) {
  class Gate final : public link::TicketGate {
   public:
    [[nodiscard]] Result<link::Claims> check(std::string_view ticket,
                                             std::int64_t now) const override {
      EXPECT_EQ(ticket.size(), 64U);
      return link::Claims{"pilot", "1", now + 60, "{}"};
    }
  };
  const Gate gate;
  const auto ticket = [] { return to_hex(derive(kit::secret_of(10), "a ticket").bytes(), 32); };
  Masked wanted{};
  {
    std::string text = ticket();
    wanted = masked(std::as_bytes(std::span(text)));
    wipe(std::as_writable_bytes(std::span(text)));
  }
  kit::SimPairOptions options{.conditions = {.delay = 5ms}};
  options.adjust_door = [&](link::ListenerOptions& door) {
    door.gate = &gate;
    door.unix_now = [] { return std::int64_t{1000}; };
  };
  options.adjust_client = [&](link::ConnectOptions& who) { who.ticket = ticket(); };
  kit::SimPair pair(options);
  pair.run_until(at(12ms));
  EXPECT_GT(count_in_memory(wanted), 0U);
  pair.run_until(at(1s));
  ASSERT_EQ(pair.client().state(), link::State::open);
  ASSERT_TRUE(pair.has_server());
  EXPECT_EQ(count_in_memory(wanted), 0U);
}

// A key that gave way to the next one opens nothing that was recorded before.
TEST_F(Secrets, DatagramKeysAreGoneWithTheirConnection) {
  const Secret32 root = derive(kit::secret_of(9), "keys of the test");
  const Masked up = masked(derive(root, "up").bytes());
  const Masked down = masked(derive(root, "down").bytes());
  {
    const auto keys = std::make_unique<link::AeadKeys>(
        link::AeadKeys{link::Cipher::chacha20_poly1305, derive(root, "up"), derive(root, "down")});
    const auto envelope = std::make_unique<link::Envelope>(*keys, true, link::KeyLife{}, at(0s));
    EXPECT_GT(count_in_memory(up), 0U);
    EXPECT_GT(count_in_memory(down), 0U);
  }
  EXPECT_EQ(count_in_memory(up), 0U);
  EXPECT_EQ(count_in_memory(down), 0U);
}

}  // namespace secrets_test
}  // namespace kwind
