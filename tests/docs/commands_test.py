"""Runs every command line of README and the docs as it stands, in a folder that has what they name: records, stored runs,
inputs. Words in capitals stand for something of the reader's own and are put in. What is told without words behind it,
such as `antcrew explain`, is a command that has to exist. Guides are followed elsewhere, step by step.

Usage: commands_test.py ANTCREW EXAMPLES SOURCE. Prints every line with its exit code; exit 1 with all that failed.
"""
import glob
import json
import os
import re
import shlex
import subprocess
import sys
import tempfile

antcrew, examples, source = (os.path.abspath(word) for word in sys.argv[1:4])
ANSWERS = (0, 1, 4)  # yes, no, cannot tell
STANDS_FOR = {"RECORD…": "last", "RECORD": "last", "FILE.toml": "study.toml", "FILE…": "tides.json", "VARIANT": "split evenly",
              "[TEXT]": "Tide", "TOPIC": "loop", "FILE": "tides.json"}
STUDY = """format = 1
title = "Lines in order"
workers = [1, 2]
keep_folders = "all"
[limits]
call_s = 5
[baseline]
command = ["sort", "lines.txt"]
[[variant]]
name = "sorted"
command = ["sort", "--parallel=@(workers)", "lines.txt"]
"""


def lines_of(path):
    """(command, whether it is told within a sentence)"""
    with open(path, encoding="utf-8") as file:
        text = file.read()
    shell = False
    fenced = False
    joined = ""
    plain = []
    for line in text.split("\n"):
        if line.startswith("```"):
            fenced = not fenced
            shell = fenced and line[3:].strip() == "sh"
            continue
        inside = line if shell else line[6:] if not fenced and line.startswith("    $ ") else None
        if inside is None and joined:
            inside = line.strip()
        if inside is None:
            if not fenced and not line.startswith("    "):
                plain.append(line)
            continue
        joined += inside.rstrip("\\")
        if not inside.endswith("\\"):
            yield joined.split("  #")[0].strip(), False
            joined = ""
    for code in re.findall(r"(?<!`)`([^`]+)`(?!`)", " ".join(plain)):
        yield re.sub(r"\s+", " ", code).strip(), True


def prepared(folder, environment):
    """Twelve stored runs, the newest with a label; records and inputs under the names that the docs use."""
    def run(*words):
        done = subprocess.run(words, cwd=folder, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        if done.returncode not in ANSWERS:
            sys.exit(f"{words} ended with {done.returncode}: {done.stdout}")

    with open(os.path.join(folder, "lines.txt"), "w") as file:
        file.writelines(f"{(k * 7919) % 10007}\n" for k in range(20000))
    with open(os.path.join(folder, "study.toml"), "w") as file:
        file.write(STUDY)
    run("tides", "--sizes", "500,2k", "--workers", "1,2", "--quick", "--no-store", "--quiet", "--save", "made.json")
    with open(os.path.join(folder, "made.json")) as file:
        made = json.load(file)
    for k, name in enumerate([f"run-{n}.json" for n in range(12)] +
                             ["before.json", "after.json", "now.json", "mon.json", "tue.json", "wed.json", "tides.json"]):
        made["run"], made["created"] = f"{k + 1:032x}", f"2026-11-{k + 1:02d}T04:02:11Z"
        with open(os.path.join(folder, name), "w") as file:
            json.dump(made, file)
    run("antcrew", "import", *[f"run-{n}.json" for n in range(12)])
    run("antcrew", "sweep", "study.toml", "--quick", "--quiet", "--no-store", "--save", "kept.json")
    for label in ("reference", "before-rewrite", "slow-disk"):
        run("antcrew", "mark", "3", "--label", label)
    return folder


def fitted(command):
    """The words to be run, and whether anything was put in."""
    for name, by in STANDS_FOR.items():
        if name == "FILE" and command.startswith("antcrew sweep"):
            by = "lines.txt"
        command = re.sub(r"(?<![\w/.-])" + re.escape(name) + r"(?![\w/.])", by if " " not in by or f'"{name}' in command else shlex.quote(by), command)
    return command


def main():
    pages = [os.path.join(source, "README.md")] + sorted(glob.glob(os.path.join(source, "docs", "*.md")))
    failed, ran, known = [], 0, {}
    with tempfile.TemporaryDirectory() as folder:
        programs = os.path.join(folder, "bin")
        os.mkdir(programs)
        os.symlink(antcrew, os.path.join(programs, "antcrew"))
        for example in glob.glob(os.path.join(examples, "*")):
            if os.access(example, os.X_OK) and os.path.isfile(example):
                os.symlink(example, os.path.join(programs, os.path.basename(example)))
        environment = dict(os.environ, PATH=programs + ":" + os.environ["PATH"], ANTCREW_STORE=os.path.join(folder, "store"))
        prepared(folder, environment)
        for number, page in enumerate(pages):
            name = os.path.relpath(page, source)
            # Whatever the page before left: the newest is a run of a study with sizes.
            with open(os.path.join(folder, "tides.json")) as file:
                made = json.load(file)
            made["run"] = f"{1000 + number:032x}"
            with open(os.path.join(folder, "tides.json"), "w") as file:
                json.dump(made, file)
            subprocess.run(["antcrew", "import", "tides.json"], cwd=folder, env=environment, check=True, stdout=subprocess.DEVNULL)
            for command, told in lines_of(page):
                if re.match(r"scripts/[\w.-]+", command):
                    script = command.split()[0]
                    if not os.path.exists(os.path.join(source, script)):
                        failed.append(f"{name}: there is no {script}")
                    continue
                if not re.match(r"(antcrew|tides|loggers|gauges|catalogue)( |$)", command) or command in known:
                    continue
                known[command] = True
                words = command.split()
                mentioned = told and (len(words) < 3 and not re.search(r"RECORD|FILE|last|TEXT|\d", command))
                line = command + " --help" if mentioned and len(words) > 1 and words[1] not in ("demo", "help") else command
                if line in ("antcrew", "antcrew demo") or (told and words[0] != "antcrew"):
                    continue  # the demo has a test of its own
                if line == "antcrew worth last --to tides.rule.json":
                    line = line.replace("last", "tides.json")  # of a program that runs for 40 s before
                if "--trial" in line:
                    line = line.replace("VARIANT", "sorted").replace("RECORD", "kept.json")
                line = fitted(line)
                if words[0] != "antcrew" or words[1] == "sweep":
                    if "--help" not in line and "--example" not in line:
                        parts = line.split(" -- ", 1)
                        brief = "" if "--quick" in line or "--dry-run" in line else " --rounds 2 --no-confirm --instrument none"
                        line = parts[0] + brief + " --quiet" + (" -- " + parts[1] if len(parts) > 1 else "")
                done = subprocess.run(["bash", "-c", line], cwd=folder, env=environment, stdin=subprocess.DEVNULL,
                                      stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, errors="replace", timeout=120)
                ran += 1
                fine = done.returncode in ANSWERS
                print(f"{'ok   ' if fine else 'FAIL '} {done.returncode} {name}: {line}", flush=True)
                if not fine:
                    failed.append(f"{name}: '{line}' ended with {done.returncode}:\n{done.stdout[:600]}")
    print(f"{ran} command lines ran")
    if failed or ran < 20:
        print("failed:", *failed, sep="\n")
        sys.exit(1)


main()
