"""How much sooner two builds of the same examples come to a credible answer: run alternating, in the same minutes.

Usage: sooner.py BEFORE AFTER [RUNS=5] [SECONDS=20] [LONGEST=60]     (folders with build/release/examples)

Two measures, each as after / before: the spread of the headline's speedup over runs of SECONDS (the standard deviation of
its logarithm), and the time until a cell's interval is within 5 % to either side for the first time, the median over
the cells of the largest size, counted as LONGEST where it is not by then.
"""
import json
import math
import os
import random
import statistics
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
import records  # noqa: E402

SIZES = {"tides": ["--sizes", "100k"], "gauges": ["--sizes", "200"], "channels": ["--sizes", "60"],
         "catalogue": ["--study", "1", "--dimension", "distinct=1M"]}


def run(build, name, seconds, path):
    if os.path.exists(path):
        os.remove(path)
    subprocess.run([f"{build}/build/release/examples/{name}", *SIZES[name], "--budget", str(seconds), "--save", path,
                    "--quiet"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    derived = subprocess.run([f"{build}/build/release/command/antcrew", "show", path, "--as", "json"],
                             stdout=subprocess.PIPE, text=True).stdout
    return json.load(open(path)), json.loads(derived)


def headline_speedup(derived):
    """Of the cell that the headline names; in older builds the first that holds with the highest speedup."""
    if "conclusion" in derived:
        return (derived["conclusion"]["speedup"] or {}).get("median")
    held = [c["speedup"]["median"] for c in derived["cells"]
            if c["verdict"] == "holds" and c["kind"] == "variant" and c["speedup"]]
    return max(held, default=None)


def interval_width(values, level=0.964):
    """Half-width of the interpolated order-statistics interval of the median, relative to it."""
    v, n = sorted(values), len(values)
    cover = lambda d: 1 - 2 * sum(math.comb(n, k) for k in range(d)) / 2 ** n
    if n < 6 or cover(1) < level:
        return math.inf
    d = 1
    while 2 * (d + 1) <= n and cover(d + 1) >= level:
        d += 1
    outer, inner = cover(d), cover(d + 1) if 2 * (d + 1) <= n else 0
    share = (outer - level) / (outer - inner)
    w = (n - d) * share / (d + (n - 2 * d) * share)
    nxt = min(d, n - 1)
    low = (1 - w) * v[d - 1] + w * v[nxt]
    high = (1 - w) * v[n - d] + w * v[max(n - d - 1, 0)]
    return (high - low) / 2 / statistics.median(v)


def times_to_narrow(record, longest):
    """For each variant cell: seconds until its interval was within 5 % for the first time."""
    by_round = {}
    rounds_s = {}
    for i, cell in enumerate(record["cells"]):
        for t in records.trials(cell):
            if t["confirming"]:
                continue
            by_round.setdefault(i, {}).setdefault(t["round"], []).append(t["wall_s"])
            timed = sum(t["times_s"]) * t["calls"] / len(t["times_s"]) if t["times_s"] else t["wall_s"] * t["calls"]
            rounds_s[t["round"]] = rounds_s.get(t["round"], 0) + timed + t["settling_s"]
    exploring_s = record["measured_s"] - sum(b["wall_s"] for b in record["blocks"] if b.get("confirming", 0) > 0)
    whole = sum(rounds_s.values())
    found = []
    for i, cell in enumerate(record["cells"]):
        if cell["kind"] != "variant":
            continue
        base = next(k for k, c in enumerate(record["cells"]) if c["kind"] == "baseline" and c["point"] == cell["point"])
        ratios, spent, when = [], 0, longest
        for r in sorted(rounds_s):
            spent += rounds_s[r]
            if r in by_round.get(i, {}) and r in by_round.get(base, {}):
                ratios.append(statistics.median(by_round[base][r]) / statistics.median(by_round[i][r]))
            if interval_width(ratios) <= 0.05:
                when = min(longest, spent / whole * exploring_s)
                break
        found.append(when)
    return found


def upper_bound(before, after, figure):
    """Of after / before, by bootstrap over runs."""
    rng = random.Random(1)
    ratios = sorted(figure([rng.choice(after) for _ in after]) / max(1e-9, figure([rng.choice(before) for _ in before]))
                    for _ in range(2000))
    return ratios[int(0.95 * len(ratios))]


def main():
    before, after = sys.argv[1:3]
    runs, seconds, longest = (int(a) for a in (sys.argv[3:] + ["5", "20", "60"][len(sys.argv) - 3:])[:3])
    spread = lambda speedups: statistics.stdev(math.log(s) for s in speedups)
    print(f"{'example':<11}{'spread before':>14}{'after':>9}{'ratio':>7}{'≤':>6}   {'time to ±5 % before':>20}{'after':>8}{'ratio':>7}   timed before, after")
    with tempfile.TemporaryDirectory() as folder:
        for name in SIZES:
            speedups, times, shares = {before: [], after: []}, {before: [], after: []}, {before: [], after: []}
            for k in range(runs):
                for build in (before, after) if k % 2 == 0 else (after, before):
                    _, derived = run(build, name, seconds, f"{folder}/r.json")
                    if headline_speedup(derived):
                        speedups[build].append(headline_speedup(derived))
            for build in (before, after, after, before):
                record, _ = run(build, name, longest, f"{folder}/r.json")
                times[build] += times_to_narrow(record, longest)
                s = records.shares(record)
                shares[build].append(s["timed"] / s["wall"])
            s0, s1 = spread(speedups[before]), spread(speedups[after])
            t0, t1 = statistics.median(times[before]), statistics.median(times[after])
            print(f"{name:<11}{s0 * 100:>12.2f} %{s1 * 100:>7.2f} %{s1 / s0:>7.2f}"
                  f"{upper_bound(speedups[before], speedups[after], lambda v: spread(v) if len(set(v)) > 1 else 1e-6):>6.2f}   "
                  f"{t0:>18.1f} s{t1:>6.1f} s{t1 / t0:>7.2f}   "
                  f"{statistics.mean(shares[before]):.0%}, {statistics.mean(shares[after]):.0%}", flush=True)


main()
