#!/usr/bin/env python3
"""Follows a guide word by word, as a reader would, in a fresh folder: a block of code behind a line that ends in `name`:
is written to that file, a block of shell commands is run line by line. Needs antcrew installed. Stops at the first
command that fails; 1 ("no") and 4 ("cannot tell") are answers. Usage: try-guides.py GUIDE.md ..."""
import re, subprocess, sys, tempfile, os, time

ANSWERS = {0, 1, 4}


def blocks(text):
    """(language, file that it is to be written to or None, text) of each block."""
    before = ""
    lines = iter(text.split("\n"))
    for line in lines:
        fence = re.match(r"```(\w*)$", line)
        if not fence:
            before = line if line.strip() else before
            continue
        body = []
        for inside in lines:
            if inside == "```":
                break
            body.append(inside)
        named = re.search(r"`([\w.-]+)`:$", before)
        yield fence.group(1), named.group(1) if named else None, "\n".join(body) + "\n"
        before = ""


def commands(text):
    """Lines, those that end in a backslash joined."""
    return [c for c in text.replace("\\\n", " ").split("\n") if c.strip()]


def follow(path, folder):
    steps = 0
    for language, name, body in blocks(open(path, encoding="utf-8").read()):
        if name and language != "sh":
            open(os.path.join(folder, name), "w", encoding="utf-8").write(body)
            continue
        if language != "sh":
            continue
        for command in commands(body):
            steps += 1
            print(f"$ {command}", flush=True)
            done = subprocess.run(["bash", "-c", command], cwd=folder, text=True, stdin=subprocess.DEVNULL,
                                  stdout=subprocess.PIPE, stderr=subprocess.STDOUT, timeout=300)
            print("".join("    " + line + "\n" for line in done.stdout.split("\n")[:60]), flush=True)
            allowed = ANSWERS if "antcrew" in command.split()[0] or command.startswith("./") else {0}
            if done.returncode not in allowed:
                sys.exit(f"{path}: '{command}' ended with {done.returncode}")
    if steps == 0:
        sys.exit(f"{path}: nothing in it could be followed")
    return steps


for guide in sys.argv[1:]:
    begun = time.time()
    print(f"== {guide}", flush=True)
    # CI's guide goes on with the program of the loop's.
    with tempfile.TemporaryDirectory() as folder:
        os.environ["ANTCREW_STORE"] = os.path.join(folder, "store")
        if os.path.basename(guide) == "ci.md":
            follow(os.path.join(os.path.dirname(guide), "loop.md"), folder)
        steps = follow(guide, folder)
    print(f"== {guide}: {steps} commands followed in {time.time() - begun:.0f} s\n", flush=True)
