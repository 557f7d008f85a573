// Holds what the bots saw against what the server sent. Pure.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "records.h"

namespace kwind::demo {

/// Where a tug was drawn too late, in metres, and why. The three parts add up as vectors, so their
/// lengths add up to at least `total`.
struct ErrorSplit {
  double total = 0;
  double path = 0;      ///< it moved while the datagram was under way
  double interval = 0;  ///< it moved since the tick that an undisturbed path would have shown
  double loss = 0;      ///< that tick was lost or overtaken, an older one was shown
};

struct BotVerdict {
  unsigned number = 0;
  bool agrees = false;
  std::string why_not;     ///< one sentence
  double complete_ms = 0;  ///< from the first hello until every tug's position and name were held
  std::uint64_t fleets = 0;
  std::uint64_t notices = 0;
  ErrorSplit worst;
  double mean_error = 0;
};

struct Verdict {
  std::vector<BotVerdict> bots;
  std::size_t agreeing = 0;
  ErrorSplit worst;  ///< the sample with the largest total
  unsigned worst_bot = 0;
  double mean_error = 0;  ///< over all samples
  std::uint64_t samples = 0;
  [[nodiscard]] bool all_agree() const { return agreeing == bots.size(); }
};

/// `to_complete`: how long the late joiner may take to hold every tug's position and name.
Verdict judge(const ServerRecord& server, const std::vector<BotRecord>& bots,
              Duration to_complete = std::chrono::seconds(1));

/// The error of one tug, if server and bot both had it.
bool error_of(const ServerRecord& server, const BotRecord& bot, const Sample& sample,
              std::int32_t tug, ErrorSplit& out);

}  // namespace kwind::demo
