#include <gtest/gtest.h>

#include "every_type.h"
#include "kit/sim_pair.h"
#include "kwind/route/dispatcher.h"
#include "kwind/route/rate_limit.h"
#include "kwind/route/requests.h"

namespace kwind::route {
namespace route_test {

using namespace std::chrono_literals;
using kit::at;

int passed(RateLimit& limit, Time from, Duration step, int count) {
  int passed = 0;
  for (int i = 0; i < count; ++i) passed += limit.take(from + i * step) ? 1 : 0;
  return passed;
}

TEST(RateLimit, PassesTheStatedRateAndNoMore) {
  RateLimit limit(60, RateLimit::kReceiverSlack);
  EXPECT_EQ(passed(limit, at(0s), Duration(1s) / 60, 6000), 6000) << "exactly at the rate";
  RateLimit flooded(60, RateLimit::kReceiverSlack);
  const int through = passed(flooded, at(0s), 1ms, 10000);
  EXPECT_GE(through, 600);
  EXPECT_LE(through, 600 + 23) << "the rate, and a burst of 350 ms and one message";
}

TEST(RateLimit, TakesABurstOfAtLeastAQuarterSecond) {
  RateLimit limit(60, RateLimit::kReceiverSlack);
  EXPECT_GE(passed(limit, at(0s), 0ms, 100), 15);
  RateLimit slow(1, RateLimit::kReceiverSlack);
  EXPECT_TRUE(slow.take(at(0s)));
  EXPECT_TRUE(slow.take(at(900ms))) << "jitter of a tenth of a second costs nobody a message";
  EXPECT_FALSE(slow.take(at(1s)));
}

TEST(RateLimit, LetsAnHonestSenderThroughAPathThatBunches) {
  RateLimit sender(20, RateLimit::kSenderSlack);
  RateLimit receiver(20, RateLimit::kReceiverSlack);
  int sent = 0;
  int received = 0;
  for (int ms = 0; ms < 60000; ms += 3) {  // tries far too often
    if (!sender.take(at(ms * 1ms))) continue;
    ++sent;
    const int arrival =
        ms + (ms / 200 % 2 == 0 ? 250 - ms % 200 : 50);  // held, then let go at once
    received += receiver.take(at(arrival * 1ms)) ? 1 : 0;
  }
  EXPECT_NEAR(sent, 1200, 5);
  EXPECT_EQ(received, sent);
}

TEST(RateLimit, IsNotFooledByTimeGoingBack) {
  RateLimit limit(10, 0ms);
  EXPECT_TRUE(limit.take(at(10s)));
  EXPECT_FALSE(limit.take(at(0s)));
  EXPECT_FALSE(limit.take(at(10s)));
  EXPECT_TRUE(limit.take(at(10100ms)));
}

TEST(RateLimit, ZeroMeansNoLimit) {
  RateLimit limit(0, RateLimit::kSenderSlack);
  EXPECT_EQ(passed(limit, at(0s), 0ms, 1000), 1000);
}

struct Posted {
  std::array<std::byte, 1104> memory{};
  std::size_t bits = 0;
  template <class T>
  explicit Posted(const T& message) : bits(schema::encode_message(message, memory)->bits) {}
  [[nodiscard]] bits::Reader reader() const { return bits::Reader(memory, bits); }
};

using every_type::Chosen;
using every_type::Flags;
using every_type::Words;

template <class T>
Errc dispatched(Dispatcher<int>& dispatcher, int peer, const bits::Reader& fields) {
  schema::Layout layout;
  return dispatcher.dispatch(peer, {T::info(), fields, 1, 0}, layout).error;
}

TEST(Dispatcher, CallsHandlersOfTheKindInOrderWithThePeer) {
  Dispatcher<int> dispatcher(every_type::kProtocol.messages);
  std::string log;
  dispatcher.on<Words>([&](int peer, const Words& words) {
    log += "first " + std::to_string(peer) + " " + words.name + "; ";
  });
  dispatcher.on<Flags>([&](int, const Flags&) { log += "flags; "; });
  dispatcher.on<Words>([&](int, const Words&) { log += "second; "; });
  Words words;
  words.name = "Tern";
  EXPECT_EQ(dispatched<Words>(dispatcher, 7, Posted(words).reader()), Errc::none);
  EXPECT_EQ(log, "first 7 Tern; second; ");
  EXPECT_EQ(dispatched<Chosen>(dispatcher, 7, Posted(Chosen{}).reader()), Errc::none);
  EXPECT_EQ(dispatcher.counts().unhandled, 1U);
  EXPECT_EQ(dispatcher.counts().handled, 1U);
}

TEST(Dispatcher, KeepsWrongBitsFromHandlers) {
  Dispatcher<int> dispatcher(every_type::kProtocol.messages);
  int calls = 0;
  dispatcher.on<Chosen>([&](int, const Chosen&) { ++calls; });
  const std::array<std::byte, 2> wrong{std::byte{0xff}, std::byte{0xff}};
  EXPECT_EQ(dispatched<Chosen>(dispatcher, 1, bits::Reader(wrong, 5)), Errc::value_range);
  EXPECT_EQ(dispatched<Chosen>(dispatcher, 1, bits::Reader(wrong, 3)), Errc::truncated);
  const std::array<std::byte, 2> zeros{};
  EXPECT_EQ(dispatched<Chosen>(dispatcher, 1, bits::Reader(zeros, 4)), Errc::truncated);
  EXPECT_EQ(dispatched<Chosen>(dispatcher, 1, bits::Reader(zeros, 6)), Errc::trailing_bits);
  EXPECT_EQ(calls, 0);
}

TEST(Dispatcher, OutlivesHandlersThatThrow) {
  Dispatcher<int> dispatcher(every_type::kProtocol.messages);
  int calls = 0;
  dispatcher.on<Flags>([](int, const Flags&) { throw std::runtime_error("rope snapped"); });
  dispatcher.on<Flags>([&](int, const Flags&) { ++calls; });
  for (int i = 0; i < 3; ++i) {
    EXPECT_EQ(dispatched<Flags>(dispatcher, 1, Posted(Flags{}).reader()), Errc::none);
  }
  EXPECT_EQ(calls, 3);
  EXPECT_EQ(dispatcher.counts().handler_faults, 3U);
}

// An answer that cannot be read leaves its question open: the next one gets another number, so that
// no answer reaches the wrong one.
TEST(PendingRequests, AnAnswerThatCannotBeReadUsesUpNoNumber) {
  PendingRequests pending_requests(4);
  std::vector<std::string> outcomes;
  const auto ask = [&](const std::string& name) {
    const std::uint16_t number = pending_requests.next_number();
    pending_requests.add(
        number, 7, Time{std::chrono::seconds(5)},
        [&outcomes, name](Ending, Errc, const bits::Reader* fields, schema::Layout*) {
          if (fields != nullptr && fields->left_bits() == 0) return Errc::truncated;
          outcomes.push_back(name);
          return Errc::none;
        });
    return number;
  };
  schema::Layout layout;
  const std::array<std::byte, 1> one{};
  const bits::Reader nothing(std::span<const std::byte>{});
  const std::uint16_t first = ask("first");
  EXPECT_EQ(pending_requests.answer(first, 7, nothing, layout), Errc::truncated);
  const std::uint16_t second = ask("second");
  EXPECT_NE(second, first);
  EXPECT_EQ(pending_requests.answer(second, 8, bits::Reader(one), layout), Errc::stray_answer)
      << "of another kind";
  EXPECT_EQ(pending_requests.answer(second, 7, bits::Reader(one), layout), Errc::none);
  EXPECT_EQ(pending_requests.answer(first, 7, bits::Reader(one), layout), Errc::none);
  EXPECT_EQ(outcomes, (std::vector<std::string>{"second", "first"}));
}

TEST(PendingRequests, ARequestWhoseAnswerCannotBeReadTimesOutAsTheOthers) {
  PendingRequests pending_requests(4);
  const Time deadline{std::chrono::seconds(5)};
  std::vector<Ending> endings;
  const std::uint16_t number = pending_requests.next_number();
  pending_requests.add(number, 7, deadline,
                       [&](Ending ending, Errc, const bits::Reader* fields, schema::Layout*) {
                         if (fields != nullptr) return Errc::truncated;
                         endings.push_back(ending);
                         return Errc::none;
                       });
  schema::Layout layout;
  const bits::Reader nothing(std::span<const std::byte>{});
  EXPECT_EQ(pending_requests.answer(number, 7, nothing, layout), Errc::truncated);
  EXPECT_EQ(pending_requests.next_deadline(), deadline);
  pending_requests.expire(deadline - std::chrono::nanoseconds(1));
  EXPECT_TRUE(endings.empty());
  pending_requests.expire(deadline);
  EXPECT_EQ(endings, std::vector<Ending>{Ending::timed_out});
  EXPECT_EQ(pending_requests.next_deadline(), kNever);
}

TEST(RateLimit, APauseSavesNoMoreThanAPeriodAndTheSlack) {
  using namespace std::chrono_literals;
  RateLimit limit(10, 250ms);
  const Time start{std::chrono::seconds(5)};
  const auto passing = [&](Time now) {
    int count = 0;
    while (limit.take(now)) ++count;
    return count;
  };
  EXPECT_EQ(passing(start), 3) << "100 ms and the slack";
  EXPECT_EQ(passing(start + 1h), 3);
  EXPECT_EQ(passing(start + 1h + 100ms), 1);
  EXPECT_EQ(passing(start), 0) << "time that goes back earns nothing";
}

}  // namespace route_test
}  // namespace kwind::route
