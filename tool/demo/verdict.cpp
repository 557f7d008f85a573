// Compares what each bot received and drew with what the server's world was at that tick.
#include "verdict.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>

namespace kwind::demo {
namespace {

// The last entry at or before a tick.
const Truth* truth_at(const ServerRecord& server, std::uint32_t id, std::uint32_t generation,
                      double tick) {
  const auto found = server.truth.find({id, generation});
  if (found == server.truth.end()) return nullptr;
  const auto& history = found->second;
  const auto after =
      std::upper_bound(history.begin(), history.end(), tick,
                       [](double wanted, const Truth& truth) { return wanted < truth.tick; });
  return after == history.begin() ? nullptr : &*(after - 1);
}

// Why the bot does not agree with the server; empty if it does.
std::string disagreement(const ServerRecord& server, const BotRecord& bot, Duration to_complete) {
  if (!bot.ended.empty()) return bot.ended;
  if (!bot.connected) return "never connected";
  if (bot.snapshots_refused > 0) return fmt::format("refused {} snapshots", bot.snapshots_refused);
  for (const Told& values : bot.values) {
    const Truth* const truth = truth_at(server, values.id, values.generation, values.tick);
    if (truth == nullptr || truth->print != values.print) {
      return fmt::format("the value received of entity {} for tick {} is not the server's",
                         values.id, values.tick);
    }
  }
  if (bot.desyncs > 0)
    return fmt::format("differed from the server's digest {} times", bot.desyncs);
  // At the end all stands still: who holds the newest of it holds all.
  for (const Told& held : bot.held) {
    const auto found = server.truth.find({held.id, held.generation});
    if (found == server.truth.end() || found->second.back().print != held.print) {
      return fmt::format("does not hold the last state of entity {}", held.id);
    }
  }
  if (!bot.complete) return "never saw its tug and what is around it";
  const auto in_view = server.in_view.find(bot.name);
  if (in_view == server.in_view.end() || in_view->second != bot.held.size()) {
    return fmt::format("sees {} entities where {} are in view", bot.held.size(),
                       in_view == server.in_view.end() ? 0 : in_view->second);
  }
  if (bot.late && *bot.complete - bot.started > to_complete) {
    return fmt::format("took over {:.1f} s to see what is around its tug",
                       std::chrono::duration<double>(to_complete).count());
  }
  if (bot.notices_out_of_order > 0) return "received notices out of order";
  for (const auto& [name, count] : server.hails) {
    const auto heard = bot.last_notice.find(name);
    if (bot.late && heard == bot.last_notice.end()) continue;  // the last may have been before it
    if (heard == bot.last_notice.end() || heard->second != count) {
      return fmt::format("did not receive the last notice of {}", name);
    }
    if (!bot.late && bot.first_notice.at(name) != 1) {
      return fmt::format("did not receive the first notice of {}", name);
    }
  }
  return "";
}

}  // namespace

// Between two ticks the truth is interpolated as a client does.
std::optional<Point> place_at(const ServerRecord& server, std::uint32_t id,
                              std::uint32_t generation, double tick) {
  const double whole = std::floor(tick);
  const Truth* const from = truth_at(server, id, generation, whole);
  const Truth* const to = truth_at(server, id, generation, whole + 1);
  if (from == nullptr || to == nullptr) return std::nullopt;
  const double part = tick - whole;
  return Point{from->north + (to->north - from->north) * part,
               from->east + (to->east - from->east) * part};
}

// Holds what each bot held and drew against what the server recorded.
Verdict judge(const ServerRecord& server, const std::vector<BotRecord>& bots,
              Duration to_complete) {
  Verdict verdict;
  double sum = 0;
  std::uint64_t drawn = 0;
  for (const BotRecord& bot : bots) {
    BotVerdict made;
    made.number = bot.number;
    made.name = bot.name;
    made.why_not = disagreement(server, bot, to_complete);
    made.agrees = made.why_not.empty();
    made.values = bot.values.size();
    made.notices = bot.notices;
    made.delay_ticks = bot.delay_ticks;
    if (bot.complete) {
      made.complete_ms =
          std::chrono::duration<double, std::milli>(*bot.complete - bot.started).count();
    }
    std::vector<double> errors;
    for (const Drawn& each : bot.drawn) {
      const auto place = place_at(server, each.id, each.generation, each.tick);
      if (!place) continue;
      errors.push_back(std::hypot(place->north - each.north, place->east - each.east));
      sum += errors.back();
    }
    drawn += errors.size();
    if (!errors.empty()) {
      std::sort(errors.begin(), errors.end());
      for (const double error : errors)
        made.mean_error += error / static_cast<double>(errors.size());
      made.p99_error = errors[errors.size() * 99 / 100];
      made.worst_error = errors.back();
    }
    verdict.values += made.values;
    if (made.worst_error > verdict.worst_error) {
      verdict.worst_error = made.worst_error;
      verdict.worst_bot = made.number;
    }
    if (made.agrees) ++verdict.agreeing;
    verdict.bots.push_back(std::move(made));
  }
  if (drawn > 0) verdict.mean_error = sum / static_cast<double>(drawn);
  return verdict;
}

}  // namespace kwind::demo
