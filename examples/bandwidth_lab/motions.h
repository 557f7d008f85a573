// Worlds that the library was not tuned on: three families of motion in the harbour, and other
// games. Each is a Motion of the lab; the same seed gives the same day.
#pragma once
#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <numbers>
#include <random>
#include <vector>

#include "lab.h"
#include "worlds.h"

namespace lab {

inline constexpr double kHarbourSize = 880;  // metres of water each way, from its middle

class Chances {
 public:
  explicit Chances(std::uint64_t seed) : random_(seed) {}
  double even(double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random_);
  }
  double normal(double spread) { return std::normal_distribution<double>(0, spread)(random_); }
  bool chance(double share) { return even(0, 1) < share; }
  std::int32_t below(std::int32_t count) {
    return std::uniform_int_distribution<std::int32_t>(0, count - 1)(random_);
  }
  Eigen::Vector2d anywhere() {
    const double first = even(-kHarbourSize, kHarbourSize);
    return {first, even(-kHarbourSize, kHarbourSize)};
  }

 private:
  std::mt19937_64 random_;
};

enum class Family : std::uint8_t { smooth, jerky, stop_and_go };

/// 1300 entities of the harbour, of which 350 move; a client sees what is within 256 m of its boat.
class Families final : public TypedMotion<worlds::Post, worlds::Crate, worlds::Boat> {
 public:
  Families(kwind::replica::World& world, Family family, std::uint64_t seed, double ticks_per_second,
           bool all)
      : family_(family), chances_(seed), rate_(ticks_per_second), all_seen_(all) {
    for (int i = 0; i < 700; ++i) ids_.push_back(spawn(world, worlds::Post{chances_.anywhere()}));
    for (int i = 0; i < 250; ++i) {
      worlds::Crate crate;
      crate.at = chances_.anywhere();
      crates_.push_back(spawn(world, crate));
      ids_.push_back(crates_.back());
    }
    for (int i = 0; i < 350; ++i) {
      worlds::Boat boat;
      boat.at = chances_.anywhere();
      boat.bearing = chances_.even(0, 360);
      boat.speed = chances_.even(1, 12);
      boats_.push_back({spawn(world, boat), 0, boat.speed, 0});
      ids_.push_back(boats_.back().id);
    }
  }

  void step(kwind::replica::World& world) override {
    for (const std::uint32_t id : crates_) {
      worlds::Crate& crate = at<worlds::Crate>(id);
      if (chances_.chance(crate.afloat ? 0.005 : 0.0002)) crate.afloat = !crate.afloat;
      if (crate.afloat) crate.at += Eigen::Vector2d(-0.3, 0.2) / rate_ * chances_.even(0.5, 1.5);
      put(world, id);
    }
    for (Heading& heading : boats_) {
      worlds::Boat& boat = at<worlds::Boat>(heading.id);
      switch (family_) {
        case Family::smooth: sail_smoothly(boat, heading); break;
        case Family::jerky: dart(boat, heading); break;
        case Family::stop_and_go: stop_and_go(boat, heading); break;
      }
      if (chances_.chance(1.0 / 300)) boat.lamps = chances_.below(8);
      if (chances_.chance(1.0 / 500)) boat.towing = !boat.towing;
      put(world, heading.id);
    }
  }

  [[nodiscard]] std::vector<kwind::replica::RelevantEntity> view(
      std::size_t client) const override {
    auto& self = const_cast<Families&>(*this);
    const Eigen::Vector2d eye = self.at<worlds::Boat>(boats_[client].id).at;
    std::vector<kwind::replica::RelevantEntity> seen;
    for (const std::uint32_t id : ids_) {
      if (all_seen_ || (place_of(id) - eye).norm() < 256) seen.push_back({id});
    }
    return seen;
  }

 private:
  struct Heading {
    std::uint32_t id = 0;
    double turn = 0;  // degrees a second
    double wish = 0;  // metres a second
    int wait = 0;     // ticks
  };

  // Rate of turn and acceleration wander; the way of a tick is by the mean of its ends.
  void sail_smoothly(worlds::Boat& boat, Heading& heading) {
    const double before_bearing = boat.bearing;
    const double before_speed = boat.speed;
    heading.turn = 0.97 * heading.turn + chances_.normal(3);
    heading.wish = std::clamp(heading.wish + chances_.normal(0.1), 0.5, 14.0);
    boat.bearing += heading.turn / rate_;
    boat.speed += (heading.wish - boat.speed) * 0.5 / rate_;
    go(boat, (before_bearing + boat.bearing) / 2, (before_speed + boat.speed) / 2);
  }
  // New bearing and speed several times a second, at once.
  void dart(worlds::Boat& boat, Heading&) {
    if (chances_.chance(2.5 / rate_)) boat.bearing += chances_.even(-70, 70);
    if (chances_.chance(1.5 / rate_)) boat.speed = chances_.even(0.5, 14);
    go(boat, boat.bearing, boat.speed);
  }
  // Some seconds at full speed on one bearing, some at rest; what is said is the speed to come.
  void stop_and_go(worlds::Boat& boat, Heading& heading) {
    go(boat, boat.bearing, boat.speed);
    if (--heading.wait > 0) return;
    heading.wait = static_cast<int>(chances_.even(1, 4) * rate_);
    boat.speed = boat.speed > 0 ? 0 : chances_.even(3, 12);
    if (boat.speed > 0) boat.bearing += chances_.even(-120, 120);
  }
  void go(worlds::Boat& boat, double bearing, double speed) const {
    const double angle = bearing * std::numbers::pi / 180;
    boat.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * speed / rate_;
    boat.bearing = std::fmod(boat.bearing + 720, 360);
    if (boat.at.cwiseAbs().maxCoeff() > kHarbourSize) {
      boat.at = boat.at.cwiseMax(-kHarbourSize).cwiseMin(kHarbourSize);
      boat.bearing =
          std::fmod(std::atan2(-boat.at[1], -boat.at[0]) * 180 / std::numbers::pi + 360, 360);
    }
  }
  [[nodiscard]] Eigen::Vector2d place_of(std::uint32_t id) const {
    auto& self = const_cast<Families&>(*this);
    const auto& name = kind(id).name;
    if (name == "Post") return self.at<worlds::Post>(id).at;
    if (name == "Crate") return self.at<worlds::Crate>(id).at;
    return self.at<worlds::Boat>(id).at;
  }

  Family family_;
  Chances chances_;
  double rate_;
  bool all_seen_;
  std::vector<std::uint32_t> ids_;
  std::vector<std::uint32_t> crates_;
  std::vector<Heading> boats_;
};

/// 64 skiffs in a regatta, steered by people: rudder and sail change some times a second.
class Regatta final : public TypedMotion<worlds::Skiff> {
 public:
  Regatta(kwind::replica::World& world, std::uint64_t seed, double ticks_per_second)
      : chances_(seed), rate_(ticks_per_second) {
    for (int i = 0; i < 64; ++i) {
      worlds::Skiff skiff;
      skiff.at = chances_.anywhere() / 8;
      skiff.bearing = chances_.even(0, 360);
      skiff.speed = chances_.even(2, 8);
      skiff.hull = 100;
      crews_.push_back({spawn(world, skiff), 0, 5});
    }
  }
  void step(kwind::replica::World& world) override {
    for (Crew& crew : crews_) {
      worlds::Skiff& skiff = at<worlds::Skiff>(crew.id);
      if (chances_.chance(2 / rate_)) crew.turn = chances_.chance(0.4) ? 0 : chances_.even(-90, 90);
      if (chances_.chance(0.7 / rate_)) crew.wish = chances_.even(0, 9);
      if (chances_.chance(0.3 / rate_)) skiff.hull = std::max(0, skiff.hull - chances_.below(9));
      if (skiff.hull == 0) skiff.hull = 100;
      if (chances_.chance(0.2 / rate_)) skiff.horn = !skiff.horn;
      const double most = 6 / rate_;
      skiff.speed += std::clamp(crew.wish - skiff.speed, -most, most);
      skiff.bearing = std::fmod(skiff.bearing + crew.turn / rate_ + 720, 360);
      crew.heel += (crew.turn / 3 - crew.heel) * 3 / rate_;
      skiff.heel = std::round(crew.heel);
      const double angle = skiff.bearing * std::numbers::pi / 180;
      skiff.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * skiff.speed / rate_;
      put(world, crew.id);
    }
  }
  [[nodiscard]] std::vector<kwind::replica::RelevantEntity> view(std::size_t) const override {
    std::vector<kwind::replica::RelevantEntity> seen;
    for (const Crew& crew : crews_) seen.push_back({crew.id});
    return seen;
  }

 private:
  struct Crew {
    std::uint32_t id = 0;
    double turn = 0;  // degrees a second
    double wish = 0;
    double heel = 0;
  };
  Chances chances_;
  double rate_;
  std::vector<Crew> crews_;
};

/// 400 kites that swing and spin in the wind, all in view.
class Kites final : public TypedMotion<worlds::Kite> {
 public:
  Kites(kwind::replica::World& world, std::uint64_t seed, double ticks_per_second)
      : chances_(seed), rate_(ticks_per_second) {
    for (int i = 0; i < 400; ++i) {
      worlds::Kite kite;
      const Eigen::Vector2d over = chances_.anywhere() / 4;
      kite.at = {over[0], over[1], chances_.even(20, 100)};
      kite.turn = Eigen::Quaterniond::UnitRandom();
      strings_.push_back({spawn(world, kite), {0, 0, 0}, {0, 0, 0}, kite.at, kite.turn});
    }
  }
  void step(kwind::replica::World& world) override {
    for (String& string : strings_) {
      for (int i = 0; i < 3; ++i) {
        string.velocity[i] = 0.98 * string.velocity[i] + chances_.normal(0.25);
        string.spin[i] = 0.98 * string.spin[i] + chances_.normal(0.06);  // radians a second
      }
      string.velocity += (string.anchor - string.at) * 0.2 / rate_;
      string.at += string.velocity / rate_;
      const double angle = string.spin.norm();
      if (angle > 0) {
        string.turn =
            string.turn * Eigen::Quaterniond(Eigen::AngleAxisd(angle / rate_, string.spin / angle));
        string.turn.normalize();
      }
      worlds::Kite& kite = at<worlds::Kite>(string.id);
      kite.at = string.at;
      kite.turn = string.turn;
      put(world, string.id);
    }
  }
  [[nodiscard]] std::vector<kwind::replica::RelevantEntity> view(std::size_t) const override {
    std::vector<kwind::replica::RelevantEntity> seen;
    for (const String& string : strings_) seen.push_back({string.id});
    return seen;
  }

 private:
  struct String {
    std::uint32_t id = 0;
    Eigen::Vector3d velocity;
    Eigen::Vector3d spin;
    Eigen::Vector3d anchor;
    Eigen::Quaterniond turn;
    Eigen::Vector3d at = anchor;
  };
  Chances chances_;
  double rate_;
  std::vector<String> strings_;
};

/// 2000 trawlers that cross slowly to where they are sent, all in view of 8 commanders.
class Fleet final : public TypedMotion<worlds::Trawler> {
 public:
  Fleet(kwind::replica::World& world, std::uint64_t seed, double ticks_per_second)
      : chances_(seed), rate_(ticks_per_second) {
    for (int i = 0; i < 2000; ++i) {
      worlds::Trawler trawler;
      trawler.at = chances_.anywhere();
      trawlers_.push_back({spawn(world, trawler), trawler.at});
    }
  }
  void step(kwind::replica::World& world) override {
    for (Trawler& each : trawlers_) {
      worlds::Trawler& trawler = at<worlds::Trawler>(each.id);
      const Eigen::Vector2d way = each.to - trawler.at;
      if (way.norm() > 1) {
        trawler.bearing = std::fmod(std::atan2(way[1], way[0]) * 180 / std::numbers::pi + 360, 360);
        trawler.at += way.normalized() * 3 / rate_;
      } else if (chances_.chance(0.05 / rate_)) {
        each.to = trawler.at + Eigen::Vector2d(chances_.even(-80, 80), chances_.even(-80, 80));
        each.to = each.to.cwiseMax(-kHarbourSize).cwiseMin(kHarbourSize);
        trawler.order = static_cast<worlds::Cargo>(chances_.below(4));
      } else if (chances_.chance(0.3 / rate_)) {
        trawler.fish = (trawler.fish + chances_.below(5)) % 1000;
      }
      put(world, each.id);
    }
  }
  [[nodiscard]] std::vector<kwind::replica::RelevantEntity> view(std::size_t) const override {
    std::vector<kwind::replica::RelevantEntity> seen;
    for (const Trawler& each : trawlers_) seen.push_back({each.id});
    return seen;
  }

 private:
  struct Trawler {
    std::uint32_t id = 0;
    Eigen::Vector2d to;
  };
  Chances chances_;
  double rate_;
  std::vector<Trawler> trawlers_;
};

/// Four players at each of ten tables; each sees all, and the cards of its own hand.
class Inn final : public TypedMotion<worlds::Hand, worlds::Table> {
 public:
  Inn(kwind::replica::World& world, std::uint64_t seed, double ticks_per_second)
      : chances_(seed), rate_(ticks_per_second) {
    for (int i = 0; i < 10; ++i) tables_.push_back(spawn(world, worlds::Table{}));
    for (int i = 0; i < 40; ++i) hands_.push_back(spawn(world, worlds::Hand{}));
  }
  void step(kwind::replica::World& world) override {
    for (std::size_t i = 0; i < tables_.size(); ++i) {
      if (!chances_.chance(2 / rate_)) continue;
      worlds::Table& table = at<worlds::Table>(tables_[i]);
      const std::uint32_t id = hands_[i * 4 + static_cast<std::size_t>(chances_.below(4))];
      worlds::Hand& hand = at<worlds::Hand>(id);
      if (hand.cards.empty()) {
        for (int k = 0; k < 13; ++k)
          hand.cards.push_back({chances_.below(4), 1 + chances_.below(13)});
        if (table.tricks.size() > 39) table.tricks.clear();
      } else {
        const auto which =
            static_cast<std::size_t>(chances_.below(static_cast<std::int32_t>(hand.cards.size())));
        table.tricks.push_back(hand.cards[which]);
        hand.cards.erase(hand.cards.begin() + static_cast<std::ptrdiff_t>(which));
        table.pot = (table.pot + chances_.below(20)) % 10000;
      }
      hand.held = static_cast<std::int32_t>(hand.cards.size());
      if (chances_.chance(0.3)) hand.says = hand.says.size() > 40 ? "hm" : hand.says + " and more";
      put(world, id);
      put(world, tables_[i]);
    }
  }
  [[nodiscard]] std::vector<kwind::replica::RelevantEntity> view(
      std::size_t client) const override {
    std::vector<kwind::replica::RelevantEntity> seen;
    for (const std::uint32_t id : tables_) seen.push_back({id});
    for (std::size_t i = 0; i < hands_.size(); ++i) {
      seen.push_back({.id = hands_[i], .owner = i == client});
    }
    return seen;
  }

 private:
  Chances chances_;
  double rate_;
  std::vector<std::uint32_t> tables_;
  std::vector<std::uint32_t> hands_;
};

}  // namespace lab
