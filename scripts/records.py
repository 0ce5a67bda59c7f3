"""Reading records in scripts: trials of a cell one by one, whether they stand as columns or as a list."""
import json, os

USUAL = {"settling_s": 0, "settling_calls": 0, "first": False, "confirming": 0, "phases": {}, "counters": {},
         "others_cpu_s": 0, "compare_s": 0, "agreed": True, "times_s": []}


def trials(cell):
    columns = cell["trials"]
    if isinstance(columns, list):
        return [{**USUAL, **t} for t in columns]
    count = len(columns.get("round", []))
    return [{**USUAL, **{name: column[k] for name, column in columns.items()}} for k in range(count)]


def load(path):
    """The record, with the steps of a run that has not ended."""
    record = json.load(open(path))
    lines = path + ".rounds"
    for cell in record["cells"]:
        cell["trials"] = trials(cell)
    if "rounds_beside" in record and os.path.exists(lines):
        text = open(lines).read().split("\n")[:-1]
        if text and text[0] == record["rounds_beside"]:
            for step in map(json.loads, text[1:]):
                if "visited" in step:
                    seen = step["visited"]
                    record["cells"][seen["cell"]]["trials"] += [{**USUAL, **t} for t in seen["seen"]["trials"]]
    return record


def shares(record):
    """Where the wall time of a study went: timed, settling, and the time around each visit."""
    all_trials = [t for c in record["cells"] for t in trials(c)]
    timed = sum(t["wall_s"] * t["calls"] if not t["times_s"] else sum(t["times_s"]) * t["calls"] / len(t["times_s"])
                for t in all_trials)
    cold = sum(sum(c["cold_s"]) + sum(c["startup_s"]) for c in record["cells"])
    cold -= sum(t["times_s"][0] for t in all_trials if t["first"])  # those were timed
    return {"wall": record["measured_s"], "timed": timed, "settling": sum(t["settling_s"] for t in all_trials),
            "cold": cold, "trials": len(all_trials)}


def between_visits(record):
    """From the end of one visit's timing to the begin of the next one's, without first calls, crews and settling: what
    a stand costs by itself. Seconds, one value a visit."""
    rows = []
    for c in record["cells"]:
        for k, t in enumerate(trials(c)):
            own = (0 if t["first"] else c["cold_s"][k]) + c["startup_s"][k] + t["settling_s"]
            rows.append((t["order"], t["start_s"], sum(t["times_s"]) * t["calls"] / len(t["times_s"]), own))
    rows.sort()
    return [b[1] - a[1] - a[2] - b[3] for a, b in zip(rows, rows[1:])]
