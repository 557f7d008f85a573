// The reference world as a Motion of the lab, by either description: a client sees 256 m around its
// tug.
#pragma once
#include <tuple>
#include <vector>

#include "harbour/motion.h"
#include "harbour_tolerant.h"
#include "harbour_world.h"
#include "lab.h"

namespace lab {

// The kinds of either description.
struct Exact {
  using Post = harbour_world::Post;
  using Crate = harbour_world::Crate;
  using Gull = harbour_world::Gull;
  using Barge = harbour_world::Barge;
  using Tug = harbour_world::Tug;
  static constexpr const auto& kAll = harbour_world::kEntities;
};
struct Tolerant {
  using Post = harbour_tolerant::Post;
  using Crate = harbour_tolerant::Crate;
  using Gull = harbour_tolerant::Gull;
  using Barge = harbour_tolerant::Barge;
  using Tug = harbour_tolerant::Tug;
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
  using MotionOf<Kinds>::put;

 public:
  /// `all`: clients see everything.
  Harbour(kwind::replica::World& world, std::uint64_t seed, bool all)
      : motion_(seed), all_seen_(all) {
    motion_.template populate<Post, Crate, Gull, Barge, Tug>(
        [&]<class T>(const T& value) { ids_of<T>().push_back(this->spawn(world, value)); });
    drives_.resize(ids_of<Tug>().back() + 1);
  }

  void step(kwind::replica::World& world) override {
    const auto each = [&]<class T>(T*, const auto& move) {
      for (const std::uint32_t id : ids_of<T>()) {
        move(this->template at<T>(id), drives_[id]);
        put(world, id);
      }
    };
    each(static_cast<Crate*>(nullptr), [&](Crate& crate, auto&) { motion_.crate(crate); });
    each(static_cast<Gull*>(nullptr), [&](Gull& gull, auto& drive) { motion_.gull(gull, drive); });
    each(static_cast<Barge*>(nullptr),
         [&](Barge& barge, auto& drive) { motion_.barge(barge, drive); });
    each(static_cast<Tug*>(nullptr), [&](Tug& tug, auto& drive) { motion_.tug(tug, drive); });
  }

  [[nodiscard]] std::vector<kwind::replica::RelevantEntity> view(
      std::size_t client) const override {
    auto& self = const_cast<Harbour&>(*this);
    const auto& tugs = self.template ids_of<Tug>();
    const Eigen::Vector2d eye = self.template at<Tug>(tugs[client % tugs.size()]).at;
    std::vector<kwind::replica::RelevantEntity> seen;
    const auto look = [&]<class T>(const T&) {
      for (const std::uint32_t id : self.template ids_of<T>()) {
        const double far = (self.template at<T>(id).at - eye).norm();
        if (all_seen_ || far < harbour_motion::kInterest) seen.push_back({id});
      }
    };
    look(Post{});
    look(Crate{});
    look(Gull{});
    look(Barge{});
    look(Tug{});
    return seen;
  }

 private:
  template <class T>
  std::vector<std::uint32_t>& ids_of() {
    return std::get<Ids<T>>(ids_).all;
  }
  template <class T>
  struct Ids {
    std::vector<std::uint32_t> all;
  };

  harbour_motion::Motion motion_;
  bool all_seen_;
  std::tuple<Ids<Post>, Ids<Crate>, Ids<Gull>, Ids<Barge>, Ids<Tug>> ids_;
  std::vector<harbour_motion::Drive> drives_;  // by id
};

}  // namespace lab
