"use strict";
// Draws what the study says: its data stands in the page, and only texts come from it, never markup.
(() => {
  const study = JSON.parse(document.getElementById("study").textContent);
  const root = document.documentElement;
  let current = -1;

  const make = (tag, attributes, ...children) => {
    const element = document.createElement(tag);
    for (const [name, value] of Object.entries(attributes || {})) {
      if (value === null || value === undefined) continue;
      if (name === "class") element.className = value;
      else element.setAttribute(name, value);
    }
    for (const child of children) if (child !== null && child !== undefined) element.append(child);
    return element;
  };
  const byId = (id) => document.getElementById(id);
  const dark = () => root.dataset.theme === "dark" ||
    (root.dataset.theme !== "light" && matchMedia("(prefers-color-scheme: dark)").matches);
  const token = (name) => getComputedStyle(root).getPropertyValue("--" + name).trim();
  const say = (text) => { byId("said").textContent = text; };

  // The same cell everywhere: table, figures, findings.
  const select = (cell) => {
    if (cell === current) return;
    current = cell;
    for (const element of document.querySelectorAll(".on")) element.classList.remove("on");
    if (cell >= 0) for (const element of document.querySelectorAll('[data-cell="' + cell + '"]')) element.classList.add("on");
    for (const one of charts) one.draw();
    if (cell >= 0) history.replaceState(null, "", "#cell-" + cell);
  };
  const { charts, drawFigure } = antCrewFigures(study, { make, token, dark, say, select, current: () => current });
  const follows = (element, cell) => {
    if (cell < 0) return element;
    element.dataset.cell = cell;
    element.addEventListener("pointerenter", () => select(cell));
    element.addEventListener("focus", () => select(cell));
    return element;
  };

  // Findings
  for (const item of document.querySelectorAll("li[data-of]")) follows(item, Number(item.dataset.of));

  // The table of cells, which stands in the page: sorted by any column, filtered by words and verdict.
  const cellsTable = () => {
    const columns = study.cells.columns;
    const [table] = byId("cells").getElementsByTagName("table");
    const body = table.tBodies[0];
    const rows = [...body.rows].map((element, k) => {
      element.tabIndex = 0;
      return { element: follows(element, k), row: study.cells.rows[k], words: [...element.cells].map((c) => c.textContent).join(" ").toLowerCase() };
    });
    const state = { column: -1, down: true };
    const heads = [...table.tHead.rows[0].cells];
    heads.forEach((head, c) => {
      const column = columns[c];
      const button = make("button", { type: "button" }, column.head);
      head.replaceChildren(button);
      head.setAttribute("aria-sort", "none");
      button.addEventListener("click", () => {
        state.down = state.column === c ? !state.down : column.number;
        state.column = c;
        const sign = state.down ? -1 : 1;
        const value = (r) => r.row.keys[c];
        rows.sort((a, b) => {
          const [u, v] = [value(a), value(b)];
          if (u === null || v === null) return (u === null) - (v === null);
          return sign * (u < v ? -1 : u > v ? 1 : 0);
        });
        body.append(...rows.map((r) => r.element));
        for (const other of heads) other.setAttribute("aria-sort", "none");
        head.setAttribute("aria-sort", state.down ? "descending" : "ascending");
        say("sorted by " + column.head);
      });
    });
    const words = make("input", { type: "search", id: "filter-words", "aria-label": "show rows with these words", placeholder: "words" });
    const verdicts = make("select", { id: "filter-verdict", "aria-label": "show rows with this verdict" }, make("option", { value: "" }, "any verdict"),
      ...[...new Set(study.cells.rows.map((r) => r.verdict))].sort().map((v) => make("option", { value: v }, v)));
    const count = make("span", { role: "status" });
    const filter = () => {
      const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean);
      let shown = 0;
      for (const r of rows) {
        const fits = wanted.every((w) => r.words.includes(w)) && (verdicts.value === "" || r.row.verdict === verdicts.value);
        r.element.hidden = !fits;
        shown += fits ? 1 : 0;
      }
      count.textContent = shown + " of " + rows.length + " cells";
    };
    words.addEventListener("input", filter);
    verdicts.addEventListener("change", filter);
    filter();
    byId("cells").prepend(make("div", { class: "filters" }, "Show", words, verdicts, count));
  };

  // Raw data, made from what stands in the page.
  const download = (name, type, text) => {
    const link = make("a", { download: name, href: URL.createObjectURL(new Blob([text], { type })) });
    document.body.append(link);
    link.click();
    link.remove();
    setTimeout(() => URL.revokeObjectURL(link.href), 1000);
  };
  // A field in quotes may have commas and line ends, and a quote twice.
  const fields = (csv) => {
    const rows = [[""]];
    let quoted = false;
    for (let k = 0; k < csv.length; ++k) {
      const row = rows[rows.length - 1], c = csv[k];
      if (c === '"' && quoted && csv[k + 1] === '"') { row[row.length - 1] += c; ++k; }
      else if (c === '"') quoted = !quoted;
      else if (c === "," && !quoted) row.push("");
      else if (c === "\n" && !quoted) rows.push([""]);
      else if (c !== "\r" || quoted) row[row.length - 1] += c;
    }
    return rows.filter((row) => row.length > 1);
  };
  const copy = async (text) => {
    try { await navigator.clipboard.writeText(text); } catch (refused) {
      const area = make("textarea", { "aria-label": "to be copied" });
      area.value = text;
      document.body.append(area);
      area.select();
      document.execCommand("copy");
      area.remove();
    }
  };
  const downloads = () => {
    const add = (text, act) => {
      const button = make("button", { type: "button" }, text);
      button.addEventListener("click", act);
      byId("raw").append(button, " ");
    };
    const say_copied = (rows) => { say(rows + " rows copied"); byId("copied").textContent = rows + " rows copied: paste them into a spreadsheet"; };
    add("copy cells for a spreadsheet", () => {
      const rows = fields(study.cells_csv).map((row) => row.map((field) => field.replace(/[\t\r\n]/g, " ")).join("\t"));
      copy(rows.join("\n") + "\n").then(() => say_copied(rows.length - 1));
    });
    add("cells (CSV)", () => download("cells.csv", "text/csv", study.cells_csv));
    if (study.trials) add("trials (CSV)", () => {
      const rows = [study.trials.columns.join(",")];
      study.trials.rows.forEach((row) => rows.push(row.map((v) => v === null ? "" : v).join(",")));
      // A text that begins like a formula is none.
      const plain = (text) => (/^[=+\-@]/.test(text) ? "'" : "") + text;
      const names = study.cells.rows.map((row, k) => k + "," + '"' + plain(row.name + ", " + row.point).replace(/"/g, '""') + '"');
      download("trials.csv", "text/csv", rows.join("\r\n") + "\r\n\r\ncell,name\r\n" + names.join("\r\n") + "\r\n");
    });
    add("everything on this page (JSON)", () => download("study.json", "application/json", JSON.stringify(study, null, 1)));
    byId("raw").append(make("span", { id: "copied", role: "status" }));
  };

  Chart.defaults.font.family = '"DejaVu Sans", "Segoe UI", system-ui, sans-serif';
  const first = study.figures.find((f) => f.kind === study.telling);
  for (const figure of [...study.figures].sort((a, b) => (b === first) - (a === first))) {
    const into = byId(figure.into || (figure === first ? "first-figure" : "figures"));
    // What is closed has no size yet.
    const closed = into.closest("details:not([open])");
    if (closed) closed.addEventListener("toggle", () => drawFigure(figure, into), { once: true });
    else drawFigure(figure, into);
  }
  if (study.cells) { cellsTable(); downloads(); }
  const unfold = () => {
    const target = location.hash.length > 1 && byId(location.hash.slice(1));
    if (target && target.tagName === "DETAILS") { target.open = true; target.scrollIntoView(); }
  };
  addEventListener("hashchange", unfold);
  unfold();

  const theme = () => { for (const one of charts) one.theme(); };
  byId("theme").addEventListener("click", () => {
    root.dataset.theme = dark() ? "light" : "dark";
    theme();
  });
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", theme);
  addEventListener("beforeprint", () => { root.dataset.printed = root.dataset.theme || ""; root.dataset.theme = "light"; theme(); });
  addEventListener("afterprint", () => { if (root.dataset.printed) root.dataset.theme = root.dataset.printed; else delete root.dataset.theme; theme(); });
  document.addEventListener("keydown", (event) => { if (event.key === "Escape") select(-1); });
  const named = /^#cell-(\d+)$/.exec(location.hash);
  if (named) select(Number(named[1]));
  window.antCrewPage = { charts, study, select, current: () => current };
})();
