// The queue of key exchanges: order, rate, and the cost of a network's earlier exchanges.
#include "link/handshake/exchange_queue.h"

#include <gtest/gtest.h>

#include "kit/promises.h"

namespace kwind {
namespace exchange_queue_test {

using namespace std::chrono_literals;
using kit::at;
using link::ExchangeLimits;
using link::ExchangeQueue;

class ExchangeQueueOf : public testing::Test {
 protected:
  // `number` makes connects of one network differ.
  static ExchangeQueue::Connect connect(std::uint8_t network, std::uint16_t number) {
    const std::vector<std::byte> datagram{std::byte{network}, static_cast<std::byte>(number & 0xff),
                                          static_cast<std::byte>(number >> 8)};
    return {Endpoint::v4(10, 0, 0, network, number), 0, link::TransportKind::datagrams, datagram};
  }
  static ExchangeQueue queue(const ExchangeLimits& limits) {
    return ExchangeQueue(limits, kit::secret_of(3));
  }
  static std::size_t accepted(ExchangeQueue& queue, Time now, std::uint8_t network,
                              std::size_t attempts) {
    std::size_t accepted = 0;
    for (std::size_t i = 0; i < attempts; ++i) {
      accepted += queue.push(now, connect(network, next_++)) == Errc::none ? 1 : 0;
    }
    return accepted;
  }
  static inline std::uint16_t next_ = 1;
  static constexpr ExchangeLimits kFast{256, 1e6, 1e6, 8};
};

TEST_F(ExchangeQueueOf, AFailedExchangeCountsFourfold) {
  ExchangeQueue of_eight = queue(kFast);
  // Two failed exchanges cost eight in sum, which is all that a network may spend.
  for (int i = 0; i < 2; ++i) {
    ASSERT_EQ(of_eight.push(at(0s), connect(1, next_++)), Errc::none);
    ASSERT_TRUE(of_eight.pop(at(0s)));
    of_eight.blame(at(0s), connect(1, 1).from);
  }
  EXPECT_EQ(of_eight.push(at(0s), connect(1, next_++)), Errc::server_busy);
  EXPECT_EQ(accepted(of_eight, at(0s), 2, 20), 8U) << "another network has all of its own";
  // After one failed exchange four are left.
  ASSERT_EQ(of_eight.push(at(0s), connect(3, next_++)), Errc::none);
  while (of_eight.pop(at(0s))) {
  }
  of_eight.blame(at(0s), connect(3, 1).from);
  EXPECT_EQ(accepted(of_eight, at(0s), 3, 20), 4U);
}

TEST_F(ExchangeQueueOf, AnExchangeThatOpenedAConnectionCostsNothing) {
  ExchangeQueue of_eight = queue(kFast);
  for (int i = 0; i < 100; ++i) {
    ASSERT_EQ(of_eight.push(at(0s), connect(1, next_++)), Errc::none) << i;
    ASSERT_TRUE(of_eight.pop(at(0s)));
    of_eight.forgive(at(0s), connect(1, 1).from);
  }
  of_eight.forgive(at(0s), connect(1, 1).from);
  EXPECT_EQ(accepted(of_eight, at(0s), 1, 20), 8U) << "nobody gets a credit beyond the limit";
}

TEST_F(ExchangeQueueOf, WhatANetworkSpentFallsToAnEthInTenSeconds) {
  ExchangeQueue of_eight = queue(kFast);
  ASSERT_EQ(accepted(of_eight, at(0s), 1, 20), 8U);
  while (of_eight.pop(at(0s))) {
  }
  EXPECT_EQ(accepted(of_eight, at(0s), 1, 20), 0U);
  // 8 / e = 2.9, so five of eight are free again.
  EXPECT_EQ(accepted(of_eight, at(10s), 1, 20), 5U);
  while (of_eight.pop(at(10s))) {
  }
  EXPECT_EQ(accepted(of_eight, at(9s), 1, 20), 0U) << "a clock that goes back forgives nothing";
  EXPECT_EQ(accepted(of_eight, at(100s), 1, 20), 7U) << "a remainder of a thousandth is left";
}

TEST_F(ExchangeQueueOf, TheNetworkWithFewerExchangesComesFirst) {
  ExchangeQueue three = queue({3, 1e6, 1e6, 64});
  ASSERT_EQ(accepted(three, at(0s), 1, 3), 3U);
  EXPECT_EQ(accepted(three, at(0s), 1, 1), 0U) << "full of connects that cost less";
  EXPECT_EQ(accepted(three, at(0s), 2, 1), 1U) << "in place of the third of network 1";
  EXPECT_EQ(three.size(), 3U);
  std::vector<std::uint8_t> order;
  while (const auto next = three.pop(at(0s))) {
    order.push_back(std::to_integer<std::uint8_t>(next->datagram[0]));
  }
  // The first of network 1 cost as little as that of network 2.
  ASSERT_EQ(order.size(), 3U);
  EXPECT_EQ(order[2], 1U);
  EXPECT_NE(order[0], order[1]);
}

TEST_F(ExchangeQueueOf, ACopyOfAWaitingConnectIsIgnored) {
  ExchangeQueue of_eight = queue(kFast);
  const auto once = connect(1, 77);
  for (int i = 0; i < 20; ++i) EXPECT_EQ(of_eight.push(at(0s), once), Errc::none);
  EXPECT_EQ(of_eight.size(), 1U);
  EXPECT_TRUE(of_eight.pop(at(0s)));
  EXPECT_FALSE(of_eight.pop(at(0s)));
}

TEST_F(ExchangeQueueOf, ATokenBucketPacesExchanges) {
  ExchangeQueue paced = queue({64, 10, 3, 64});
  EXPECT_EQ(paced.next(), kNever);
  ASSERT_EQ(accepted(paced, at(1s), 1, 20), 20U);
  std::size_t at_once = 0;
  while (paced.pop(at(1s))) ++at_once;
  EXPECT_EQ(at_once, 3U);
  EXPECT_GT(paced.next(), at(1s));
  EXPECT_LE(paced.next(), at(1100ms));
  EXPECT_FALSE(paced.pop(at(1099ms)));
  EXPECT_TRUE(paced.pop(at(1101ms)));
  // A second brings ten, of which the bucket holds three.
  at_once = 0;
  while (paced.pop(at(2500ms))) ++at_once;
  EXPECT_EQ(at_once, 3U);
}

TEST_F(ExchangeQueueOf, AHouseholdOfIpv6IsOneNetwork) {
  ExchangeQueue of_eight = queue(kFast);
  const auto from = [](const char* text, std::uint16_t number) {
    auto made = connect(1, number);
    made.from = *Endpoint::parse(text);
    return made;
  };
  std::size_t taken = 0;
  for (std::uint16_t i = 0; i < 20; ++i) {
    const std::string address = "[2001:db8:1:2::" + std::to_string(i + 1) + "]:4000";
    taken += of_eight.push(at(0s), from(address.c_str(), i)) == Errc::none ? 1 : 0;
  }
  EXPECT_EQ(taken, 8U);
  EXPECT_EQ(of_eight.push(at(0s), from("[2001:db8:1:3::1]:4000", 50)), Errc::none);
}

TEST_F(ExchangeQueueOf, QuietNetworksLeaveTheTable) {
  ExchangeQueue of_eight = queue(kFast);
  const std::size_t empty = of_eight.memory();
  ASSERT_EQ(accepted(of_eight, at(0s), 1, 1), 1U);
  of_eight.sweep(at(3600s));
  EXPECT_GT(of_eight.memory(), empty) << "it waits still";
  ASSERT_TRUE(of_eight.pop(at(3600s)));
  of_eight.sweep(at(3601s));
  EXPECT_EQ(accepted(of_eight, at(3601s), 1, 20), 7U) << "one exchange is a second old";
  while (of_eight.pop(at(3601s))) {
  }
  of_eight.sweep(at(3700s));
  EXPECT_EQ(accepted(of_eight, at(3700s), 1, 20), 8U);
}

}  // namespace exchange_queue_test
}  // namespace kwind
