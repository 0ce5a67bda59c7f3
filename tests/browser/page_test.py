"""Opens pages made from real records in a headless browser, from disk, and uses them as readers do.

Usage: page_test.py ANTCREW TIDES. Prints what was checked; exit 1 with all that failed.
"""
import json
import os
import subprocess
import sys
import tempfile
import time

from browser import Browser

antcrew, tides = sys.argv[1:3]
failed = []
HOSTILE = "</script><script>window.ran=1</script>\"'><img src=x onerror=window.ran=1> `x` =1+1"


def check(what, holds, seen=None):
    print(("ok    " if holds else "FAIL  ") + what + ("" if holds or seen is None else f": {seen}"), flush=True)
    if not holds:
        failed.append(what)


def page_of(record, folder, name):
    page = os.path.join(folder, name)
    start = time.time()
    subprocess.run([antcrew, "show", record, "--as", "page", "--to", page], check=True)
    return page, time.time() - start


def hostile_copy(record, folder):
    with open(record) as file:
        made = json.load(file)
    made["title"] = made["agreement"] = HOSTILE
    made["ladders"] = []
    for cell in made["cells"]:
        if cell["kind"] == "variant":
            cell["variant"] = HOSTILE + cell["variant"]
            cell["faults"] = [{"kind": "wrong answer", "round": 1, "text": HOSTILE, "evidence": {}}] if cell["workers"] == 2 else []
    copy = os.path.join(folder, "hostile.json")
    with open(copy, "w") as file:
        json.dump(made, file)
    return copy


def large_copy(record, folder):
    """1,000 cells of 50 trials, from those of the record."""
    with open(record) as file:
        made = json.load(file)
    last = len(made["points"]) - 1  # the largest size: few calls a trial
    variants = [c for c in made["cells"] if c["kind"] == "variant" and c["point"] == last]
    baseline = [c for c in made["cells"] if c["kind"] == "baseline" and c["point"] == last]
    cells = []
    for k in range(1000):
        cell = json.loads(json.dumps((baseline if k == 0 else [variants[k % len(variants)]])[0]))
        if k > 0:
            cell["variant"], cell["workers"] = f"variant {k // 10}", k % 10 + 1
        count = len(cell["trials"]["round"])
        for name, column in cell["trials"].items():
            if isinstance(column, list) and len(column) == count:
                cell["trials"][name] = (column * (50 // count + 1))[:50]
        cell["trials"]["round"] = cell["trials"]["generation"] = list(range(1, 51))
        cell["point"] = 0
        cell["metered"] = [] if k > 20 else cell.get("metered", [])
        cells.append(cell)
    made["cells"], made["points"] = cells, made["points"][:1]
    made["blocks"] = [b for b in made["blocks"] if b["point"] == 0]
    made["crowds"] = [c for c in made.get("crowds", []) if c["point"] == 0]
    made["confirmations"], made["ladders"], made["left_out"] = [], [], []
    copy = os.path.join(folder, "large.json")
    with open(copy, "w") as file:
        json.dump(made, file)
    return copy


DRAWN = """return antCrewPage.charts.map(one => { const c = one.chart.canvas, d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
  let inked = 0; for (let k = 3; k < d.length; k += 4) inked += d[k] > 0 ? 1 : 0; return [one.kind, inked / (c.width * c.height)]; });"""


def quiet_and_alone(browser, what):
    said = browser.said()
    check(what + ": the console says nothing", said == [], said)
    asked = [u for u in browser.requests() if not u.startswith(("file://", "data:", "blob:", "chrome://"))]
    check(what + ": nothing is asked of a network", asked == [], asked)


def use(browser, page):
    browser.open(page)
    figures = browser.run("return antCrewPage.study.figures.reduce((n, f) => n + f.panels.length, 0)")
    drawn = browser.run(DRAWN)
    check("every figure is drawn", len(drawn) == figures and all(ink > 0.005 for _, ink in drawn), drawn)
    wide = browser.run("return [document.documentElement.scrollWidth, innerWidth]")
    check("nothing sticks out to the right", wide[0] <= wide[1], wide)

    # Sorting
    column = "const head = [...document.querySelectorAll('#cells th')].find(t => t.textContent === 'time');"
    browser.run(column + "head.querySelector('button').click()")
    order = browser.run("return [...document.querySelectorAll('#cells tbody tr')].map(r => antCrewPage.study.cells.rows[Number(r.dataset.cell)].keys[3])")
    times = [t for t in order if t is not None]
    check("sorted by time, the largest first", times == sorted(times, reverse=True) and len(times) > 3, order)
    check("and it says so", browser.run(column + "return head.getAttribute('aria-sort')") == "descending")
    # Filtering
    browser.run("const i = document.getElementById('filter-words'); i.value = 'baseline'; i.dispatchEvent(new Event('input'))")
    shown = browser.run("return [...document.querySelectorAll('#cells tbody tr')].filter(r => !r.hidden).map(r => r.cells[0].textContent)")
    check("filtered by words", len(shown) > 0 and all("baseline" in s for s in shown), shown)
    browser.run("const i = document.getElementById('filter-words'); i.value = ''; i.dispatchEvent(new Event('input'))")

    # The same cell everywhere: a row that is pointed at, a point of a figure.
    cell = browser.run("return antCrewPage.study.figures.find(f => f.kind === 'speedup').panels[0].series[0].points.slice(-1)[0].cell")
    browser.run("document.getElementById('cell-' + arguments[0]).focus()", cell)
    on = browser.run("return [...document.querySelectorAll('.on')].map(e => e.dataset.cell)")
    check("a row that has the focus is the cell everywhere", on and set(on) == {str(cell)} and
          browser.run("return antCrewPage.current()") == cell, on)
    larger = browser.run("""return antCrewPage.charts.filter(o => o.kind === 'speedup')[0].chart.data.datasets
        .some(d => d.data.some((p, k) => p.cell === arguments[0] && d.pointRadius[k] === 8))""", cell)
    check("and its point is larger", larger)
    at = browser.run("""document.getElementById('first-figure').scrollIntoView();
        const one = antCrewPage.charts[0].chart, box = one.canvas.getBoundingClientRect(), all = [];
        one.data.datasets.forEach((set, s) => set.data.forEach((p, k) => {
          const { x, y } = one.getDatasetMeta(s).data[k];
          if (p.cell >= 0) all.push({ x, y, cell: p.cell });
        }));
        // Measured points may lie on each other: the one that stands most alone.
        const alone = (p) => Math.min(1e9, ...all.filter((o) => o.cell !== p.cell).map((o) => Math.hypot(o.x - p.x, o.y - p.y)));
        const far = all.sort((a, b) => alone(b) - alone(a))[0];
        return [box.left + far.x, box.top + far.y, far.cell];""")
    browser.move_to(at[0], at[1])
    time.sleep(0.3)
    check("a point that is pointed at is the cell everywhere", browser.run("return antCrewPage.current()") == at[2],
          [at, browser.run("return antCrewPage.current()")])
    check("and its row shows it", browser.run("return document.getElementById('cell-' + arguments[0]).classList.contains('on')", at[2]))

    # Zooming
    if browser.run("return antCrewPage.charts.some(o => o.kind === 'timeline')"):
        span = """const x = antCrewPage.charts.find(o => o.kind === 'timeline').chart.scales.x; return x.max - x.min;"""
        before = browser.run(span)
        browser.run("document.querySelector('#figure-timeline .plot').focus()")
        browser.keys("+")
        after = browser.run(span)
        check("the timeline comes closer by a key", abs(after - before / 2) < 0.01 * before, [before, after])
        browser.keys("0")
        check("and goes back", abs(browser.run(span) - before) < 1e-9 * before + 1e-12)
    # Arrow keys
    browser.run("document.querySelector('#figure-speedup .plot').focus()")
    browser.keys("\ue014")
    check("arrow keys say what a point is", "speedup" in browser.run("return document.getElementById('said').textContent"))

    # Theme
    colours = "return antCrewPage.charts[0].chart.data.datasets.map(d => d.backgroundColor)"
    light, page_light = browser.run(colours), browser.run("return getComputedStyle(document.body).backgroundColor")
    browser.run("document.getElementById('theme').click()")
    check("dark and light differ, in figures, too", browser.run(colours) != light and
          browser.run("return getComputedStyle(document.body).backgroundColor") != page_light)
    browser.run("document.getElementById('theme').click()")
    check("and back", browser.run(colours) == light)

    # Keyboard alone
    browser.run("document.activeElement.blur(); window.scrollTo(0, 0); window.reached = new Set();"
                "document.addEventListener('focusin', e => window.reached.add(e.target))")
    wanted = browser.run("""window.wanted = [...document.querySelectorAll('a[href], button, input, select, summary, .plot, tr[tabindex], li[tabindex]')]
        .filter(e => e.getClientRects().length > 0); return window.wanted.length""")
    for _ in range(0, wanted + 60, 20):
        browser.keys(*(["\ue004"] * 20))
    missed = browser.run("return window.wanted.filter(e => !window.reached.has(e)).map(e => e.outerHTML.slice(0, 80))")
    check(f"keyboard alone reaches all {wanted} that act", missed == [], missed)

    # Data
    csv = browser.run("""window.kept = []; const was = URL.createObjectURL; URL.createObjectURL = b => { kept.push(b); return was.call(URL, b); };
        for (const b of document.querySelectorAll('#raw button')) b.click(); return kept.map(b => [b.type, b.size]);""")
    check("raw data comes from the page itself", len(csv) == 3 and all(size > 100 for _, size in csv), csv)


CONTRAST = """const channel = v => { v /= 255; return v <= 0.04045 ? v / 12.92 : Math.pow((v + 0.055) / 1.055, 2.4); };
const light = c => 0.2126 * channel(c[0]) + 0.7152 * channel(c[1]) + 0.0722 * channel(c[2]);
const colour = text => (text.match(/[0-9.]+/g) || []).map(Number);
const behind = e => { for (; e; e = e.parentElement) { const c = colour(getComputedStyle(e).backgroundColor); if (c.length === 3 || c[3] === 1) return c; } return [255, 255, 255]; };
const low = [];
for (const e of document.querySelectorAll('body *')) {
  if (e.getClientRects().length === 0 || ![...e.childNodes].some(n => n.nodeType === 3 && n.textContent.trim() !== '')) continue;
  const style = getComputedStyle(e), [a, b] = [light(colour(style.color)), light(behind(e))];
  const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05), size = parseFloat(style.fontSize);
  const large = size >= 24 || (size >= 18.66 && Number(style.fontWeight) >= 700);
  if (ratio < (large ? 3 : 4.5)) low.push([e.tagName, e.className, e.textContent.slice(0, 30), ratio]);
}
return low;"""


def tree_of(browser):
    """What a screen reader is told: role and name of every node that is not passed over."""
    nodes = browser.command("Accessibility.getFullAXTree", {})["nodes"]
    return [(n["role"]["value"], n.get("name", {}).get("value", "").strip()) for n in nodes if not n.get("ignored")]


def accessible(browser, page, what):
    browser.open(page)
    for theme in ("light", "dark"):
        browser.run("document.documentElement.dataset.theme = arguments[0]", theme)
        low = browser.run(CONTRAST)
        check(f"{what}, {theme}: every text has the contrast of level AA", low == [], low[:5])
    browser.run("for (const one of document.querySelectorAll('details')) one.open = true")
    time.sleep(1)
    browser.run("for (const one of document.querySelectorAll('details')) one.open = true")
    time.sleep(0.5)
    tree = tree_of(browser)
    acting = [n for n in tree if n[0] in ("button", "link", "searchbox", "textbox", "combobox", "checkbox")]
    check(f"{what}: all {len(acting)} controls have a name", len(acting) > 3 and all(name for _, name in acting), acting)
    figures = [name for role, name in tree if role == "figure"]
    tables = [name for role, name in tree if role == "table"]
    drawn = browser.run("return antCrewPage.study.figures.map(f => f.title)")
    check(f"{what}: all {len(drawn)} figures have a name", len(figures) == len(drawn) and all(figures), figures)
    check(f"{what}: and their numbers as a table", all(title + ", in numbers" in tables for title in drawn), [drawn, tables])
    pictures = [name for role, name in tree if role in ("img", "image")]
    check(f"{what}: and every picture says what it shows", len(pictures) >= len(drawn) and all(pictures), pictures)
    check(f"{what}: headings go down by one level", browser.run("""let last = 0, fine = true;
        for (const h of document.querySelectorAll('h1, h2, h3, h4')) { const l = Number(h.tagName[1]); fine = fine && l <= last + 1; last = l; } return fine;"""))


def nothing_cut(browser, what):
    cut = browser.run("""return [...document.querySelectorAll('.scroll')].filter(e => e.getClientRects().length > 0 &&
        (e.scrollWidth > e.clientWidth + 1 || e.scrollHeight > e.clientHeight + 1)).map(e => [e.getAttribute('aria-label'), e.scrollWidth, e.clientWidth])""")
    check(what + ": no table is cut by a scroll bar", cut == [], cut)


def printed(browser, page, what):
    """As wide as A4 within its margins, with the style of paper."""
    browser.command("Emulation.setDeviceMetricsOverride", {"width": 688, "height": 1000, "deviceScaleFactor": 1, "mobile": False})
    browser.command("Emulation.setEmulatedMedia", {"media": "print"})
    browser.open(page)
    wide = browser.run("return [document.documentElement.scrollWidth, innerWidth]")
    check(what + ", on A4: nothing sticks out", wide[0] <= wide[1], wide)
    shown = browser.run("return [...document.querySelectorAll('button, nav, input')].filter(e => e.getClientRects().length > 0 && !e.closest('th')).map(e => e.outerHTML.slice(0, 60))")
    check(what + ", on A4: nothing to press is printed", shown == [], shown)
    pages = browser.command("Page.printToPDF", {"preferCSSPageSize": True})["data"]
    check(what + ", on A4: it prints", len(pages) > 20000, len(pages))
    browser.command("Emulation.setEmulatedMedia", {"media": ""})
    browser.command("Emulation.setDeviceMetricsOverride", {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False})


def copied(browser, page):
    browser.open(page)
    rows = browser.run("""window.put = ''; Object.defineProperty(navigator, 'clipboard', { value: { writeText: async t => { window.put = t; } } });
        [...document.querySelectorAll('#raw button')].find(b => b.textContent.startsWith('copy')).click(); return 0;""")
    time.sleep(0.2)
    rows = [line.split("\t") for line in browser.run("return window.put").rstrip("\n").split("\n")]
    cells = browser.run("return antCrewPage.study.cells.rows.length")
    check("the cells are copied with a tab between fields, a row each", len(rows) == cells + 1 and len({len(r) for r in rows}) == 1 and len(rows[0]) > 10,
          [len(rows), {len(r) for r in rows}])
    at = rows[0].index("speedup") if "speedup" in rows[0] else -1
    check("numbers in them are numbers", at >= 0 and any(r[at].replace(".", "", 1).isdigit() for r in rows[1:]), rows[:2])


def history(browser, record, folder):
    """Seven runs of a study, the last three with a slower variant, and one of another study."""
    names = []
    for k in range(8):
        with open(record) as file:
            made = json.load(file)
        made["run"], made["created"] = f"{k:032x}", f"2026-11-{10 + k:02d}T08:00:00Z"
        if k == 7:
            made["title"] = HOSTILE
        for cell in made["cells"]:
            slower = 1.5 if 4 <= k < 7 and cell["kind"] == "variant" and cell["workers"] == 2 else 1
            if "wall_s" in cell.get("trials", {}):
                cell["trials"]["wall_s"] = [w * slower * (1 + 0.001 * k) for w in cell["trials"]["wall_s"]]
        names.append(os.path.join(folder, f"run-{k}.json"))
        with open(names[-1], "w") as file:
            json.dump(made, file)
    page = os.path.join(folder, "history.html")
    subprocess.run([antcrew, "show", *names, "--as", "page", "--to", page], check=True)
    browser.requests()
    browser.open(page)
    check("history: hostile titles run nothing", browser.run("return window.ran === undefined && document.images.length === 0"))
    rows = browser.run("return [...document.querySelectorAll('section')].map(s => s.querySelector('table tbody').rows.length)")
    check("history: a row a run, of two studies", sorted(rows) == [1, 7], rows)
    links = browser.run("return [...document.querySelectorAll('td a')].map(a => a.getAttribute('href'))")
    check("history: each run beside the one before it", len(links) == 6 and
          browser.run("return arguments[0].every(l => document.querySelector(l).tagName === 'DETAILS')", links), links)
    before = browser.run("return antCrewPage.charts.length")
    browser.run("location.hash = arguments[0]", links[0])
    time.sleep(0.5)
    check("history: a link unfolds its pair, which is drawn then", browser.run("return document.querySelector(arguments[0]).open", links[0]) and
          browser.run("return antCrewPage.charts.length") == before + 2, before)
    nothing_cut(browser, "history")
    quiet_and_alone(browser, "history")
    return page


def main():
    with tempfile.TemporaryDirectory() as folder:
        record = os.path.join(folder, "tides.json")
        subprocess.run([tides, "--sizes", "1k,20k", "--rounds", "7", "--workers", "1,2,3", "--save", record, "--quiet",
                        "--budget", "12"], stdout=subprocess.DEVNULL)
        page, _ = page_of(record, folder, "page.html")
        with Browser(1280, 800) as browser:
            browser.requests()
            use(browser, page)
            nothing_cut(browser, "1280 wide")
            quiet_and_alone(browser, "in use")
            accessible(browser, page, "a study")
            copied(browser, page)
            accessible(browser, history(browser, record, folder), "a history")
            printed(browser, page, "a study")
        with Browser(390, 800) as narrow:
            narrow.requests()
            narrow.open(page)
            wide = narrow.run("return [document.documentElement.scrollWidth, innerWidth]")
            check("narrow: nothing sticks out to the right", wide[0] <= wide[1], wide)
            check("narrow: names of lines stand below", narrow.run("return antCrewPage.charts.some(o => o.kind === 'speedup' && !o.chart.$key.hidden)"))
            hostile, _ = page_of(hostile_copy(record, folder), folder, "hostile.html")
            narrow.open(hostile)
            check("hostile names run nothing", narrow.run("return window.ran === undefined && document.images.length === 0"))
            check("hostile names stay text", narrow.run("return document.querySelector('header .title').textContent").startswith("</script><script>"))
            quiet_and_alone(narrow, "hostile")
            large, wrote_s = page_of(large_copy(record, folder), folder, "large.html")
            start = time.time()
            narrow.open(large)
            rows = narrow.run("return document.querySelectorAll('#cells tbody tr').length")
            print(f"      1,000 cells of 50 trials: {os.path.getsize(large) / 1e6:.2f} MB, written in {wrote_s:.2f} s, "
                  f"open in {time.time() - start:.2f} s")
            check("large: all cells stand in the table", rows == 1000, rows)
            quiet_and_alone(narrow, "large")
            narrow.command("Emulation.setScriptExecutionDisabled", {"value": True})
            narrow.open(page)
            bare = narrow.run("return [document.querySelectorAll('#cells tbody tr').length, document.querySelectorAll('#cells button').length, "
                              "document.querySelectorAll('noscript p').length]")
            with open(record) as file:
                cells = len(json.load(file)["cells"])
            check("without scripts: the table stands there, and it says what is missing", bare == [cells, 0, 1], bare)
    print(f"{len(failed)} failed" if failed else "all hold")
    return 1 if failed else 0


sys.exit(main())
