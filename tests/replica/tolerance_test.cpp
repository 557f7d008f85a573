// Positions with `within`: sent only when they are off, moved on by both ends in between. What a
// client draws, and what the server says that was there, stay near the truth at each tick.
#include <gtest/gtest.h>

#include <cmath>
#include <map>
#include <numbers>
#include <random>

#include "attached.h"
#include "kit/good_path.h"
#include "kit/sweep.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"

namespace kwind::replica {
namespace tolerance_test {

using attached::Skiff;

// A skiff that sails straight on for seconds and turns now and then, within a small range: between
// two of its updates it may go further than an eighth of that.
class Sailing {
 public:
  explicit Sailing(std::uint64_t seed) : random_(seed) {
    skiff_.speed = 10;
    ref_ = *world_.spawn(skiff_);
  }
  void tick() {
    if (random_() % 60 == 0) skiff_.bearing = static_cast<double>(random_() % 180) * 2;
    // Away from the border.
    if (std::abs(skiff_.at.x()) > 40 || std::abs(skiff_.at.y()) > 40) {
      const double home = std::atan2(-skiff_.at.y(), -skiff_.at.x()) * 180 / std::numbers::pi;
      skiff_.bearing = std::round((home + 360) / 2) * 2;
      if (skiff_.bearing >= 360) skiff_.bearing -= 360;
    }
    const double angle = skiff_.bearing * std::numbers::pi / 180;
    skiff_.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * skiff_.speed / 20;
    world_.put(ref_, skiff_);
    was_at_[world_.tick()] = skiff_.at;
    world_.end_tick();
    const RelevantEntity seen{ref_.id, true};
    replicator_.see({&seen, 1});
    kit::deliver(replicator_, client_);
  }
  [[nodiscard]] std::uint32_t now() const { return world_.tick() - 1; }
  // The true position, between ticks.
  [[nodiscard]] Eigen::Vector2d truth(double tick) const {
    const auto whole = static_cast<std::uint32_t>(tick);
    const double part = tick - whole;
    if (part == 0) return was_at_.at(whole);
    return was_at_.at(whole) * (1 - part) + was_at_.at(whole + 1) * part;
  }
  [[nodiscard]] double drawn_off(double tick) const {
    return (client_.sample(ref_, tick)->at - truth(tick)).norm();
  }
  [[nodiscard]] double past_off(double tick) const {
    const PastWorld past = world_.at(tick);
    const Eigen::Vector2d at = past.get(ref_)->at;
    const auto position = *past.position(ref_);
    EXPECT_NEAR((at - Eigen::Vector2d(position[0], position[1])).norm(), 0, 1e-9);
    return (at - truth(tick)).norm();
  }
  [[nodiscard]] std::uint64_t updates() const {
    return replicator_.counts().changed + replicator_.counts().whole;
  }

 private:
  std::mt19937_64 random_;
  World world_{attached::kEntities};
  ClientReplicator replicator_{world_};
  ClientWorld client_{attached::kEntities};
  Skiff skiff_;
  schema::Ref<Skiff> ref_;
  std::map<std::uint32_t, Eigen::Vector2d> was_at_;
};

// A tolerance of a quarter, and half a metre that it sails in a tick.
TEST(Tolerance, WhatIsDrawnAndWhatWasThereStayNearTheTruth) {
  constexpr double kFarthestOff = 0.25 + 0.5 + 0.1;
  for (const std::uint64_t seed : kit::seeds(4, 200)) {
    Sailing sailing(seed);
    for (int i = 0; i < 600; ++i) {
      sailing.tick();
      if (sailing.now() < 20) continue;
      for (const double behind : {0.0, 1.0, 2.5, 3.75, 4.0, 5.25, 7.5, 9.0}) {
        const double tick = sailing.now() - behind;
        ASSERT_LE(sailing.past_off(tick), kFarthestOff) << seed << ", " << behind << " behind";
        ASSERT_LE(sailing.drawn_off(tick), kFarthestOff) << seed << ", " << behind << " behind";
      }
    }
    EXPECT_LT(sailing.updates(), 200U) << "that is not what a tolerance is for";
  }
}

}  // namespace tolerance_test
}  // namespace kwind::replica
