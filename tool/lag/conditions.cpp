// Conditions of a path from options, from names such as those of kinds of access, and from a
// timetable in TOML.
#include "lag/conditions.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <utility>

#include "generate.h"
#include "kwind/bits/nearest.h"
#include "kwind/budget/toml_text.h"

namespace kwind::lag {
namespace {

using io::sim::Conditions;
using std::chrono::milliseconds;

// Milliseconds, shares, and kilobits a second.
Conditions path(int delay, int jitter, double loss, double loss_run, double kbit) {
  Conditions made;
  made.delay = milliseconds(delay);
  made.jitter = milliseconds(jitter);
  made.loss = loss / 100;
  made.loss_run = loss_run;
  made.rate = kbit * 125;
  return made;
}

struct Setting {
  const char* name;
  double max;
  void (*set)(Conditions&, double);
};
const Setting kSettings[] = {
    {"delay", 10000,
     [](Conditions& c, double v) { c.delay = Duration(static_cast<Duration::rep>(v * 1e6)); }},
    {"jitter", 10000,
     [](Conditions& c, double v) { c.jitter = Duration(static_cast<Duration::rep>(v * 1e6)); }},
    {"reorder_delay", 10000,
     [](Conditions& c, double v) {
       c.reorder_delay = Duration(static_cast<Duration::rep>(v * 1e6));
     }},
    {"loss", 100, [](Conditions& c, double v) { c.loss = v / 100; }},
    {"loss_run", 1000, [](Conditions& c, double v) { c.loss_run = std::max(v, 1.0); }},
    {"duplicate", 100, [](Conditions& c, double v) { c.duplicate = v / 100; }},
    {"reorder", 100, [](Conditions& c, double v) { c.reorder = v / 100; }},
    {"bandwidth", 10000000, [](Conditions& c, double v) { c.rate = v * 125; }},
    {"queue", 1000000,
     [](Conditions& c, double v) { c.queue_bytes = static_cast<std::size_t>(v * 1024); }},
};

class Reader {
 public:
  explicit Reader(std::string file) : file_(std::move(file)) {}

  std::string problem;

  // Applies a table's values to all of `targets`. `also`: other keys that may stand there.
  void apply(const toml::table& table, const std::vector<Conditions*>& targets,
             const std::vector<std::string>& also) {
    if (const toml::node* name = table.get("preset")) {
      std::string why;
      const auto found = lag::preset(name->value_or(std::string()), why);
      if (!found) return complain(*name, why);
      for (Conditions* target : targets) *target = *found;
    }
    for (const auto& [key, node] : table) {
      const std::string name(key.str());
      if (name == "preset" || std::find(also.begin(), also.end(), name) != also.end()) continue;
      const auto setting = std::find_if(std::begin(kSettings), std::end(kSettings),
                                        [&](const Setting& each) { return each.name == name; });
      if (setting == std::end(kSettings)) {
        std::vector<std::string> names = also;
        for (const Setting& each : kSettings) names.emplace_back(each.name);
        names.emplace_back("preset");
        const std::string nearest = bits::nearest(name, names);
        return complain(
            node, fmt::format("no setting is called `{}`{}", name,
                              nearest.empty() ? "" : fmt::format("; did you mean `{}`?", nearest)));
      }
      const auto value = node.value<double>();
      if (!value || !(*value >= 0 && *value <= setting->max)) {
        return complain(node, fmt::format("`{}` is a number from 0 to {}", name, setting->max));
      }
      for (Conditions* target : targets) setting->set(*target, *value);
    }
  }
  // The first problem of a file is the one that is shown.
  void complain(const toml::node& node, const std::string& what) {
    if (!problem.empty()) return;
    problem = fmt::format("{}:{}:{}: {}", file_, node.source().begin.line,
                          node.source().begin.column, what);
  }

 private:
  std::string file_;
};

}  // namespace

// Paths as they are met: from a cable to a train.
const std::vector<Preset>& presets() {
  static const std::vector<Preset> all = {
      {"desk", "the next room, by cable", path(1, 0, 0, 1, 0)},
      {"town", "a good line in the same town", path(12, 2, 0.1, 1, 20000)},
      {"attic", "a wireless corner of the house", path(20, 15, 1, 2, 10000)},
      {"bus", "a telephone on the move", path(50, 30, 2, 3, 4000)},
      {"tunnel", "the same, where it hardly holds", path(90, 70, 8, 8, 600)},
      {"overseas", "the other side of an ocean", path(95, 5, 0.5, 1, 20000)},
      {"orbit", "by way of a far satellite", path(300, 15, 1, 2, 3000)},
  };
  return all;
}

// An unknown name is compared with those that are known.
std::optional<Conditions> preset(const std::string& name, std::string& problem) {
  std::vector<std::string> names;
  for (const Preset& each : presets()) {
    if (each.name == name) return each.each_way;
    names.emplace_back(each.name);
  }
  const std::string nearest = bits::nearest(name, names);
  problem = fmt::format("no preset is called `{}`; ", name) +
            (nearest.empty() ? fmt::format("there are {}", fmt::join(names, ", "))
                             : fmt::format("did you mean `{}`?", nearest));
  return std::nullopt;
}

// Conditions over time, from a TOML file: at a second, a preset or single values.
Timetable read_timetable(const std::string& file, const BothWays& before) {
  Timetable out;
  std::string text;
  if (!tool::read_text(file, text)) {
    out.problem = fmt::format("{}: cannot read the file; check its name and permissions", file);
    return out;
  }
  const auto parsed = budget::parse_toml(text);
  if (!parsed) {
    const auto at = parsed.error().place.begin;
    out.problem = fmt::format("{}:{}:{}: {}", file, at.line, at.column, parsed.error().text);
    return out;
  }
  const toml::table& root = *parsed;
  Reader reader(file);
  const toml::array* steps = root["step"].as_array();
  if (steps == nullptr || !steps->is_array_of_tables()) {
    out.problem = fmt::format("{}: a timetable is one [[step]] after the other", file);
    return out;
  }
  for (const auto& [key, node] : root) {
    if (key.str() != "step") reader.complain(node, "only [[step]] stands in a timetable");
  }
  BothWays now = before;
  double last = -1;
  for (const toml::node& node : *steps) {
    const toml::table& table = *node.as_table();
    const auto at = table["at"].value<double>();
    if (!at || !std::isfinite(*at) || *at < 0 || *at <= last) {
      reader.complain(node, "each step has `at`, in seconds, later than the step before");
      break;
    }
    last = *at;
    reader.apply(table, {&now.up, &now.down}, {"at", "to_server", "to_client"});
    for (const auto& [way, conditions] :
         {std::pair("to_server", &now.up), std::pair("to_client", &now.down)}) {
      const toml::node* const one = table.get(way);
      if (one == nullptr) continue;
      if (one->is_table()) {
        reader.apply(*one->as_table(), {conditions}, {});
      } else {
        reader.complain(*one, fmt::format("`{0}` is a table, as in {0} = {{ loss = 2 }}", way));
      }
    }
    out.steps.push_back({*at, now});
  }
  out.problem = reader.problem;
  return out;
}

}  // namespace kwind::lag
