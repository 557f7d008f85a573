#include "report.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "plot.h"
#include "summary.h"
#include "tug_motion.h"

namespace kwind::demo {
namespace {

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

// Kilobytes a second by message kind, server to clients, stacked from the largest up.
std::string bytes_chart(const Outcome& outcome) {
  const auto& last = outcome.moments.back().server;
  std::vector<std::size_t> kinds;
  for (std::size_t kind = 0; kind < last.bits_sent_by_kind.size(); ++kind) {
    if (last.bits_sent_by_kind[kind] > 0) kinds.push_back(kind);
  }
  std::sort(kinds.begin(), kinds.end(), [&](std::size_t a, std::size_t b) {
    return last.bits_sent_by_kind[a] > last.bits_sent_by_kind[b];
  });
  std::string data;
  double top = 0;
  for (std::size_t i = 1; i < outcome.moments.size(); ++i) {
    const Moment& before = outcome.moments[i - 1];
    const Moment& now = outcome.moments[i];
    const double seconds = std::max(0.001, now.seconds - before.seconds);
    const auto rate = [&](std::uint64_t to, std::uint64_t from) {
      return static_cast<double>(to - from) / 8000 / seconds;
    };
    double sum = rate(now.server.overhead_bits_sent, before.server.overhead_bits_sent);
    std::string row = fmt::format("{:.2f}", now.seconds);
    row += fmt::format(" {:.3f}", sum);
    for (const std::size_t kind : kinds) {
      const auto of = [&](const Moment& m) {
        return kind < m.server.bits_sent_by_kind.size() ? m.server.bits_sent_by_kind[kind] : 0;
      };
      sum += rate(of(now), of(before));
      row += fmt::format(" {:.3f}", sum);
    }
    top = std::max(top, sum);
    data += row + "\n";
  }
  static constexpr const char* kColours[] = {"#2a6f97", "#e09f3e", "#9e2a2b", "#6a994e", "#7b6d8d"};
  std::string script = "$d << EOD\n" + data + "EOD\n";
  script += fmt::format(
      "set xlabel 'seconds'\nset ylabel 'kB/s'\nset yrange [0:{:.3f}]\nset key top left "
      "horizontal\n"
      "set style fill solid 1.0 noborder\nplot ",
      std::max(0.1, top * 1.25));
  // The largest sum is drawn first; each smaller one covers its lower part.
  for (std::size_t i = kinds.size(); i-- > 0;) {
    script +=
        fmt::format("$d using 1:{} with filledcurves x1 lc rgb '{}' title '{}', ", i + 3,
                    kColours[i % std::size(kColours)], harbour::kProtocol.messages[kinds[i]].name);
  }
  script += "$d using 1:2 with filledcurves x1 lc rgb '#b8c4cc' title 'overhead'\n";
  return script;
}

std::string rtt_chart(const Settings& settings, const Outcome& outcome) {
  std::string data;
  double top = settings.delay_ms + settings.jitter_ms;
  for (const Moment& moment : outcome.moments) {
    if (moment.rtt_ms.empty()) continue;
    const auto [least, most] = std::minmax_element(moment.rtt_ms.begin(), moment.rtt_ms.end());
    top = std::max(top, *most);
    data += fmt::format("{:.2f} {:.2f} {:.2f} {:.2f}\n", moment.seconds, mean(moment.rtt_ms),
                        *least, *most);
  }
  return "$d << EOD\n" + data + "EOD\n" +
         fmt::format(
             "set xlabel 'seconds'\nset ylabel 'ms'\nset yrange [0:{:.0f}]\n"
             "set key bottom left horizontal\nset style fill solid 1.0 noborder\n"
             "plot $d using 1:3:4 with filledcurves lc rgb '#cfe0ea' title 'all bots', "
             "$d using 1:2 with lines lw 2 lc rgb '#2a6f97' title 'mean', "
             "{} with lines dt 2 lc rgb '#9e2a2b' title 'round trip asked for'\n",
             top * 1.2, settings.delay_ms);
}

struct Track {
  std::string server;
  std::string client;
  std::string error;
  unsigned bot = 0;
  std::int32_t tug = 0;
};

// One tug's way at the server and as one bot held it.
Track track_of(const Outcome& outcome) {
  Track track;
  const BotRecord* bot = nullptr;
  for (const BotRecord& candidate : outcome.bots) {
    if (candidate.number == outcome.verdict.worst_bot) bot = &candidate;
  }
  if (bot == nullptr || bot->fleets.empty() || bot->fleets.rbegin()->second.tugs.empty()) {
    return track;
  }
  track.bot = bot->number;
  // The tug that went furthest is the most telling.
  double best = -1;
  for (const harbour::Tug& end : bot->fleets.rbegin()->second.tugs) {
    for (const harbour::Tug& begin : bot->fleets.begin()->second.tugs) {
      const double way = std::hypot(end.x - begin.x, end.y - begin.y);
      if (begin.number == end.number && way > best) {
        best = way;
        track.tug = end.number;
      }
    }
  }
  const auto add = [&](std::string& out, const std::vector<harbour::Tug>& tugs) {
    for (const harbour::Tug& tug : tugs) {
      if (tug.number == track.tug) out += fmt::format("{} {}\n", tug.x, tug.y);
    }
  };
  for (const ServerTick& tick : outcome.server.ticks) add(track.server, tick.tugs);
  const Time start = outcome.server.ticks.front().sent_at;
  for (const Sample& sample : bot->samples) {
    if (const auto held = bot->fleets.find(sample.tick); held != bot->fleets.end()) {
      add(track.client, held->second.tugs);
    }
    ErrorSplit split;
    if (error_of(outcome.server, *bot, sample, track.tug, split)) {
      track.error += fmt::format("{:.3f} {:.4f} {:.4f}\n",
                                 std::chrono::duration<double>(sample.at - start).count(),
                                 split.total, split.path);
    }
  }
  return track;
}

std::string track_chart(const Track& track) {
  return "$s << EOD\n" + track.server + "EOD\n$c << EOD\n" + track.client + "EOD\n" +
         "set xlabel 'metres east'\nset ylabel 'metres north'\nset size ratio -1\n"
         "set offsets graph 0.08, graph 0.08, graph 0.08, graph 0.08\n"
         "set key outside top center horizontal\nset grid xtics ytics lc rgb '#e3e8ec' lt 1\n"
         "plot $s with lines lw 9 lc rgb '#b8d4e3' title 'server', "
         "$c with points pt 7 ps 0.25 lc rgb '#9e2a2b' title 'held by the client'\n";
}

std::string error_chart(const Track& track) {
  return "$e << EOD\n" + track.error + "EOD\n" +
         "set xlabel 'seconds'\nset ylabel 'metres'\nset yrange [0:*]\n"
         "set offsets 0, 0, graph 0.2, 0\nset key top left horizontal\n"
         "set style fill solid 1.0 noborder\n"
         "plot $e using 1:2 with lines lw 1 lc rgb '#e09f3e' title 'position error', "
         "$e using 1:3 with lines lw 1.5 lc rgb '#2a6f97' title 'of it path delay'\n";
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

std::string facts(const Outcome& outcome, const Summary& summary) {
  const ErrorSplit& worst = outcome.verdict.worst;
  const auto fact = [](const std::string& value, const std::string& what) {
    return fmt::format("<div><b>{}</b>{}</div>", value, what);
  };
  return "<div class=facts>" +
         fact(fmt::format("{} of {}", outcome.verdict.agreeing, outcome.verdict.bots.size()),
              "bots agree with the server") +
         fact(fmt::format("{:.0f} B", summary.bytes_per_client_tick), "down per client and tick") +
         fact(fmt::format("{:.1f}x", summary.json_ratio), "smaller than JSON text") +
         fact(fmt::format("{:.0f} ms", summary.rtt_ms), "mean round trip") +
         fact(fmt::format("{} / {}", summary.lost, summary.repeated),
              "packets lost / messages repeated") +
         fact(fmt::format("{:.2f} m", worst.total), "worst position error") + "</div>";
}

std::string tables(const Outcome& outcome, const Summary& summary) {
  std::string out =
      "<div class=tables><div class=card><h2>Bytes sent, both directions</h2><table>"
      "<tr><th>message<th>direction<th class=n>bytes<th class=n>share</tr>";
  for (const KindRow& row : summary.kinds) {
    out += fmt::format("<tr><td>{}<td>{}<td class=n>{}<td class=n>{:.1f} %</tr>", escape(row.name),
                       escape(row.direction), row.bytes, row.share * 100);
  }
  out += fmt::format(
      "<tr><td><b>all</b><td>{} datagrams<td class=n>{}<td class=n></tr>"
      "<tr><td>the same as JSON text<td>without headers<td class=n>{}<td class=n></tr>"
      "</table></div>",
      summary.datagrams, summary.bytes, summary.json_bytes);
  out +=
      "<div class=card><h2>Bots</h2><table><tr><th>bot<th>verdict<th class=n>complete"
      "<th class=n>fleets<th class=n>notices<th class=n>mean error<th class=n>worst error"
      "<th class=n>path + interval + loss</tr>";
  for (const BotVerdict& bot : outcome.verdict.bots) {
    out += fmt::format(
        "<tr><td>{}<td class={}>{}<td class=n>{:.0f} ms<td class=n>{}<td class=n>{}"
        "<td class=n>{:.2f} m<td class=n>{:.2f} m<td class=n>{:.2f} + {:.2f} + {:.2f}</tr>",
        bot.number, bot.agrees ? "ok" : "bad", bot.agrees ? "agrees" : escape(bot.why_not),
        bot.complete_ms, bot.fleets, bot.notices, bot.mean_error, bot.worst.total, bot.worst.path,
        bot.worst.interval, bot.worst.loss);
  }
  return out + "</table></div></div>";
}

}  // namespace

std::string write_report(const std::string& file, const Settings& settings,
                         const Outcome& outcome) {
  const Summary summary = summarize(outcome);
  const Track track = track_of(outcome);
  constexpr int kWidth = 600;
  constexpr int kHeight = 262;
  const std::string charts[] = {tool::draw_svg(bytes_chart(outcome), kWidth, kHeight),
                                tool::draw_svg(rtt_chart(settings, outcome), kWidth, kHeight),
                                tool::draw_svg(track_chart(track), kWidth, kHeight),
                                tool::draw_svg(error_chart(track), kWidth, kHeight)};
  if (std::any_of(std::begin(charts), std::end(charts), [](const auto& c) { return c.empty(); })) {
    return "gnuplot could not draw the charts; install the package gnuplot-nox and run again";
  }
  const std::string titles[] = {
      "Sent by the server, by message kind", "Round trip as the bots measure it",
      fmt::format("Tug {}: the server's track, and what bot {} held", track.tug, track.bot),
      fmt::format("How far off bot {} held tug {}", track.bot, track.tug)};
  std::string html = fmt::format(
      "<!doctype html><html lang=en><meta charset=utf-8><title>Saltmarsh Harbour</title>"
      "<style>{}</style><main><header><h1>Saltmarsh Harbour</h1><span class=mode>{}</span><span>{} "
      "s, {} bots, {} ms round trip, {} ms jitter, {} % loss each way, seed "
      "{}</span></header>",
      kCss, settings.clear ? "CLEAR mode, loopback only" : "sealed", settings.seconds,
      settings.bots, settings.delay_ms, settings.jitter_ms, settings.loss_percent, settings.seed);
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
