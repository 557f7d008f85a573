// How the reference world moves: 1300 entities in 1.8 km of harbour. For any kinds that have the
// fields of harbour_world.kw. Pure; the same seed gives the same day.
#pragma once
#include <Eigen/Core>
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <numbers>
#include <random>

namespace harbour_motion {

inline constexpr double kTicksPerSecond = 20;
inline constexpr double kSize = 880;      // metres of water each way, from its middle
inline constexpr double kInterest = 256;  // metres that a client sees

/// What is going on in who steers an entity.
struct Drive {
  double turn = 0;  ///< degrees a tick
  double wish = 3;  ///< speed, metres a second
};

/// Moves a thing on by a tick, by its own speed and bearing. At the sea wall it turns back.
template <class T>
void move_on(T& one) {
  one.bearing = std::fmod(one.bearing + 720, 360);
  const double angle = one.bearing * std::numbers::pi / 180;
  one.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * one.speed / kTicksPerSecond;
  if (one.at.cwiseAbs().maxCoeff() > kSize) {
    one.bearing = std::fmod(std::atan2(-one.at[1], -one.at[0]) * 180 / std::numbers::pi + 360, 360);
  }
}

class Motion {
 public:
  explicit Motion(std::uint64_t seed) : random_(seed) {}

  /// Hands all 1300 to `spawn`, kind by kind.
  template <class Post, class Crate, class Gull, class Barge, class Tug, class Spawn>
  void populate(const Spawn& spawn) {
    for (int i = 0; i < 700; ++i) spawn(Post{anywhere()});
    for (int i = 0; i < 250; ++i) {
      Crate crate;
      crate.at = anywhere();
      crate.cargo = cargo<Crate>();
      spawn(crate);
    }
    for (int i = 0; i < 250; ++i) spawn(Gull{even(0, 360), even(6, 12), anywhere(), false});
    for (int i = 0; i < 60; ++i) {
      const auto load = cargo<Barge>();
      spawn(Barge{even(0, 360), even(0, 3), anywhere(), load, 50});
    }
    for (int i = 0; i < 40; ++i) spawn(Tug{even(0, 360), even(0, 6), anywhere(), 1, false});
  }

  /// One more, in the shares of the 1300 but for tugs, which are for pilots.
  template <class Post, class Crate, class Gull, class Barge, class Spawn>
  void add_one(const Spawn& spawn) {
    const double which = even(0, 1260);
    if (which < 700) return spawn(Post{anywhere()});
    if (which < 950) {
      Crate crate;
      crate.at = anywhere();
      crate.cargo = cargo<Crate>();
      return spawn(crate);
    }
    if (which < 1200) return spawn(Gull{even(0, 360), even(6, 12), anywhere(), false});
    const auto load = cargo<Barge>();
    spawn(Barge{even(0, 360), even(0, 3), anywhere(), load, 50});
  }

  /// A few drift with the tide, each for a while.
  template <class Crate>
  void crate(Crate& crate) {
    if (chance(crate.afloat ? 1.0 / 200 : 1.0 / 6500)) crate.afloat = !crate.afloat;
    if (crate.afloat) crate.at += Eigen::Vector2d(0.4, 0.15) / kTicksPerSecond * even(0.5, 1.5);
  }
  /// A turn that wanders, up to 40 degrees a second either way.
  template <class Gull>
  void gull(Gull& gull, Drive& drive) {
    drive.turn = std::clamp(drive.turn * 0.98 + even(-0.25, 0.25), -2.0, 2.0);
    gull.bearing += drive.turn;
    if (chance(1.0 / 200)) gull.speed = std::clamp(gull.speed + even(-1, 1), 6.0, 12.0);
    if (chance(1.0 / 400)) gull.hungry = !gull.hungry;
    move_on(gull);
  }
  template <class Barge>
  void barge(Barge& barge, Drive& drive) {
    if (chance(1.0 / 400)) drive.turn = even(-0.2, 0.2);
    if (chance(1.0 / 600)) drive.wish = chance(0.4) ? 0 : even(1, 3);
    barge.speed += std::clamp(drive.wish - barge.speed, -0.02, 0.02);
    if (barge.speed > 0.1) barge.bearing += drive.turn;
    move_on(barge);
  }
  /// Its pilot moves the rudder now and then and holds it for a while.
  template <class Tug>
  void tug(Tug& tug, Drive& drive) {
    if (chance(1.0 / 25)) drive.turn = chance(0.5) ? 0 : even(-1.5, 1.5);
    if (chance(1.0 / 60)) drive.wish = even(0, 8);
    lamps(tug);
    tug.speed += std::clamp(drive.wish - tug.speed, -0.1, 0.1);
    if (tug.speed > 0.1) tug.bearing += drive.turn;
    move_on(tug);
  }
  template <class Tug>
  void lamps(Tug& tug) {
    if (chance(1.0 / 300)) tug.lamps = static_cast<std::int32_t>(random_() % 8);
  }

 private:
  template <class T>
  auto cargo() {
    return static_cast<decltype(T::cargo)>(random_() % 4);
  }
  Eigen::Vector2d anywhere() {
    const double first = even(-kSize, kSize);
    return {first, even(-kSize, kSize)};
  }
  double even(double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random_);
  }
  bool chance(double share) { return even(0, 1) < share; }

  std::mt19937_64 random_;
};

}  // namespace harbour_motion
