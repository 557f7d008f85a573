#!/usr/bin/env python3
"""Puts what the benchmarks measured into docs/performance.md and docs/guide/thirty-bytes.md, between
their markers, and draws the charts. Usage: tables.py FOLDER-OF-RESULTS DOCS. What was not measured this
time stays as it is."""
import json
import pathlib
import subprocess
import sys


def load(folder, name):
    file = folder / name
    return json.loads(file.read_text()) if file.exists() else None


def flows_of(rows, scenario):
    return {row["flow"]: row for row in rows if row["scenario"] == scenario}


LATENCY = [("60 Hz, 50 ms, loss %d %%" % loss, loss, 60) for loss in (1, 2, 5, 10)] + [
    ("20 Hz, 10 ms, loss %d %%" % loss, loss, 20) for loss in (1, 2)
]


def latency_table(rows):
    out = ["| | p99 cubic | bbr | link | link: cubic's, bbr's | p99.9 cubic | bbr | link | IP bytes, link: cubic's, bbr's |",
           "|---|---|---|---|---|---|---|---|---|"]
    seeds = set()
    for scenario, _, _ in LATENCY:
        flows = flows_of(rows, scenario)
        if len(flows) < 3:
            continue
        cubic, bbr, link = flows["tcp cubic"], flows["tcp bbr"], flows["link ordered"]
        seeds.add(link.get("seeds", 0))
        out.append("| %s | %.0f | %.0f | %.1f | %.2f, %.2f | %.0f | %.0f | %.1f | %.2f, %.2f |" % (
            scenario, cubic["p99_ms"], bbr["p99_ms"], link["p99_ms"], link["p99_ms"] / cubic["p99_ms"],
            link["p99_ms"] / bbr["p99_ms"], cubic["p999_ms"], bbr["p999_ms"], link["p999_ms"],
            link["wire_kB"] / cubic["wire_kB"], link["wire_kB"] / bbr["wire_kB"]))
    out += ["", "Milliseconds beyond the one-way delay, medians of %s seeds." % ", ".join(map(str, sorted(seeds)))]
    return out if len(out) > 4 else None


# What p99.9 may be, beyond one way; where losses come in runs, or packets out of turn, it may be TCP's.
LIMITS = {"loss 2 %": 40, "loss 5 %": 75}


def goal_table(rows):
    out = ["| 50 ms one way | p99.9 cubic | bbr | link | at most | worst cubic | bbr | link | seeds beyond, of %s | IP bytes, link: cubic's, bbr's |",
           "|---|---|---|---|---|---|---|---|---|---|"]
    seeds = 0
    for hertz in (60, 20):
        for path in ("loss 0 %", "loss 2 %", "loss 5 %", "loss 2 % in runs of 2", "loss 2 % in runs of 4", "loss 2 % in runs of 8",
                     "loss 2 %, 5 % held back"):
            flows = flows_of(rows, "%d Hz, 50 ms, %s" % (hertz, path))
            if len(flows) < 3 or "p999_ms_of_seeds" not in flows["link ordered"]:
                continue
            cubic, bbr, link = flows["tcp cubic"], flows["tcp bbr"], flows["link ordered"]
            seeds = max(seeds, link["seeds"])

            def beyond(figure, limit=None):
                tcp = zip(cubic[figure + "_of_seeds"], bbr[figure + "_of_seeds"])
                return sum(of_link > (limit if limit else max(of_tcp))
                           for of_link, of_tcp in zip(link[figure + "_of_seeds"], tcp))

            def of(flow, figure):
                return "%.0f (%.0f)" % (flow[figure], max(flow[figure + "_of_seeds"]))

            limit = LIMITS.get(path)
            out.append("| %d Hz, %s | %s | %s | %s | %s | %s | %s | %s | p99.9 %d, worst %d | %.2f, %.2f |" % (
                hertz, path, of(cubic, "p999_ms"), of(bbr, "p999_ms"), of(link, "p999_ms"), limit or "TCP's",
                of(cubic, "worst_ms"), of(bbr, "worst_ms"), of(link, "worst_ms"), beyond("p999_ms", limit), beyond("worst_ms"),
                link["wire_kB"] / cubic["wire_kB"], link["wire_kB"] / bbr["wire_kB"]))
    out[0] %= seeds
    out += ["", "Milliseconds beyond one way, from the first message on: the median of the seeds, and in brackets the largest. *Beyond*: seeds in which p99.9 is "
            "more than the column before says, and in which the worst message is later than the worst of both TCP flows. *TCP's* is the larger of both."]
    return out if len(out) > 4 else None


def other_table(rows):
    out = ["| | |", "|---|---|"]
    for name in ("link sequenced", "link unreliable"):
        flows = flows_of(rows, "beside raw UDP, " + name)
        if "raw UDP" in flows:
            raw, link = flows["raw UDP"], flows[name]
            out.append("| `%s` beside raw UDP on one path, loss 2 %%: p50, p90, p99 | %s; raw UDP %s |" % (
                name.split()[1], ", ".join("%.2f" % link[p] for p in ("p50_ms", "p90_ms", "p99_ms")),
                ", ".join("%.2f" % raw[p] for p in ("p50_ms", "p90_ms", "p99_ms"))))
    state = flows_of(rows, "200 kbit/s of state, loss 5 %").get("link unreliable")
    if state:
        out.append("| 200 kbit/s of `unreliable` state, loss 5 %%, no bottleneck | %.1f %% arrived, p99 %.2f |" % (
            state["arrived_%"], state["p99_ms"]))
    own = flows_of(rows, "1 Mbit/s, own bulk").get("link ordered high")
    if own:
        out.append("| `ordered` high, 20 Hz, beside a greedy bulk of its own; 1 Mbit/s, 50 ms, 64 KiB of queue | p99 %.1f, the bulk %.0f kbit/s |" % (
            own["p99_ms"], own["bulk_kbit/s"]))
    beside = flows_of(rows, "1 Mbit/s beside TCP cubic")
    if "tcp cubic greedy" in beside:
        link, tcp = beside["link ordered high"], beside["tcp cubic greedy"]
        out.append("| the same beside one greedy TCP cubic flow | the bulk %.0f kbit/s, TCP %.0f; %.1f %% of the messages arrived, p99 %.0f |" % (
            link["bulk_kbit/s"], tcp["bulk_kbit/s"], link["arrived_%"], link["p99_ms"]))
    return out if len(out) > 2 else None


def cost_table(bench):
    def of(name, field="cpu_time"):
        for row in bench["benchmarks"]:
            if row["name"] in (name + "_median", name) and row.get("aggregate_name", "median") == "median":
                return row.get(field)
        return None

    out = ["| on a server, one core | |", "|---|---|"]
    handshake, keys = of("handshake_of_the_server"), of("key_exchanges_of_a_handshake")
    if handshake and keys:
        out.append("| a handshake beside its three X25519 operations | %.2f times their time |" % (handshake / keys))
    share = of("idle_connections/iterations:10", "core_share")
    if share:
        out.append("| 10,000 idle connections with keepalives | %.1f %% of a core, %.2f KiB each |" % (
            share * 100, of("idle_connections/iterations:10", "bytes_each") / 1024))
    for name, label in ((1, "AES-256-GCM"), (0, "ChaCha20-Poly1305")):
        ratio = of("send_sealed_to_1000/aes:%d/iterations:300/manual_time" % name, "ratio")
        if ratio:
            out.append("| sealing, framing, sending to 1000 clients beside bare `sendmmsg`, %s | %.2f times its CPU |" % (
                label, ratio))
    direct = of("call_std_function")
    few, many = of("dispatch_decoded<10>"), of("dispatch_decoded<1000>")
    if direct and few and many:
        out.append("| a decoded message to its handler beside a call through `std::function`, of 10 types; of 1000 | %.1f; %.1f times its time |" % (
            few / direct, many / direct))
    for name, label in (("state", "sequenced"), ("orders", "ordered")):
        ratios = [of("fan_out_%s_to_1000/mode:%d/iterations:90/manual_time" % (name, mode), "ratio") for mode in (0, 1, 2)]
        if all(ratios):
            out.append("| one 64-byte `%s` message to a room of 1000 beside `sendmmsg` of the same datagrams: plaintext; ChaCha20-Poly1305 and AES-256-GCM beside cipher and `sendmmsg` | %.2f; %.2f, %.2f times its CPU |" % (
                label, *ratios))
    return out if len(out) > 2 else None


STATE = [
    ("plaintext, spread out", "mode:0/shared:0/clients:1000/more_posts:0"),
    ("plaintext, all with one view", "mode:0/shared:1/clients:1000/more_posts:0"),
    ("plaintext, spread out, half as many clients", "mode:0/shared:0/clients:500/more_posts:0"),
    ("plaintext, spread out, twice the posts", "mode:0/shared:0/clients:1000/more_posts:690"),
    ("ChaCha20-Poly1305, spread out", "mode:1/shared:0/clients:1000/more_posts:0"),
    ("AES-256-GCM, spread out", "mode:2/shared:0/clients:1000/more_posts:0"),
]


def state_table(bench, client):
    rows = {}
    for row in bench["benchmarks"]:
        if row.get("aggregate_name", "median") == "median" and not row.get("error_occurred"):
            rows[row["name"]] = row
    out = ["| 1000 clients, 20 ticks a second | times bare calls | us a client | tick p99, ms | bits shared |", "|---|---|---|---|---|"]
    for label, name in STATE:
        for key, row in rows.items():
            if key.startswith("state_to_clients/" + name + "/"):
                out.append("| %s | %.1f | %.1f | %.0f | %.0f %% |" % (
                    label, row["ratio"], row["us_a_client"], row["tick_p99_ms"], row["spliced"] * 100))
    if len(out) <= 2:
        return None
    medians = [row for row in (client or {"benchmarks": []})["benchmarks"] if row.get("aggregate_name") == "median"]
    if medians:
        out += ["", "| a client takes a snapshot with | and holds besides, at rest | us for 50 changes | times 10 us and a quarter for each change |",
                "|---|---|---|---|"]
    for row in medians:
        at_rest = int(row["run_name"].split("/")[2])
        out += ["| %.0f changed entities | %d | %.0f | %.2f |" % (row["entities"], at_rest, row["us_of_50"], row["of_goal"])]
    if medians:
        out += ["", "Medians of medians, in a process of its own, after others have used the caches."]
    return out


def figures_of(folder, name, width):
    """Of a text whose lines have a label of so many columns, and figures behind it."""
    file = folder / name
    figures = {}
    for line in file.read_text().splitlines() if file.exists() else []:
        try:
            figures[line[:width].strip()] = [float(word) for word in line[width:].replace(" x", "").split()]
        except ValueError:
            pass  # a sentence
    return {label: found for label, found in figures.items() if label and found}


LAB = [
    ("JSON text of all in view", "JSON text of all in view, numbers as the game has them", "380x"),
    ("JSON text of what changed", "JSON text of what changed", "100x"),
    ("the same in a stream of zstd", "the same in one stream of zstd a client", "12x"),
    ("state, built-in codes", "state, built-in codes", ""),
    ("state, exact, trained codes", "state, exact, trained codes", "20, 30"),
    ("the entropy of its symbols", "entropy of order 0 of its symbols, with all that is no symbol", "1.1x"),
    ("state, speculative baselines", "state, speculative baselines (built on snapshots in flight)", "13"),
    ("state, within 1/16 m, not exact", "places within 1/16 m, not exact", "10"),
    ("state, all 1300 in view", "exact, all 1300 in view of one client", "280"),
]


def lab_table(lab):
    exact = lab.get("state, exact, trained codes")
    if not exact:
        return None
    out = ["| | mean bytes a client and tick | 95th percentile | wanted |", "|---|---|---|---|"]
    for label, text, wanted in LAB:
        mean = lab[label][0]
        beside = ""
        if wanted.endswith("x"):
            beside = " (%.2fx)" % (exact[0] / mean) if mean < exact[0] else " (%.0fx)" % (mean / exact[0])
        p95 = "%.0f" % lab[label][1] if len(lab[label]) > 2 else ""
        out.append("| %s | %s%s | %s | %s |" % (text, "%.0f" % mean if mean >= 100 else "%.1f" % mean, beside, p95, wanted))
    return out


# Those that are options, and not steps on one way.
OPTIONS = {"built on snapshots in flight (speculative_baselines)": "*built on snapshots in flight*",
           "within 1/16 m (not exact)": "*within 1/16 m, not exact*"}


def lever_table(levers):
    out = ["| | bytes a client and tick | fewer by |", "|---|---|---|"]
    for label, found in levers.items():
        size = "{:,.0f}".format(found[0]) if found[0] >= 100 else "%.1f" % found[0]
        out.append("| %s | %s | %s |" % (OPTIONS.get(label, label), size, "%.1f x" % found[1] if len(found) > 1 else ""))
    return out if len(out) > 3 else None


def draw_state(levers, bench, picture):
    steps = [(label, found[0]) for label, found in levers.items()]
    sizes = "\n".join('"%s" %.2f %d' % (label, size, label in OPTIONS) for label, size in steps)
    rows = {row["name"]: row for row in bench["benchmarks"] if row.get("aggregate_name", "median") == "median"}
    costs = []
    for label, name in STATE:
        for key, row in rows.items():
            if key.startswith("state_to_clients/" + name + "/") and not row.get("error_occurred"):
                costs.append('"%s" %.3f %d' % (label.replace("plaintext, ", ""), row["ratio"], 2 if "shared:1" in name else 4))
    script = """
set terminal pngcairo size 1280,800 font 'DejaVu Sans,12' background '#fbfcfd'
set output '%s'
set multiplot
set border 1
set grid xtics lc rgb '#d5dde3'
set ytics nomirror scale 0
set xtics nomirror
set style fill solid 0.9 noborder
set lmargin at screen 0.33
set rmargin at screen 0.95
set tmargin at screen 0.93
set bmargin at screen 0.47
set title 'State of Saltmarsh Harbour: bytes a client and tick, lever by lever (20 Hz, 256 m in view)' font ',14'
set logscale x
set xrange [1:1000000]
set format x '%%.0f'
set yrange [-%d+0.4:0.6]
set key off
$d << END
%s
END
plot $d using (1):(-$0):(1):2:(-$0-0.38):(-$0+0.38):($3 > 0 ? 0x8fb9c4 : 0x2f7f94):ytic(1) with boxxyerror lc rgb variable, \
     $d using ($2*1.15):(-$0):(sprintf($2 < 100 ? '%%.1f' : '%%.0f', $2)) with labels left font ',11' tc rgb '#22303a'
set tmargin at screen 0.35
set bmargin at screen 0.07
unset logscale x
set title 'Server, 1000 clients: CPU of a tick, times that of bare sendmmsg (line: wanted)' font ',14'
set xrange [0:6]
set format x '%%.0fx'
set yrange [-%d+0.4:0.6]
$c << END
%s
END
plot $c using (0):(-$0):(0):2:(-$0-0.38):(-$0+0.38):ytic(1) with boxxyerror lc rgb '#2f7f94', \
     $c using 3:(-$0-0.44):(0):(0.88) with vectors nohead lw 3 lc rgb '#c2673c', \
     $c using (0.08):(-$0):(sprintf('%%.1f', $2)) with labels left font ',11' tc rgb 'white'
""" % (picture, len(steps), sizes, len(costs), "\n".join(costs))
    subprocess.run(["gnuplot"], input=script, text=True, check=True)


def flood_table(rows):
    out = ["| 100 clients at 20 Hz on loopback | p50, p99 to the server | back | dropped | answers: flood |", "|---|---|---|---|---|"]
    for row in rows:
        out.append("| %s | %.2f, %.2f ms | %.2f, %.2f ms | %d | %.3f |" % (
            "alone" if row["flood"] == 0 else "beside %d wrong datagrams a second" % row["flood"],
            row["up_p50_ms"], row["up_p99_ms"], row["down_p50_ms"], row["down_p99_ms"], row["dropped"], row["amplification"]))
    return out


def siege_table(rows):
    out = ["| attack | datagrams a second | ticks of those due | longest `receive()`, of that on the CPU | the machine stood still | honest messages late by p50, p99, worst | a new client waits, at worst | bytes answered: received | server, of a core | memory | missed |",
           "|---|---|---|---|---|---|---|---|---|---|---|"]
    for row in rows:
        if row["fault"]:
            continue
        waits = "%.0f ms" % row["new_client_worst_ms"]
        if row["not_admitted"]:
            waits += ", %d not within 5 s" % row["not_admitted"]
        out.append("| %s | %d | %d of %d | %.1f, %.1f ms | %.1f ms | %.2f, %.2f, %.1f ms | %s | %.3f | %.0f %% | %+.1f MiB | %s |" % (
            row["row"], row["sent_per_second"], row["ticks"], row["due"], row["longest_receive_ms"],
            row["longest_receive_cpu_ms"], row["machine_stall_ms"], row["up_p50_ms"], row["up_p99_ms"], row["up_worst_ms"], waits, row["answered"],
            100 * row["server_cpu"], row["mib"], row["missed"]))
    return out


def fault_table(rows):
    out = ["| fault | orders sent | orders that arrived, in turn | clients that stayed, of 100 | no order late any more after | memory | missed |",
           "|---|---|---|---|---|---|---|"]
    for row in rows:
        if row["fault"]:
            out.append("| %s | %d | %d | %d | %.0f ms | %+.1f MiB | %s |" % (
                row["row"], row["orders_sent"], row["orders_heard"] - row["orders_out_of_turn"], row["alive"],
                row["recovery_ms"], row["mib"], row["missed"]))
    return out


def draw_siege(rows, picture):
    rows = [row for row in rows if not row["fault"]]
    data = "\n".join('"%s" %.3f %.3f' % (row["row"], row["up_p99_ms"], row["up_worst_ms"]) for row in rows)
    script = """
set terminal pngcairo size 1280,800 font 'DejaVu Sans,12' background '#fbfcfd'
set output '%s'
set title 'Delay of honest messages during an attack: p99 (bars) and the worst (marks)' font ',14'
set xlabel 'milliseconds'
set xrange [0:*<200]
set autoscale xfixmin
set yrange [-%d:0.6]
set grid xtics lc rgb '#d5dde3'
set border 3
set tics nomirror
set lmargin 36
set rmargin 12
set style fill solid 0.9 noborder
unset key
$d << END
%s
END
plot $d using (0):(-$0):(0):2:(-$0-0.35):(-$0+0.35):ytic(1) with boxxyerror lc rgb '#2f7f94', \\
     $d using 3:(-$0) with points pt 7 ps 1.2 lc rgb '#c2673c', \\
     $d using 3:(-$0):(sprintf('   %%.1f, %%.1f', $2, $3)) with labels left font ',10' tc rgb '#22303a'
""" % (picture, len(rows), data)
    subprocess.run(["gnuplot"], input=script, text=True, check=True)


def draw(rows, picture):
    data = []
    for scenario, loss, hertz in LATENCY:
        flows = flows_of(rows, scenario)
        if len(flows) == 3:
            data.append('"%d Hz, %s\\nloss %d %%" %s' % (hertz, "50 ms" if hertz == 60 else "10 ms", loss, " ".join(
                "%.2f %.2f" % (flows[f]["p99_ms"], flows[f]["p999_ms"]) for f in ("tcp cubic", "tcp bbr", "link ordered"))))
    script = """
set terminal pngcairo size 1280,800 font 'DejaVu Sans,12' background '#fbfcfd'
set output '%s'
set title 'Delay of ordered 40-byte messages beyond the one-way delay: 99th percentile (bars) and 99.9th (marks)' font ',14'
set ylabel 'milliseconds'
set logscale y
set yrange [5:10000]
set grid ytics lc rgb '#d5dde3'
set key top left
set bmargin 4
set border 3
set xtics nomirror
set ytics nomirror
set style fill solid 0.9 noborder
set boxwidth 0.25
set xrange [-0.6:%d-0.4]
$d << END
%s
END
plot $d using ($0-0.27):2:xtic(1) with boxes lc rgb '#c2673c' title 'TCP cubic', \\
     $d using ($0):4 with boxes lc rgb '#d9a441' title 'TCP bbr', \\
     $d using ($0+0.27):6 with boxes lc rgb '#2f7f94' title 'link, ordered', \\
     $d using ($0-0.27):3 with points pt 7 ps 1 lc rgb '#22303a' notitle, \\
     $d using ($0):5 with points pt 7 ps 1 lc rgb '#22303a' notitle, \\
     $d using ($0+0.27):7 with points pt 7 ps 1 lc rgb '#22303a' notitle, \\
     $d using ($0-0.27):($2*0.85):(sprintf('%%.0f',$2)) with labels font ',10' tc rgb 'white' notitle, \\
     $d using ($0):($4*0.85):(sprintf('%%.0f',$4)) with labels font ',10' tc rgb 'white' notitle, \\
     $d using ($0+0.27):($6*0.85):(sprintf('%%.0f',$6)) with labels font ',10' tc rgb 'white' notitle
""" % (picture, len(data), "\n".join(data))
    subprocess.run(["gnuplot"], input=script, text=True, check=True)


def main():
    folder, docs = pathlib.Path(sys.argv[1]), pathlib.Path(sys.argv[2])

    def put(marker, lines, page="performance.md"):
        if not lines:
            return
        text = (docs / page).read_text()
        begin, end = "<!-- %s -->\n" % marker, "<!-- end of %s -->" % marker
        before, rest = text.split(begin, 1)
        (docs / page).write_text(before + begin + "\n".join(lines) + "\n" + end + rest.split(end, 1)[1])

    paths = load(folder, "path.json")
    if paths:
        put("latency", latency_table(paths))
        put("goals", goal_table(paths))
        put("paths", other_table(paths))
        if latency_table(paths):
            draw(paths, docs / "screenshots" / "latency.png")
    bench = load(folder, "kwind_bench.json")
    if bench:
        put("cost", cost_table(bench))
        put("state", state_table(bench, load(folder, "client.json")))
    put("lab", lab_table(figures_of(folder, "lab.txt", 34)))
    levers = figures_of(folder, "levers.txt", 42)
    put("levers", lever_table(levers), "guide/thirty-bytes.md")
    if bench and levers:
        draw_state(levers, bench, docs / "screenshots" / "state.png")
    flood = load(folder, "flood.json")
    if flood:
        put("flood", flood_table(flood))
    siege = load(folder, "siege.json")
    if siege:
        put("siege", siege_table(siege), "security.md")
        put("faults", fault_table(siege), "security.md")
        draw_siege(siege, docs / "screenshots" / "siege.png")


main()
