// Who comes in by a ticket, and who comes back by the right of an earlier connection.
#include <gtest/gtest.h>

#include <optional>
#include <string>

#include "link/door.h"

namespace kwind {
namespace tickets_test {

using namespace std::chrono_literals;
using kit::at;
using kit::Door;

class Ticketed : public Door {
 protected:
  Ticketed() {
    link::ListenerOptions asking = options();
    asking.gate = &gate_;
    asking.capacity = 8;
    asking.used_tickets = 2;
    listener_ = link::Listener(asking);
  }
};

TEST_F(Ticketed, LetsInWhoHasOneAndSaysWhoItIs) {
  EXPECT_EQ(enter_and_tell(1, "one", at(1000s)), "opened ");
  ASSERT_TRUE(last_.admission.claims);
  EXPECT_EQ(last_.admission.claims->subject, "pilot one");
  EXPECT_EQ(enter_and_tell(2, "", at(1000s)), "ticket_missing: the server asks for a ticket");
  EXPECT_EQ(enter_and_tell(3, "forged", at(1000s)).substr(0, 14), "ticket_invalid");
  EXPECT_EQ(enter_and_tell(4, "two", at(1061s)).substr(0, 14), "ticket_expired");
}

TEST_F(Ticketed, ATicketCountsOnceFromWhenTheConnectionExists) {
  link::Link first = client(1, "one");
  ASSERT_TRUE(enter(first, at(1000s), a_).attempt);
  link::Link second = client(2, "one");
  ASSERT_TRUE(enter(second, at(1000s), a_).attempt) << "the first may never come to be";
  EXPECT_EQ(listener_.attempts(), 1U) << "one under way for each ticket";
  EXPECT_FALSE(go_on(first, at(1000s)));
  EXPECT_EQ(go_on(second, at(1000s))->error, Errc::none);
  EXPECT_EQ(enter_and_tell(3, "one", at(1000s)).substr(0, 11), "ticket_used");
  EXPECT_EQ(listener_.connections(), 1U);
}

TEST_F(Ticketed, ThatWereUsedAreKeptUntilTheyExpireAndAFullTableRefuses) {
  std::uint64_t seed = 60;
  for (const std::string name : {"one", "two"}) {
    link::Link who = client(++seed, name);
    ASSERT_EQ(connect(who, at(1000s), a_).error, Errc::none);
  }
  link::Link third = client(50, "three");
  EXPECT_EQ(connect(third, at(1000s), a_).error, Errc::ticket_table_full);
  EXPECT_EQ(listener_.connections(), 2U);
  link::Link fourth = client(51, "four");
  ASSERT_TRUE(enter(fourth, at(1059s), a_).attempt);
  EXPECT_EQ(go_on(fourth, at(1062s))->error, Errc::none) << "by then both have expired";
}

// ---- coming back ----

class Resuming : public Door {
 protected:
  Resuming() {
    link::ListenerOptions kind = options();
    kind.resume = 30s;
    kind.gate = &gate_;
    kind.capacity = 8;
    kind.used_tickets = 10000;
    kind.exchanges = {256, 1e6, 1e6, 64};
    listener_ = link::Listener(kind);
  }
  link::Admission come(std::uint64_t seed, const std::string& ticket, Time now) {
    link::Link who = client(seed, ticket);
    const auto admitted = connect(who, now, a_);
    EXPECT_EQ(admitted.error, Errc::none) << error_info(admitted.error).name;
    EXPECT_TRUE(who.resume());
    if (who.resume()) resume_ = who.resume()->secret;
    resumed_ = who.resumed();
    return admitted.admission;
  }
  bool resumed_ = false;
};

TEST_F(Resuming, OnceWithinTheStatedTimeAndAsTheSamePilot) {
  const link::Admission first = come(1, "one", at(1000s));
  EXPECT_FALSE(first.replaces);
  listener_.forget(at(1010s), first, true);
  const link::Admission second = come(2, "", at(1039s));
  EXPECT_EQ(second.replaces, first.serial);
  EXPECT_EQ(second.claims->subject, "pilot one");
  EXPECT_TRUE(resumed_);
  const auto newer = resume_;
  resume_ = Secret32();
  EXPECT_EQ(enter_and_tell(3, "", at(1039s)).substr(0, 14), "resume_unknown");
  resume_ = newer;
  listener_.forget(at(1040s), second, true);
  EXPECT_EQ(enter_and_tell(4, "", at(1071s)).substr(0, 14), "resume_unknown") << "too late";
}

// The right is that of one connection, however often its id is used again meanwhile.
TEST_F(Resuming, NeverAsSomebodyElse) {
  const link::Admission mallory = come(1, "mallory", at(1000s));
  const auto right = resume_;
  listener_.forget(at(1000s), mallory, true);
  resume_.reset();
  std::optional<link::Admission> same_id;
  for (std::uint64_t n = 0; n < 3000 && !same_id; ++n) {
    // As one network is forgiven for connections that open, this takes no time.
    const link::Admission other = come(2 + n, "pilot" + std::to_string(n), at(1000s));
    if (other.id == mallory.id) same_id = other;
    resume_.reset();
    listener_.forget(at(1000s), other);
  }
  EXPECT_FALSE(same_id) << "ids are reused in the order in which they became free";
  resume_ = right;
  const link::Admission back = come(900000, "", at(1029s));
  EXPECT_EQ(back.replaces, mallory.serial);
}

TEST_F(Resuming, NotWhoWasGivenUpOrBannedOrWhoseTicketExpired) {
  const link::Admission first = come(1, "one", at(1000s));
  listener_.forget(at(1001s), first, true);
  listener_.revoke(first);
  EXPECT_EQ(enter_and_tell(2, "", at(1002s)).substr(0, 14), "resume_unknown");
  resume_.reset();
  const link::Admission second = come(3, "two", at(1010s));
  listener_.forget(at(1058s), second, true);
  gate_.banned = "pilot two";
  EXPECT_EQ(enter_and_tell(4, "", at(1059s)).substr(0, 14), "ticket_invalid");
  gate_.banned.clear();
  EXPECT_EQ(enter_and_tell(5, "", at(1061s)).substr(0, 14), "ticket_expired");
}

}  // namespace tickets_test
}  // namespace kwind
