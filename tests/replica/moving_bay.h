// A small bay in motion, and what its entities held at every tick, for tests of replica: the same
// seed gives the same motion.
#pragma once
#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <cstdint>
#include <map>
#include <numbers>
#include <random>
#include <string>
#include <type_traits>
#include <utility>
#include <variant>
#include <vector>

#include "bay.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/world.h"

namespace kwind::kit {

using Anyone = std::variant<bay::Pile, bay::Crate, bay::Gull, bay::Tug, bay::Punt, bay::Chart,
                            bay::Ledger, bay::Kite, bay::Gust, bay::Swift, bay::Raft>;

/// What `value` is in bits: the same for values that are the same once quantised.
template <class T>
std::vector<std::byte> bits_of(const T& value, schema::View view) {
  std::vector<std::byte> memory(
      std::is_same_v<T, bay::Chart> || std::is_same_v<T, bay::Ledger> ? 16384 : 512);
  schema::Encoder out(bits::Writer(memory), bits::Policy::clamp, schema::kNewest, view);
  encode(out, value);
  memory.resize(out.finish());
  return memory;
}

class MovingBay {
 public:
  explicit MovingBay(std::uint64_t seed, std::shared_ptr<const replica::CodeTables> codes = nullptr)
      : random_(seed), world_(bay::kEntities, {.codes = std::move(codes)}) {}

  replica::World& world() { return world_; }
  struct Inhabitant {
    schema::AnyRef ref;
    Anyone value;
  };
  [[nodiscard]] const std::map<std::uint32_t, Inhabitant>& all() const { return all_; }

  template <class T>
  std::uint32_t spawn(const T& value) {
    const auto ref = world_.spawn(value);
    if (!ref) return 0;
    all_.insert_or_assign(ref->id, Inhabitant{*ref, value});
    return ref->id;
  }
  void despawn(std::uint32_t id) {
    world_.despawn(all_.at(id).ref);
    all_.erase(id);
  }
  template <class T>
  void put(std::uint32_t id, const T& value) {
    Inhabitant& one = all_.at(id);
    world_.put(schema::Ref<T>{one.ref.id, one.ref.generation}, value);
    one.value = value;
  }

  void populate(int piles, int crates, int gulls, int tugs, int punts = 0, int kites = 0,
                int drifters = 0) {
    for (int i = 0; i < piles; ++i) spawn(bay::Pile{place()});
    for (int i = 0; i < crates; ++i) spawn(crate());
    for (int i = 0; i < gulls; ++i) spawn(gull());
    for (int i = 0; i < tugs; ++i) spawn(tug());
    for (int i = 0; i < punts; ++i) spawn(punt());
    for (int i = 0; i < punts; i += 4) {
      spawn(bay::Raft{Eigen::Vector2d(even(-3, 3), even(-3, 3)), place()});
    }
    for (int i = 0; i < kites; ++i) spawn(kite());
    for (int i = 0; i < drifters; ++i) {
      spawn(bay::Gust{Eigen::Vector3d(even(-6, 6), even(-6, 6), even(-1, 1)), place_above()});
      spawn(bay::Swift{anywhere(), even(4, 12), place_above()});
    }
  }

  /// Takes all ids that are left: whoever comes from now on gets one that somebody had.
  void fill_up() {
    while (world_.spawn(bay::Pile{{0, 0}})) {
    }
  }

  /// Moves all that moves by a twentieth of a second, changes a few things at random, and ends the
  /// tick.
  void step(double comings_and_goings = 0) {
    for (auto& [id, one] : all_) {
      if (auto* gull = std::get_if<bay::Gull>(&one.value)) {
        gull->bearing += even(-4, 4);
        if (chance(0.01)) gull->hungry = !gull->hungry;
        move(*gull);
        put(id, bay::Gull(*gull));
      } else if (auto* tug = std::get_if<bay::Tug>(&one.value)) {
        if (chance(0.05)) turns_[id] = even(-3, 3);
        tug->bearing += turns_[id];
        if (chance(0.1)) tug->speed = std::clamp(tug->speed + even(-1, 1), 0.0, 12.0);
        if (chance(0.2)) tug->fuel = std::max(tug->fuel - 1, 0);
        if (chance(0.02)) {
          const std::size_t count = random_() % 5;
          tug->lamps.assign(count, static_cast<std::int32_t>(random_() % 8));
        }
        move(*tug);
        put(id, bay::Tug(*tug));
      } else if (auto* punt = std::get_if<bay::Punt>(&one.value)) {
        if (chance(0.05)) turns_[id] = even(-1, 1);
        punt->bearing += turns_[id];
        if (chance(0.05)) punt->speed = std::clamp(punt->speed + even(-1, 1), 0.0, 8.0);
        if (chance(0.01)) punt->cargo = static_cast<bay::Cargo>(random_() % 4);
        move(*punt);
        put(id, bay::Punt(*punt));
      } else if (auto* gust = std::get_if<bay::Gust>(&one.value)) {
        if (chance(0.1)) gust->drift += Eigen::Vector3d(even(-2, 2), even(-2, 2), even(-1, 1));
        drift(*gust);
        put(id, bay::Gust(*gust));
      } else if (auto* swift = std::get_if<bay::Swift>(&one.value)) {
        const Eigen::Vector3d axis = Eigen::Vector3d::Unit(static_cast<int>(random_() % 3));
        if (chance(0.3)) swift->heading = Eigen::AngleAxisd(even(0, 0.2), axis) * swift->heading;
        swift->at += swift->heading * swift->speed / 20;
        if (swift->at.cwiseAbs().maxCoeff() > 500) swift->at = place_above();
        put(id, bay::Swift(*swift));
      } else if (auto* raft = std::get_if<bay::Raft>(&one.value)) {
        if (chance(0.05)) raft->drift += Eigen::Vector2d(even(-1, 1), even(-1, 1));
        drift(*raft);
        put(id, bay::Raft(*raft));
      } else if (auto* kite = std::get_if<bay::Kite>(&one.value)) {
        fly(*kite);
        put(id, bay::Kite(*kite));
      } else if (auto* crate = std::get_if<bay::Crate>(&one.value);
                 crate != nullptr && chance(0.02)) {
        crate->at += Eigen::Vector2d{even(-1, 1), even(-1, 1)};  // in this order
        if (chance(0.3)) crate->label = "crate " + std::to_string(random_() % 100);
        put(id, bay::Crate(*crate));
      } else if (auto* chart = std::get_if<bay::Chart>(&one.value);
                 chart != nullptr && chance(0.3)) {
        pencil(*chart);
        put(id, bay::Chart(*chart));
      } else if (auto* ledger = std::get_if<bay::Ledger>(&one.value);
                 ledger != nullptr && chance(0.05)) {
        write(*ledger);
        put(id, bay::Ledger(*ledger));
      }
    }
    if (chance(comings_and_goings) && !all_.empty()) {
      auto victim = all_.begin();
      std::advance(victim, static_cast<std::ptrdiff_t>(random_() % all_.size()));
      despawn(victim->first);
    }
    if (chance(comings_and_goings)) {
      switch (random_() % 4) {
        case 0: spawn(bay::Pile{place()}); break;
        case 1: spawn(crate()); break;
        case 2: spawn(gull()); break;
        default: spawn(tug()); break;
      }
    }
    stand_still();
  }
  /// Ends a tick in which nothing moved by itself.
  void stand_still() {
    const std::uint32_t tick = world_.tick();
    for (const auto& [id, one] : all_) history_[{id, tick}] = one.value;
    world_.end_tick();
  }

  /// A stroke across the chart; now and then one of the depths, or all inks anew.
  void pencil(bay::Chart& chart) {
    std::size_t x = random_() % 48;
    std::size_t y = random_() % 48;
    const auto ink = static_cast<bay::Ink>(random_() % 3);
    for (std::uint64_t left = random_() % 8; left > 0; --left) {
      chart.inks.at(static_cast<std::uint32_t>(x), static_cast<std::uint32_t>(y)) = ink;
      x = (x + random_() % 2) % 48;
      y = (y + random_() % 2) % 48;
    }
    if (chance(0.1)) {
      for (bay::Ink& cell : chart.inks.cells()) cell = static_cast<bay::Ink>(random_() % 3);
    }
    if (chance(0.2)) chart.depths.cells()[random_() % 144] = even(0, 16);
  }
  /// Another page number, and mostly another text of up to `most` letters.
  void write(bay::Ledger& ledger, std::size_t max = 3000) {
    ledger.page = static_cast<std::int32_t>(random_() % 1001);
    if (chance(0.3)) return;
    ledger.lines.resize(random_() % max);
    for (char& letter : ledger.lines) letter = static_cast<char>('a' + random_() % 26);
  }

  [[nodiscard]] const Anyone* at(std::uint32_t id, std::uint32_t tick) const {
    const auto found = history_.find({id, tick});
    return found == history_.end() ? nullptr : &found->second;
  }
  std::mt19937_64& random() { return random_; }
  bool chance(double share) { return even(0, 1) < share; }
  double even(double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random_);
  }

 private:
  Eigen::Vector2d place() { return {even(-500, 500), even(-500, 500)}; }
  Eigen::Vector3d place_above() { return {even(-500, 500), even(-500, 500), even(0, 100)}; }
  Eigen::Vector3d anywhere() {
    return Eigen::Vector3d(even(-1, 1), even(-1, 1), even(-1, 1)).normalized();
  }
  template <class T>
  static void drift(T& one) {
    const auto last = one.drift.size() == 3 ? 12.0 : 6.0;
    one.drift = one.drift.cwiseMax(-last).cwiseMin(last);
    one.at += one.drift / 20;
    if (one.at.cwiseAbs().maxCoeff() > 500) one.at.setZero();
  }
  bay::Crate crate() {
    return {place(), static_cast<bay::Cargo>(random_() % 4),
            "crate " + std::to_string(random_() % 100)};
  }
  bay::Gull gull() { return {even(0, 360), even(6, 12), place(), chance(0.5)}; }
  bay::Tug tug() {
    bay::Tug tug;
    tug.name = "tug " + std::to_string(random_() % 100);
    tug.bearing = even(0, 360);
    tug.speed = even(0, 10);
    tug.at = place();
    tug.fuel = 1000;
    return tug;
  }
  bay::Kite kite() {
    const Eigen::Vector2d over = place();
    bay::Kite kite;
    kite.at = {over[0], over[1], even(0, 100)};
    kite.turn = Eigen::Quaterniond(even(-1, 1), even(-1, 1), even(-1, 1), even(-1, 1)).normalized();
    kite.held = kite.turn;
    kite.toward = Eigen::Vector3d(even(-1, 1), even(-1, 1), even(-1, 1)).normalized();
    return kite;
  }
  // Spins about one of its axes, and its list and note change here and there.
  void fly(bay::Kite& kite) {
    if (chance(0.1)) return;
    const Eigen::Vector3d axis = Eigen::Vector3d::Unit(static_cast<int>(random_() % 8 / 3));
    kite.at += Eigen::Vector3d(even(0, 1), even(0, 1), even(-1, 1));
    if (kite.at.cwiseAbs().maxCoeff() > 500) kite.at = {0, 0, 0};
    kite.turn = kite.turn * Eigen::Quaterniond(Eigen::AngleAxisd(even(0, 0.3), axis));
    kite.toward = Eigen::AngleAxisd(even(0, 0.2), axis) * kite.toward;
    if (chance(0.1)) kite.held = kite.turn;
    if (chance(0.2) && kite.flags.size() < 20) {
      const auto place = static_cast<std::ptrdiff_t>(random_() % (kite.flags.size() + 1));
      kite.flags.insert(kite.flags.begin() + place, static_cast<bay::Ink>(random_() % 3));
    }
    if (chance(0.1) && !kite.flags.empty()) {
      kite.flags.erase(kite.flags.begin() +
                       static_cast<std::ptrdiff_t>(random_() % kite.flags.size()));
    }
    if (chance(0.1) && !kite.flags.empty()) {
      kite.flags[random_() % kite.flags.size()] = static_cast<bay::Ink>(random_() % 3);
    }
    if (chance(0.05)) kite.flags.clear();
    if (chance(0.1)) {
      kite.note = chance(0.2)
                      ? std::nullopt
                      : std::optional<std::string>("wind " + std::to_string(random_() % 40));
    }
  }
  bay::Punt punt() { return {even(0, 360), even(0, 6), place(), bay::Cargo::fish}; }
  template <class T>
  void move(T& one) {
    one.bearing = std::fmod(one.bearing + 360, 360);
    const double angle = one.bearing * std::numbers::pi / 180;
    one.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * one.speed / 20;
    if (std::abs(one.at[0]) > 500 || std::abs(one.at[1]) > 500) one.at = place();
  }

  std::mt19937_64 random_;
  replica::World world_;
  std::map<std::uint32_t, Inhabitant> all_;
  std::map<std::uint32_t, double> turns_;
  std::map<std::pair<std::uint32_t, std::uint32_t>, Anyone> history_;
};

/// Why a client world does not hold what the bay held at the tick that the client world names,
/// entity by entity; empty if it does.
inline std::string difference(const replica::ClientWorld& client_world, const MovingBay& bay) {
  for (const schema::AnyRef& ref : client_world.entities()) {
    const std::uint32_t tick = client_world.state_tick(ref);
    const Anyone* const true_value = bay.at(ref.id, tick);
    const auto here = [&] {
      return "entity " + std::to_string(ref.id) + " as of tick " + std::to_string(tick);
    };
    if (true_value == nullptr) return here() + " did not exist";
    std::string wrong = std::visit(
        [&](const auto& value) -> std::string {
          using T = std::decay_t<decltype(value)>;
          const auto held = client_world.get(schema::Ref<T>{ref.id, ref.generation});
          if (!held) return here() + " is of another kind";
          const schema::View view =
              client_world.owns(ref) ? schema::View::owner : schema::View::others;
          if (bits_of(*held, view) == bits_of(value, view)) return "";
          return here() + " differs";
        },
        *true_value);
    if (!wrong.empty()) return wrong;
  }
  return "";
}

}  // namespace kwind::kit
