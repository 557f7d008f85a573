// From a naive game to thirty bytes a tick: the reference world in one form after the other, each
// with one more lever pulled. docs/guide/thirty-bytes.md goes through them.
// Usage: bandwidth_levers [SEED [TICKS]]
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <deque>
#include <exception>

#include "kwind/bits/writer.h"
#include "reference_world.h"

namespace {

using kwind::bits::count_bits;
using lab::Exact;
using lab::Harbour;
using lab::Tolerant;

constexpr std::size_t kClients = 10;
constexpr int kWarmUp = 100;
// What a client has acknowledged is so many ticks old: a round trip of 100 ms and the tick at hand.
constexpr std::size_t kAge = 3;
constexpr double kIdBits = 11;  // 1300 of them
constexpr double kKindBits = 3;

// Bits of the difference between two values of a column, small ones cheap; the short way round.
unsigned delta_bits(const kwind::schema::ColumnInfo& column, std::uint32_t before,
                    std::uint32_t now) {
  if (column.form == kwind::schema::ColumnForm::opaque) return column.bits;
  auto way = std::int64_t{now} - std::int64_t{before};
  if (column.form == kwind::schema::ColumnForm::circular) {
    const auto turn = std::int64_t{column.last} + 1;
    if (way > turn / 2) way -= turn;
    if (way < -turn / 2) way += turn;
  }
  const auto folded = static_cast<std::uint64_t>(way < 0 ? -2 * way - 1 : 2 * way);
  return count_bits(folded, 2);
}

// Bytes per client and tick, one member for each lever.
struct Sizes {
  double json = 0;
  double typed = 0;
  double quantised = 0;
  double seen = 0;
  double changed = 0;
  double masked = 0;
  double deltas = 0;
};

// What the world takes by hand, in bytes per client and tick.
Sizes sizes_by_hand(std::uint64_t seed, int ticks) {
  kwind::replica::World world(Exact::kAll, {.ticks_per_second = 20});
  Harbour<Exact> harbour(world, seed, false);
  const std::vector<std::uint32_t> ids = harbour.ids();
  std::map<std::uint32_t, std::deque<std::vector<std::uint32_t>>> history;  // newest first
  Sizes sum;                                                                // bits
  for (int now = 0; now < kWarmUp + ticks; ++now) {
    harbour.step(world);
    world.end_tick();
    for (const std::uint32_t id : ids) {
      auto& rows = history[id];
      rows.push_front(harbour.columns(id, true).numbers);
      if (rows.size() > kAge + 1) rows.pop_back();
    }
    if (now < kWarmUp) continue;
    for (const std::uint32_t id : ids) {
      const auto& columns = harbour.kind(id).columns;
      sum.json += 8.0 * static_cast<double>(harbour.json(id).size() + 1) * kClients;
      sum.typed += (5.0 + 4.0 * static_cast<double>(columns.size())) * 8 * kClients;
      double bits = kIdBits + kKindBits;
      for (const auto& column : columns) bits += column.bits;
      sum.quantised += bits * kClients;
    }
    for (std::size_t client = 0; client < kClients; ++client) {
      std::uint32_t last = 0;
      for (const auto& seen : harbour.view(client)) {
        const auto& columns = harbour.kind(seen.id).columns;
        const auto& now_row = history[seen.id].front();
        const auto& known_row = history[seen.id].back();
        double bits = 0;
        double differing = 0;
        double deltas = 0;
        for (std::size_t c = 0; c < columns.size(); ++c) {
          bits += columns[c].bits;
          if (now_row[c] == known_row[c]) continue;
          differing += columns[c].bits;
          deltas += delta_bits(columns[c], known_row[c], now_row[c]);
        }
        sum.seen += kIdBits + kKindBits + bits;
        if (now_row == known_row) continue;
        const auto mask = static_cast<double>(columns.size());
        sum.changed += kIdBits + bits;
        sum.masked += kIdBits + mask + differing;
        sum.deltas += count_bits(seen.id - last, 4) + mask + deltas;
        last = seen.id;
      }
    }
  }
  const double all = 8.0 * ticks * kClients;
  return {sum.json / all,    sum.typed / all,  sum.quantised / all, sum.seen / all,
          sum.changed / all, sum.masked / all, sum.deltas / all};
}

// The same world as the library replicates it, with built-in or with trained code tables.
template <class Kinds>
lab::Measured replicated(std::uint64_t seed, int ticks, bool trained, bool speculative_baselines) {
  kwind::replica::SymbolCounts symbol_counts(Kinds::kAll);
  std::shared_ptr<const kwind::replica::CodeTables> codes;
  const auto run = [&](std::uint64_t with_seed, kwind::replica::SymbolCounts* into) {
    kwind::replica::World world(Kinds::kAll, {.ticks_per_second = 20, .codes = codes});
    Harbour<Kinds> harbour(world, with_seed, false);
    return lab::measure(world, Kinds::kAll, harbour,
                        {.clients = kClients,
                         .ticks = ticks,
                         .seed = with_seed,
                         .codes = codes,
                         .symbol_counts = into,
                         .replicator = {.speculative_baselines = speculative_baselines},
                         .text = false});
  };
  if (trained) {
    run(seed + 1000, &symbol_counts);  // another day than the one that is measured
    codes = std::make_shared<const kwind::replica::CodeTables>(
        kwind::replica::SymbolCounts::fitted(Kinds::kAll, symbol_counts));
  }
  return run(seed, nullptr);
}

// Whether each lever helped, and every value was right.
bool pull_all(std::uint64_t seed, int ticks) {
  const Sizes hand = sizes_by_hand(seed, ticks);
  const lab::Measured plain = replicated<Exact>(seed, ticks, false, false);
  const lab::Measured trained = replicated<Exact>(seed, ticks, true, false);
  const lab::Measured ahead = replicated<Exact>(seed, ticks, true, true);
  const lab::Measured near = replicated<Tolerant>(seed, ticks, true, false);
  const std::vector<std::pair<const char*, double>> levers{
      {"JSON text of all 1300, each tick", hand.json},
      {"typed: four bytes a number", hand.typed},
      {"quantised: the bits of the description", hand.quantised},
      {"interest: what is within 256 m", hand.seen},
      {"changed only, since the last ack", hand.changed},
      {"masks: only the fields that differ", hand.masked},
      {"deltas against what was acknowledged", hand.deltas},
      {"prediction, masks and places as symbols", plain.mean},
      {"codes trained on another day", trained.mean},
  };
  fmt::print("seed {}, {} ticks, {} clients; bytes of state per client and tick\n\n", seed, ticks,
             kClients);
  bool each_helps = true;
  for (std::size_t i = 0; i < levers.size(); ++i) {
    const auto& [name, bytes] = levers[i];
    const double before = i > 0 ? levers[i - 1].second : bytes;
    fmt::print("{:<42}{:>10.1f}{:>10}\n", name, bytes,
               i > 0 ? fmt::format("{:.1f} x", before / bytes) : "");
    each_helps = each_helps && bytes <= before;
  }
  fmt::print("\n{:<42}{:>10.1f}\n{:<42}{:>10.1f}\n",
             "built on snapshots in flight (speculative_baselines)", ahead.mean,
             "within 1/16 m (not exact)", near.mean);
  fmt::print(
      "\nthe last four are measured over 100 ms with 2 % loss; {} values at clients "
      "compared, {} differ\n",
      plain.checked + trained.checked + ahead.checked + near.checked,
      plain.wrong + trained.wrong + ahead.wrong + near.wrong);
  return each_helps && plain.wrong + trained.wrong + ahead.wrong + near.wrong == 0;
}

}  // namespace

int main(int argc, char** argv) {
  const std::uint64_t seed = argc > 1 ? std::strtoull(argv[1], nullptr, 10) : 1;
  const int ticks = argc > 2 ? std::atoi(argv[2]) : 600;  // NOLINT
  if (ticks < 1) {
    std::fputs("usage: bandwidth_levers [SEED [TICKS]], one tick at least\n", stderr);
    return 2;
  }
  try {
    return pull_all(seed, ticks) ? 0 : 1;
  } catch (const std::exception& error) {
    std::fputs(error.what(), stderr);
    return 1;
  }
}
