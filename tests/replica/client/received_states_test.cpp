// ReceivedStates: states in the order of snapshots, with their values, against a map.
#include "replica/client/received_states.h"

#include <gtest/gtest.h>

#include <map>
#include <random>

#include "kit/sweep.h"

namespace kwind::replica {
namespace received_states_test {

TEST(ReceivedStates, AreWhatAMapWouldHold) {
  const Widths widths{4, 1};
  for (const std::uint64_t seed : kit::seeds(60, 3000)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    ReceivedStates states;
    std::map<SnapshotNumber, OwnRow> model;
    std::uint32_t newest = 0;
    for (int step = 0; step < 300; ++step) {
      switch (random() % 8) {
        default: {
          newest += 1 + static_cast<std::uint32_t>(random() % 3);
          // Now and then one comes late.
          const SnapshotNumber snapshot(
              newest - static_cast<std::uint32_t>(random() % 4 == 0 ? random() % newest : 0));
          if (!snapshot || model.count(snapshot) > 0) break;
          OwnRow row;
          for (int c = 0; c < 4; ++c) row.numbers.push_back(static_cast<std::uint32_t>(random()));
          row.varying.push_back(std::make_shared<const BitString>());
          ReceivedState state;
          state.snapshot = snapshot;
          states.insert(state, row, widths);
          model[snapshot] = row;
          break;
        }
        case 5: {
          if (model.empty()) break;
          const SnapshotNumber gone =
              std::next(model.begin(), static_cast<std::ptrdiff_t>(random() % model.size()))->first;
          states.erase(gone);
          model.erase(gone);
          states.erase(gone);  // nothing, the second time
          break;
        }
        case 6: {
          if (model.empty()) break;
          const SnapshotNumber last =
              std::next(model.begin(), static_cast<std::ptrdiff_t>(random() % model.size()))->first;
          states.drop_through(last);
          model.erase(model.begin(), model.upper_bound(last));
          break;
        }
        case 7: {
          // It may keep older ones, and never drops the newest up to there, or one beyond.
          const SnapshotNumber until = number_before(SnapshotNumber(newest), 20);
          states.trim(until);
          const auto first = states.empty() ? SnapshotNumber() : states.begin()->snapshot;
          model.erase(model.begin(), model.lower_bound(first));
          auto kept = model.upper_bound(until);
          if (!model.empty()) {
            EXPECT_TRUE(kept == model.begin() || std::prev(kept)->first >= first);
          }
          break;
        }
      }
      auto expected = model.begin();
      for (const ReceivedState& state : states) {
        ASSERT_NE(expected, model.end());
        ASSERT_EQ(state.snapshot, expected->first);
        ASSERT_TRUE(same(states.row(state, widths), Row(expected->second)));
        ++expected;
      }
      ASSERT_EQ(expected, model.end());
    }
  }
}

TEST(ReceivedStates, LetLargeValuesGoAtOnce) {
  const Widths widths{1, 1};
  ReceivedStates states;
  const auto large = std::make_shared<const BitString>();
  ReceivedState state;
  state.snapshot = SnapshotNumber(1);
  states.insert(state, OwnRow{{0}, {large}}, widths);
  EXPECT_EQ(large.use_count(), 2);
  states.erase(SnapshotNumber(1));
  EXPECT_EQ(large.use_count(), 1);
}

}  // namespace received_states_test
}  // namespace kwind::replica
