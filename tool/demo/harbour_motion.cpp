// Moves the entities of the reference world by a seeded generator.
#include "harbour_motion.h"

#include <fmt/format.h>

#include <algorithm>
#include <type_traits>

namespace kwind::demo {
namespace {

using harbour_world::Barge;
using harbour_world::Crate;
using harbour_world::Gull;
using harbour_world::Post;
using harbour_world::Tug;

static_assert(kTicksPerSecond == harbour_motion::kTicksPerSecond);

}  // namespace

HarbourMotion::HarbourMotion(replica::World& world, std::uint64_t seed)
    : world_(world), motion_(seed) {
  int tugs = 0;
  motion_.populate<Post, Crate, Gull, Barge, Tug>([&]<class T>(T value) {
    if constexpr (std::is_same_v<T, Tug>) value.name = fmt::format("Harbour tug {}", ++tugs);
    const auto ref = world_.spawn(value);
    KWIND_ASSERT(ref.has_value());
    all_[ref->id] = {*ref, value};
  });
}

// Further entities for load tests, of all types but tugs.
void HarbourMotion::fill_up_to(std::size_t entities) {
  bool full = false;
  while (all_.size() < entities && !full) {
    motion_.add_one<Post, Crate, Gull, Barge>([&]<class T>(const T& value) {
      const auto ref = world_.spawn(value);
      full = !ref.has_value();
      if (ref) all_[ref->id] = {*ref, value};
    });
  }
}

// A free tug is replaced by one with the player's name, which travels at spawn alone.
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

// Frozen: everything keeps its place, so that copies can be compared at rest.
void HarbourMotion::step(bool frozen) {
  for (auto& [id, actor] : all_) {
    if (frozen) {
      come_to_rest(actor);
    } else {
      move(actor);
    }
  }
}

// Speeds become 0, or clients would extrapolate.
void HarbourMotion::come_to_rest(Actor& actor) {
  const auto rest = [&]<class T>(T& value) {
    if constexpr (requires { value.speed; }) {
      value.speed = 0;
      world_.put(schema::Ref<T>{actor.ref.id, actor.ref.generation}, value);
    }
  };
  std::visit(rest, actor.value);
}

// Types move by rules of their own; posts do not move.
void HarbourMotion::move(Actor& actor) {
  const auto on = [&]<class T>(T& value) {
    if constexpr (std::is_same_v<T, Post>) return;
    if constexpr (std::is_same_v<T, Crate>) motion_.crate(value);
    if constexpr (std::is_same_v<T, Gull>) motion_.gull(value, actor.drive);
    if constexpr (std::is_same_v<T, Barge>) motion_.barge(value, actor.drive);
    if constexpr (std::is_same_v<T, Tug>) move(actor, value);
    world_.put(schema::Ref<T>{actor.ref.id, actor.ref.generation}, value);
  };
  std::visit(on, actor.value);
}

// A steered tug follows its helm, others steer themselves.
void HarbourMotion::move(Actor& actor, Tug& tug) {
  if (!actor.steered) return motion_.tug(tug, actor.drive);
  tug.speed += std::clamp(actor.helm.throttle / 100.0 * 9 - tug.speed, -0.15, 0.15);
  tug.bearing += 30 * actor.helm.rudder / kTicksPerSecond;
  motion_.lamps(tug);
  harbour_motion::move_on(tug);
}

}  // namespace kwind::demo
