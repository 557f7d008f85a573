// Writes the report of a run as one HTML file: gnuplot draws the charts as SVG, which stand inside.
#include "report.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "harbour_motion.h"
#include "plot.h"
#include "summary.h"

namespace kwind::demo {
namespace {

// HTML text.
std::string escape(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (c == '&')
      out += "&amp;";
    else if (c == '<')
      out += "&lt;";
    else if (c == '>')
      out += "&gt;";
    else
      out += c;
  }
  return out;
}

constexpr const char* kColours[] = {"#2a6f97", "#e09f3e", "#9e2a2b", "#6a994e", "#7b6d8d"};

// Bytes of state per client and tick, by entity type, stacked.
std::string bytes_chart(const Outcome& outcome) {
  const auto& kinds = harbour_world::kEntities.types;
  const auto& moments = outcome.server.moments;
  std::string data;
  double top = 1;
  for (std::size_t i = 1; i < moments.size(); ++i) {
    const StateMoment& before = moments[i - 1];
    const StateMoment& now = moments[i];
    const auto ticks = static_cast<double>(now.client_ticks - before.client_ticks);
    if (ticks <= 0) continue;
    const double all = static_cast<double>(now.state_bits - before.state_bits) / 8 / ticks;
    double coded = 0;
    std::vector<double> parts;
    for (std::size_t kind = 0; kind < kinds.size(); ++kind) {
      const double was = kind < before.bits_by_type.size() ? before.bits_by_type[kind] : 0;
      parts.push_back((now.bits_by_type[kind] - was) / 8 / ticks);
      coded += parts.back();
    }
    double sum = std::max(0.0, all - coded);
    std::string row = fmt::format("{:.2f} {:.3f}", now.seconds, sum);
    for (const double part : parts) {
      sum += part;
      row += fmt::format(" {:.3f}", sum);
    }
    // The first moments, when everything appears, would make all others flat.
    if (now.seconds > 2) top = std::max(top, sum);
    data += row + "\n";
  }
  std::string script = "$d << EOD\n" + data + "EOD\n";
  script += fmt::format(
      "set xlabel 'seconds'\nset ylabel 'bytes per client and tick'\nset yrange [0:{:.1f}]\n"
      "set key outside top center horizontal maxrows 1\nset style fill solid 1.0 noborder\nplot ",
      top * 1.1);
  // The largest sum is drawn first; each smaller one covers its lower part.
  for (std::size_t i = kinds.size(); i-- > 0;) {
    script += fmt::format("$d using 1:{} with filledcurves x1 lc rgb '{}' title '{}', ", i + 3,
                          kColours[i % std::size(kColours)], kinds[i]->name);
  }
  script += "$d using 1:2 with filledcurves x1 lc rgb '#b8c4cc' title 'snapshot overhead'\n";
  return script;
}

// The same world as text, on a scale that shows both.
std::string json_chart(const Outcome& outcome) {
  const auto& moments = outcome.server.moments;
  std::string data;
  for (std::size_t i = 1; i < moments.size(); ++i) {
    const auto ticks = static_cast<double>(moments[i].client_ticks - moments[i - 1].client_ticks);
    if (ticks <= 0) continue;
    data += fmt::format(
        "{:.2f} {:.1f} {:.2f}\n", moments[i].seconds,
        static_cast<double>(moments[i].json_bytes - moments[i - 1].json_bytes) / ticks,
        static_cast<double>(moments[i].state_bits - moments[i - 1].state_bits) / 8 / ticks);
  }
  return "$d << EOD\n" + data +
         "EOD\nset xlabel 'seconds'\nset ylabel 'bytes per client and tick'\nset logscale y\n"
         "set yrange [5:20000]\nset key center right\nset grid ytics lc rgb '#e3e8ec' lt 1\n"
         "plot $d using 1:2 with lines lw 2 lc rgb '#9e2a2b' title 'all in view as JSON text', "
         "$d using 1:3 with lines lw 2 lc rgb '#2a6f97' title 'snapshots'\n";
}

struct Track {
  std::string server;
  std::string client;
  std::string error;
  std::string bot;
};

// A bot's own tug: its way at the server, and as that bot drew it.
Track track_of(const Outcome& outcome) {
  Track track;
  // The one that went furthest is the most telling.
  double best = -1;
  const BotRecord* bot = nullptr;
  for (const BotRecord& candidate : outcome.bots) {
    const auto found = outcome.server.truth.find(candidate.tug);
    if (candidate.tug.first == 0 || found == outcome.server.truth.end()) continue;
    const Truth& begin = found->second.front();
    const Truth& end = found->second.back();
    const double way = std::hypot(end.north - begin.north, end.east - begin.east);
    if (way > best) {
      best = way;
      bot = &candidate;
    }
  }
  if (bot == nullptr) return track;
  track.bot = bot->name;
  for (const Truth& truth : outcome.server.truth.at(bot->tug)) {
    track.server += fmt::format("{} {}\n", truth.east, truth.north);
  }
  double first = -1;
  for (const Drawn& drawn : bot->drawn) {
    if (drawn.id == bot->tug.first && drawn.generation == bot->tug.second) {
      track.client += fmt::format("{} {}\n", drawn.east, drawn.north);
    }
  }
  // All that moves, tick by tick: mean and worst.
  double sum = 0;
  double worst = 0;
  std::size_t count = 0;
  double tick = -1;
  const auto flush = [&] {
    if (count == 0) return;
    track.error += fmt::format("{:.3f} {:.4f} {:.4f}\n", (tick - first) / kTicksPerSecond,
                               sum / static_cast<double>(count), worst);
    sum = worst = 0;
    count = 0;
  };
  for (const Drawn& drawn : bot->drawn) {
    if (drawn.tick != tick) {
      flush();
      tick = drawn.tick;
      if (first < 0) first = tick;
    }
    const auto place = place_at(outcome.server, drawn.id, drawn.generation, drawn.tick);
    if (!place) continue;
    const double error = std::hypot(place->north - drawn.north, place->east - drawn.east);
    sum += error;
    worst = std::max(worst, error);
    ++count;
  }
  flush();
  return track;
}

// The track of an entity, as the server had it and as a client drew it.
std::string track_chart(const Track& track) {
  return "$s << EOD\n" + track.server + "EOD\n$c << EOD\n" + track.client + "EOD\n" +
         "set xlabel 'metres east'\nset ylabel 'metres north'\nset size ratio -1\n"
         "set xtics rotate by 60 right\n"
         "set offsets graph 0.08, graph 0.08, graph 0.08, graph 0.08\n"
         "set key outside top center horizontal\nset grid xtics ytics lc rgb '#e3e8ec' lt 1\n"
         "plot $s with lines lw 9 lc rgb '#b8d4e3' title 'server', "
         "$c with points pt 7 ps 0.25 lc rgb '#9e2a2b' title 'drawn by the client'\n";
}

// The distance between both over time.
std::string error_chart(const Track& track) {
  return "$e << EOD\n" + track.error + "EOD\n" +
         "set xlabel 'seconds'\nset ylabel 'metres'\nset yrange [0:*]\n"
         "set offsets 0, 0, graph 0.2, 0\nset key top left horizontal\n"
         "plot $e using 1:3 with lines lw 1 lc rgb '#e09f3e' title 'worst of all in view', "
         "$e using 1:2 with lines lw 1.5 lc rgb '#2a6f97' title 'mean'\n";
}

constexpr const char* kCss = R"(
body{margin:0;font:14px/1.4 'DejaVu Sans',Verdana,sans-serif;color:#22303a;background:#f3f6f8}
main{max-width:1240px;margin:0 auto;padding:12px 16px}
h1{font-size:20px;margin:0}h2{font-size:14px;margin:0 0 2px}
header{display:flex;gap:14px;align-items:baseline;flex-wrap:wrap}
.mode{background:#fbe3c0;color:#7a4a00;padding:1px 8px;border-radius:3px}
.ok{color:#2c6e49;font-weight:bold}.bad{color:#9e2a2b;font-weight:bold}
.facts{display:grid;grid-template-columns:repeat(6,1fr);gap:8px;margin:10px 0}
.facts div,.card{background:#fff;border:1px solid #dde4e9;border-radius:4px;padding:6px 10px}
.facts b{display:block;font-size:18px}
.charts{display:grid;grid-template-columns:1fr 1fr;gap:8px}.charts svg{width:100%;height:auto}
table{border-collapse:collapse;width:100%}td,th{padding:2px 6px;white-space:nowrap;text-align:left;border-bottom:1px solid #e6ebef}
td.n,th.n{text-align:right}.tables{display:grid;grid-template-columns:9fr 14fr;gap:8px;margin-top:8px}
p{margin:4px 0}
)";

// The figures at the top of the report.
std::string facts(const Outcome& outcome, const Summary& summary) {
  const auto fact = [](const std::string& value, const std::string& what) {
    return fmt::format("<div><b>{}</b>{}</div>", value, what);
  };
  return "<div class=facts>" +
         fact(fmt::format("{} of {}", outcome.verdict.agreeing, outcome.verdict.bots.size()),
              fmt::format("bots agree, {} values compared", outcome.verdict.values)) +
         fact(fmt::format("{:.1f} B", summary.state_mean),
              fmt::format("state per client and tick, 95 % below {:.0f}", summary.state_p95)) +
         fact(fmt::format("{:.0f}x", summary.json / std::max(0.1, summary.state_mean)),
              "less than JSON text of all in view") +
         fact(fmt::format("{:.0f} / {:.0f}", summary.in_view, summary.changed),
              "entities in view / changed a tick") +
         fact(fmt::format("{:.0f} B", summary.datagram), "a datagram of state, with IP and UDP") +
         fact(fmt::format("{:.3f} m", outcome.verdict.mean_error),
              fmt::format("mean position error, {:.2f} m worst", outcome.verdict.worst_error)) +
         "</div>";
}

// Tables of bytes by type and of bots.
std::string tables(const Outcome& outcome, const Summary& summary) {
  std::string out =
      "<div class=tables><div class=card><h2>Bits of state, per client and tick</h2><table>"
      "<tr><th>type<th>field<th class=n>bits<th class=n>share</tr>";
  double all = 0;
  for (const FieldShare& share : summary.shares) all += share.bits;
  for (const FieldShare& share : summary.shares) {
    if (share.bits < 0.05) continue;
    out += fmt::format("<tr><td>{}<td>{}<td class=n>{:.1f}<td class=n>{:.1f} %</tr>",
                       escape(share.kind), escape(share.field), share.bits,
                       share.bits * 100 / std::max(1.0, all));
  }
  out +=
      fmt::format("<tr><td><b>all</b><td><td class=n>{:.1f}<td class=n></tr></table></div>", all);
  out +=
      "<div class=card><h2>Bots</h2><table><tr><th>bot<th>verdict<th class=n>in view after"
      "<th class=n>compared<th class=n>play-out<th class=n>mean error<th class=n>99 %"
      "<th class=n>worst</tr>";
  for (const BotVerdict& bot : outcome.verdict.bots) {
    out += fmt::format(
        "<tr><td>{}<td class={}>{}<td class=n>{:.0f} ms<td class=n>{}<td class=n>{:.0f} ms"
        "<td class=n>{:.3f} m<td class=n>{:.3f} m<td class=n>{:.2f} m</tr>",
        escape(bot.name), bot.agrees ? "ok" : "bad", bot.agrees ? "agrees" : escape(bot.why_not),
        bot.complete_ms, bot.values, bot.delay_ticks * 1000 / kTicksPerSecond, bot.mean_error,
        bot.p99_error, bot.worst_error);
  }
  out +=
      "</table><h2 style='margin-top:10px'>Bytes sent, both directions</h2><table>"
      "<tr><th>what<th>direction<th class=n>bytes<th class=n>share</tr>";
  for (const TypeRow& row : summary.kinds) {
    out += fmt::format("<tr><td>{}<td>{}<td class=n>{}<td class=n>{:.1f} %</tr>", escape(row.name),
                       escape(row.direction), row.bytes, row.share * 100);
  }
  return out + "</table></div></div>";
}

}  // namespace

// One HTML file with its pictures inside.
std::string write_report(const std::string& file, const Settings& settings,
                         const Outcome& outcome) {
  const Summary summary = summarize(outcome);
  const Track track = track_of(outcome);
  constexpr int kWidth = 600;
  constexpr int kHeight = 262;
  const std::string charts[] = {tool::draw_svg(bytes_chart(outcome), kWidth, kHeight),
                                tool::draw_svg(json_chart(outcome), kWidth, kHeight),
                                tool::draw_svg(track_chart(track), kWidth, kHeight),
                                tool::draw_svg(error_chart(track), kWidth, kHeight)};
  if (std::any_of(std::begin(charts), std::end(charts), [](const auto& c) { return c.empty(); })) {
    return "gnuplot could not draw the charts; install the package gnuplot-nox and run again";
  }
  const std::string titles[] = {
      "State per client and tick, by entity type", "Beside the same world as naive JSON",
      fmt::format("The tug of {}: at the server, and as its pilot draws it", track.bot),
      fmt::format("How far off {} draws all that moves, at the tick drawn", track.bot)};
  std::string html = fmt::format(
      "<!doctype html><html lang=en><meta charset=utf-8><title>Saltmarsh Harbour</title>"
      "<style>{}</style><main><header><h1>Saltmarsh Harbour</h1><span class=mode>{}</span><span>{} "
      "s, {} bots, {} ms round trip, {} ms jitter, {} % loss each way, seed "
      "{}</span></header>",
      kCss, settings.plaintext ? "PLAINTEXT, loopback only" : "encrypted", settings.seconds,
      settings.bots, settings.rtt_ms, settings.jitter_ms, settings.loss_percent, settings.seed);
  html += facts(outcome, summary) + "<div class=charts>";
  for (std::size_t i = 0; i < std::size(charts); ++i) {
    html += fmt::format("<div class=card><h2>{}</h2>{}</div>", titles[i], charts[i]);
  }
  html += "</div>" + tables(outcome, summary) + "</main></html>\n";
  std::ofstream out(file, std::ios::binary);
  out << html;
  out.close();
  return out ? "" : fmt::format("{}: cannot write the report; check the folder", file);
}

}  // namespace kwind::demo
