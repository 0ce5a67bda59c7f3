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

  // Bounds, marks, bands and names, drawn over the plot.
  const dashes = [[], [10, 5], [2, 4], [18, 6]];
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
      const vertical = panel.series.length === 0 || panel.series[0].kind !== "bars";
      ctx.save();
      ctx.font = "12px " + Chart.defaults.font.family;
      panel.marks.forEach((mark, k) => {
        const at = x.getPixelForValue(mark.at);
        if (at < area.left - 1 || at > area.right + 1) return;
        ctx.strokeStyle = ctx.fillStyle = token("quiet");
        ctx.lineWidth = 1;
        ctx.setLineDash([3, 4]);
        ctx.beginPath();
        ctx.moveTo(at, area.top);
        ctx.lineTo(at, area.bottom);
        ctx.stroke();
        const left = at > area.left + 0.6 * area.width;
        ctx.textAlign = left ? "right" : "left";
        ctx.textBaseline = "top";
        const width = ctx.measureText(mark.text).width, from = left ? at - 5 - width : at + 5;
        const top = area.top + 2 + 16 * k;
        ctx.fillStyle = token("page");
        ctx.globalAlpha = 0.8;
        ctx.fillRect(from - 2, top - 1, width + 4, 15);
        ctx.globalAlpha = 1;
        ctx.fillStyle = token("quiet");
        ctx.fillText(mark.text, at + (left ? -5 : 5), top);
      });
      if (vertical) {
        ctx.beginPath();
        ctx.rect(area.left - 6, area.top, area.width + 12, area.height);
        ctx.save();
        ctx.clip();
        for (const series of panel.series) {
          if (series.kind === "bars") continue;
          ctx.strokeStyle = series.kind === "steps" ? token("text") : colour(series.colour);
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
        for (const end of panel.ends) {
          ctx.fillStyle = colour(end.colour);
          ctx.fillText(end.shown, area.right + 8, area.bottom - end.at * area.height);
        }
      }
      if (panel.series.length > 0 && panel.series[0].kind === "steps") {
        ctx.fillStyle = token("text");
        ctx.textAlign = "center";
        ctx.textBaseline = "bottom";
        for (const p of panel.series[0].points)
          if (p.text) ctx.fillText(p.text, x.getPixelForValue(p.x), y.getPixelForValue(p.high) - 4);
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
        const text = this.getLabelForValue(value);
        const room = this.chart.width < 560 ? 16 : 34;
        return text.length > room ? text.slice(0, room - 1) + "…" : text;
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

  const pointStyles = ["circle", "rect", "triangle", "rectRot", "triangle", "star"];
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
        return { ...common, barPercentage: 0.7, data: series.points.map((p) => ({ x: panel.x.ticks[p.x].text, y: p.y, text: p.words, cell: p.cell })) };
      return { ...common, showLine: series.kind === "line", data: series.points.map((p) => ({ x: p.x, y: p.y, text: p.text, cell: p.cell })),
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
      } else {
        set.borderWidth = 2;
        set.pointBorderColor = set.data.map((p) => chosen(p) ? token("text") : own);
        set.pointRadius = set.data.map((p) => chosen(p) ? 8 : set.kind === "dots" ? 3 : 4.5);
      }
    }
    const panel = chart.$panel, bands = panel.bands.length > 0 || (panel.series[0] && panel.series[0].kind === "bars");
    const steps = panel.series[0] && panel.series[0].kind === "steps";
    chart.options.scales = { x: axisOptions(panel.x, panel, steps), y: axisOptions(panel.y, panel, bands) };
    if (bands) chart.options.scales.x.stacked = chart.options.scales.y.stacked = panel.bands.length === 0;
    if (chart.$view) [chart.options.scales.x.min, chart.options.scales.x.max] = chart.$view;
  };

  const layout = (chart) => {
    const panel = chart.$panel;
    chart.$named = panel.ends.length > 0 && chart.canvas.parentNode.clientWidth > 480;
    let room = 12;
    if (chart.$named) {
      chart.ctx.font = "12px " + Chart.defaults.font.family;
      const most = Math.min(240, 0.36 * chart.canvas.parentNode.clientWidth);
      for (const end of panel.ends) {
        end.shown = end.text;
        while (end.shown.length > 4 && chart.ctx.measureText(end.shown).width > most) end.shown = end.shown.slice(0, -2) + "…";
        room = Math.max(room, chart.ctx.measureText(end.shown).width + 14);
      }
    }
    chart.options.layout.padding = { right: room, top: 6 };
    chart.$key.hidden = chart.$named;
  };

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

  const tableOf = (heads, rows) => make("table", {},
    make("thead", {}, make("tr", {}, ...heads.map((h) => make("th", { scope: "col" }, h)))),
    make("tbody", {}, ...rows.map((row) => make("tr", {}, ...row.map((c) => make("td", {}, c))))));

  const drawPanel = (figure, described, panel, holder) => {
    const canvas = make("canvas", { role: "img", "aria-label": described.title + ". " + described.caption });
    const place = make("div", { class: "plot", tabindex: "0", role: "group",
                                "aria-label": described.title + (panel.title ? ", " + panel.title : "") + ": arrow keys go from point to point" }, canvas);
    const key = make("ul", { class: "key" });
    holder.append(make("div", { class: "panel" }, panel.title ? make("h3", {}, panel.title) : null, place, key));
    const bars = panel.bands.length > 0 || (panel.series[0] && panel.series[0].kind === "bars");
    const steps = panel.series[0] && panel.series[0].kind === "steps";
    if (panel.bands.length > 0) place.style.height = Math.max(8, 4 + 2.1 * panel.y.ticks.length) + "rem";
    else if (bars) place.style.height = Math.max(9, 5 + 3.2 * panel.y.ticks.length) + "rem";
    const chart = new Chart(canvas, {
      type: bars || steps ? "bar" : "scatter",
      data: { datasets: datasetsOf(panel), labels: bars ? panel.y.ticks.map((t) => t.text) : steps ? panel.x.ticks.map((t) => t.text) : undefined },
      options: {
        animation: false, responsive: true, maintainAspectRatio: false, indexAxis: bars ? "y" : "x", layout: { padding: 0 },
        interaction: { mode: "nearest", intersect: !bars, axis: bars ? "xy" : "xy" }, scales: {},
        plugins: { legend: { display: false },
                   tooltip: { animation: false, displayColors: false, callbacks: { title: () => "", label: (item) => item.raw.text || item.dataset.label } } },
        onHover: (event, found) => {
          if (found.length === 0) return;
          const point = found[0].element.$context.raw;
          if (point && point.cell >= 0) select(point.cell);
        },
        onResize: (one) => { if (one.$key && one.$drawn) layout(one); }
      },
      plugins: [{ id: "early", beforeInit: (one) => { one.$panel = panel; one.$key = key; one.$named = false; } }, decorations]
    });
    const entries = () => {
      key.replaceChildren(...chart.data.datasets.map((set) => {
        const swatch = make("i", {});
        swatch.style.background = panel.bands.length > 0 ? bandColour(set.number) : colour(set.number);
        return make("li", {}, swatch, set.label);
      }));
    };
    const draw = () => { chart.$drawn = true; entries(); paint(chart); layout(chart); chart.update("none"); };
    if (steps) key.hidden = true;
    charts.push({ draw: () => { paint(chart); chart.update("none"); }, theme: draw, chart, kind: described.kind });
    draw();
    if (steps) key.hidden = true;
    walkable(chart, place);
    if (panel.bands.length > 0) zoomable(figure, chart, [panel.x.from, panel.x.to]);
  };

  const drawFigure = (described, into) => {
    const panels = make("div", { class: "panels" + (described.panels.length > 1 ? " several" : "") });
    const figure = make("figure", { id: "figure-" + described.kind },
      make("figcaption", {}, make("b", {}, described.title), described.caption), panels);
    into.append(figure);
    for (const panel of described.panels) drawPanel(figure, described, panel, panels);
    const numbers = make("details", {}, make("summary", {}, "The same in numbers"));
    numbers.addEventListener("toggle", () => {
      if (numbers.open && numbers.children.length === 1)
        numbers.append(make("div", { class: "scroll", tabindex: "0" }, tableOf(described.table.heads, described.table.rows)));
    });
    figure.append(numbers);
  };

  return { charts, drawFigure, tableOf };
};
