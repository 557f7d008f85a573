// ClientEntities: parallel arrays by id against a map, and the sum of digest shares.
#include "replica/server/client_entities.h"

#include <gtest/gtest.h>

#include <map>
#include <random>

#include "kit/sweep.h"

namespace kwind::replica {
namespace client_entities_test {

TEST(ClientEntities, AreWhatAMapWouldHold) {
  for (const std::uint64_t seed : kit::seeds(40, 2000)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    ClientEntities entities;
    struct Held {
      Baseline baseline;
      std::uint32_t share = 0;
    };
    std::map<EntityId, Held> model;
    for (int step = 0; step < 400; ++step) {
      const EntityId id(static_cast<std::uint32_t>(1 + random() % 60));
      const std::size_t index = entities.at(random() % 70, id);
      Held& held = model[id];
      Entry entry;
      entry.id = id;
      entry.tick = Tick(static_cast<std::uint32_t>(step + 1));
      entry.type = static_cast<std::uint16_t>(random() % 3);
      entry.owner = random() % 2 == 0;
      entry.update = !held.baseline.known || random() % 4 == 0 ? Update::full
                     : random() % 4 == 0                       ? Update::despawn
                                                               : Update::delta;
      entry.share = random() % 50 == 0 ? 0 : static_cast<std::uint32_t>(random() | 1);
      entities.apply(index, entry);
      held.baseline.apply(entry);
      held.share = entry.update == Update::despawn ? 0 : entry.share;
      if (step % 50 == 49) {
        const auto goes = [&](std::size_t i) { return entities.id(i).raw() % 7 == 3; };
        // Only what the client does not have may be dropped.
        entities.drop([&](std::size_t i) { return goes(i) && !entities[i].baseline().known; });
        std::erase_if(model, [](const auto& each) {
          return each.first.raw() % 7 == 3 && !each.second.baseline.known;
        });
      }
      ASSERT_EQ(entities.size(), model.size());
      std::size_t i = 0;
      std::uint32_t sum = 0;
      bool shareless = false;
      for (const auto& [known_id, expected] : model) {
        ASSERT_EQ(entities.id(i), known_id);
        EXPECT_EQ(entities.find(known_id), i);
        EXPECT_EQ(entities.find(random() % 70, known_id), i);
        EXPECT_EQ(entities[i].baseline(), expected.baseline);
        const MotionState state = !expected.baseline.known     ? MotionState::unknown
                                  : expected.baseline.changing ? MotionState::changing
                                                               : MotionState::still;
        EXPECT_EQ(entities.standing(i), state);
        sum += expected.share;
        shareless = shareless || (expected.baseline.known && expected.share == 0);
        ++i;
      }
      EXPECT_EQ(entities.sum_of_shares(),
                shareless ? std::nullopt : std::optional<std::uint32_t>(sum));
      EXPECT_EQ(entities.find(EntityId(1000)), std::nullopt);
    }
  }
}

TEST(Baseline, KeepsTheTicksOfTheNewestStates) {
  Baseline baseline;
  const auto entry = [](std::uint32_t tick, Update update) {
    Entry made;
    made.tick = Tick(tick);
    made.update = update;
    return made;
  };
  baseline.apply(entry(3, Update::full));
  EXPECT_TRUE(baseline.known);
  EXPECT_FALSE(baseline.changing);
  for (std::uint32_t tick = 4; tick < 12; ++tick) baseline.apply(entry(tick, Update::delta));
  EXPECT_EQ(baseline.ticks, (KnownTicks{Tick(11), Tick(10), Tick(9), Tick(8)}));
  EXPECT_TRUE(baseline.changing);
  baseline.apply(entry(12, Update::despawn));
  EXPECT_FALSE(baseline.known);
  EXPECT_EQ(baseline.ticks, KnownTicks{});
}

}  // namespace client_entities_test
}  // namespace kwind::replica
