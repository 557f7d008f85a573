// What `kwind lag` puts on a path, by option, by name and by the clock.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "kwind/io/sim/simulated_path.h"

namespace kwind::lag {

struct BothWays {
  io::sim::Conditions up;    ///< client to server
  io::sim::Conditions down;  ///< server to client
};

/// Round values of our own making, to have names for kinds of path; not measured anywhere.
struct Preset {
  const char* name = "";
  const char* what = "";
  io::sim::Conditions each_way;
};
const std::vector<Preset>& presets();
/// Nothing, with the nearest name in `problem`, for a name that is none.
std::optional<io::sim::Conditions> preset(const std::string& name, std::string& problem);

/// From `at` seconds on, these hold.
struct Step {
  double at = 0;
  BothWays conditions;
};
/// Reads a timetable: TOML with one [[step]] after the other, in order of `at` (seconds). In each:
/// `preset`, then single values over it: delay, jitter, reorder_delay (ms), loss, duplicate,
/// reorder
/// (%), loss_run, rate (kbit/s), queue (KiB); in [step.up] or [step.down] for one direction alone.
/// What a step does not name is as `before`.
struct Timetable {
  std::vector<Step> steps;
  std::string problem;  ///< what, where and what to do, if it cannot be used
};
Timetable read_timetable(const std::string& file, const BothWays& before);

}  // namespace kwind::lag
