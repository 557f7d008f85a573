#include "verdict.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>

namespace kwind::demo {
namespace {

struct Point {
  double x = 0;
  double y = 0;
};

const harbour::Tug* find(const std::vector<harbour::Tug>& tugs, std::int32_t number) {
  const auto found = std::find_if(tugs.begin(), tugs.end(),
                                  [&](const harbour::Tug& tug) { return tug.number == number; });
  return found == tugs.end() ? nullptr : &*found;
}

// The newest tick sent by `at`; empty before the first.
std::optional<std::size_t> tick_at(const ServerRecord& server, Time at) {
  const auto after =
      std::upper_bound(server.ticks.begin(), server.ticks.end(), at,
                       [](Time time, const ServerTick& tick) { return time < tick.sent_at; });
  if (after == server.ticks.begin()) return std::nullopt;
  return static_cast<std::size_t>(after - server.ticks.begin()) - 1;
}

// Where the tug was at `at`, on the straight line between two ticks.
std::optional<Point> place_at(const ServerRecord& server, std::int32_t number, Time at) {
  const auto tick = tick_at(server, at);
  if (!tick) return std::nullopt;
  const harbour::Tug* from = find(server.ticks[*tick].tugs, number);
  if (from == nullptr) return std::nullopt;
  if (*tick + 1 == server.ticks.size()) return Point{from->x, from->y};
  const harbour::Tug* to = find(server.ticks[*tick + 1].tugs, number);
  if (to == nullptr) return Point{from->x, from->y};
  const auto seconds = [](Duration d) { return std::chrono::duration<double>(d).count(); };
  const double span = seconds(server.ticks[*tick + 1].sent_at - server.ticks[*tick].sent_at);
  const double part = span > 0 ? seconds(at - server.ticks[*tick].sent_at) / span : 0;
  return Point{from->x + (to->x - from->x) * part, from->y + (to->y - from->y) * part};
}

double distance(const Point& a, const Point& b) {
  return std::hypot(a.x - b.x, a.y - b.y);
}

// Why the bot does not agree with the server; empty if it does.
std::string disagreement(const ServerRecord& server, const BotRecord& bot, Duration to_complete) {
  if (!bot.ended.empty()) return bot.ended;
  if (!bot.connected) return "never connected";
  if (bot.fleets_out_of_order > 0) return "received an older fleet after a newer one";
  for (const auto& [tick, received] : bot.fleets) {
    if (static_cast<std::size_t>(tick) >= server.ticks.size() ||
        received.tugs != server.ticks[static_cast<std::size_t>(tick)].tugs) {
      return fmt::format("its fleet of tick {} differs from the server's", tick);
    }
  }
  // At the end the tugs stand still and the fleet is sent for a while longer: who holds one of
  // those ticks holds every tug's last position.
  if (bot.fleets.empty()) return "never saw the fleet";
  if (bot.fleets.rbegin()->first < server.frozen_tick) {
    return "does not hold the tugs' last positions";
  }
  const std::size_t all = bot.fleets.rbegin()->second.tugs.size();
  if (!bot.complete) return "never held every tug's position and name";
  if (bot.late && *bot.complete - bot.started > to_complete) {
    return fmt::format("took over {:.1f} s to hold every tug's position and name",
                       std::chrono::duration<double>(to_complete).count());
  }
  if (bot.names.size() != all) {
    return fmt::format("knows {} names for {} tugs", bot.names.size(), all);
  }
  for (const auto& [tug, name] : bot.names) {
    if (!server.names.contains(tug) || server.names.at(tug) != name) {
      return fmt::format("knows tug {} by a wrong name", tug);
    }
  }
  if (bot.notices_out_of_order > 0) return "heard notices out of order";
  for (const auto& [tug, count] : server.hails) {
    const auto heard = bot.last_notice.find(tug);
    if (heard == bot.last_notice.end() || heard->second != count) {
      return fmt::format("did not hear the last notice of tug {}", tug);
    }
    if (!bot.late && bot.first_notice.at(tug) != 1) {
      return fmt::format("did not hear the first notice of tug {}", tug);
    }
  }
  return "";
}

}  // namespace

bool error_of(const ServerRecord& server, const BotRecord& bot, const Sample& sample,
              std::int32_t tug, ErrorSplit& out) {
  const auto received = bot.fleets.find(sample.tick);
  if (received == bot.fleets.end()) return false;
  const auto tick = static_cast<std::size_t>(sample.tick);
  if (tick >= server.ticks.size()) return false;
  const harbour::Tug* held = find(received->second.tugs, tug);
  const Duration path = received->second.at - server.ticks[tick].sent_at;
  const auto now = place_at(server, tug, sample.at);
  const auto before = place_at(server, tug, sample.at - path);
  const auto ideal_tick = tick_at(server, sample.at - path);
  if (held == nullptr || !now || !before || !ideal_tick) return false;
  const harbour::Tug* ideal = find(server.ticks[*ideal_tick].tugs, tug);
  if (ideal == nullptr) return false;
  out.total = distance(*now, {held->x, held->y});
  out.path = distance(*now, *before);
  out.interval = distance(*before, {ideal->x, ideal->y});
  out.loss = distance({ideal->x, ideal->y}, {held->x, held->y});
  return true;
}

Verdict judge(const ServerRecord& server, const std::vector<BotRecord>& bots,
              Duration to_complete) {
  Verdict verdict;
  double sum = 0;
  for (const BotRecord& bot : bots) {
    BotVerdict made;
    made.number = bot.number;
    made.why_not = disagreement(server, bot, to_complete);
    made.agrees = made.why_not.empty();
    made.fleets = bot.fleets.size();
    made.notices = bot.notices;
    if (bot.complete) {
      made.complete_ms =
          std::chrono::duration<double, std::milli>(*bot.complete - bot.started).count();
    }
    double bot_sum = 0;
    std::uint64_t bot_samples = 0;
    for (const Sample& sample : bot.samples) {
      const auto received = bot.fleets.find(sample.tick);
      if (received == bot.fleets.end()) continue;
      for (const harbour::Tug& tug : received->second.tugs) {
        ErrorSplit split;
        if (!error_of(server, bot, sample, tug.number, split)) continue;
        ++bot_samples;
        bot_sum += split.total;
        if (split.total > made.worst.total) made.worst = split;
      }
    }
    made.mean_error = bot_samples > 0 ? bot_sum / static_cast<double>(bot_samples) : 0;
    sum += bot_sum;
    verdict.samples += bot_samples;
    if (made.worst.total > verdict.worst.total) {
      verdict.worst = made.worst;
      verdict.worst_bot = made.number;
    }
    if (made.agrees) ++verdict.agreeing;
    verdict.bots.push_back(std::move(made));
  }
  if (verdict.samples > 0) verdict.mean_error = sum / static_cast<double>(verdict.samples);
  return verdict;
}

}  // namespace kwind::demo
