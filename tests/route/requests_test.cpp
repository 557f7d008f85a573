// The list of open requests: what settles one, what does not, and what is free again.
#include "kwind/route/requests.h"

#include <gtest/gtest.h>

#include "kit/promises.h"
#include "kwind/bits/writer.h"

namespace kwind::route {
namespace requests_test {

using namespace std::chrono_literals;
using kit::at;

constexpr std::uint16_t kReply = 7;

class OpenRequests : public testing::Test {
 protected:
  std::uint16_t ask(Time deadline = kNever) {
    const std::uint16_t number = pending_.next_number();
    pending_.add(number, kReply, deadline,
                 [this](Ending ending, Errc error, const bits::Reader*, schema::Layout*) {
                   endings_.push_back(ending);
                   return ending == Ending::replied ? reply_error_ : (void(error), Errc::none);
                 });
    return number;
  }
  Errc answer(std::uint16_t number, std::uint16_t type, const bits::Reader& fields) {
    return pending_.answer(number, type, fields, layout_);
  }
  // An answer that says that request `number` gets none, with `more` bits behind it.
  Errc abandon(std::uint16_t number, std::size_t bits, std::uint16_t type = kReply) {
    std::array<std::byte, 8> bytes{};
    bits::Writer out(bytes);
    out.put(number, 16);
    out.finish();
    return answer(0, type, bits::Reader(bytes, bits));
  }
  static bits::Reader nothing() { return bits::Reader(std::span<const std::byte>(), 0); }

  PendingRequests pending_{4};
  schema::Layout layout_;
  std::vector<Ending> endings_;
  Errc reply_error_ = Errc::none;
};

TEST_F(OpenRequests, AnAbandonedOneIsNamedByExactlySixteenBits) {
  const std::uint16_t number = ask();
  EXPECT_EQ(abandon(number, 15), Errc::truncated);
  EXPECT_EQ(abandon(number, 17), Errc::trailing_bits);
  EXPECT_EQ(abandon(number, 24), Errc::trailing_bits);
  EXPECT_EQ(abandon(number, 0), Errc::truncated);
  EXPECT_TRUE(endings_.empty()) << "it still waits";
  EXPECT_EQ(pending_.size(), 1U);
  EXPECT_EQ(abandon(number, 16), Errc::none);
  EXPECT_EQ(endings_, std::vector{Ending::abandoned});
  EXPECT_EQ(abandon(number, 16), Errc::stray_answer) << "it has had its outcome";
}

TEST_F(OpenRequests, AnAnswerOfAnotherTypeOrNumberIsAStray) {
  const std::uint16_t number = ask();
  EXPECT_EQ(answer(number, kReply + 1, nothing()), Errc::stray_answer);
  EXPECT_EQ(answer(static_cast<std::uint16_t>(number + 1), kReply, nothing()), Errc::stray_answer);
  EXPECT_EQ(abandon(number, 16, kReply + 1), Errc::stray_answer);
  EXPECT_EQ(answer(number, kReply, nothing()), Errc::none);
  EXPECT_EQ(endings_, std::vector{Ending::replied});
}

TEST_F(OpenRequests, OneWhoseAnswerCannotBeReadStillWaitsForItsDeadline) {
  const std::uint16_t number = ask(at(5s));
  reply_error_ = Errc::value_range;
  EXPECT_EQ(answer(number, kReply, nothing()), Errc::value_range);
  EXPECT_EQ(pending_.size(), 1U);
  EXPECT_EQ(pending_.next_deadline(), at(5s));
  pending_.expire(at(4999ms));
  EXPECT_EQ(pending_.size(), 1U);
  pending_.expire(at(5s));
  EXPECT_EQ(endings_, (std::vector{Ending::replied, Ending::timed_out}));
  EXPECT_EQ(pending_.next_deadline(), kNever);
}

TEST_F(OpenRequests, ANumberIsFreeAgainOnceItsRequestHasAnOutcome) {
  std::vector<std::uint16_t> numbers;
  for (int i = 0; i < 4; ++i) numbers.push_back(ask(at(1s)));
  EXPECT_TRUE(pending_.full());
  EXPECT_EQ(answer(numbers[1], kReply, nothing()), Errc::none);
  EXPECT_FALSE(pending_.full());
  const std::uint16_t next = ask(at(2s));
  for (const std::uint16_t used : numbers) {
    EXPECT_TRUE(used == numbers[1] || used != next) << used;
  }
  EXPECT_NE(next, 0U);
  pending_.expire(at(1s));
  EXPECT_EQ(pending_.size(), 1U);
  EXPECT_EQ(pending_.next_deadline(), at(2s));
  pending_.end_all();
  EXPECT_EQ(pending_.size(), 0U);
  EXPECT_EQ(endings_.back(), Ending::disconnected);
}

// All 65,535 numbers go round, and 0, which names none, never comes.
TEST_F(OpenRequests, NumbersGoRoundPastThoseThatAreOpen) {
  const std::uint16_t open = ask();
  for (int i = 0; i < 70'000; ++i) {
    const std::uint16_t number = ask();
    ASSERT_NE(number, 0U);
    ASSERT_NE(number, open);
    ASSERT_EQ(answer(number, kReply, nothing()), Errc::none);
  }
}

}  // namespace requests_test
}  // namespace kwind::route
