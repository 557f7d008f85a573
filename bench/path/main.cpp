// The link against the kernel's TCP over the same lossy paths, all at the same time in one run.
// Usage: kwind_path_bench [SECONDS [SEEDS [goals|latency|bottleneck|all [FIRST SEED]]]];
// writes build/bench/path.json. `goals` are the paths of `latency` that docs/performance.md has goals
// for.
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <fstream>
#include <functional>
#include <map>
#include <string>

#include "path/flows.h"

using namespace kwind;
using namespace kwind::bench;
using namespace std::chrono_literals;

namespace {

struct Row {
  std::string scenario;
  std::string flow;
  std::map<std::string, std::vector<double>> figures;  // by name, one for each seed
};

double median(std::vector<double> values) {
  if (values.empty()) return 0;
  std::sort(values.begin(), values.end());
  return values[values.size() / 2];
}

class Table {
 public:
  void add(const std::string& scenario, const std::string& flow, const std::string& figure,
           double value) {
    for (Row& row : rows_) {
      if (row.scenario == scenario && row.flow == flow) {
        row.figures[figure].push_back(value);
        return;
      }
    }
    rows_.push_back({scenario, flow, {{figure, {value}}}});
  }
  [[nodiscard]] double of(const std::string& scenario, const std::string& flow,
                          const std::string& figure) const {
    for (const Row& row : rows_) {
      if (row.scenario == scenario && row.flow == flow) return median(row.figures.at(figure));
    }
    return 0;
  }
  /// Medians of the seeds; the largest one in brackets.
  void print() const {
    for (const Row& row : rows_) {
      fmt::print("{:<34} {:<22}", row.scenario, row.flow);
      for (const auto& [name, values] : row.figures) {
        fmt::print("  {} {:.1f} ({:.1f})", name, median(values),
                   *std::max_element(values.begin(), values.end()));
      }
      fmt::print("\n");
    }
  }
  void write(const std::string& file) const {
    std::ofstream out(file);
    out << "[\n";
    for (std::size_t i = 0; i < rows_.size(); ++i) {
      const Row& row = rows_[i];
      out << fmt::format("  {{\"scenario\": \"{}\", \"flow\": \"{}\"", row.scenario, row.flow);
      std::size_t seeds = 0;
      for (const auto& [name, values] : row.figures) {
        out << fmt::format(", \"{}\": {:.3f}, \"{}_of_seeds\": [{:.3f}]", name, median(values),
                           name, fmt::join(values, ", "));
        seeds = std::max(seeds, values.size());
      }
      out << fmt::format(", \"seeds\": {}", seeds);
      out << (i + 1 < rows_.size() ? "},\n" : "}\n");
    }
    out << "]\n";
  }

 private:
  std::vector<Row> rows_;
};

struct Entry {
  std::string scenario;
  std::string flow;
  PathSpec path;
  std::vector<std::pair<std::string, std::unique_ptr<Flow>>> flows;  // on this path
};

// Runs all entries at once. False if the machine froze: the forwarder was late too often.
bool run(std::vector<Entry>& entries, Table& table, double seconds) {
  Forwarder forwarder;
  for (Entry& entry : entries) forwarder.add(entry.path);
  forwarder.start();
  for (std::size_t i = 0; i < entries.size(); ++i) {
    for (auto& [name, flow] : entries[i].flows) flow->start(forwarder, i);
  }
  std::vector<std::vector<FlowResult>> results(entries.size());
  for (std::size_t i = 0; i < entries.size(); ++i) {
    for (auto& [name, flow] : entries[i].flows) results[i].push_back(flow->finish());
  }
  forwarder.stop();
  const double worst =
      std::chrono::duration<double, std::milli>(forwarder.worst_lateness()).count();
  fmt::print(stderr, "forwarder late by more than 10 ms: {:.3f} % of packets, worst {:.1f} ms\n",
             forwarder.late_share() * 100, worst);
  if (forwarder.late_share() > 0.001) return false;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    for (std::size_t k = 0; k < results[i].size(); ++k) {
      const FlowResult& result = results[i][k];
      const std::string& name = entries[i].flows[k].first;
      if (!result.problem.empty()) fmt::print(stderr, "{}: {}\n", name, result.problem);
      const auto put = [&](const char* figure, double value) {
        table.add(entries[i].scenario, name, figure, value);
      };
      if (result.delays.sent > 0) {
        put("p50_ms", result.delays.at(0.50));
        put("p90_ms", result.delays.at(0.90));
        put("p99_ms", result.delays.at(0.99));
        put("p999_ms", result.delays.at(0.999));
        put("worst_ms", result.delays.at(1));
        put("arrived_%", 100.0 * static_cast<double>(result.delays.arrived) /
                             static_cast<double>(result.delays.sent));
      }
      if (result.bulk_bytes > 0) {
        put("bulk_kbit/s", static_cast<double>(result.bulk_bytes) * 8 / 1000 / seconds);
      }
    }
    const PathCounts& counts = forwarder.counts(i);
    table.add(entries[i].scenario, entries[i].flows[0].first, "wire_kB",
              static_cast<double>(counts.bytes[0] + counts.bytes[1]) / 1000);
  }
  return true;
}

link::ChannelSpec channel(Delivery delivery, link::Priority priority = link::Priority::high) {
  link::ChannelSpec spec{delivery};
  spec.priority = priority;
  return spec;
}

void add_entry(std::vector<Entry>& entries, const std::string& scenario, const PathSpec& path,
               const std::string& name, std::unique_ptr<Flow> flow) {
  Entry entry{scenario, name, path, {}};
  entry.flows.emplace_back(name, std::move(flow));
  entries.push_back(std::move(entry));
}

// What an ordered channel meets, and TCP on a path of its own like it.
struct Comparison {
  double loss = 0;
  double per_second = 60;
  Duration one_way = 50ms;
  double run = 1;      // packets lost in a row, on average
  double reorder = 0;  // of the packets, held back by 30 ms
};

void compare(std::vector<Entry>& entries, const Comparison& on, double seconds,
             std::uint64_t seed) {
  Load load;
  load.per_second = on.per_second;
  load.warm_up = 0s;  // from the first message on
  load.time = std::chrono::duration_cast<Duration>(std::chrono::duration<double>(seconds));
  const PathSpec path{on.one_way, on.loss, 0, 65536, seed, on.run, on.reorder};
  std::string scenario =
      fmt::format("{} Hz, {} ms, loss {} %", on.per_second, on.one_way / 1ms, on.loss * 100);
  if (on.run > 1) scenario += fmt::format(" in runs of {}", on.run);
  if (on.reorder > 0) scenario += fmt::format(", {} % held back", on.reorder * 100);
  for (const char* control : {"cubic", "bbr"}) {
    add_entry(entries, scenario, path, fmt::format("tcp {}", control),
              tcp_flow(load, on.one_way, control, false, 4000));
  }
  add_entry(entries, scenario, path, "link ordered",
            link_flow(load, on.one_way, channel(Delivery::ordered), false, 4000));
}

// 40-byte messages on paths without a bottleneck: those that have goals.
std::vector<Entry> goals(double seconds, std::uint64_t seed) {
  std::vector<Entry> entries;
  for (const double per_second : {60.0, 20.0}) {
    for (const Comparison& on : {Comparison{},
                                 {.loss = 0.02},
                                 {.loss = 0.05},
                                 {.loss = 0.02, .run = 2},
                                 {.loss = 0.02, .run = 4},
                                 {.loss = 0.02, .run = 8},
                                 {.loss = 0.02, .reorder = 0.05}}) {
      Comparison at_rate = on;
      at_rate.per_second = per_second;
      compare(entries, at_rate, seconds, seed);
    }
  }
  return entries;
}

std::vector<Entry> latency(double seconds, std::uint64_t seed) {
  std::vector<Entry> entries = goals(seconds, seed);
  for (const double loss : {0.01, 0.10}) compare(entries, {.loss = loss}, seconds, seed);
  for (const double loss : {0.01, 0.02}) {
    compare(entries, {.loss = loss, .per_second = 20, .one_way = 10ms}, seconds, seed);
  }
  // Deliveries that wait for nothing, interleaved with raw UDP on one path.
  for (const auto& [name, delivery] : {std::pair{"link sequenced", Delivery::sequenced},
                                       std::pair{"link unreliable", Delivery::unreliable}}) {
    Load load;
    load.time = std::chrono::duration_cast<Duration>(std::chrono::duration<double>(seconds));
    add_entry(entries, fmt::format("beside raw UDP, {}", name), {50ms, 0.02, 0, 65536, seed}, name,
              link_flow(load, 50ms, channel(delivery), false, 4000));
    entries.back().flows.emplace_back("raw UDP", udp_flow(load, 50ms, 4001));
  }
  // 200 kbit/s of state at 5 % loss: 20 a second of 1250 bytes would be split; 60 of 416.
  Load state;
  state.message_bytes = 416;
  state.time = std::chrono::duration_cast<Duration>(std::chrono::duration<double>(seconds));
  add_entry(entries, "200 kbit/s of state, loss 5 %", {50ms, 0.05, 0, 65536, seed},
            "link unreliable", link_flow(state, 50ms, channel(Delivery::unreliable), false, 4000));
  return entries;
}

std::vector<Entry> bottleneck(double seconds, std::uint64_t seed) {
  std::vector<Entry> entries;
  Load load;
  load.per_second = 20;
  load.warm_up = 5s;
  load.time = std::chrono::duration_cast<Duration>(std::chrono::duration<double>(seconds));
  const PathSpec narrow{50ms, 0, 125000, 65536, seed};
  add_entry(entries, "1 Mbit/s, own bulk", narrow, "link ordered high",
            link_flow(load, 50ms, channel(Delivery::ordered), true, 4000));
  for (const char* control : {"cubic", "bbr"}) {
    add_entry(entries, fmt::format("1 Mbit/s, own bulk, {}", control), narrow,
              fmt::format("tcp {} greedy", control), tcp_flow(load, 50ms, control, true, 4000));
  }
  add_entry(entries, "1 Mbit/s beside TCP cubic", narrow, "link ordered high",
            link_flow(load, 50ms, channel(Delivery::ordered), true, 4000));
  entries.back().flows.emplace_back("tcp cubic greedy", tcp_flow(load, 50ms, "cubic", true, 4001));
  return entries;
}

}  // namespace

int main(int argc, char** argv) {
  const double seconds = argc > 1 ? std::atof(argv[1]) : 60;  // NOLINT
  const int seeds = argc > 2 ? std::atoi(argv[2]) : 5;        // NOLINT
  const std::string which = argc > 3 ? argv[3] : "all";
  const int first = argc > 4 ? std::atoi(argv[4]) : 1;  // NOLINT
  Table table;
  try {
    for (const auto& [name, make] :
         {std::pair<std::string, std::function<std::vector<Entry>(double, std::uint64_t)>>{"goals",
                                                                                           goals},
          {"latency", latency},
          {"bottleneck", bottleneck}}) {
      if (which != name && (which != "all" || name == "goals")) continue;
      for (int seed = first, tries = 0; seed < first + seeds && tries < 2 * seeds + 2; ++tries) {
        auto entries = make(seconds, static_cast<std::uint64_t>(seed));
        fmt::print(stderr, "{}, seed {}: {} paths for {} s\n", name, seed, entries.size(), seconds);
        // A disturbed run is repeated; after too many it is told that they all were.
        if (run(entries, table, seconds)) {
          ++seed;
          table.write("build/bench/path.json");  // what there is, should the rest be cut short
        } else {
          fmt::print(stderr, "the machine was disturbed; once more\n");
        }
      }
    }
  } catch (const std::exception& error) {
    fmt::print(stderr, "{}\n", error.what());
    return 1;
  }
  table.print();
  table.write("build/bench/path.json");
  return 0;
}
