"use strict";
// Figures of the page: what is described is drawn by Chart.js, with bounds, marks and names of our own over it.
// tools: make, token, dark, say, select, current of page.js.
const antCrewFigures = (study, tools) => {
  const { make, token, dark, say, select } = tools;
  const charts = [];
  const colour = (number) => {
    const pair = number < 0 ? study.looks.grey : study.looks.palette[number % study.looks.palette.length];
    return pair[dark() ? 1 : 0];
  };
  const bandColour = (number) => number < 0 ? token("line") : colour(number);
  const chosen = (point) => point.cell >= 0 && point.cell === tools.current();

  const dashes = [[], [10, 5], [2, 4], [18, 6]];
  const pointStyles = ["circle", "rect", "triangle", "rectRot", "triangle", "star"];
  const steps = (panel) => panel.series.length > 0 && panel.series[0].kind === "steps";
  const stacked = (panel) => panel.bands.length > 0 || (panel.series.length > 0 && panel.series[0].kind === "bars");

  // Nothing is cut: between words where it can be.
  const broken = (text, measure, most) => {
    const lines = [""];
    for (let word of text.split(" ")) {
      const longer = lines[lines.length - 1] === "" ? word : lines[lines.length - 1] + " " + word;
      if (measure(longer) <= most) { lines[lines.length - 1] = longer; continue; }
      if (lines[lines.length - 1] !== "") lines.push("");
      while (measure(word) > most && word.length > 1) {
        let end = word.length - 1;
        while (end > 1 && measure(word.slice(0, end)) > most) --end;
        lines[lines.length - 1] = word.slice(0, end);
        lines.push("");
        word = word.slice(end);
      }
      lines[lines.length - 1] = word;
    }
    return lines;
  };

  // What the line looks like, beside its name.
  const sample = (ctx, end, from, middle) => {
    ctx.strokeStyle = ctx.fillStyle = colour(end.colour);
    ctx.lineWidth = end.reference ? 1.4 : 2;
    ctx.setLineDash(end.reference ? [6, 5] : dashes[end.dash]);
    ctx.beginPath();
    ctx.moveTo(from, middle);
    ctx.lineTo(from + 22, middle);
    ctx.stroke();
    ctx.setLineDash([]);
    if (!end.reference)
      Chart.helpers.drawPoint(ctx, { pointStyle: pointStyles[end.marker], rotation: end.marker === 4 ? 180 : 0, radius: 4.5, borderWidth: 1 }, from + 11, middle);
  };

  // Each name where its line ends, or as near to that as the others let it.
  const placed = (ends, area) => {
    const height = (end) => 15 * end.lines.length + 3;
    const middles = [];
    ends.forEach((end, k) => {
      const least = k === 0 ? area.top + height(end) / 2 - 8 : middles[k - 1] + (height(ends[k - 1]) + height(end)) / 2;
      middles.push(Math.max(area.bottom - end.at * area.height, least));
    });
    let lowest = area.bottom + 30;
    for (let k = ends.length - 1; k >= 0; --k) {
      middles[k] = Math.min(middles[k], lowest - height(ends[k]) / 2);
      lowest = middles[k] - height(ends[k]) / 2;
    }
    return middles;
  };

  // Bounds, marks, bands and names, drawn over the plot.
  const decorations = {
    id: "decorations",
    beforeDatasetsDraw(chart) {
      const panel = chart.$panel, ctx = chart.ctx, area = chart.chartArea, x = chart.scales.x, y = chart.scales.y;
      ctx.save();
      ctx.beginPath();
      ctx.rect(area.left, area.top, area.width, area.height);
      ctx.clip();
      for (const line of panel.references) {
        if (line.bounds.length > 0) {
          ctx.fillStyle = colour(-1);
          ctx.globalAlpha = 0.2;
          ctx.beginPath();
          line.points.forEach((p, k) => ctx.lineTo(x.getPixelForValue(p[0]), y.getPixelForValue(line.bounds[k][0])));
          for (let k = line.points.length - 1; k >= 0; --k)
            ctx.lineTo(x.getPixelForValue(line.points[k][0]), y.getPixelForValue(line.bounds[k][1]));
          ctx.fill();
          ctx.globalAlpha = 1;
        }
        ctx.strokeStyle = colour(-1);
        ctx.lineWidth = 1.4;
        ctx.setLineDash([6, 5]);
        ctx.beginPath();
        // Straight lines on bent scales: many small steps.
        for (let k = 0; k + 1 < line.points.length; ++k) {
          const [a, b] = [line.points[k], line.points[k + 1]];
          for (let s = 0; s <= 40; ++s) {
            const at = a[0] + (b[0] - a[0]) * s / 40, v = a[1] + (b[1] - a[1]) * s / 40;
            ctx.lineTo(x.getPixelForValue(at), y.getPixelForValue(v));
          }
        }
        ctx.stroke();
      }
      ctx.restore();
    },
    afterDatasetsDraw(chart) {
      const panel = chart.$panel, ctx = chart.ctx, area = chart.chartArea, x = chart.scales.x, y = chart.scales.y;
      ctx.save();
      ctx.font = "12px " + Chart.defaults.font.family;
      for (const mark of chart.$marks) {
        const at = x.getPixelForValue(mark.at);
        if (at < area.left - 1 || at > area.right + 1) continue;
        ctx.strokeStyle = ctx.fillStyle = token("quiet");
        ctx.lineWidth = 1;
        ctx.setLineDash([3, 4]);
        ctx.beginPath();
        ctx.moveTo(at, area.top);
        ctx.lineTo(at, area.bottom);
        ctx.stroke();
        ctx.textAlign = "left";
        ctx.textBaseline = "bottom";
        ctx.fillText(mark.text, Math.max(area.left, Math.min(at - mark.width / 2, chart.width - mark.width - 2)), area.top - 3 - 16 * mark.row);
      }
      if (steps(panel)) {
        ctx.strokeStyle = token("text");
        for (const p of panel.series.flatMap((series) => series.points)) {
          if (p.certainty === "exact") continue;
          const at = y.getPixelForValue(p.x), low = x.getPixelForValue(p.low), high = x.getPixelForValue(p.high);
          ctx.lineWidth = p.certainty === "interval" ? 1.8 : 1;
          ctx.setLineDash(p.certainty === "interval" ? [] : [2, 3]);
          ctx.beginPath();
          ctx.moveTo(low, at); ctx.lineTo(high, at);
          if (p.certainty === "interval") for (const end of [low, high]) { ctx.moveTo(end, at - 4); ctx.lineTo(end, at + 4); }
          ctx.stroke();
        }
      } else if (!stacked(panel)) {
        ctx.beginPath();
        ctx.rect(area.left - 6, area.top, area.width + 12, area.height);
        ctx.save();
        ctx.clip();
        for (const series of panel.series) {
          ctx.strokeStyle = colour(series.colour);
          for (const p of series.points) {
            if (p.certainty === "exact") continue;
            const at = x.getPixelForValue(p.x);
            const top = y.getPixelForValue(p.high), bottom = y.getPixelForValue(Math.max(p.low, panel.y.from));
            ctx.lineWidth = p.certainty === "interval" ? 1.8 : 1;
            ctx.setLineDash(p.certainty === "interval" ? [] : [2, 3]);
            ctx.beginPath();
            ctx.moveTo(at, top);
            ctx.lineTo(at, bottom);
            if (p.certainty === "interval") {
              ctx.moveTo(at - 4, top); ctx.lineTo(at + 4, top);
              ctx.moveTo(at - 4, bottom); ctx.lineTo(at + 4, bottom);
            }
            ctx.stroke();
          }
        }
        ctx.restore();
      }
      ctx.setLineDash([]);
      if (chart.$named) {
        ctx.textAlign = "left";
        ctx.textBaseline = "middle";
        placed(chart.$ends, area).forEach((middle, k) => {
          const end = chart.$ends[k];
          sample(ctx, end, area.right + 8, middle);
          ctx.fillStyle = token("text");
          end.lines.forEach((line, l) => ctx.fillText(line, area.right + 34, middle + 15 * (l - (end.lines.length - 1) / 2)));
        });
      }
      if (steps(panel)) {
        ctx.fillStyle = token("text");
        ctx.textAlign = "left";
        ctx.textBaseline = "middle";
        for (const p of panel.series.flatMap((series) => series.points))
          if (p.text) ctx.fillText(p.text, x.getPixelForValue(Math.max(p.high || 0, p.y)) + 7, y.getPixelForValue(p.x));
      }
      ctx.restore();
    }
  };

  const axisOptions = (axis, panel, categories) => {
    const options = {
      min: axis.from, max: axis.to, reverse: !categories && axis.reversed,
      title: { display: axis.label !== "", text: axis.label, color: token("quiet"), font: { size: 12 } },
      grid: { color: token("line"), drawTicks: false },
      border: { color: token("quiet") },
      ticks: { color: token("text"), font: { size: 12 }, padding: 6, maxRotation: 0, autoSkip: false }
    };
    if (categories) {
      delete options.min;
      delete options.max;
      options.type = "category";
      options.grid = { display: false };
      options.labels = axis.ticks.map((t) => t.text);
      options.ticks.callback = function (value) {
        const chart = this.chart, ctx = chart.ctx;
        ctx.font = "12px " + Chart.defaults.font.family;
        return broken(this.getLabelForValue(value), (text) => ctx.measureText(text).width, Math.max(90, 0.34 * chart.width));
      };
      return options;
    }
    options.type = axis.logarithmic ? "logarithmic" : "linear";
    options.afterBuildTicks = (scale) => { scale.ticks = axis.ticks.map((t) => ({ value: t.at })); };
    options.ticks.callback = (value) => {
      const found = axis.ticks.find((t) => t.at === value);
      return found ? found.text : "";
    };
    return options;
  };

  const datasetsOf = (panel) => {
    if (panel.bands.length > 0) {
      const names = panel.y.ticks.map((t) => t.text);
      return panel.bandKinds.map((kind, k) => ({
        label: kind.name, number: kind.colour, grouped: false, barPercentage: 1, categoryPercentage: 0.8, borderSkipped: false,
        data: panel.bands.filter((b) => b.kind === k).map((b) => ({ x: [b.from, b.to], y: names[b.lane], text: b.text, cell: -1 }))
      })).filter((set) => set.data.length > 0);
    }
    return panel.series.map((series) => {
      const common = { label: series.name, number: series.colour, kind: series.kind };
      if (series.kind === "bars")
        return { ...common, stack: "all", barPercentage: 0.75, data: series.points.map((p) => ({ x: p.y, y: panel.y.ticks[p.x].text, text: p.text, cell: p.cell })) };
      if (series.kind === "steps")
        return { ...common, grouped: false, barPercentage: 0.7, data: series.points.map((p) => ({ x: p.y, y: panel.y.ticks[p.x].text, text: p.words, cell: p.cell, noisy: p.noisy })) };
      return { ...common, showLine: series.kind === "line", data: series.points.map((p) => ({ x: p.x, y: p.y, text: p.text, cell: p.cell, noisy: p.noisy })),
               borderDash: dashes[series.dash], pointStyle: pointStyles[series.marker], rotation: series.marker === 4 ? 180 : 0 };
    });
  };

  const paint = (chart) => {
    for (const set of chart.data.datasets) {
      const own = chart.$panel.bands.length > 0 ? bandColour(set.number) : colour(set.number);
      set.borderColor = set.backgroundColor = own;
      const bars = set.kind !== "line" && set.kind !== "dots";
      if (bars) {
        set.borderColor = set.data.map((p) => chosen(p) ? token("text") : token("page"));
        set.borderWidth = set.data.map((p) => chosen(p) ? 2 : 0.5);
        set.backgroundColor = set.data.map((p) => p.noisy ? own + "59" : own);
      } else {
        set.borderWidth = 2;
        set.pointBorderColor = set.data.map((p) => chosen(p) ? token("text") : own);
        set.pointBackgroundColor = set.data.map((p) => p.noisy ? token("page") : own);
        set.pointBorderWidth = set.data.map((p) => p.noisy ? 1.8 : 1);
        set.pointRadius = set.data.map((p) => chosen(p) ? 8 : set.kind === "dots" ? 3 : 4.5);
      }
    }
    const panel = chart.$panel;
    chart.options.scales = { x: axisOptions(panel.x, panel, false), y: axisOptions(panel.y, panel, stacked(panel) || steps(panel)) };
    if (stacked(panel)) chart.options.scales.x.stacked = chart.options.scales.y.stacked = panel.bands.length === 0;
    if (chart.$view) [chart.options.scales.x.min, chart.options.scales.x.max] = chart.$view;
  };

  const layout = (chart) => {
    const panel = chart.$panel, wide = chart.canvas.parentNode.clientWidth;
    chart.ctx.font = "12px " + Chart.defaults.font.family;
    const measure = (text) => chart.ctx.measureText(text).width;
    chart.$named = panel.ends.length > 0 && wide > 480;
    let room = 12;
    if (chart.$named) {
      chart.$ends = panel.ends.map((end) => ({ ...end, lines: broken(end.text, measure, Math.min(220, 0.32 * wide)) }));
      for (const end of chart.$ends) for (const line of end.lines) room = Math.max(room, measure(line) + 40);
    }
    if (steps(panel)) for (const p of panel.series.flatMap((series) => series.points)) room = Math.max(room, measure(p.text) + 16);
    // What marks mean stands above the panel, in rows.
    let rows = 0;
    const at = (mark) => share(panel.x, mark.at) * (wide - 60 - room);
    chart.$marks = [];
    for (const mark of panel.marks) {
      const one = { ...mark, row: 0, width: measure(mark.text), place: at(mark) };
      while (chart.$marks.some((o) => o.row === one.row && Math.abs(o.place - one.place) < (o.width + one.width) / 2 + 30)) one.row++;
      rows = Math.max(rows, one.row + 1);
      chart.$marks.push(one);
    }
    chart.options.layout.padding = { right: room, top: 6 + 16 * rows };
    chart.$key.hidden = chart.$named || steps(panel);
  };
  const share = (axis, value) => axis.logarithmic ? Math.log(value / axis.from) / Math.log(axis.to / axis.from) : (value - axis.from) / (axis.to - axis.from);

  const zoomable = (figure, chart, whole) => {
    const set = (from, to) => {
      const width = Math.min(to - from, whole[1] - whole[0]);
      from = Math.max(whole[0], Math.min(from, whole[1] - width));
      chart.$view = width >= (whole[1] - whole[0]) * 0.999 ? null : [from, from + width];
      const panel = chart.$panel;
      if (chart.$view) {
        const step = Math.pow(10, Math.floor(Math.log10(width / 3)));
        const times = [1, 2, 5].map((t) => t * step).find((s) => width / s <= 7) || 10 * step;
        panel.x.ticks = [];
        for (let t = Math.ceil(from / times) * times; t <= from + width; t += times) panel.x.ticks.push({ at: t, text: short(t) });
      } else {
        panel.x.ticks = chart.$ticks;
      }
      paint(chart);
      chart.update("none");
    };
    const by = (factor, at) => {
      const [from, to] = chart.$view || whole;
      const middle = at === undefined ? (from + to) / 2 : at;
      set(middle - (middle - from) * factor, middle + (to - middle) * factor);
    };
    const move = (share) => {
      const [from, to] = chart.$view || whole;
      set(from + share * (to - from), to + share * (to - from));
    };
    chart.$ticks = chart.$panel.x.ticks;
    const button = (text, act) => {
      const one = make("button", { type: "button" }, text);
      one.addEventListener("click", act);
      return one;
    };
    figure.querySelector(".panels").before(make("div", { class: "zoom" }, button("closer", () => by(0.5)), button("wider", () => by(2)),
      button("earlier", () => move(-0.5)), button("later", () => move(0.5)), button("all", () => set(...whole))));
    chart.canvas.addEventListener("wheel", (event) => {
      if (!event.ctrlKey && !event.shiftKey) return;
      event.preventDefault();
      by(event.deltaY > 0 ? 1.25 : 0.8, chart.scales.x.getValueForPixel(event.offsetX));
    }, { passive: false });
    chart.canvas.parentNode.addEventListener("keydown", (event) => {
      const acts = { "+": () => by(0.5), "-": () => by(2), "0": () => set(...whole), PageUp: () => move(-0.5), PageDown: () => move(0.5) };
      if (acts[event.key]) { event.preventDefault(); acts[event.key](); }
    });
  };
  const short = (seconds) => {
    const unit = [[1, "s"], [1e3, "ms"], [1e6, "µs"], [1e9, "ns"]].find((u) => Math.abs(seconds) * u[0] >= 0.9995) || [1e9, "ns"];
    return seconds === 0 ? "0" : parseFloat((seconds * unit[0]).toPrecision(4)) + " " + unit[1];
  };

  // Arrow keys go from point to point.
  const walkable = (chart, place) => {
    let at = -1;
    const points = [];
    chart.data.datasets.forEach((set, d) => set.data.forEach((p, k) => points.push([d, k, p])));
    place.addEventListener("keydown", (event) => {
      const step = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[event.key];
      if (!step || points.length === 0) return;
      event.preventDefault();
      at = (at + step + points.length) % points.length;
      const [datasetIndex, index, point] = points[at];
      const active = [{ datasetIndex, index }];
      chart.setActiveElements(active);
      chart.tooltip.setActiveElements(active, { x: 0, y: 0 });
      chart.update("none");
      say(point.text);
      if (point.cell >= 0) select(point.cell);
    });
  };

  const tableOf = (heads, rows, name) => make("table", { "aria-label": name },
    make("thead", {}, make("tr", {}, ...heads.map((h) => make("th", { scope: "col" }, h)))),
    make("tbody", {}, ...rows.map((row) => make("tr", {}, ...row.map((c) => make("td", {}, c))))));

  const drawPanel = (figure, described, panel, holder) => {
    const canvas = make("canvas", { role: "img", "aria-label": described.title + ". " + described.caption });
    const place = make("div", { class: "plot", tabindex: "0", role: "group",
                                "aria-label": described.title + (panel.title ? ", " + panel.title : "") + ": arrow keys go from point to point" }, canvas);
    const key = make("ul", { class: "key" });
    holder.append(make("div", { class: "panel" }, panel.title ? make("h3", {}, panel.title) : null, place, key));
    const bars = stacked(panel) || steps(panel);
    if (panel.bands.length > 0) place.style.height = Math.max(8, 4 + 2.1 * panel.y.ticks.length) + "rem";
    else if (bars) place.style.height = Math.max(9, 5 + 3.2 * panel.y.ticks.length) + "rem";
    const chart = new Chart(canvas, {
      type: bars ? "bar" : "scatter",
      data: { datasets: datasetsOf(panel), labels: bars ? panel.y.ticks.map((t) => t.text) : undefined },
      options: {
        animation: false, responsive: true, maintainAspectRatio: false, indexAxis: bars ? "y" : "x", layout: { padding: 0 },
        interaction: { mode: "nearest", intersect: !bars, axis: "xy" }, scales: {},
        plugins: { legend: { display: false },
                   tooltip: { animation: false, displayColors: false, callbacks: { title: () => "", label: (item) => item.raw.text || item.dataset.label } } },
        onHover: (event, found) => {
          if (found.length === 0) return;
          const point = found[0].element.$context.raw;
          if (point && point.cell >= 0) select(point.cell);
        },
        onResize: (one) => { if (one.$key && one.$drawn) layout(one); }
      },
      plugins: [{ id: "early", beforeInit: (one) => { one.$panel = panel; one.$key = key; one.$named = false; one.$marks = []; } }, decorations]
    });
    const entries = () => {
      key.replaceChildren(...chart.data.datasets.map((set) => {
        const swatch = make("i", {});
        swatch.style.background = panel.bands.length > 0 ? bandColour(set.number) : colour(set.number);
        return make("li", {}, swatch, set.label);
      }));
    };
    const draw = () => { chart.$drawn = true; entries(); paint(chart); layout(chart); chart.update("none"); };
    charts.push({ draw: () => { paint(chart); chart.update("none"); }, theme: draw, chart, kind: described.kind });
    draw();
    walkable(chart, place);
    if (panel.bands.length > 0) zoomable(figure, chart, [panel.x.from, panel.x.to]);
  };

  const drawFigure = (described, into) => {
    const panels = make("div", { class: "panels" + (described.panels.length > 1 ? " several" : "") });
    const figure = make("figure", { id: "figure-" + described.kind + (described.into ? "-" + described.into : ""), "aria-label": described.title },
      make("figcaption", {}, make("b", {}, described.title), described.caption), panels);
    into.append(figure);
    for (const panel of described.panels) drawPanel(figure, described, panel, panels);
    const numbers = make("details", {}, make("summary", {}, "The same in numbers"));
    numbers.addEventListener("toggle", () => {
      if (numbers.open && numbers.children.length === 1)
        numbers.append(make("div", { class: "scroll", tabindex: "0", role: "region", "aria-label": described.title + ", in numbers" }, tableOf(described.table.heads, described.table.rows, described.title + ", in numbers")));
    });
    figure.append(numbers);
  };

  return { charts, drawFigure, tableOf };
};
