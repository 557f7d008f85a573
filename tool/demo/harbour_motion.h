// The reference world in motion: what gulls, barges, crates and tugs do. The same seed gives the
// same day, but for the tugs that pilots steer. Pure.
#pragma once
#include <cstdint>
#include <map>
#include <random>
#include <string>
#include <variant>
#include <vector>

#include "harbour/motion.h"
#include "harbour_world.h"
#include "kwind/replica/world.h"

namespace kwind::demo {

inline constexpr unsigned kTicksPerSecond = 20;

using Anyone = std::variant<harbour_world::Post, harbour_world::Crate, harbour_world::Gull,
                            harbour_world::Barge, harbour_world::Tug>;

/// FNV-1a over what a value is in bits: the same for values that are the same once quantised.
template <class T>
std::uint64_t print_of(const T& value) {
  std::array<std::byte, 256> memory{};
  schema::Encoder out{bits::Writer(memory)};
  encode(out, value);
  const std::size_t size = out.finish();
  std::uint64_t print = 0xcbf29ce484222325U;
  for (std::size_t i = 0; i < size; ++i) {
    print = (print ^ std::to_integer<std::uint64_t>(memory[i])) * 0x100000001b3U;
  }
  return print;
}

class HarbourMotion {
 public:
  struct Actor {
    schema::AnyRef ref;
    Anyone value;
    harbour_motion::Drive drive{};
    bool steered = false;
    harbour_world::Helm helm{};
  };

  HarbourMotion(replica::World& world, std::uint64_t seed);

  /// A tug for a pilot; nothing if all 40 are taken.
  std::optional<schema::AnyRef> take_tug(const std::string& name);
  void give_back(schema::AnyRef tug);
  void steer(schema::AnyRef tug, const harbour_world::Helm& helm);

  /// More of everything but tugs, until there are so many entities or no more ids.
  void fill_up_to(std::size_t entities);

  /// Puts the next tick's values; with `frozen` all stands as it is.
  void step(bool frozen);
  [[nodiscard]] const std::map<std::uint32_t, Actor>& all() const { return all_; }

 private:
  void come_to_rest(Actor& actor);
  void move(Actor& actor);
  void move(Actor& actor, harbour_world::Tug& tug);

  replica::World& world_;
  harbour_motion::Motion motion_;
  std::map<std::uint32_t, Actor> all_;  // by id
};

/// Steers as a person might: holds a history for a while, then chooses another.
class Pilot {
 public:
  explicit Pilot(std::uint64_t seed) : random_(seed) {}

  harbour_world::Helm steer() {
    if (ticks_left_-- == 0) {
      ticks_left_ = 10 + static_cast<unsigned>(random_() % 50);
      helm_.rudder = random_() % 2 == 0 ? 0 : static_cast<double>(random_() % 129) / 64.0 - 1;
      helm_.throttle = 30 + static_cast<std::int32_t>(random_() % 71);
    }
    return helm_;
  }

 private:
  std::mt19937_64 random_;
  unsigned ticks_left_ = 0;
  harbour_world::Helm helm_;
};

}  // namespace kwind::demo
