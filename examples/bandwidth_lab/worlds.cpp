// Worlds that differ in kind, beside a simple codec, with tables of another family of motion, and
// the age of what clients show. Usage: bandwidth_worlds [SEED [TICKS]]
#include <cstdlib>
#include <functional>

#include "motions.h"

namespace {

using kwind::replica::CodeTables;
using kwind::replica::SymbolCounts;
using kwind::replica::World;
using lab::Family;
using MotionPtr = std::unique_ptr<lab::Motion>;
using Codes = std::shared_ptr<const CodeTables>;

// A world, its clients and the path to them.
struct Setting {
  std::string name;
  std::function<MotionPtr(World&, std::uint64_t seed)> make;
  std::size_t clients = 10;
  lab::Path path{};
  int share_of_ticks = 1;  // large worlds run for fewer
};

// One setting with one mode of baselines.
lab::Measured run(const Setting& setting, std::uint64_t seed, int ticks, bool speculative,
                  const Codes& codes, SymbolCounts* counts) {
  World world(worlds::kEntities,
              {.ticks_per_second = setting.path.ticks_per_second, .codes = codes});
  const MotionPtr motion = setting.make(world, seed);
  return lab::measure(world, worlds::kEntities, *motion,
                      {.clients = setting.clients,
                       .ticks = ticks / setting.share_of_ticks,
                       .path = setting.path,
                       .seed = seed,
                       .codes = codes,
                       .symbol_counts = counts,
                       .replicator = {.speculative_baselines = speculative},
                       .text = false});
}

enum class Modes : std::uint8_t { exact, speculative, both };

// Codes that fit the traffic of these settings on another day.
Codes trained(const std::vector<Setting>& settings, std::uint64_t seed, int ticks, Modes modes) {
  Codes codes;
  for (int pass = 0; pass < 2; ++pass) {  // predictors, then codes for what these leave
    SymbolCounts all(worlds::kEntities);
    for (const Setting& setting : settings) {
      for (const bool speculative : {false, true}) {
        if (modes == (speculative ? Modes::exact : Modes::speculative)) continue;
        SymbolCounts counts(worlds::kEntities);
        run(setting, seed + 1000, ticks, speculative, codes, &counts);
        all.add(counts);
      }
    }
    codes = std::make_shared<const CodeTables>(SymbolCounts::fitted(worlds::kEntities, all));
  }
  return codes;
}

Setting family(const char* name, Family which, bool all) {
  return {name,
          [which, all](World& world, std::uint64_t seed) {
            return std::make_unique<lab::Families>(world, which, seed, 20, all);
          },
          all ? std::size_t{1} : std::size_t{10},
          {}};
}

std::uint64_t wrong = 0;
std::uint64_t checked = 0;

void line(const Setting& setting, std::uint64_t seed, int ticks,
          const std::vector<Setting>& others) {
  const auto measured = [&](bool speculative, const Codes& codes) {
    const lab::Measured found = run(setting, seed, ticks, speculative, codes, nullptr);
    wrong += found.wrong;
    checked += found.checked;
    return found;
  };
  const lab::Measured plain = measured(false, nullptr);
  const lab::Measured own = measured(false, trained({setting}, seed, ticks, Modes::exact));
  const lab::Measured ahead = measured(true, trained({setting}, seed, ticks, Modes::speculative));
  const Codes one_set = trained({setting}, seed, ticks, Modes::both);
  const double own_of_both = measured(false, one_set).mean;
  const double ahead_of_both = measured(true, one_set).mean;
  const double of_others =
      others.empty() ? 0 : measured(false, trained(others, seed, ticks, Modes::exact)).mean;
  fmt::print(
      "{:<22}{:>7.1f}{:>9.1f}{:>9.1f}{:>9.1f}{:>9}{:>9.1f}{:>16}{:>9.2f} %{:>5}{:>6}{:>8.1f}\n",
      setting.name, own.in_view, own.simple, plain.mean, own.mean,
      of_others > 0 ? fmt::format("{:.1f}", of_others) : "", ahead.mean,
      fmt::format("{:.1f}, {:.1f}", own_of_both, ahead_of_both), own.stale * 100, own.age_p99,
      own.age_worst, own.entropy);
  std::fflush(stdout);
}

// Worlds of other kinds: faster and slower ticks, three dimensions, lists and texts.
std::vector<std::pair<const char*, Setting>> other_worlds() {
  return {
      {"regatta",
       {"regatta, 60 Hz, 1 %",
        [](World& world, std::uint64_t with) {
          return std::make_unique<lab::Regatta>(world, with, 60);
        },
        8,
        {.ticks_per_second = 60, .round_trip_ticks = 6, .loss = 0.01}}},
      {"kites",
       {"kites, 30 Hz, 5 %",
        [](World& world, std::uint64_t with) {
          return std::make_unique<lab::Kites>(world, with, 30);
        },
        2,
        {.ticks_per_second = 30, .round_trip_ticks = 5, .loss = 0.05},
        2}},
      {"fleet",
       {"fleet, 10 Hz, 2 %",
        [](World& world, std::uint64_t with) {
          return std::make_unique<lab::Fleet>(world, with, 10);
        },
        2,
        {.ticks_per_second = 10, .round_trip_ticks = 1, .loss = 0.02},
        4}},
      {"inn",
       {"inn, 20 Hz, 2 %",
        [](World& world, std::uint64_t with) {
          return std::make_unique<lab::Inn>(world, with, 20);
        },
        8,
        {}}},
  };
}

}  // namespace

int main(int argc, char** argv) {
  const std::uint64_t seed = argc > 1 ? std::strtoull(argv[1], nullptr, 10) : 1;
  const int ticks = argc > 2 ? std::atoi(argv[2]) : 400;  // NOLINT
  const std::string only = argc > 3 ? argv[3] : "";
  if (ticks < 4) {
    fmt::print(stderr, "usage: bandwidth_worlds [SEED [TICKS [WORLD]]], four ticks at least\n");
    return 2;
  }
  const Setting smooth = family("smooth", Family::smooth, false);
  const Setting jerky = family("jerky", Family::jerky, false);
  const Setting stops = family("stop and go", Family::stop_and_go, false);
  fmt::print("seed {}, {} ticks; bytes of snapshots per client and tick, age in ticks\n\n", seed,
             ticks);
  fmt::print("{:<22}{:>7}{:>9}{:>9}{:>9}{:>9}{:>9}{:>16}{:>11}{:>5}{:>6}{:>8}\n", "world",
             "in view", "simple", "built-in", "trained", "others'", "specul.", "one set", "stale",
             "p99", "worst", "entropy");
  const auto wanted = [&](const char* name) { return only.empty() || only == name; };
  if (wanted("smooth")) line(smooth, seed, ticks, {jerky, stops});
  if (wanted("jerky")) line(jerky, seed, ticks, {smooth, stops});
  if (wanted("stop")) line(stops, seed, ticks, {smooth, jerky});
  if (wanted("all")) line(family("smooth, all 1300", Family::smooth, true), seed, ticks, {});
  if (wanted("jerkyall")) line(family("jerky, all 1300", Family::jerky, true), seed, ticks, {});
  for (const auto& [name, setting] : other_worlds()) {
    if (wanted(name)) line(setting, seed, ticks, {});
  }
  fmt::print("\n{} values compared with the server's, {} differ\n", checked, wrong);
  return wrong == 0 ? 0 : 1;
}
