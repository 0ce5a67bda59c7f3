"""The table of scripts/bench.sh: one line for each thing asked of a building block. Medians of paired per-round ratios."""
import glob
import json
import os
import statistics
import sys

import records

folder, preset, steal_ticks = sys.argv[1:4]
derived, raw = {}, {}
for path in sorted(glob.glob(folder + "/antcrew-records/*.derived")):
    study = json.load(open(path))
    derived[study["title"]] = study
    raw[study["title"]] = json.load(open(path[: -len("derived")] + "json"))
lines = []


def line(what, asked, got):
    lines.append((what, asked, got))


def cells(title, workers, variant=None, **dimensions):
    return [c for c in derived[title]["cells"]
            if c["workers"] == workers and (c["kind"] == "variant") and (variant is None or c["variant"] == variant)
            and all(c["dimensions"].get(k) == v for k, v in dimensions.items())]


def inverse(e):
    return f"{1 / e['median']:.3f} ({1 / e['high']:.3f} to {1 / e['low']:.3f})"


def times(e):
    return f"{e['median']:.2f} ({e['low']:.2f} to {e['high']:.2f})"


def has(title):
    return title in derived


def baseline_s(title, cell):
    for c in derived[title]["cells"]:
        if c["kind"] == "baseline" and c["size"] == cell["size"] and c["dimensions"] == cell["dimensions"]:
            return c["time_s"]["median"]


def phase_by_round(record, cell, name):
    """Seconds a call in this phase spent in it, by round."""
    found = {}
    for t in records.trials(cell):
        p = t["phases"].get(name)
        if p:
            found.setdefault(t["round"], []).append(p["worker_s"] / p["count"])
    return {r: statistics.median(all) for r, all in found.items()}


def regions():
    title = "Empty regions of two workers, back to back"
    if has(title):
        record = raw[title]
        forms, crews = [], []
        for cell in record["cells"]:
            seconds = phase_by_round(record, cell, "there and back")
            variant = cell if cell["kind"] == "variant" else None
            (crews if variant and variant["crew"] == "ThreadCrew" else forms).append((variant, seconds))
        count = record["points"][0]["size"]
        floor = min((seconds for _, seconds in forms), key=lambda s: statistics.median(s.values()))
        for variant, seconds in crews:
            ratios = sorted(seconds[r] / floor[r] for r in seconds if r in floor)
            line(f"empty region through {variant['variant']}(2, …), 2 workers / flags there and back, quickest form",
                 "1.3 or less",
                 f"{statistics.median(ratios):.2f} ({ratios[len(ratios) // 4]:.2f} to {ratios[3 * len(ratios) // 4]:.2f}); "
                 f"{statistics.median(seconds.values()) / count * 1e9:.0f} ns against "
                 f"{statistics.median(floor.values()) / count * 1e9:.0f} ns")
    title = "Empty regions of one worker"
    if has(title):
        c = cells(title, 1)[0]
        line("empty region, 1 worker", "under 20 ns", f"{c['time_s']['median'] / c['size'] * 1e9:.1f} ns")
    title = "Empty regions of two workers, after a serial gap"
    if not has(title):
        return
    record = raw[title]
    for k, point in enumerate(record["points"]):
        phase = {}
        cpu = []
        for cell in record["cells"]:
            if cell["point"] != k:
                continue
            for t in records.trials(cell):
                p = t["phases"].get("handed over and back")
                if p:
                    phase.setdefault(cell["kind"], {}).setdefault(t["round"], []).append(p["worker_s"] / p["count"])
                    if cell["kind"] == "variant":
                        cpu.append(t["others_cpu_s"] / point["size"] * 1e6)
        ratios = [statistics.median(phase["variant"][r]) / statistics.median(phase["baseline"][r])
                  for r in phase["variant"] if r in phase["baseline"]]
        middle = statistics.median([x for r in phase["baseline"].values() for x in r]) * 1e6
        line(f"region after a gap of {point['dimensions']['gap_us']} µs / one wake-up by the kernel",
             "1.3 or less; at most 50 µs burned",
             f"{statistics.median(ratios):.2f} (wake-up {middle:.1f} µs); "
             f"the other worker burned {statistics.median(cpu):.1f} µs of CPU a region")


def others():
    title = "Fibonacci numbers, a fork at every call"
    if has(title):
        for workers, asked in ((1, "g++: 6 or less; 10 ns a spawn"), (2, "g++: 3.2 or less")):
            c = cells(title, workers)[0]
            spawn = (c["time_s"]["median"] - baseline_s(title, c)) / 1346268 * 1e9
            line(f"fib(30), a fork at every call, {workers} worker(s) / plain", asked,
                 inverse(c["speedup"]) + (f"; {spawn:.1f} ns a spawn" if workers == 1 else ""))
    title = "A million pieces handed out one by one"
    if has(title):
        for c in derived[title]["cells"]:
            if c["kind"] == "variant" and c["overhead_s"] is not None:
                long = c["dimensions"]["steps"] > 1
                asked = "35 ns or less" if c["workers"] == 2 and c["crew"] == "ThreadCrew" and long else ""
                line(f"a piece of {c['variant']}, {c['workers']} worker(s), (p·T − bodies) / pieces", asked,
                     f"{c['overhead_s'] / c['size'] * 1e9:.1f} ns (a body {baseline_s(title, c) / c['size'] * 1e9:.1f} ns;"
                     f" p·T / pieces {c['workers'] * c['time_s']['median'] / c['size'] * 1e9:.1f} ns)")
    title = "a[i] = f(i), the crew's loop against the plain one"
    if has(title):
        line("each, 1e7 items, 1 worker / plain loop", "1.05 or less", inverse(cells(title, 1, "each")[0]["speedup"]))
    title = "a[i] = b[i] + s·c[i], two hand-written threads as the baseline"
    if has(title):
        for c in cells(title, 2):
            line(f"a[i] = b[i] + s·c[i], {c['variant']}, 2 workers / hand-written threads", "interval in 0.98 to 1.02",
                 inverse(c["speedup"]))


def sorting():
    for title, what in (("Ten million random 32-bit numbers sorted", "1e7 numbers"),
                        ("A million strings sorted", "1e6 strings"),
                        ("A million structs of 64 bytes sorted stably", "1e6 structs, stable")):
        if not has(title):
            continue
        one, two = cells(title, 1)[0], cells(title, 2)[0]
        line(f"sort, {what}: 1 worker / std", "1.1 or less", inverse(one["speedup"]))
        line(f"sort, {what}: 2 workers, times faster than std", "1.7", times(two["speedup"]))
        line(f"sort, {what}: 2 workers, times faster than 1", "1.6", times(two["self_speedup"]))


def algorithms():
    for title in ("count_if", "transform_reduce", "minmax_element", "stable_partition", "nth_element", "unique", "merge",
                  "set_union", "group_by", "reverse"):
        if not has(title):
            continue
        one, two = cells(title, 1)[0], cells(title, 2)[0]
        line(f"{title}, 4e6 numbers: 1 worker / std", "1.5 or less", inverse(one["speedup"]))
        line(f"{title}: 2 workers, times faster than std", "1.3", times(two["speedup"]))


def blocks():
    for title in ("Ten million numbers filtered", "One of ten million numbers found", "A grid turned in tiles"):
        if not has(title):
            continue
        for workers in (1, 2):
            hand = cells(title, workers, "by hand, threads")[0]
            for c in cells(title, workers):
                if c["variant"] == hand["variant"]:
                    continue
                line(f"{title}: {c['variant']} ({c['crew']}), {workers} worker(s), times faster than the loop by hand",
                     "", f"{times(c['speedup'])}; threads by hand {times(hand['speedup'])}")


def waiting():
    title = "As many items as workers, waiting 0.3 ms each"
    if has(title):
        for workers in (16, 64):
            threads, tasks = cells(title, workers, "chunks(1)")[0], cells(title, workers, "Grain{1}")[0]
            line(f"64 items that wait 0.3 ms, {workers} workers: TaskCrew's time / ThreadCrew's", "1.2 or less",
                 f"{tasks['time_s']['median'] / threads['time_s']['median']:.2f}; speedup {times(tasks['speedup'])} "
                 f"against {times(threads['speedup'])}")
    title = "320 items, waiting 20 ms each"
    if has(title):
        for c in cells(title, 32):
            line(f"320 items that wait 20 ms, 32 workers, {c['crew']}: efficiency", "0.95 or more",
                 f"{c['speedup']['median'] / 32:.3f}")


def stream():
    title = "A hundred megabytes compressed in blocks"
    if not has(title):
        return
    record = raw[title]
    by_name = {}
    for cell in record["cells"]:
        if cell["kind"] == "variant" and cell["workers"] == 2:
            by_name[cell["variant"]] = {
                t["round"]: t["wall_s"] for t in records.trials(cell)}
    pool = by_name.pop("pool by hand")
    for name, seconds in by_name.items():
        ratios = sorted(seconds[r] / pool[r] for r in seconds if r in pool)
        line(f"{title}: {name}, 2 workers / pool by hand", "1.05 or less",
             f"{statistics.median(ratios):.3f} ({ratios[0]:.3f} to {ratios[-1]:.3f})")


def keys():
    for title, what, plain in (("Ten million inserts into a set", "KeySet", True),
                               ("Ten million readings counted", "KeyMap", False)):
        if not has(title):
            continue
        for distinct in (1000, 10000, 100000, 1000000):
            one, two = cells(title, 1, distinct=distinct)[0], cells(title, 2, distinct=distinct)[0]
            if plain:
                line(f"{what}, {distinct} distinct: 1 worker / plain set", "1.2 or less", inverse(one["speedup"]))
            line(f"{what}, {distinct} distinct: 2 workers, times faster than 1", "1.3", times(two["self_speedup"]))
    title = "A graph of empty steps run again"
    if has(title):
        for workers in (1, 2):
            c = cells(title, workers)[0]
            line(f"TaskGraph of 10,000 empty steps, {workers} worker(s), a step", "60 ns" if workers == 1 else "",
                 f"{c['time_s']['median'] / c['size'] * 1e9:.1f} ns")


def processes():
    plain = [("Empty forked regions of two workers, two bare forks as the baseline", "two bare forks", "1.15 or less"),
             ("Empty standing regions of two workers, a byte to two processes and back as the baseline",
              "a byte to two processes and back", "0.9 or less"),
             ("32M doubles in common arrays, a ThreadCrew of two as the baseline", "a ThreadCrew, same loop",
              "interval below 1.05"),
             ("320 waits of 20 ms by 32 workers, the ideal as the baseline", "ideal", "1.05 or less")]
    for title, against, asked in plain:
        for c in derived[title]["cells"] if has(title) else []:
            if c["kind"] == "variant" and c["speedup"] is not None:
                where = "".join(f", {k} {v}" for k, v in c["dimensions"].items())
                line(f"{c['variant']} ({c['crew']}){where} / {against}", asked, inverse(c["speedup"]))
    title = "64 MiB made in a process, raw bytes through a socket as the baseline"
    if not has(title):
        return
    baseline, copied, handed = (next(c for c in derived[title]["cells"] if c["variant"] == name)
                                for name in ("baseline", "copied", "zero-copy"))
    phase = lambda c, *names: sum(c["phases"].get(n, {"worker_s": 0})["worker_s"] for n in names)
    line("64 MiB made, copied, read, freed / raw bytes", "1.25 or less", inverse(copied["speedup"]))
    line("64 MiB zero-copy, the transfer alone / copied, the parent's part",  "0.05 or less",
         f"{phase(handed, 'moving data', 'taking in moved data') / phase(copied, 'taking in moved data'):.3f}"
         f"; / raw bytes {phase(handed, 'moving data', 'taking in moved data') / phase(baseline, 'raw bytes'):.3f}")
    line("64 MiB made, zero-copy, read, freed / copied", "0.7 or less",
         f"{handed['time_s']['median'] / copied['time_s']['median']:.2f}; / raw bytes {inverse(handed['speedup'])}")


regions()
others()
sorting()
algorithms()
stream()
keys()
processes()
blocks()
waiting()
if os.path.exists(folder + "/resting.txt"):
    asked = {"idle": "under 0.1", "start": "under 3", "KeySet": "1.5 or less", "10,000": "no growth"}
    for entry in open(folder + "/resting.txt"):
        name, figure = entry.rstrip("\n").split("\t")
        line(name, asked[name.split()[0]], figure)
if os.path.exists(folder + "/ranks.txt"):
    asked = {"empty": "1.5 or less"}
    for entry in open(folder + "/ranks.txt"):
        name, median, low, high = entry.rstrip("\n").split("\t")
        line(name, asked.get(name.split()[0], "1.1 or less"), f"{median} ({low} to {high})")
width = max((len(w) for w, _, _ in lines), default=0)
table = [f"preset {preset}; the hypervisor took {int(steal_ticks) / 100:.0f} s of processor time meanwhile"]
table += [f"{w:<{width}}  {a:<34}  {g}" for w, a, g in lines]
print("\n".join(table))
open(folder + "/table.txt", "w").write("\n".join(table) + "\n")
