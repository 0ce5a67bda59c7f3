"""Figure files as they are drawn: no text is cut by the edge or lies on another. Texts are measured by a browser.

Usage: figures_test.py ANTCREW TIDES. Prints what was checked; exit 1 with all that failed.
"""
import json
import os
import subprocess
import sys
import tempfile

from browser import Browser

antcrew, tides = sys.argv[1:3]
failed = []

BOXES = """const svg = document.documentElement.getBoundingClientRect();
return { width: svg.width, height: svg.height, texts: [...document.querySelectorAll('text')].map(t => {
  const b = t.getBoundingClientRect(); return [t.textContent.trim(), b.left, b.right, b.top, b.bottom]; }).filter(t => t[0] !== '') };"""


def faults_of(drawn):
    """Texts beyond the edge, and pairs that share more than a sliver."""
    faults = []
    for text, left, right, top, bottom in drawn["texts"]:
        if left < -0.5 or top < -0.5 or right > drawn["width"] + 0.5 or bottom > drawn["height"] + 0.5:
            faults.append(f"cut: {text!r} {left:.0f}–{right:.0f}, {top:.0f}–{bottom:.0f}")
    texts = drawn["texts"]
    for k, (text, left, right, top, bottom) in enumerate(texts):
        for other, its_left, its_right, its_top, its_bottom in texts[k + 1:]:
            # A line's box is higher than its letters: lines of one label touch.
            across = min(right, its_right) - max(left, its_left)
            down = min(bottom, its_bottom) - max(top, its_top)
            if across > 1 and down > 0.3 * min(bottom - top, its_bottom - its_top):
                faults.append(f"covered: {text!r} and {other!r} by {across:.0f} × {down:.0f}")
    return faults


def changed(record, folder, name, change):
    with open(record) as file:
        made = json.load(file)
    change(made)
    copy = os.path.join(folder, name + ".json")
    with open(copy, "w") as file:
        json.dump(made, file)
    return copy


def long_names(made):
    made["title"] = "Depth soundings of the whole outer bay, corrected for the tide and gridded at two metres: spring survey, all of it"
    for cell in made["cells"]:
        if cell["kind"] == "variant":
            cell["variant"] = (cell["variant"] + ", each part sorted on its own and then_merged_by_one_worker")[:70]
    made["ladders"] = []


def disturbed(made):
    """As if a neighbour had taken a processor for every third round."""
    for cell in made["cells"]:
        walls = cell.get("trials", {}).get("wall_s", [])
        if walls:
            cell["trials"]["wall_s"] = [w * (1 + 0.6 * (k % 3 == 0)) for k, w in enumerate(walls)]


def main():
    with tempfile.TemporaryDirectory() as folder, Browser(1400, 1000) as browser:
        quiet = os.path.join(folder, "quiet.json")
        subprocess.run([tides, "--sizes", "1k,20k", "--rounds", "7", "--workers", "1,2,3", "--save", quiet, "--quiet",
                        "--no-store", "--budget", "12"], stdout=subprocess.DEVNULL)
        records = [quiet, changed(quiet, folder, "named", long_names), changed(quiet, folder, "disturbed", disturbed)]
        drawn = 0
        for record in records:
            shown = subprocess.run([antcrew, "show", record, "--as", "figure:dimensions"], capture_output=True, text=True)
            kinds = shown.stderr.rsplit("it has ", 1)[-1].strip().split(", ")
            if len(kinds) < 8:
                failed.append(f"{record}: kinds {shown.stderr}")
            for kind in kinds:
                file = os.path.join(folder, "figure.svg")
                subprocess.run([antcrew, "show", record, "--as", "figure:" + kind, "--to", file], check=True)
                browser.open(file)
                boxes = browser.run(BOXES)
                faults = faults_of(boxes)
                what = f"{os.path.basename(record)}, {kind}: {len(boxes['texts'])} texts"
                print(("ok    " if not faults and len(boxes["texts"]) > 3 else "FAIL  ") + what + ("" if not faults else f": {faults}"), flush=True)
                if faults or len(boxes["texts"]) <= 3:
                    failed.append(what)
                drawn += 1
        print(f"{drawn} figures")
    if failed:
        print("failed:", *failed, sep="\n  ")
        sys.exit(1)


main()
