// The replicator's bits beside those of a slow twin that is written from the document alone.
#include <gtest/gtest.h>

#include <map>

#include "kit/slow_state.h"
#include "kit/sweep.h"
#include "moving_bay.h"

namespace kwind {
namespace twin_test {

TEST(Twin, WritesTheSameBits) {
  for (const std::uint64_t seed : kit::seeds(kit::kSanitized ? 3 : 12, 300)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    kit::MovingBay bay(seed);
    bay.populate(6, 8, 8, 4, 0, 4, 4);
    replica::ClientReplicator replicator(bay.world(), {.digest_every = 0});
    kit::SlowState twin(bay::kEntities);
    const double loss = bay.chance(0.3) ? 0 : bay.even(0, 0.2);
    const double flapping = bay.chance(0.5) ? 0 : bay.even(0, 0.05);
    const int trip = 1 + static_cast<int>(bay.random()() % 5);
    std::multimap<int, std::pair<std::uint32_t, bool>>
        fates;  // by tick: snapshot, whether it arrived
    std::set<std::uint32_t> hidden;
    std::size_t snapshots = 0;
    for (int now = 0; now < 160; ++now) {
      bay.step(0.1);
      std::map<std::uint32_t, kit::SlowThing> things;
      std::vector<replica::RelevantEntity> seen;
      for (const auto& entry : bay.all()) {
        const std::uint32_t id = entry.first;
        const kit::MovingBay::Inhabitant& one = entry.second;
        // It exists from the tick on whose end it was there.
        std::visit(
            [&](const auto& value) {
              things[id] = {&value.entity_info(), one.ref.generation, kit::slow_row(value)};
            },
            one.value);
        if (bay.chance(flapping) && !hidden.erase(id)) hidden.insert(id);
        if (!hidden.contains(id)) seen.push_back({id, id % 3 == 0});
      }
      replicator.see(seen);
      twin.tick(std::move(things), seen);
      while (!fates.empty() && fates.begin()->first <= now) {
        const auto [snapshot, arrived] = fates.begin()->second;
        fates.erase(fates.begin());
        if (arrived) {
          replicator.acked(snapshot);
          twin.acked(snapshot);
        } else {
          replicator.lost(snapshot);
          twin.lost(snapshot);
        }
      }
      std::vector<std::byte> memory(20000);
      bits::Writer out(memory);
      const auto token = replicator.fill(Time{}, out);
      const std::string wanted = twin.fill();
      ASSERT_EQ(token.has_value(), !wanted.empty()) << "in tick " << now;
      if (!token) continue;
      ++snapshots;
      out.finish();
      std::string made;
      bits::Reader in(memory, out.bit_count());
      while (in.left_bits() > 0) made += in.get_bool() ? '1' : '0';
      ASSERT_EQ(made, wanted) << "frame " << *token << " in tick " << now;
      const bool lost = bay.chance(loss);
      fates.emplace(now + trip + (lost ? 2 : 0),
                    std::pair(static_cast<std::uint32_t>(*token), !lost));
    }
    EXPECT_GT(snapshots, 100U);
  }
}

}  // namespace twin_test
}  // namespace kwind
