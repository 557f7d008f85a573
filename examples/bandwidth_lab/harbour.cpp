// The reference world: 1300 entities in 2 km of harbour, of which a client sees 256 m around its
// tug. Usage: bandwidth_lab [SEED [TICKS]]
#include <cstdlib>

#include "reference_world.h"

namespace {

using lab::Exact;
using lab::Harbour;
using lab::Tolerant;

struct Settings {
  std::uint64_t seed = 1;
  int ticks = 600;
  std::size_t clients = 10;
  bool all_seen = false;
  bool speculative_baselines = false;
};

// One day in the harbour. `Kinds` says whether its entities are exact or have tolerances; with
// `symbol_counts` the symbols are counted for training.
template <class Kinds>
lab::Measured run(const Settings& settings,
                  const std::shared_ptr<const kwind::replica::CodeTables>& codes,
                  kwind::replica::SymbolCounts* symbol_counts = nullptr) {
  kwind::replica::World world(Kinds::kAll, {.ticks_per_second = 20, .codes = codes});
  Harbour<Kinds> harbour(world, settings.seed, settings.all_seen);
  return lab::measure(world, Kinds::kAll, harbour,
                      {.clients = settings.clients,
                       .ticks = settings.ticks,
                       .seed = settings.seed,
                       .codes = codes,
                       .symbol_counts = symbol_counts,
                       .replicator = {.speculative_baselines = settings.speculative_baselines},
                       .text = symbol_counts == nullptr,
                       .exact = std::is_same_v<Kinds, Exact>});
}

// Codes that fit the traffic of another seed.
template <class Kinds>
std::shared_ptr<const kwind::replica::CodeTables> trained(Settings settings) {
  kwind::replica::SymbolCounts symbol_counts(Kinds::kAll);
  settings.seed += 1000;
  run<Kinds>(settings, nullptr, &symbol_counts);
  // First the predictors, then codes for the residuals that these leave.
  const auto predictors = std::make_shared<const kwind::replica::CodeTables>(
      kwind::replica::SymbolCounts::fitted(Kinds::kAll, symbol_counts));
  run<Kinds>(settings, predictors, &symbol_counts);
  return std::make_shared<const kwind::replica::CodeTables>(
      kwind::replica::SymbolCounts::fitted(Kinds::kAll, symbol_counts));
}

}  // namespace

int main(int argc, char** argv) {
  Settings settings;
  if (argc > 1) settings.seed = std::strtoull(argv[1], nullptr, 10);
  if (argc > 2) settings.ticks = std::atoi(argv[2]);  // NOLINT
  if (settings.ticks < 1) {
    fmt::print(stderr, "usage: bandwidth_lab [SEED [TICKS]], one tick at least\n");
    return 2;
  }
  Settings speculative_baselines = settings;
  speculative_baselines.speculative_baselines = true;
  Settings whole = settings;
  whole.all_seen = true;
  whole.clients = 1;
  const auto codes = trained<Exact>(settings);
  const lab::Measured plain = run<Exact>(settings, nullptr);
  const lab::Measured found = run<Exact>(settings, codes);
  const lab::Measured ahead =
      run<Exact>(speculative_baselines, trained<Exact>(speculative_baselines));
  const lab::Measured near = run<Tolerant>(settings, trained<Tolerant>(settings));
  const lab::Measured all = run<Exact>(whole, trained<Exact>(whole));

  fmt::print("seed {}, {} ticks, 10 clients, 100 ms round trip, 2 % loss\n", settings.seed,
             settings.ticks);
  fmt::print("in view {:.1f}, changing {:.1f} a tick\n\n", found.in_view, found.changed);
  fmt::print("bytes per client and tick             mean   95th percentile   beside exact state\n");
  const auto line = [&](const char* what, double bytes, double p95) {
    fmt::print("{:<34}{:8.1f}{:>18}{:19.2f} x\n", what, bytes,
               p95 > 0 ? fmt::format("{:.0f}", p95) : "", bytes / found.mean);
  };
  line("JSON text of all in view", found.json_view, 0);
  line("JSON text of what changed", found.json_changed, 0);
  line("the same in a stream of zstd", found.zstd, 0);
  line("state, built-in codes", plain.mean, plain.p95);
  line("state, exact, trained codes", found.mean, found.p95);
  line("the entropy of its symbols", found.entropy, 0);
  line("state, speculative baselines", ahead.mean, ahead.p95);
  line("state, within 1/16 m, not exact", near.mean, near.p95);
  line("state, all 1300 in view", all.mean, all.p95);
  fmt::print("\nsnapshots of no use: {:.1f} %, with speculative baselines {:.1f} %\n",
             found.unusable * 100, ahead.unusable * 100);
  std::uint64_t wrong = 0;
  std::uint64_t checked = 0;
  for (const lab::Measured& each : {plain, found, ahead, near, all}) {
    wrong += each.wrong;
    checked += each.checked;
  }
  fmt::print("{} values compared with the server's, {} differ\n", checked, wrong);
  return wrong == 0 ? 0 : 1;
}
