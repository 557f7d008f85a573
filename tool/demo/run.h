// One run of the harbour: server and bots on threads, watched once a second.
#pragma once
#include <functional>
#include <string>
#include <vector>

#include "records.h"
#include "verdict.h"

namespace kwind::demo {

struct Outcome {
  std::string error;  ///< one sentence; the run did not take place
  ServerRecord server;
  std::vector<BotRecord> bots;
  std::vector<Moment> moments;  ///< about two a second
  Verdict verdict;
};

/// Runs for about settings.seconds + 1 s. `progress` is called once a second with what changed
/// since the last call. `interrupted` ends the run early.
Outcome run(const Settings& settings,
            const std::function<void(const Moment& before, const Moment& now)>& progress,
            const std::function<bool()>& interrupted);

}  // namespace kwind::demo
