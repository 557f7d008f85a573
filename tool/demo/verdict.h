// Holds what the bots were told and drew against what the server's world was. Pure.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "records.h"

namespace kwind::demo {

struct BotVerdict {
  unsigned number = 0;
  std::string name;
  bool agrees = false;
  std::string why_not;       ///< one sentence
  double complete_ms = 0;    ///< from the first hello until its tug and its neighbours had appeared
  std::uint64_t values = 0;  ///< values that were compared, bit for bit
  std::uint64_t notices = 0;
  double delay_ticks = 0;  ///< what it draws is so old, beside the path
  double mean_error = 0;   ///< metres between where it drew what moves and where that was then
  double p99_error = 0;
  double worst_error = 0;
};

struct Verdict {
  std::vector<BotVerdict> bots;
  std::size_t agreeing = 0;
  std::uint64_t values = 0;
  double mean_error = 0;
  double worst_error = 0;
  unsigned worst_bot = 0;
  [[nodiscard]] bool all_agree() const { return agreeing == bots.size(); }
};

/// `to_complete`: how long the late joiner may take to see what is around it.
Verdict judge(const ServerRecord& server, const std::vector<BotRecord>& bots,
              Duration to_complete = std::chrono::seconds(1));

/// Where an entity was at a tick with its fraction; nothing if it was not there.
struct Point {
  double north = 0;
  double east = 0;
};
std::optional<Point> place_at(const ServerRecord& server, std::uint32_t id,
                              std::uint32_t generation, double tick);

}  // namespace kwind::demo
