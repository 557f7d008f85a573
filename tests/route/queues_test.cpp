// The queues of the route area: paced, handed over between threads, written behind.
#include <gtest/gtest.h>

#include <memory>
#include <string>
#include <thread>

#include "kit/sim_pair.h"
#include "kwind/route/handoff.h"
#include "kwind/route/owners.h"
#include "kwind/route/paced.h"
#include "kwind/route/write_behind.h"

namespace kwind::route {
namespace queues_test {

using namespace std::chrono_literals;
using kit::at;
using Notices = Paced<std::string>;

std::string all_of(Notices& queue, Time from) {
  std::string all;
  for (Time now = from; !queue.empty(); now = queue.next_wakeup()) all += *queue.take(now) + " ";
  return all;
}

TEST(Paced, HandsOutOneItemPerDwellTime) {
  Notices queue({.dwell = 2s, .capacity = 10});
  EXPECT_EQ(queue.next_wakeup(), kNever);
  for (const char* item : {"a", "b", "c"}) EXPECT_TRUE(queue.put(item));
  EXPECT_EQ(queue.take(at(0s)), "a") << "the first at once";
  EXPECT_EQ(queue.take(at(1999ms)), std::nullopt);
  EXPECT_EQ(queue.next_wakeup(), at(2s));
  EXPECT_EQ(queue.take(at(2s)), "b");
  EXPECT_EQ(queue.take(at(9s)), "c");
  EXPECT_TRUE(queue.put("d"));
  EXPECT_EQ(queue.take(at(10s)), std::nullopt) << "c has not had its time";
  EXPECT_EQ(queue.take(at(11s)), "d");
}

TEST(Paced, PrefersPriorityThenArrival) {
  Notices queue({.dwell = 1s, .capacity = 10});
  queue.put("a");
  queue.put("storm", 5);
  queue.put("b");
  queue.put("fog", 5);
  EXPECT_EQ(all_of(queue, at(0s)), "storm fog a b ");
}

TEST(Paced, KeepsItsCapacityByPolicy) {
  Notices oldest({.dwell = 1s, .capacity = 3, .when_full = WhenFull::drop_oldest});
  oldest.put("storm", 1);
  for (const char* item : {"a", "b"}) oldest.put(item);
  EXPECT_FALSE(oldest.put("c"));
  EXPECT_EQ(all_of(oldest, at(0s)), "storm b c ");
  EXPECT_EQ(oldest.counts().dropped, 1U);
  for (const char* item : {"x", "y", "z"}) oldest.put(item, 2);
  EXPECT_FALSE(oldest.put("low", 1)) << "all others rank above it";
  EXPECT_EQ(all_of(oldest, at(100s)), "x y z ");
  Notices newest({.dwell = 1s, .capacity = 2, .when_full = WhenFull::drop_newest});
  for (const char* item : {"a", "b", "c"}) newest.put(item);
  EXPECT_EQ(all_of(newest, at(0s)), "a b ");
}

TEST(Paced, MergesWhatIsOneThing) {
  Notices queue({.dwell = 1s, .capacity = 2});
  queue.merge_by([](const std::string& a, const std::string& b) { return a[0] == b[0]; });
  queue.put("wind 11");
  queue.put("fog");
  EXPECT_TRUE(queue.put("wind 12")) << "full, but it is no new item";
  EXPECT_EQ(queue.size(), 2U);
  EXPECT_EQ(queue.counts().merged, 1U);
  queue.put("f!", 3);
  EXPECT_EQ(all_of(queue, at(0s)), "f! wind 12 ");
}

TEST(Paced, SkipsToTheNewest) {
  Notices queue({.dwell = 5s, .capacity = 10});
  for (const char* item : {"a", "b", "c"}) queue.put(item);
  EXPECT_EQ(queue.take(at(0s)), "a");
  queue.put("old storm", 5);
  queue.put("news");
  queue.skip_to_newest();
  EXPECT_EQ(queue.take(at(1s)), "news") << "at once, whatever ranks above it";
  EXPECT_TRUE(queue.empty());
  EXPECT_EQ(queue.counts().skipped, 3U);
  queue.skip_to_newest();
}

TEST(Handoff, IsFullAtItsCapacityAndKeepsTheOrder) {
  Handoff<std::unique_ptr<int>> queue(4);
  EXPECT_EQ(queue.take(), std::nullopt);
  for (int i = 0; i < 4; ++i) EXPECT_TRUE(queue.put(std::make_unique<int>(i)));
  auto more = std::make_unique<int>(4);
  EXPECT_FALSE(queue.put(std::move(more)));
  ASSERT_NE(more, nullptr) << "what was not taken is still there";
  EXPECT_EQ(**queue.take(), 0);
  EXPECT_EQ(queue.room(), 1U);
  EXPECT_TRUE(queue.put(std::move(more)));
  for (int i = 1; i <= 4; ++i) EXPECT_EQ(**queue.take(), i);
  EXPECT_EQ(queue.take(), std::nullopt);
}

TEST(Handoff, CarriesEverythingBetweenTwoThreads) {
  struct Item {
    std::uint64_t number = 0;
    std::string text;
  };
  constexpr std::uint64_t kItems = 200000;
  Handoff<Item> queue(64);
  std::thread putter([&] {
    for (std::uint64_t i = 0; i < kItems;) {
      if (Item* const slot = queue.put_slot()) {
        slot->number = i;
        slot->text = std::to_string(i);
        queue.put_done();
        ++i;
      } else {
        std::this_thread::yield();
      }
    }
  });
  std::uint64_t wrong = 0;
  for (std::uint64_t i = 0; i < kItems;) {
    if (Item* const slot = queue.take_slot()) {
      if (slot->number != i || slot->text != std::to_string(i)) ++wrong;
      queue.take_done();
      ++i;
    } else {
      std::this_thread::yield();
    }
  }
  putter.join();
  EXPECT_EQ(wrong, 0U);
  EXPECT_EQ(queue.take_slot(), nullptr);
}

TEST(WriteBehind, WritesTheNewestStateWhenItsTimeIsUpOrItsOwnerLeaves) {
  WriteBehind<std::string, int> store(10s);
  store.put("Tern", 1, at(0s));
  for (int i = 2; i <= 100; ++i) store.put("Tern", i, at(i * 50ms));
  store.put("Gull", 7, at(6s));
  EXPECT_TRUE(store.take(at(9s)).empty()) << "never for each change";
  auto due = store.take(at(10s));
  ASSERT_EQ(due.size(), 1U);
  EXPECT_EQ(due[0].key, "Tern");
  EXPECT_EQ(due[0].state, 100);
  ASSERT_NE(store.pending("Gull"), nullptr);
  store.leave("Gull");
  store.leave("nobody");
  due = store.take(at(10s));
  ASSERT_EQ(due.size(), 1U);
  EXPECT_EQ(due[0].key, "Gull");
  EXPECT_EQ(store.dirty(), 0U);
  store.put("Tern", 101, at(11s));
  EXPECT_EQ(store.take(at(11s), true).size(), 1U) << "all of it before an end";
}

TEST(Owners, KnowOneOwnerOfEachEntityAndItsGeneration) {
  Owners<int> owners;
  owners.give({5, 1}, 7);
  EXPECT_TRUE(owners.owns(7, {5, 1}));
  EXPECT_FALSE(owners.owns(8, {5, 1}));
  EXPECT_FALSE(owners.owns(7, {5, 2}));
  EXPECT_FALSE(owners.owns(7, {}));
  owners.give({5, 2}, 8);
  owners.take({5, 1});
  EXPECT_TRUE(owners.owns(8, {5, 2})) << "an old ref takes nothing away";
  owners.take_all(8);
  EXPECT_FALSE(owners.owns(8, {5, 2}));
}

}  // namespace queues_test
}  // namespace kwind::route
