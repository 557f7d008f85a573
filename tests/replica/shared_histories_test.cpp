// ClientReplicators in step put their snapshots together once. Each of them has to say, bit for
// bit, what it would say were it alone in its world.
#include <gtest/gtest.h>

#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "kit/sweep.h"
#include "kwind/replica/interest.h"
#include "moving_bay.h"

namespace kwind::replica {
namespace shared_histories_test {

// What becomes of a client's snapshots, by their number alone: so it is the same in both worlds.
struct Way {
  std::uint64_t seed = 1;
  double loss = 0;
  int longest = 1;  // ticks until an ack is heard; from 1 on
  std::size_t room = 1200;
  bool speculative_baselines = false;
  std::uint32_t digest_every = 10;

  [[nodiscard]] bool loses(std::uint64_t snapshot) const {
    return static_cast<double>(mixed(snapshot) % 1000) < loss * 1000;
  }
  [[nodiscard]] int delay(std::uint64_t snapshot) const {
    return 1 + static_cast<int>(mixed(snapshot + 0x9e37) % static_cast<std::uint64_t>(longest));
  }

 private:
  [[nodiscard]] std::uint64_t mixed(std::uint64_t snapshot) const {
    std::uint64_t x = seed * 0x9e3779b97f4a7c15U + snapshot;
    x = (x ^ x >> 30) * 0xbf58476d1ce4e5b9U;
    x = (x ^ x >> 27) * 0x94d049bb133111ebU;
    return x ^ x >> 31;
  }
};

struct Client {
  Client(World& world, InterestQuery& query, const Way& way_in)
      : way(way_in),
        replicator(world, {.speculative_baselines = way_in.speculative_baselines,
                           .digest_every = way_in.digest_every}) {
    replicator.bind(&query);
  }
  // Its snapshots of a tick, as text.
  std::string tick(int now, std::uint32_t number) {
    for (auto fate = fates.begin(); fate != fates.end() && fate->first <= now;) {
      replicator.on_delivery(fate->second.first, fate->second.second);
      fate = fates.erase(fate);
    }
    if (number > 0) replicator.last_processed_input(number);
    std::string all;
    for (int i = 0; i < 2; ++i) {
      std::vector<std::byte> memory(way.room);
      bits::Writer out(memory);
      const auto snapshot = replicator.fill(Time{}, out);
      if (!snapshot) break;
      const std::size_t bits = out.bit_count();
      memory.resize(out.finish());
      all += std::to_string(*snapshot) + ":" + std::to_string(bits) + ":";
      all.append(reinterpret_cast<const char*>(memory.data()), memory.size());
      fates.emplace(now + way.delay(*snapshot), std::pair(*snapshot, !way.loses(*snapshot)));
    }
    return all;
  }
  Way way;
  ClientReplicator replicator;
  std::multimap<int, std::pair<std::uint64_t, bool>> fates;
};

// A bay in motion that several look at from one place.
struct Harbour {
  explicit Harbour(std::uint64_t seed) : bay(seed) {
    bay.populate(20, 10, 10, 6, 4);
    if (seed % 3 == 0) bay.spawn(bay::Chart{});
    if (seed % 4 == 0) bay.spawn(bay::Ledger{1, std::string(2500, 'c')});
    query.set_origin(0, 0);
  }
  void step() {
    bay.step(0.1);
    query.update();  // what it sees hangs on what it saw, whoever asks it
  }
  void add(const Way& way) { clients.push_back(std::make_unique<Client>(bay.world(), query, way)); }
  kit::MovingBay bay;
  Interest interest{bay.world(), {.enter = 260, .leave = 300}};
  InterestQuery query{interest};
  std::vector<std::unique_ptr<Client>> clients;
};

void expect_same(const ReplicatorCounts& a, const ReplicatorCounts& b) {
  EXPECT_EQ(a.snapshots, b.snapshots);
  EXPECT_EQ(a.bits, b.bits);
  EXPECT_EQ(a.whole, b.whole);
  EXPECT_EQ(a.changed, b.changed);
  EXPECT_EQ(a.predicted, b.predicted);
  EXPECT_EQ(a.gone, b.gone);
  EXPECT_EQ(a.fragmented, b.fragmented);
  EXPECT_EQ(a.deferred, b.deferred);
  EXPECT_EQ(a.discarded, b.discarded);
  EXPECT_EQ(a.full_resyncs, b.full_resyncs);
  EXPECT_EQ(a.longest_wait, b.longest_wait);
}

TEST(SharedHistories, EachViewerSaysWhatItWouldSayAlone) {
  for (const std::uint64_t seed : kit::seeds(kit::kSanitized ? 10 : 60, 1500)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937_64 random(seed);
    const auto chance = [&](double share) {
      return std::uniform_real_distribution<double>(0, 1)(random) < share;
    };
    // Some of the ways are the same, others differ now and then, others in everything.
    std::vector<Way> ways(2 + random() % 6);
    const Way common{random(), chance(0.5) ? 0 : 0.02, 1 + static_cast<int>(random() % 2),
                     chance(0.2) ? std::size_t{60} : 1200, chance(0.3)};
    for (Way& way : ways) {
      way = common;
      if (chance(0.3)) way.seed = random();
      if (chance(0.1)) way.loss = 0.3;
      if (chance(0.1)) way.longest = 5;
      if (chance(0.1)) way.room = 200;
      if (chance(0.1)) way.speculative_baselines = !way.speculative_baselines;
      if (chance(0.1)) way.digest_every = chance(0.5) ? 0 : 3;
    }
    Harbour together(seed);
    std::vector<std::unique_ptr<Harbour>> alone;
    for (std::size_t i = 0; i < ways.size(); ++i) alone.push_back(std::make_unique<Harbour>(seed));
    std::vector<int> joins;
    for (std::size_t i = 0; i < ways.size(); ++i) {
      joins.push_back(chance(0.7) ? 0 : static_cast<int>(random() % 40));
      together.clients.push_back(nullptr);
    }
    for (int now = 0; now < 120; ++now) {
      together.step();
      for (std::size_t i = 0; i < ways.size(); ++i) {
        alone[i]->step();
        if (now == joins[i]) {
          alone[i]->add(ways[i]);
          together.clients[i] =
              std::make_unique<Client>(together.bay.world(), together.query, ways[i]);
        }
        if (now == 90 && i % 3 == 2) together.clients[i] = nullptr;  // it leaves
        Client* const here = together.clients[i].get();
        if (here == nullptr) continue;
        const std::uint32_t input =
            i % 2 == 0 ? 0 : static_cast<std::uint32_t>(now) + static_cast<std::uint32_t>(i);
        const std::string said = here->tick(now, input);
        ASSERT_TRUE(said == alone[i]->clients[0]->tick(now, input))
            << "client " << i << " tick " << now;
      }
    }
    for (std::size_t i = 0; i < ways.size(); ++i) {
      if (together.clients[i] == nullptr) continue;
      expect_same(together.clients[i]->replicator.counts(),
                  alone[i]->clients[0]->replicator.counts());
    }
    if (HasFailure()) FAIL() << "seed " << seed;
  }
}

TEST(SharedHistories, ViewersInStepHaveOneInCommonAndComeBackToIt) {
  Harbour harbour(2);
  for (int i = 0; i < 20; ++i) harbour.add({});
  const std::size_t one = [&] {
    Harbour other(2);
    other.add({});
    for (int now = 0; now < 30; ++now) {
      other.step();
      other.clients[0]->tick(now, 0);
    }
    return other.clients[0]->replicator.memory();
  }();
  const auto all_memory = [&] {
    std::size_t sum = 0;
    for (const auto& client : harbour.clients) sum += client->replicator.memory();
    return sum;
  };
  int now = 0;
  const auto run = [&](int ticks) {
    for (const int end = now + ticks; now < end; ++now) {
      harbour.step();
      for (const auto& client : harbour.clients) client->tick(now, 0);
    }
  };
  run(30);
  EXPECT_LT(all_memory(), 3 * one);
  const SharedBitsCounts& shared_bits = harbour.bay.world().shared_bits();
  EXPECT_GT(shared_bits.shared, 15 * shared_bits.written);
  // The acks of some come a tick late, once.
  for (std::size_t i = 0; i < 5; ++i) {
    harbour.clients[i]->way.longest = 3;
    harbour.clients[i]->way.seed = i;
  }
  run(4);
  EXPECT_GT(all_memory(), 3 * one) << "not in step any more";
  for (const auto& client : harbour.clients) client->way.longest = 1;
  run(12);
  EXPECT_LT(all_memory(), 3 * one) << "in step again";
  // Whoever loses a snapshot goes on alone; the others do not notice.
  harbour.clients[7]->replicator.lost(harbour.clients[7]->fates.begin()->second.first);
  run(12);
  EXPECT_LT(all_memory(), 4 * one);
  // Those that one sees by itself are told of to nobody else.
  harbour.clients[3]->replicator.bind(nullptr);
  harbour.clients[3]->replicator.see({});
  run(12);
  EXPECT_GT(harbour.clients[3]->replicator.counts().gone,
            harbour.clients[4]->replicator.counts().gone)
      << "it sees nothing any more";
  EXPECT_EQ(harbour.clients[4]->replicator.counts().gone,
            harbour.clients[5]->replicator.counts().gone);
}

TEST(SharedHistories, AStillViewerKeepsNothingOfWhatTheOthersDo) {
  Harbour harbour(5);
  for (int i = 0; i < 4; ++i) harbour.add({});
  int now = 0;
  std::size_t before = 0;
  for (; now < 200; ++now) {
    harbour.step();
    // The last one is not asked any more.
    for (std::size_t i = 0; i < (now < 10 ? 4 : 3); ++i) harbour.clients[i]->tick(now, 0);
    if (now == 100) before = harbour.clients[0]->replicator.memory();
  }
  EXPECT_LT(harbour.clients[0]->replicator.memory(), before * 2);
  harbour.clients[3]->replicator.on_delivery(1, true);
  for (; now < 230; ++now) {
    harbour.step();
    for (const auto& client : harbour.clients) client->tick(now, 0);
  }
  EXPECT_TRUE(harbour.clients[3]->replicator.view_complete());
}

}  // namespace shared_histories_test
}  // namespace kwind::replica
