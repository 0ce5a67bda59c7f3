#!/usr/bin/python3
"""Explores the models of this folder exhaustively, for 2 and 3 workers, and each of them with one step left out.

A step that can be left out without a counterexample protects nothing, or the model does not see what it protects.
Steps stand before a mark that names a line of the library: /*! file: code */. That line must exist.
Needs spin and a C compiler. Usage: explore.py [MODEL...]"""
import os, re, subprocess, sys, tempfile, time

here = os.path.dirname(os.path.abspath(__file__))
library = os.path.join(here, "..", "..", "antcrew")
MARK = re.compile(r"^(.*?)/\*! ([\w/.]+): (.*?) \*/\s*$")
SIZES = {"deque": ["THIEVES=1", "THIEVES=2"], "region": ["WORKERS=1", "WORKERS=2"], "squad": [""],
         "sleep": ["WORKERS=2", "WORKERS=3"], "wake_placement": [""], "credit": ["WORKERS=1", "WORKERS=2"],
         "owner": ["NEWCOMERS=1", "NEWCOMERS=2"]}


def explored(lines, size):
    """(errors, states, whether all were seen)"""
    with tempfile.TemporaryDirectory() as folder:
        with open(os.path.join(here, "memory.pml")) as memory, open(os.path.join(folder, "memory.pml"), "w") as copy:
            copy.write(memory.read())
        with open(os.path.join(folder, "model.pml"), "w") as model:
            model.write("".join(lines))
        run = lambda *words: subprocess.run(words, cwd=folder, capture_output=True, text=True)
        made = run("spin", *(["-D" + size] if size else []), "-a", "model.pml")
        if made.returncode != 0 or not os.path.exists(os.path.join(folder, "pan.c")):
            sys.exit("spin refuses the model:\n" + made.stdout + made.stderr)
        built = run("cc", "-O2", "-w", "-DSAFETY", "-DVECTORSZ=4096", "-DCOLLAPSE", "-DMEMLIM=6000", "-o", "pan", "pan.c")
        if built.returncode != 0:
            sys.exit(built.stderr)
        told = run("./pan", "-m1000000", "-w24").stdout
        errors = int(re.search(r"errors: (\d+)", told).group(1))
        states = int(float(re.search(r"([\d.e+]+) states, stored", told).group(1)))
        whole = "max search depth too small" not in told and "Search not completed" not in told
        return errors, states, whole


def without(lines, k):
    """The same without the step in line k: what stands there besides braces and guards becomes a skip."""
    step = MARK.match(lines[k]).group(1)
    indent = step[: len(step) - len(step.lstrip())]
    end = ";" if step.rstrip().endswith(";") else ""
    guard = re.match(r"(:: .*? -> )", step.lstrip())
    return lines[:k] + [indent + (guard.group(1) if guard else "") + "skip" + end + "\n"] + lines[k + 1:]


def main():
    wrong = 0
    for name in sys.argv[1:] or sorted(SIZES):
        with open(os.path.join(here, name + ".pml")) as file:
            lines = file.readlines()
        plain = [re.sub(r"/\*! .*? \*/", "", line) for line in lines]
        for size in SIZES[name]:
            start = time.time()
            errors, states, whole = explored(plain, size)
            good = errors == 0 and whole
            wrong += not good
            print(f"{name} {size or '-'}: {states} states, {'no fault' if good else 'FAULT' if errors else 'NOT ALL SEEN'}"
                  f", {time.time() - start:.1f} s", flush=True)
        for k, line in enumerate(lines):
            mark = MARK.match(line)
            if not mark:
                continue
            with open(os.path.join(library, mark.group(2))) as source:
                if mark.group(3) not in source.read():
                    wrong += 1
                    print(f"{name}, line {k + 1}: antcrew/{mark.group(2)} has no '{mark.group(3)}'")
            found = 0
            for size in SIZES[name]:
                errors, states, _ = explored([re.sub(r"/\*! .*? \*/", "", l) for l in without(lines, k)], size)
                if errors:
                    found = states
                    break
            wrong += not found
            print(f"  without {mark.group(3)[:70]}: {'a counterexample' if found else 'NOTHING FOUND'}", flush=True)
    sys.exit(1 if wrong else 0)


main()
