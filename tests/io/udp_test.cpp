// Real sockets on loopback: the only tests that wait for the system.
#include <gtest/gtest.h>

#include <set>

#include "io/linux/copy_filter.h"
#include "io/sockets.h"
#include "kwind/io/capturing_transport.h"
#include "kwind/io/clock.h"
#include "kwind/io/impaired_transport.h"
#include "kwind/io/udp_transport.h"

namespace kwind::io {
namespace udp_test {

using namespace std::chrono_literals;

// What each system has.
#if defined(__linux__) && !defined(KWIND_PLAIN_SOCKETS)
constexpr bool kCountsOverruns = true;
#else
constexpr bool kCountsOverruns = false;
#endif

std::unique_ptr<UdpTransport> open_port() {
  auto transport = UdpTransport::open(Endpoint::loopback(0));
  EXPECT_TRUE(transport);
  return std::move(*transport);
}

// Collects datagrams until `count` have arrived or two seconds have passed.
std::vector<std::vector<std::byte>> collect(PollableTransport& transport, std::size_t count) {
  std::vector<std::vector<std::byte>> all;
  const Time end = now() + 2s;
  while (all.size() < count && now() < end) {
    transport.wait(end);
    transport.flush(now());
    while (const auto got = transport.receive(now()))
      all.emplace_back(got->bytes.begin(), got->bytes.end());
  }
  return all;
}

TEST(UdpTransport, CarriesMoreThanABatchInOrderAndEmptyOnesToo) {
  const auto a = open_port();
  const auto b = open_port();
  for (int i = 0; i < 200; ++i) {
    const std::vector<std::byte> bytes(static_cast<std::size_t>(i), static_cast<std::byte>(i));
    a->send(now(), b->local(), bytes);
  }
  a->flush(now());
  const auto got = collect(*b, 200);
  ASSERT_EQ(got.size(), 200U);
  for (std::size_t i = 0; i < got.size(); ++i) {
    EXPECT_EQ(got[i], std::vector<std::byte>(i, static_cast<std::byte>(i)));
  }
  EXPECT_EQ(a->counts().datagrams_sent, 200U);
  EXPECT_EQ(b->counts().bytes_received, a->counts().bytes_sent);
}

// The sender is no transport of ours: those send nothing that long.
TEST(UdpTransport, AFloodOfWhatIsTooLongHidesNothingBehindIt) {
  const auto b = open_port();
  const int flood = open_socket(AF_INET, SOCK_DGRAM);
  ASSERT_GE(flood, 0);
  const Address to = to_system(b->local(), AF_INET);
  const std::vector<std::byte> too_long(kMaxDatagramBytes + 1);
  constexpr std::size_t kFlood = 150;
  for (std::size_t i = 0; i < kFlood; ++i) {
    ASSERT_EQ(send_to(flood, too_long, to), static_cast<std::ptrdiff_t>(too_long.size()));
  }
  const std::vector<std::byte> good(kMaxDatagramBytes, std::byte{7});
  ASSERT_EQ(send_to(flood, good, to), static_cast<std::ptrdiff_t>(good.size()));
  close_socket(flood);
  std::size_t calls = 0;
  std::vector<std::byte> last;
  while (const auto got = b->receive(now())) {
    ++calls;
    last.assign(got->bytes.begin(), got->bytes.end());
  }
  EXPECT_EQ(last, good) << "receive() says that there is no more before the last one";
  EXPECT_EQ(calls, kFlood + 1) << "each counts against the budget of who receives";
  EXPECT_EQ(b->counts().too_long, kFlood);
}

TEST(CapturingTransport, PassesOverUnusableDatagrams) {
  std::vector<std::size_t> seen;
  CapturingTransport port(open_port(), [&](Time, const Endpoint&, const Endpoint&, auto bytes) {
    seen.push_back(bytes.size());
  });
  const int sender = open_socket(AF_INET, SOCK_DGRAM);
  ASSERT_GE(sender, 0);
  const Address to = to_system(port.local(), AF_INET);
  for (const std::size_t size : {kMaxDatagramBytes + 1, kMaxDatagramBytes}) {
    const std::vector<std::byte> bytes(size);
    ASSERT_EQ(send_to(sender, bytes, to), static_cast<std::ptrdiff_t>(size));
  }
  close_socket(sender);
  std::size_t received = 0;
  while (port.receive(now())) ++received;
  EXPECT_EQ(received, 2U);
  EXPECT_EQ(seen, std::vector<std::size_t>{kMaxDatagramBytes});
}

TEST(UdpTransport, NamesWhyItCannotOpen) {
  const auto a = open_port();
  EXPECT_EQ(UdpTransport::open(a->local()).error(), Errc::address_in_use);
#ifndef _WIN32  // Wine takes any address
  const auto elsewhere = UdpTransport::open(Endpoint::v4(203, 0, 113, 7, 0));
  ASSERT_FALSE(elsewhere);
  EXPECT_EQ(elsewhere.error(), Errc::bad_address);
#endif
}

TEST(UdpTransport, SurvivesSendingToNobody) {
  const auto a = open_port();
  Endpoint nobody;
  { nobody = open_port()->local(); }
  const std::array<std::byte, 4> bytes{};
  for (int i = 0; i < 10; ++i) {
    a->send(now(), nobody, bytes);
    a->flush(now());
    EXPECT_FALSE(a->receive(now()));
  }
}

TEST(UdpTransport, CountsWhatTheSystemDropped) {
  const auto a = open_port();
  const auto b = open_port();
  const std::vector<std::byte> bytes(1200);
  // Far more than any receive buffer here holds; each counts its overhead too.
  for (int i = 0; i < 6000; ++i) a->send(now(), b->local(), bytes);
  a->flush(now());
  const std::size_t got = collect(*b, 6000).size();
  a->send(now(), b->local(), bytes);  // the count comes along with the next datagram
  a->flush(now());
  collect(*b, 1);
  EXPECT_LT(got, 6000U);
  if (kCountsOverruns) {
    EXPECT_EQ(got + b->counts().receive_overruns, 6000U);
  }
}

TEST(Resolve, KnowsNumbersAndNamesAndRefusesTheRest) {
  EXPECT_EQ(resolve("127.0.0.1:80"), Endpoint::loopback(80));
  EXPECT_EQ(resolve("localhost:4000"), Endpoint::loopback(4000));
  for (const char* wrong : {"", ":80", "localhost", "localhost:x", "localhost:99999",
                            "[fe80::1]:4000", "[fe80::1%lo]:4000"}) {
    EXPECT_FALSE(resolve(wrong)) << wrong;
  }
}

// Of a bridge and its port, a VLAN and the interface below it.
TEST(CopyFilter, DropsWhatAnotherInterfaceShowedJustNow) {
  CopyFilter filter;
  const std::array<std::byte, 4> packet{std::byte{1}, std::byte{2}};
  const std::array<std::byte, 4> other{std::byte{1}, std::byte{3}};
  const Time start{std::chrono::seconds(5)};
  EXPECT_FALSE(filter.is_copy(start, 2, packet));
  EXPECT_TRUE(filter.is_copy(start, 3, packet));
  EXPECT_TRUE(filter.is_copy(start + 1ms, 4, packet));
  EXPECT_FALSE(filter.is_copy(start + 1ms, 3, other));
  EXPECT_FALSE(filter.is_copy(start + 2ms, 2, packet)) << "sent again, not shown again";
  EXPECT_FALSE(filter.is_copy(start + 50ms, 3, packet)) << "so late it is another";
}

// next_wakeup() covers received datagrams that are still delayed, without any traffic outwards.
TEST(ImpairedTransport, WakesForWhatItHoldsBack) {
  const auto there = open_port();
  ImpairedTransport here(open_port(), {}, {.delay = 40ms}, 1);
  const std::array<std::byte, 3> bytes{};
  EXPECT_EQ(here.next_wakeup(), kNever);
  there->send(now(), here.local(), bytes);
  there->flush(now());
  const Time sent = now();
  here.wait(sent + 2s);  // until it is at the socket
  EXPECT_FALSE(here.receive(now()));
  EXPECT_GT(here.next_wakeup(), sent);
  EXPECT_LE(here.next_wakeup(), now() + 40ms);
  here.wait(sent + 2s);
  EXPECT_LT(now(), sent + 1s) << "nobody woke it";
  EXPECT_TRUE(here.receive(now()));
  EXPECT_EQ(here.next_wakeup(), kNever);
}

TEST(ImpairedTransport, PutsConditionsBeforeRealSockets) {
  const auto there = open_port();
  ImpairedTransport here(open_port(), {.delay = 50ms, .loss = 0.2},
                         {.delay = 30ms, .duplicate = 1.0}, 3);
  const Time start = now();
  const std::array<std::byte, 2> bytes{std::byte{7}, std::byte{8}};
  for (int i = 0; i < 100; ++i) here.send(start, there->local(), bytes);
  here.flush(now());
  EXPECT_FALSE(there->receive(now())) << "nothing leaves early";
  while (here.next_wakeup() != kNever) {
    here.wait(kNever);
    here.flush(now());
  }
  EXPECT_GE(now() - start, Duration(50ms));
  const std::size_t arrived = collect(*there, 100 - here.outward_counts().lost).size();
  EXPECT_EQ(arrived, 100 - here.outward_counts().lost);
  EXPECT_GT(here.outward_counts().lost, 5U);

  there->send(now(), here.local(), bytes);
  there->flush(now());
  EXPECT_EQ(collect(here, 2).size(), 2U) << "every datagram inward comes twice";
}

}  // namespace udp_test
}  // namespace kwind::io
