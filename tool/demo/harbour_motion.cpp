#include "harbour_motion.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace kwind::demo {
namespace {

using harbour_world::Barge;
using harbour_world::Cargo;
using harbour_world::Crate;
using harbour_world::Gull;
using harbour_world::Post;
using harbour_world::Tug;

constexpr double kSize = 880;  // of the water, from its middle
constexpr double kSeconds = 1.0 / kTicksPerSecond;

}  // namespace

template <class T>
void HarbourMotion::spawn(const T& value) {
  const auto ref = world_.spawn(value);
  KWIND_ASSERT(ref.has_value());
  all_[ref->id] = {*ref, value};
}

HarbourMotion::HarbourMotion(replica::World& world, std::uint64_t seed)
    : world_(world), random_(seed) {
  const auto cargo = [&] { return static_cast<Cargo>(random_() % 4); };
  for (int i = 0; i < 700; ++i) spawn(Post{anywhere()});
  for (int i = 0; i < 250; ++i) {
    const Eigen::Vector2d at = anywhere();
    spawn(Crate{at, cargo(), false});
  }
  for (int i = 0; i < 250; ++i) {
    const double bearing = even(0, 360);
    const double speed = even(6, 12);
    spawn(Gull{bearing, speed, anywhere(), false});
  }
  for (int i = 0; i < 60; ++i) {
    const double bearing = even(0, 360);
    const double speed = even(0, 3);
    const Eigen::Vector2d at = anywhere();
    spawn(Barge{bearing, speed, at, cargo(), 50});
  }
  for (int i = 0; i < 40; ++i) {
    Tug tug;
    tug.bearing = even(0, 360);
    tug.speed = even(0, 6);
    tug.at = anywhere();
    tug.name = "Harbour tug " + std::to_string(i + 1);
    spawn(tug);
  }
}

std::optional<schema::AnyRef> HarbourMotion::take_tug(const std::string& name) {
  for (auto& [id, actor] : all_) {
    const auto* const old = std::get_if<Tug>(&actor.value);
    if (old == nullptr || actor.steered) continue;
    // The name travels once, when a tug appears: so another one appears in the place of this.
    Tug tug = *old;
    tug.name = name;
    world_.despawn(actor.ref);
    all_.erase(id);
    const auto ref = world_.spawn(tug);
    if (!ref) return std::nullopt;
    Actor made{*ref, tug};
    made.steered = true;
    all_[ref->id] = made;
    return *ref;
  }
  return std::nullopt;
}

void HarbourMotion::give_back(schema::AnyRef tug) {
  const auto found = all_.find(tug.id);
  if (found != all_.end()) found->second.steered = false;
}
void HarbourMotion::steer(schema::AnyRef tug, const harbour_world::Helm& helm) {
  const auto found = all_.find(tug.id);
  if (found != all_.end()) found->second.helm = helm;
}

void HarbourMotion::step(bool frozen) {
  if (frozen) {
    for (auto& [id, actor] : all_) come_to_rest(actor);
    return;
  }
  for (auto& [id, actor] : all_) {
    if (auto* const crate = std::get_if<Crate>(&actor.value)) {
      move_crate(actor, *crate);
    } else if (auto* const gull = std::get_if<Gull>(&actor.value)) {
      move_gull(actor, *gull);
    } else if (auto* const barge = std::get_if<Barge>(&actor.value)) {
      move_barge(actor, *barge);
    } else if (auto* const tug = std::get_if<Tug>(&actor.value)) {
      move_tug(actor, *tug);
    }
  }
}

void HarbourMotion::come_to_rest(Actor& actor) {
  const auto rest = [&]<class T>(T& value) {
    if constexpr (requires { value.speed; }) {
      value.speed = 0;
      world_.put(schema::Ref<T>{actor.ref.id, actor.ref.generation}, value);
    }
  };
  std::visit(rest, actor.value);
}

// A few drift with the tide, each for a while.
void HarbourMotion::move_crate(Actor& actor, Crate& crate) {
  if (chance(crate.afloat ? 1.0 / 200 : 1.0 / 6500)) crate.afloat = !crate.afloat;
  if (crate.afloat) crate.at += Eigen::Vector2d(0.4, 0.15) * kSeconds * even(0.5, 1.5);
  world_.put(schema::Ref<Crate>{actor.ref.id, actor.ref.generation}, crate);
}

// A turn that wanders, up to 40 degrees a second either way.
void HarbourMotion::move_gull(Actor& actor, Gull& gull) {
  actor.turn = std::clamp(actor.turn * 0.98 + even(-0.25, 0.25), -2.0, 2.0);
  gull.bearing += actor.turn;
  if (chance(1.0 / 200)) gull.speed = std::clamp(gull.speed + even(-1, 1), 6.0, 12.0);
  if (chance(1.0 / 400)) gull.hungry = !gull.hungry;
  move_on(gull);
  world_.put(schema::Ref<Gull>{actor.ref.id, actor.ref.generation}, gull);
}

void HarbourMotion::move_barge(Actor& actor, Barge& barge) {
  if (chance(1.0 / 400)) actor.turn = even(-0.2, 0.2);
  if (chance(1.0 / 600)) actor.wish = chance(0.4) ? 0 : even(1, 3);
  barge.speed += std::clamp(actor.wish - barge.speed, -0.02, 0.02);
  if (barge.speed > 0.1) barge.bearing += actor.turn;
  move_on(barge);
  world_.put(schema::Ref<Barge>{actor.ref.id, actor.ref.generation}, barge);
}

void HarbourMotion::move_tug(Actor& actor, Tug& tug) {
  if (actor.steered) {
    tug.speed += std::clamp(actor.helm.throttle / 100.0 * 9 - tug.speed, -0.15, 0.15);
    tug.bearing += 30 * actor.helm.rudder * kSeconds;
  } else {
    // A pilot moves the rudder now and then and holds it for a while.
    if (chance(1.0 / 25)) actor.turn = chance(0.5) ? 0 : even(-1.5, 1.5);
    if (chance(1.0 / 60)) actor.wish = even(0, 8);
    tug.speed += std::clamp(actor.wish - tug.speed, -0.1, 0.1);
    if (tug.speed > 0.1) tug.bearing += actor.turn;
  }
  if (chance(1.0 / 300)) tug.lamps = static_cast<std::int32_t>(random_() % 8);
  move_on(tug);
  world_.put(schema::Ref<Tug>{actor.ref.id, actor.ref.generation}, tug);
}

template <class T>
void HarbourMotion::move_on(T& one) {
  one.bearing = std::fmod(one.bearing + 720, 360);
  const double angle = one.bearing * std::numbers::pi / 180;
  one.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * one.speed * kSeconds;
  // At the sea wall they turn back.
  if (one.at.cwiseAbs().maxCoeff() > kSize) {
    one.bearing = std::fmod(std::atan2(-one.at[1], -one.at[0]) * 180 / std::numbers::pi + 360, 360);
  }
}

Eigen::Vector2d HarbourMotion::anywhere() {
  const double north = even(-kSize, kSize);
  return {north, even(-kSize, kSize)};
}
double HarbourMotion::even(double low, double high) {
  return std::uniform_real_distribution<double>(low, high)(random_);
}

}  // namespace kwind::demo
