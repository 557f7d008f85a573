// The reference world in motion: 1300 entities in 1.8 km of harbour, of which a client sees 256 m
// around its tug.
#pragma once
#include <cmath>
#include <numbers>
#include <random>
#include <vector>

#include "harbour_tolerant.h"
#include "harbour_world.h"
#include "lab.h"

namespace lab {

inline constexpr double kSize = 880;  // of the harbour, from its middle
inline constexpr double kSight = 256;

// The kinds of either description.
struct Exact {
  using Post = harbour_world::Post;
  using Crate = harbour_world::Crate;
  using Gull = harbour_world::Gull;
  using Barge = harbour_world::Barge;
  using Tug = harbour_world::Tug;
  using Cargo = harbour_world::Cargo;
  static constexpr const auto& kAll = harbour_world::kEntities;
};
struct Tolerant {
  using Post = harbour_tolerant::Post;
  using Crate = harbour_tolerant::Crate;
  using Gull = harbour_tolerant::Gull;
  using Barge = harbour_tolerant::Barge;
  using Tug = harbour_tolerant::Tug;
  using Cargo = harbour_tolerant::Cargo;
  static constexpr const auto& kAll = harbour_tolerant::kEntities;
};

template <class Kinds>
using MotionOf = TypedMotion<typename Kinds::Post, typename Kinds::Crate, typename Kinds::Gull,
                             typename Kinds::Barge, typename Kinds::Tug>;

template <class Kinds>
class Harbour final : public MotionOf<Kinds> {
  using Post = typename Kinds::Post;
  using Crate = typename Kinds::Crate;
  using Gull = typename Kinds::Gull;
  using Barge = typename Kinds::Barge;
  using Tug = typename Kinds::Tug;
  using Cargo = typename Kinds::Cargo;
  using MotionOf<Kinds>::spawn;
  using MotionOf<Kinds>::put;

 public:
  /// `all`: clients see everything.
  Harbour(kwind::replica::World& world, std::uint64_t seed, bool all)
      : random_(seed), all_seen_(all) {
    for (int i = 0; i < 700; ++i) posts_.push_back(spawn(world, Post{anywhere()}));
    for (int i = 0; i < 250; ++i) {
      crates_.push_back(spawn(world, Crate{anywhere(), static_cast<Cargo>(random_() % 4), false}));
    }
    for (int i = 0; i < 250; ++i) {
      gulls_.push_back(spawn(world, Gull{even(0, 360), even(6, 12), anywhere(), false}));
    }
    for (int i = 0; i < 60; ++i) {
      const auto cargo = static_cast<Cargo>(random_() % 4);
      barges_.push_back(spawn(world, Barge{even(0, 360), even(0, 3), anywhere(), cargo, 50}));
    }
    for (int i = 0; i < 40; ++i) {
      tugs_.push_back(spawn(world, Tug{even(0, 360), even(0, 6), anywhere(), 1, false}));
    }
    turns_.resize(2001, 0);
    throttles_.resize(2001, 3);
  }

  void step(kwind::replica::World& world) override {
    // A few crates drift with the tide, each for a while.
    for (std::size_t i = 0; i < crates_.size(); ++i) {
      Crate& crate = this->template at<Crate>(crates_[i]);
      if (chance(crate.afloat ? 1.0 / 200 : 1.0 / 6500)) crate.afloat = !crate.afloat;
      if (crate.afloat) crate.at += Eigen::Vector2d(0.4, 0.15) / 20 * even(0.5, 1.5);
      put(world, crates_[i]);
    }
    for (const std::uint32_t id : gulls_) {
      Gull& gull = this->template at<Gull>(id);
      // A turn that wanders, 0 to 40 degrees a second either way.
      turns_[id] = std::clamp(turns_[id] * 0.98 + even(-0.25, 0.25), -2.0, 2.0);
      gull.bearing += turns_[id];
      if (chance(1.0 / 200)) gull.speed = std::clamp(gull.speed + even(-1, 1), 6.0, 12.0);
      if (chance(1.0 / 400)) gull.hungry = !gull.hungry;
      move(gull);
      put(world, id);
    }
    for (const std::uint32_t id : barges_) {
      Barge& barge = this->template at<Barge>(id);
      if (chance(1.0 / 400)) turns_[id] = even(-0.2, 0.2);
      if (chance(1.0 / 600)) throttles_[id] = chance(0.4) ? 0 : even(1, 3);
      barge.speed += std::clamp(throttles_[id] - barge.speed, -0.02, 0.02);
      if (barge.speed > 0.1) barge.bearing += turns_[id];
      move(barge);
      put(world, id);
    }
    for (const std::uint32_t id : tugs_) {
      Tug& tug = this->template at<Tug>(id);
      // A pilot moves the rudder now and then and holds it for a while.
      if (chance(1.0 / 25)) turns_[id] = chance(0.5) ? 0 : even(-1.5, 1.5);
      if (chance(1.0 / 60)) throttles_[id] = even(0, 8);
      if (chance(1.0 / 300)) tug.lamps = static_cast<std::int32_t>(random_() % 8);
      tug.speed += std::clamp(throttles_[id] - tug.speed, -0.1, 0.1);
      if (tug.speed > 0.1) tug.bearing += turns_[id];
      move(tug);
      put(world, id);
    }
  }

  [[nodiscard]] std::vector<kwind::replica::Seen> view(std::size_t client) const override {
    auto& self = const_cast<Harbour&>(*this);
    const Eigen::Vector2d eye = self.template at<Tug>(tugs_[client % tugs_.size()]).at;
    std::vector<kwind::replica::Seen> seen;
    const auto look = [&](const auto& ids, auto kind) {
      for (const std::uint32_t id : ids) {
        if ((self.template at<decltype(kind)>(id).at - eye).norm() < kSight || all_seen_)
          seen.push_back({id});
      }
    };
    look(posts_, Post{});
    look(crates_, Crate{});
    look(gulls_, Gull{});
    look(barges_, Barge{});
    look(tugs_, Tug{});
    return seen;
  }

 private:
  template <class T>
  void move(T& one) {
    one.bearing = std::fmod(one.bearing + 720, 360);
    const double angle = one.bearing * std::numbers::pi / 180;
    one.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * one.speed / 20;
    // At the edge of the harbour they turn back.
    if (one.at.cwiseAbs().maxCoeff() > kSize) {
      one.bearing =
          std::fmod(std::atan2(-one.at[1], -one.at[0]) * 180 / std::numbers::pi + 360, 360);
    }
  }
  Eigen::Vector2d anywhere() { return {even(-kSize, kSize), even(-kSize, kSize)}; }
  double even(double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random_);
  }
  bool chance(double share) { return even(0, 1) < share; }

  std::mt19937_64 random_;
  bool all_seen_;
  std::vector<std::uint32_t> posts_;
  std::vector<std::uint32_t> crates_;
  std::vector<std::uint32_t> gulls_;
  std::vector<std::uint32_t> barges_;
  std::vector<std::uint32_t> tugs_;
  std::vector<double> turns_;      // by id
  std::vector<double> throttles_;  // by id
};

}  // namespace lab
