// ClientReplicator::explain(): what it says of every entity is what the snapshot then has, and
// asking changes no bit of it.
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
namespace explanation_test {

// A bay and one client of it; the client's acknowledgements come late, and some never.
struct Path {
  explicit Path(std::uint64_t seed, bool speculative, std::size_t bytes_in)
      : bay(seed), random(seed), bytes(bytes_in) {
    bay.populate(20, 10, 12, 6, 4);
    if (seed % 2 == 0) bay.spawn(bay::Ledger{1, std::string(2500, 'c')});
    query.set_origin(0, 0);
    replicator = std::make_unique<ClientReplicator>(
        bay.world(), ReplicatorOptions{.speculative_baselines = speculative});
    replicator->bind(&query);
  }
  void step() {
    bay.step(0.1);
    query.update();
    ++now;
    for (auto fate = fates.begin(); fate != fates.end() && fate->first <= now;) {
      replicator->on_delivery(fate->second.first, fate->second.second);
      fate = fates.erase(fate);
    }
  }
  // The bits of one snapshot; nothing if there is nothing to say.
  std::optional<std::string> fill() {
    std::vector<std::byte> memory(bytes);
    bits::Writer out(memory);
    const auto snapshot = replicator->fill(Time{}, out);
    if (!snapshot) return std::nullopt;
    memory.resize(out.finish());
    fates.emplace(now + 1 + static_cast<int>(random() % 3),
                  std::pair(*snapshot, random() % 10 != 0));
    return std::string(reinterpret_cast<const char*>(memory.data()), memory.size());
  }

  kit::MovingBay bay;
  Interest interest{bay.world(), {.enter = 260, .leave = 300}};
  InterestQuery query{interest};
  std::unique_ptr<ClientReplicator> replicator;
  std::mt19937_64 random;
  std::size_t bytes;
  int now = 0;
  std::multimap<int, std::pair<std::uint64_t, bool>> fates;
};

TEST(Explanation, SaysOfEveryEntityWhatTheSnapshotThenHas) {
  std::map<UpdateReason, int> seen;
  for (const std::uint64_t seed : kit::seeds(kit::kSanitized ? 8 : 24, 500)) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    const bool speculative = seed % 4 == 3;
    const std::size_t bytes = seed % 3 == 0 ? 60 : seed % 3 == 1 ? 200 : 1100;
    Path path(seed, speculative, bytes);
    Path unasked(seed, speculative, bytes);
    std::map<std::uint32_t, schema::AnyRef> refs;  // everything that was ever there, by id
    for (int tick = 0; tick < 100; ++tick) {
      path.step();
      unasked.step();
      for (const auto& [id, one] : path.bay.all()) refs[id] = one.ref;
      bool complete = path.replicator->complete();
      EXPECT_LE(path.replicator->oldest_wait(), 100U);
      if (tick % 5 == 4) continue;  // no room in this tick, and yet it was asked
      for (int datagram = 0; datagram < 2; ++datagram) {
        std::map<UpdateForm, std::uint64_t> forms;
        std::uint64_t deferred = 0;
        std::uint64_t repeats_deferred = 0;
        for (const auto& [id, ref] : refs) {
          const UpdateExplanation why = path.replicator->explain(ref, bytes);
          ++seen[why.reason];
          if (why.reason == UpdateReason::sent) ++forms[why.form];
          deferred += why.reason == UpdateReason::deferred ? 1 : 0;
          repeats_deferred += why.reason == UpdateReason::repeat_deferred ? 1 : 0;
          EXPECT_EQ(why.reason == UpdateReason::sent && why.form == UpdateForm::none, false);
          EXPECT_LE(why.taken, why.updates);
        }
        const ReplicatorCounts before = path.replicator->counts();
        const auto said = path.fill();
        const ReplicatorCounts after = path.replicator->counts();
        ASSERT_EQ(said, unasked.fill()) << "tick " << tick << ": asking changed the snapshot";
        // Nothing that goes may stay unexplained, and nothing explained may stay away.
        ASSERT_EQ(forms[UpdateForm::full], after.whole - before.whole) << "tick " << tick;
        ASSERT_EQ(forms[UpdateForm::delta],
                  after.changed + after.predicted - before.changed - before.predicted)
            << "tick " << tick;
        ASSERT_EQ(forms[UpdateForm::despawn], after.gone - before.gone) << "tick " << tick;
        if (said) {
          EXPECT_LE(deferred, after.deferred - before.deferred) << "tick " << tick;
          EXPECT_LE(after.deferred - before.deferred, deferred + repeats_deferred);
        }
        EXPECT_FALSE(complete && said.has_value()) << "tick " << tick << ": nothing was pending";
        if (!said) break;
        complete = path.replicator->complete();
      }
    }
    EXPECT_EQ(path.replicator->memory(), unasked.replicator->memory());
  }
  // One seed has not all of them.
  if (kit::seeds(2, 2).size() == 1) return;
  for (const UpdateReason reason :
       {UpdateReason::sent, UpdateReason::deferred, UpdateReason::up_to_date,
        UpdateReason::in_flight, UpdateReason::baseline_in_flight, UpdateReason::out_of_view,
        UpdateReason::not_alive}) {
    EXPECT_GT(seen[reason], 0) << name_of(reason);
  }
}

// A client alone with two crates and a gull, all in view.
class ExplanationOfOne : public testing::Test {
 protected:
  ExplanationOfOne() {
    query_.set_origin(0, 0);
    replicator_.bind(&query_);
    crate_ = *world_.spawn(bay::Crate{{1, 1}, {}, {}});
    gull_ = *world_.spawn(bay::Gull{.bearing = 10, .speed = 2, .at = {5, 5}, .hungry = false});
  }
  std::uint64_t fill() {
    std::vector<std::byte> memory(1100);
    bits::Writer out(memory);
    return replicator_.fill(Time{}, out).value_or(0);
  }
  World world_{bay::kEntities};
  Interest interest_{world_, {.enter = 260, .leave = 300}};
  InterestQuery query_{interest_};
  ClientReplicator replicator_{world_};
  schema::Ref<bay::Crate> crate_{};
  schema::Ref<bay::Gull> gull_{};
};

TEST_F(ExplanationOfOne, FromTheSpawnToTheDespawn) {
  EXPECT_EQ(replicator_.explain(crate_).reason, UpdateReason::not_alive)
      << "no tick has ended with it";
  world_.end_tick();
  UpdateExplanation why = replicator_.explain(crate_);
  EXPECT_EQ(why.reason, UpdateReason::sent);
  EXPECT_EQ(why.form, UpdateForm::full);
  EXPECT_TRUE(why.in_view);
  EXPECT_EQ(why.baseline_tick, 0U);
  EXPECT_EQ(why.changed_at, 1U);
  EXPECT_EQ(why.updates, 2U);
  EXPECT_EQ(why.taken, 2U);
  EXPECT_GT(why.bits, 0U);
  EXPECT_EQ(why.fields.size(), bay::Crate::entity_info().fields.size());
  const std::uint64_t first = fill();
  EXPECT_EQ(replicator_.explain(crate_).reason, UpdateReason::in_flight);
  EXPECT_EQ(replicator_.explain(crate_).sent_tick, 1U);
  replicator_.acked(first);
  world_.put(gull_, bay::Gull{.bearing = 10, .speed = 2, .at = {5, 5}, .hungry = true});
  world_.end_tick();
  EXPECT_EQ(replicator_.explain(crate_).reason, UpdateReason::up_to_date);
  why = replicator_.explain(gull_);
  EXPECT_EQ(why.reason, UpdateReason::sent);
  EXPECT_EQ(why.form, UpdateForm::delta);
  EXPECT_EQ(why.baseline_tick, 1U);
  EXPECT_NE(std::find(why.fields.begin(), why.fields.end(), "hungry"), why.fields.end())
      << "that field was not as predicted";
  EXPECT_EQ(std::find(why.fields.begin(), why.fields.end(), "speed"), why.fields.end());
  replicator_.acked(fill());
  world_.despawn(gull_);
  world_.end_tick();
  why = replicator_.explain(gull_);
  EXPECT_EQ(why.form, UpdateForm::despawn);
  EXPECT_EQ(why.reason, UpdateReason::sent);
  EXPECT_FALSE(why.in_view);
  const std::uint64_t last = fill();
  EXPECT_EQ(replicator_.explain(gull_).reason, UpdateReason::in_flight);
  replicator_.acked(last);
  world_.end_tick();
  (void)fill();
  EXPECT_EQ(replicator_.explain(gull_).reason, UpdateReason::not_alive);
  EXPECT_EQ(replicator_.explain(schema::AnyRef{999999, 0}).reason, UpdateReason::not_alive);
}

TEST_F(ExplanationOfOne, OutOfViewAndWithoutRoom) {
  const auto far = *world_.spawn(bay::Crate{{900, 900}, {}, {}});
  world_.end_tick();
  EXPECT_EQ(replicator_.explain(far).reason, UpdateReason::out_of_view);
  EXPECT_FALSE(replicator_.explain(far).in_view);
  const UpdateExplanation why = replicator_.explain(crate_, 8);
  EXPECT_EQ(why.reason, UpdateReason::deferred) << "8 bytes hold the head and no entity";
  EXPECT_EQ(why.form, UpdateForm::full);
  EXPECT_EQ(why.taken, 0U);
  EXPECT_EQ(why.waited, 1U);
  EXPECT_EQ(replicator_.explain(crate_, 0).reason, UpdateReason::deferred);
  EXPECT_EQ(replicator_.explain(crate_).reason, UpdateReason::sent) << "a larger room has place";
}

TEST(Explanation, EachReasonAndFormHasAWord) {
  EXPECT_EQ(name_of(UpdateReason::sent), "sent");
  EXPECT_EQ(name_of(UpdateReason::not_alive), "not alive");
  EXPECT_EQ(name_of(UpdateForm::none), "none");
  EXPECT_EQ(name_of(UpdateForm::fragments), "fragments");
}

}  // namespace explanation_test
}  // namespace kwind::replica
