// Addresses, the size of datagrams, pacing and unpredictable numbers, each alone.
#include <gtest/gtest.h>

#include <array>
#include <set>

#include "kit/sim_pair.h"
#include "link/path/controller.h"
#include "link/path/mtu.h"
#include "link/path/path.h"
#include "link/random.h"

namespace kwind::link {
namespace path_test {

using namespace std::chrono_literals;
using kit::at;

// A client that moves all the time is no client: each move lets the server send to a new address.
TEST(Path, MovesAreLimited) {
  Path path;
  path.set_active(Endpoint::v4(10, 0, 0, 1, 1));
  Time now = at(100s);
  const auto move = [&](unsigned to) {
    const Endpoint from = Endpoint::v4(10, 0, 0, static_cast<std::uint8_t>(to), 1);
    path.on_datagram(now, from, 2000, true, to, 1s);
    return path.answered(now, from, to) != Path::Change::none;
  };
  unsigned moved = 0;
  for (unsigned i = 2; i < 20; ++i, now += 10ms) moved += move(i) ? 1U : 0U;
  EXPECT_EQ(moved, Path::kMaxMoves);
  now += Path::kMoveEvery;
  EXPECT_TRUE(move(30)) << "one is forgiven";
  now += 10ms;
  EXPECT_FALSE(move(31));
  now += 10 * Path::kMoveEvery;
  moved = 0;
  for (unsigned i = 40; i < 60; ++i, now += 10ms) moved += move(i) ? 1U : 0U;
  EXPECT_EQ(moved, Path::kMaxMoves) << "never more at once";
}

// A client that moves on before it has answered must not wait until its first move is out of date.
TEST(Path, AThirdAddressGetsItsTurnSoon) {
  Path path;
  const Endpoint first = Endpoint::v4(10, 0, 0, 2, 2);
  const Endpoint second = Endpoint::v4(10, 0, 0, 3, 3);
  path.set_active(Endpoint::v4(10, 0, 0, 1, 1));
  path.on_datagram(at(0ms), first, 40, true, 7, 3s);
  path.on_datagram(at(80ms), second, 40, true, 8, 3s);
  EXPECT_EQ(path.challenge(at(80ms), 30)->to, first);
  const Time later = at(Path::kMinTrial);
  path.on_datagram(later, second, 40, false, 9, 3s);
  EXPECT_EQ(path.challenge(later, 30)->to, first) << "an old datagram moves nothing";
  path.on_datagram(later, second, 40, true, 9, 3s);
  ASSERT_TRUE(path.challenge(later, 30));
  EXPECT_EQ(path.challenge(later, 30)->to, second);
  EXPECT_EQ(path.answered(later, first, 7), Path::Change::none);
  EXPECT_EQ(path.answered(later, second, 9), Path::Change::address);
}

TEST(KeyedRandom, OneUseSaysNothingOfAnother) {
  KeyedRandom a(kit::secret_of(1), "skipped numbers");
  KeyedRandom same(kit::secret_of(1), "skipped numbers");
  KeyedRandom other_use(kit::secret_of(1), "path challenges");
  KeyedRandom other_key(kit::secret_of(2), "skipped numbers");
  std::set<std::uint64_t> seen;
  for (int i = 0; i < 1000; ++i) {
    const std::uint64_t number = a.next();
    EXPECT_EQ(number, same.next());
    seen.insert(number);
    seen.insert(other_use.next());
    seen.insert(other_key.next());
  }
  EXPECT_EQ(seen.size(), 3000U);
}

TEST(Path, OneNewAddressAtATimeAndNoMoreToItThanItSent) {
  Path path;
  const Endpoint old = Endpoint::v4(10, 0, 0, 1, 1);
  const Endpoint a = Endpoint::v4(10, 0, 0, 2, 2);
  const Endpoint b = Endpoint::v4(10, 0, 0, 3, 3);
  path.set_active(old);
  path.on_datagram(at(0ms), a, 40, false, 7, 1s);
  EXPECT_FALSE(path.challenge(at(0ms), 30)) << "an old packet suggests nothing";
  path.on_datagram(at(0ms), a, 40, true, 7, 1s);
  path.on_datagram(at(1ms), b, 4000, true, 8, 1s);
  ASSERT_TRUE(path.challenge(at(1ms), 30));
  EXPECT_EQ(path.challenge(at(1ms), 30)->to, a) << "the first candidate keeps its turn";
  EXPECT_FALSE(path.challenge(at(1ms), 41)) << "it sent 40 bytes";
  path.challenge_sent(30);
  path.challenge_again();
  EXPECT_FALSE(path.challenge(at(2ms), 30)) << "60 bytes would be more than 40";
  EXPECT_EQ(path.answered(at(3ms), b, 7), Path::Change::none) << "from elsewhere";
  EXPECT_EQ(path.answered(at(3ms), a, 6), Path::Change::none) << "with a wrong number";
  EXPECT_EQ(path.active(), old);
  EXPECT_EQ(path.answered(at(3ms), a, 7), Path::Change::address);
  EXPECT_EQ(path.active(), a);
  path.on_datagram(at(4ms), Endpoint::v4(10, 0, 0, 2, 9), 40, true, 9, 1s);
  EXPECT_EQ(path.answered(at(4ms), Endpoint::v4(10, 0, 0, 2, 9), 9), Path::Change::port);
}

TEST(PathMtu, GrowsByProbesAndGoesBackWhenLargeDatagramsVanish) {
  PathMtu mtu(true);
  EXPECT_EQ(mtu.probe_due(at(0ms)), 0U) << "nobody needs it";
  mtu.wanted();
  EXPECT_EQ(mtu.probe_due(at(0ms)), 1300U);
  const auto first = mtu.probe_sent(1300);
  EXPECT_EQ(mtu.probe_due(at(0ms)), 0U) << "one at a time";
  mtu.probe_acked(first);
  EXPECT_EQ(mtu.current(), 1300U);
  for (int i = 0; i < 3; ++i) {
    EXPECT_EQ(mtu.probe_due(at(1s)), 1392U);
    mtu.probe_lost(at(1s), mtu.probe_sent(1392));
  }
  EXPECT_EQ(mtu.probe_due(at(2s)), 0U);
  mtu.look_again(at(2s));
  EXPECT_EQ(mtu.probe_due(at(2s)), 0U) << "not for ten minutes";
  mtu.look_again(at(602s));
  EXPECT_EQ(mtu.probe_due(at(602s)), 1392U);
  for (int i = 0; i < 6; ++i) mtu.large_lost(at(603s), 1);
  EXPECT_EQ(mtu.current(), kBaseDatagramBytes);
}

TEST(PathMtu, AProbeOfThePathBeforeSaysNothingOfThisOne) {
  PathMtu mtu(true);
  mtu.wanted();
  const auto old = mtu.probe_sent(1300);
  mtu.reset(at(1s));
  mtu.probe_acked(old);
  EXPECT_EQ(mtu.current(), kBaseDatagramBytes);
  mtu.wanted();
  const auto first = mtu.probe_sent(1300);
  mtu.probe_lost(at(1s), old);
  EXPECT_EQ(mtu.probe_due(at(1s)), 0U) << "the new one is still under way";
  mtu.probe_acked(first);
  EXPECT_EQ(mtu.current(), 1300U);
}

TEST(Pacer, LetsDatagramsLeaveAtTheRateAndUrgentOnesOverdraw) {
  Pacer pacer;
  pacer.set_rate(120000);
  std::size_t sent = 0;
  for (Time now = at(0ms); now < at(1s); now = std::max(now + 1us, pacer.next(now))) {
    while (pacer.ready(now)) {
      pacer.sent(now, 1200);
      sent += 1200;
    }
  }
  EXPECT_NEAR(static_cast<double>(sent), 120000, 5000);
  for (int i = 0; i < 10; ++i) pacer.sent(at(1s), 1200);
  EXPECT_GT(pacer.next(at(1s)), at(1080ms)) << "the rest waits for what the urgent took";
}

}  // namespace path_test
}  // namespace kwind::link
